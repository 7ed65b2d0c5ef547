package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/testscale"
	"mellowgate/internal/wire/tacacs"
)

// said is one line of what a small site says of itself at its top: what check must
// find or must not, what the sheet of its first device must say, what foresee must.
type said struct{ what, text string }

// wants reads the comments at the top of a site.
func wants(t *testing.T, text []byte) (sayings []said) {
	t.Helper()
	for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
		line, is := strings.CutPrefix(lines.Text(), "# ")
		if !is {
			break
		}
		if what, rest, ok := strings.Cut(line, ": "); ok &&
			regexp.MustCompile(`^(found|not found|sheet|foreseen|untried|drill)$`).MatchString(what) {
			sayings = append(sayings, said{what, rest})
		}
	}
	require.NotEmpty(t, sayings)
	return sayings
}

// Each small site under testdata/sites shows one thing that real sites have.
// What check, foresee and the sheet say of it is at its top, and a drill of it, in
// outages or in what else stands there, comes out as foreseen.
func TestSmallSitesAreAsForeseen(t *testing.T) {
	t.Parallel()
	paths, err := filepath.Glob("testdata/sites/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	for _, path := range paths {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".yaml"), func(t *testing.T) {
			t.Parallel()
			if slices.Contains([]string{"short-rests-and-long-waits.yaml", "patience-of-a-device.yaml"},
				filepath.Base(path)) {
				testscale.Whole(t, "the other small sites")
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			c := call{dir: t.TempDir()}
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), text, 0o600))
			check := c.run(t, "check")
			sheet := ""
			foresee := c.run(t, "foresee")
			untried := ""
			with := ""
			require.Less(t, check.status, 2, check.err)
			require.Zero(t, foresee.status, foresee.err)
			// one line to a finding, and single blanks, so that a text at the top can be looked for as it is
			found := regexp.MustCompile(` +`).ReplaceAllString(check.out, " ")
			table := regexp.MustCompile(` +`).ReplaceAllString(foresee.out, " ")
			for _, w := range wants(t, text) {
				switch w.what {
				case "found":
					require.Contains(t, found, w.text)
				case "not found":
					require.NotContains(t, found, w.text)
				case "foreseen":
					require.Contains(t, table, w.text)
				case "sheet":
					if sheet == "" {
						device := regexp.MustCompile(`\ndevices:(?s:.*?)name: ([a-z0-9-]+)`).FindSubmatch(text)
						r := c.run(t, "sheet", string(device[1]))
						require.Less(t, r.status, 2, r.err) // 1: check finds an error
						sheet = r.out
					}
					require.Contains(t, sheet, w.text)
				case "untried":
					untried = w.text
				case "drill":
					with = w.text
				}
			}
			r := c.run(t, append([]string{"drill", "-json", "-network", labtest.Network(t).String()},
				strings.Fields(with)...)...)
			var report struct {
				Logins  int            `json:"total"`
				Matched int            `json:"matched"`
				Skipped map[string]int `json:"skipped"`
				Runs    json.RawMessage
			}
			require.NoError(t, json.Unmarshal([]byte(r.out), &report), r.err)
			require.Zero(t, r.status, r.out)
			require.Positive(t, report.Matched)
			require.Equal(t, report.Logins, report.Matched)
			for why := range report.Skipped {
				require.Equal(t, untried, why)
			}
		})
	}
}

// A port that a device names in a way of its own is told once, with what to write,
// and the refusal says so too; once it is written the grant holds.
func TestServeTellsThePortNamesThatItDoesNotKnow(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	change("{who: [team net], role", "{who: [team net], access: [ssh], role")
	says := func(text string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(b.said(), text) }, 20*time.Second,
			10*time.Millisecond,
			text)
	}
	says("the site was read again and is in use")
	login := func(port string) tacacs.AuthenStatus {
		conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(here(t, "127.93.0.9"))}}).Dial("tcp",
			here(t, "127.93.0.1:4949"))
		require.NoError(t, err)
		defer func() { _ = conn.Close() }()
		reply, err := (&tacacs.Client{Conn: conn, Key: []byte("a-key-of-this-test-only")}).Authenticate(
			tacacs.AuthenStart{
				Service: tacacs.ServiceLogin, User: "ines", Port: port}, tacacs.PAP, "right")
		require.NoError(t, err)
		return reply.Status
	}
	require.Equal(t, tacacs.AuthenPass, login("ssh0"))
	require.Equal(t, tacacs.AuthenFail, login("line 3"))
	says(`sw names the port of a login "line 3", which says no way in: grants with through hold for it nowhere; ` +
		`say which way in it is: port-names: {ssh: ["line"]}`)
	require.Equal(t, tacacs.AuthenFail, login("line 4"))
	require.Equal(t, 1, strings.Count(b.said(), "names the port of a login"), "once each")
	require.Eventually(t, func() bool {
		events, err := os.ReadFile(filepath.Join(c.dir, "mellowgate-state/events.jsonl"))
		return err == nil && strings.Contains(string(events), `it is for ssh, and the device names its port`)
	}, 20*time.Second, 10*time.Millisecond)
	change("devices: [{name: sw,", `platforms: [{name: switch, behaviour: {port-names: {ssh: ["line"]}}}]
devices: [{name: sw, platform: switch,`)
	require.Eventually(t, func() bool { return login("line 4") == tacacs.AuthenPass }, 20*time.Second,
		20*time.Millisecond)
}

// An elevation is tried by login, and stands in events, the trace and the ledger by
// its name.
func TestAnElevationIsTriedAndNotedByItsName(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	text, err := os.ReadFile("testdata/sites/elevation.yaml")
	require.NoError(t, err)
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	text = regexp.MustCompile(`\$argon2id\$[^"]+`).ReplaceAll(text, []byte(strings.ReplaceAll(hash, "$", "$$")))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), text, 0o600))
	for name, password := range map[string]string{"right": "right", "wrong": "wrong"} {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(password+"\n"), 0o600))
	}
	lab := c.start(t, "lab", "-network", network(t), "-state", "st")
	raise := func(person, password string, more ...string) result {
		return c.run(t, append([]string{"login", "-state", "st", "-device", "sw-1", "-person", person, "-password-file",
			"right",
			"-raise", "15", "-raise-password-file", password}, more...)...)
	}
	r := raise("ines", "right")
	require.Zero(t, r.status, r.out)
	require.Contains(t, r.out, "raised   to level 15\nas expected: in at level 1, raised to 15")
	r = raise("tobin", "right", "-access", "console")
	require.Zero(t, r.status, r.out)
	require.Contains(t, r.out, "refused  level 15, and it stays 1\nas expected: in at level 1, which cannot be raised")
	r = raise("ines", "wrong", "-json")
	require.Equal(t, 1, r.status)
	var seen struct {
		Level    int
		Raised   int `json:"raised_level"`
		Expected string
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &seen))
	require.Equal(t, []any{1, 1, "in at level 1, raised to 15"}, []any{seen.Level, seen.Raised, seen.Expected})
	require.Zero(t, c.run(t, "lab", "-state", "st", "-set", "tern silent").status)
	r = raise("keeper", "right", "-command", "set port 3 off")
	require.Zero(t, r.status, r.out)
	require.Contains(t, r.out, "allowed  set port 3 off")
	for args, says := range map[string]string{"-access web": "a level is raised at a shell", "-raise 1": "from 2 to 15",
		"-raise-command enable -raise 0": "goes with -raise LEVEL"} {
		r := raise("ines", "right", strings.Fields(args)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, says)
	}
	require.Equal(t, 130, lab.end(t))
	for file, wants := range map[string][]string{
		"st/events.jsonl": {`"question":"elevation","answer":"accepted"`,
			`"question":"elevation","answer":"refused","reason":"no-grant"`,
			`"question":"elevation","answer":"refused","reason":"wrong-password"`},
		"st/traces/sw-1.jsonl": {`"kind":"elevation","outcome":"allowed"`, `"kind":"elevation","outcome":"refused"`}} {
		data, err := os.ReadFile(filepath.Join(c.dir, file))
		require.NoError(t, err)
		for _, want := range wants {
			require.Contains(t, string(data), want, file)
		}
	}
	kept := c.run(t, "ledger", "-state", "st", "-kind", "elevation").out
	require.Contains(t, kept, "elevation accepted, level 15")
	require.Contains(t, kept, "elevation refused: no-grant")
	require.NotContains(t, kept, "login accepted")
}

// What grants ask of hours, of where people come from and of the device is what
// foresee says with -at and -from, and what a lab does by its clock and -from.
func TestHoursAndAddressesOfGrantsAreForeseenAndDone(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	text, err := os.ReadFile("testdata/sites/grants-that-look-at-more.yaml")
	require.NoError(t, err)
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	text = regexp.MustCompile(`\$argon2id\$[^"]+`).ReplaceAll(text, []byte(strings.ReplaceAll(hash, "$", "$$")))
	hour := time.Now().UTC()
	open := fmt.Sprintf("hours: %s-%s", hour.Add(-time.Hour).Format("15:04"), hour.Add(time.Hour).Format("15:04"))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"),
		bytes.Replace(text, []byte("hours: Mon-Fri 06:00-20:00"), []byte(open), 1), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "right"), []byte("right\n"), 0o600))
	foresees := func(person, device string, more ...string) string {
		r := c.run(t, append(
			[]string{"foresee", "-device", device, "-access", "ssh", "-silent", "none", "-person", person},
			more...)...)
		require.Zero(t, r.status, r.err)
		return regexp.MustCompile(` +`).ReplaceAllString(r.out, " ")
	}
	late := hour.Add(6 * time.Hour).Format("2006-01-02T15:04:05Z")
	require.Contains(t, foresees("ines", "sw-1"), "in 15 tern")
	require.Contains(t, foresees("ines", "sw-1", "-from", "192.0.2.7", "-at", hour.Format("2006-01-02T15:04:05Z")),
		"in 15 tern")
	require.Contains(t, foresees("ines", "sw-1", "-from", "198.51.100.7"), "refused - tern")
	require.Contains(t, foresees("ines", "sw-1", "-at", late), "refused - tern")
	require.Contains(t, foresees("tobin", "sw-1"), "in 15 tern")
	require.Contains(t, foresees("tobin", "sw-2"), "in 1 tern")
	require.Equal(t, 2, c.run(t, "foresee", "-from", "nowhere").status)
	require.Equal(t, 2, c.run(t, "foresee", "-at", "noon").status)
	for _, k := range []struct{ from, fault, says string }{
		{"192.0.2.7", "", "as expected: in at level 15"}, {"192.0.2.7", "clock +6h", "as expected: refused"},
		{"198.51.100.7", "", "as expected: refused"}, {"", "", "as expected: refused"}} {
		args := []string{"lab", "-network", network(t), "-state", "st"}
		if k.from != "" {
			args = append(args, "-from", k.from)
		}
		lab := c.start(t, args...)
		if k.fault != "" {
			require.Zero(t, c.run(t, "lab", "-state", "st", "-set", k.fault).status)
		}
		r := c.run(t, "login", "-state", "st", "-device", "sw-1", "-person", "ines", "-password-file", "right")
		require.Zero(t, r.status, "%v: %s", k, r.out)
		require.Contains(t, r.out, k.says, k)
		require.Equal(t, 130, lab.end(t))
	}
}

// Who comes from where a way in takes nobody is refused before anybody is asked, and
// why says so.
func TestAWayInTakesOnlyThoseWhoComeFromWhereItSays(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	text, err := os.ReadFile("testdata/sites/around-the-lists.yaml")
	require.NoError(t, err)
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	text = regexp.MustCompile(`\$argon2id\$[^"]+`).ReplaceAll(text, []byte(strings.ReplaceAll(hash, "$", "$$")))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), text, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "right"), []byte("right\n"), 0o600))
	lab := c.start(t, "lab", "-network", network(t), "-state", "st", "-from", "198.51.100.7")
	login := func(access string) string {
		r := c.run(t, "login", "-state", "st", "-device", "sw-1", "-person", "ines", "-password-file", "right",
			"-access",
			access)
		require.Zero(t, r.status, r.out)
		return r.out
	}
	require.Contains(t, login("ssh"), "as expected: in at level 15")
	require.Contains(t, login("web"), "as expected: refused")
	r := c.run(t, "why", "-state", "st", "-device", "sw-1")
	require.Contains(t, r.out, "sw-1 takes nobody by web from where ines comes: the person came from 198.51.100.7")
	require.Equal(t, 130, lab.end(t))
	lab = c.start(t, "lab", "-network", network(t), "-state", "st") // from nowhere else than this host
	require.Contains(t, login("ssh"), "as expected: refused")
	require.Equal(t, 130, lab.end(t))
}

// Rules for commands that came with the login hold on the device, and the trace says
// that they decided.
func TestADeviceHoldsTheCommandRulesThatRADIUSCarries(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	text, err := os.ReadFile("testdata/sites/commands-over-radius.yaml")
	require.NoError(t, err)
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	text = regexp.MustCompile(`\$argon2id\$[^"]+`).ReplaceAll(text, []byte(strings.ReplaceAll(hash, "$", "$$")))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), text, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "right"), []byte("right\n"), 0o600))
	lab := c.start(t, "lab", "-network", network(t), "-state", "st")
	for device, secrets := range map[string]string{"sw-1": "refused", "rt-1": "refused", "ls-1": "allowed"} {
		r := c.run(t, "login", "-state", "st", "-device", device, "-person", "tobin", "-password-file", "right",
			"-command", "look settings", "-command", "look secrets", "-command", "set port 3 off")
		require.Contains(t, r.out, "allowed  look settings", device)
		require.Regexp(t, secrets+" +look secrets", r.out, device)
		require.Regexp(t, "refused +set port 3 off", r.out, device)
	}
	require.Equal(t, 130, lab.end(t))
	trace, err := os.ReadFile(filepath.Join(c.dir, "st/traces/sw-1.jsonl"))
	require.NoError(t, err)
	require.Contains(t, string(trace),
		`"purpose":"commands","method":"rules","result":"refused","reason":"command-refused","by":"gull"`)
	r := c.run(t, "ask", "-explain", "-as", "ls-1", "-person", "tobin")
	require.Contains(t, r.out, "Third-Not = look secrets any")
	require.Contains(t, r.out, "it allows \"look secrets\", which the role refuses")
}
