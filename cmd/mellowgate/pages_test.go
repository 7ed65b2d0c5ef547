package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/testscale"
)

// printed is a call as a page prints it, and how it goes.
type printed struct {
	call   string // as on the page, on one line
	as     string // what is run in its place, where the page has names for the reader to fill in, or the test a place
	status int
	says   string // a regular expression for what it prints; "" for anything
	stdin  string
	not    string // why it cannot be run here
	before func(t *testing.T, c call)
}

// codeSpan is code within a sentence; fence is a block of it.
var (
	codeSpan = regexp.MustCompile("`([^`]+)`")
	fence    = regexp.MustCompile("(?ms)^ *```(\\w*)\n(.*?)^ *```$")
	comment  = regexp.MustCompile(`\s+#.*$`)
	prompt   = regexp.MustCompile(`^\w+\$\s+`)
)

// callsOf returns every call of the program that a page prints, in its order.
func callsOf(t *testing.T, page string) []string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("../..", page))
	require.NoError(t, err)
	text := string(b)
	var calls []string
	ours := func(line string) {
		line = strings.Join(strings.Fields(comment.ReplaceAllString(
			prompt.ReplaceAllString(strings.TrimSpace(line), ""),
			"")), " ")
		if strings.HasPrefix(line, "mellowgate ") || strings.HasPrefix(line, "go run ./cmd/mellowgate ") {
			calls = append(calls, line)
		}
	}
	last := 0
	prose := func(part string) {
		for _, span := range codeSpan.FindAllStringSubmatch(part, -1) {
			ours(span[1])
		}
	}
	for _, at := range fence.FindAllStringSubmatchIndex(text, -1) {
		prose(text[last:at[0]])
		for line := range strings.SplitSeq(text[at[4]:at[5]], "\n") {
			ours(line)
		}
		last = at[1]
	}
	prose(text[last:])
	return calls
}

// words splits a call as a shell does, as far as the pages go.
func words(call string) []string {
	var all []string
	for _, part := range regexp.MustCompile(`'[^']*'|\S+`).FindAllString(call, -1) {
		all = append(all, strings.Trim(part, "'"))
	}
	return all
}

// another returns a loopback network beside that of the test.
func another(t *testing.T) string { return labtest.Network(t).String() }

// follow runs every call of a page in order, in one folder, and holds what comes
// of it against what the page says. A lab that a page starts goes on to its end.
func follow(t *testing.T, c call, page string, steps []printed) {
	t.Helper()
	var want []string
	for _, s := range steps {
		want = append(want, s.call)
	}
	require.Equal(t, callsOf(t, page), want, "every call of the page, in its order, is tried here")
	for _, s := range steps {
		if s.not != "" {
			continue
		}
		if s.before != nil {
			s.before(t, c)
		}
		run := s.call
		if s.as != "" {
			run = s.as
		}
		args := words(strings.TrimPrefix(strings.TrimPrefix(run, "go run ./cmd/"), "mellowgate "))
		if args[0] == "lab" && !strings.Contains(run, " -set") && !strings.Contains(run, " -lift") &&
			!strings.Contains(run, " -faults") || args[0] == "serve" && !strings.Contains(run, "-unit") {
			b := c.start(t, args...)
			require.Eventually(t, func() bool { return regexp.MustCompile(s.says).MatchString(b.out.String()) },
				20*time.Second, 10*time.Millisecond, s.call)
			continue
		}
		at := call{dir: c.dir, stdin: s.stdin, env: c.env}
		r := at.run(t, args...)
		require.Equal(t, s.status, r.status, "%s: %s\n%s", s.call, r.err, r.out)
		require.Regexp(t, s.says, r.out+r.err, s.call)
	}
}

func TestEveryCallOfTheREADMEAndTheGuideDoesWhatThePageSays(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	follow(t, c, "README.md", []printed{
		{call: "go run ./cmd/mellowgate demo", as: "mellowgate demo -network " + network(t), says: "What to try next"},
		{call: "mellowgate new my-site", as: "mellowgate new readme-site", says: "readme-site is a site to edit"},
		{call: "mellowgate demo -keep", not: "goes on until Ctrl-C; the demo's own tests keep it"},
	})
	const password = " -password-file my-site/passwords/first.admin"
	reorder := func(t *testing.T, c call) {
		path := filepath.Join(c.dir, "my-site/site.yaml")
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		changed := strings.Replace(string(text), "servers: [gate-1, gate-2]", "servers: [gate-2, gate-1]", 1)
		require.NotEqual(t, string(text), changed)
		require.NoError(t, os.WriteFile(path, []byte(changed), 0o600))
	}
	copied := func(t *testing.T, c call) {
		require.NoError(t, os.CopyFS(filepath.Join(c.dir, "old-site"), os.DirFS(filepath.Join(c.dir, "my-site"))))
	}
	traffic := func(t *testing.T, c call) {
		b, err := os.ReadFile(filepath.Join(c.dir, "mellowgate-state/traffic.pcapng"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, "traffic.pcap"), b, 0o600))
	}
	nothing := "nothing found: 2 devices, 6 ways in, 3 states, 72 logins worked out"
	follow(t, c, "docs/guide.md", []printed{
		{call: "mellowgate demo", as: "mellowgate help demo"}, // above
		{call: "mellowgate new my-site", says: "my-site is a site to edit"},
		{call: "mellowgate check my-site", says: nothing,
			before: func(t *testing.T, c call) { clitest.CheapHashes(t, filepath.Join(c.dir, "my-site")) }},
		{call: "mellowgate keys hash", stdin: "a password of mine\n", says: `^"\$argon2id\$.*"\n$`},
		{call: "mellowgate keys make -into my-site/keys/second.key"},
		{call: "mellowgate help keys", says: "seal NAME"},
		{call: "mellowgate check my-site", says: nothing},
		{call: "mellowgate foresee -device switch-1 my-site", says: "first.admin"},
		{call: "mellowgate foresee -silent gate-1,gate-2 my-site", says: `wayback +gate-1, gate-2 silent +in +15 +local`},
		{call: "mellowgate foresee -load my-site", says: "(?m)^gate-1 +2 "},
		{call: "mellowgate foresee -matrix my-site", says: "switch-1, switch-2  people  people  people  local"},
		{call: "mellowgate foresee -compare old-site my-site", before: copied, says: "nothing changes for anybody"},
		{call: "mellowgate lab my-site", as: "mellowgate lab -network " + network(t) + " my-site", says: "switch-2"},
		{call: "mellowgate login -device switch-1 -person first.admin" + password + " -command 'look session'",
			says: "allowed  look session(?s).*as expected: in at level 15"},
		{call: "mellowgate why", says: "^healthy: first.admin at switch-1 by ssh"},
		{call: "mellowgate ledger", says: "look session"},
		{call: "mellowgate ask -server gate-1 -as switch-1 -person first.admin" + password, says: "accepted by gate-1"},
		{call: "mellowgate listen", says: "first.admin"},
		{call: "mellowgate listen -capture traffic.pcap my-site", before: traffic, says: "record-sessions"},
		{call: "mellowgate lab -set 'gate-1 silent' -set 'gate-2 slow 1s'", says: "gate-1 silent\ngate-2 slow 1s"},
		{call: "mellowgate login -device switch-1 -person first.admin" + password,
			says: "in at level 15 after [5-9](?s).*as expected: in at level 15, with gate-1 silent"},
		{call: "mellowgate why", says: "^unreachable: switch-1 to server gate-1"},
		{call: "mellowgate lab -lift all", says: "gate-1 is still left alone by switch-1 until"},
		{call: "mellowgate drill -faults my-site",
			as:   "mellowgate drill -faults -device switch-1 -network " + another(t) + " my-site",
			says: "came out as foreseen"},
		{call: "mellowgate sheet switch-1 my-site", says: "mellowgate check my-site"},
		{call: "mellowgate render switch-1 my-site", says: "ietf-system"},
		{call: "mellowgate send -dry-run -person first.admin" + password + " switch-1 my-site", before: reorder,
			says: "servers in order is gate-1, gate-2, and should be gate-2, gate-1"},
		{call: "mellowgate send -yes -person first.admin" + password + " switch-1 my-site", says: "kept"},
		{call: "mellowgate compare -person first.admin" + password + " switch-1 my-site", says: "as the site has it"},
		{call: "mellowgate keys change gate-key begin my-site", says: "gate-key"},
		{call: "mellowgate keys change gate-key status my-site",
			as: "mellowgate keys change -state mellowgate-state gate-key status my-site", status: 1, says: "switch-1"},
		{call: "mellowgate keys change gate-key finish my-site",
			as: "mellowgate keys change -anyway gate-key finish my-site", says: "gate-key"},
		{call: "mellowgate serve -only gate-1 my-site",
			not: "this host does not have the server's address; serve's own tests run it"},
		{call: "mellowgate ask -explain -as switch-1 -person first.admin my-site",
			says: "^accepted: first.admin has the role everything"},
	})
}

func TestEveryCallOfTheOtherPagesDoesWhatThePageSays(t *testing.T) {
	t.Parallel()
	testscale.Whole(t, "the calls of the README and of the guide")
	c := demoSite(t)
	const site, as = " demo/as-reviewed", " -password-file demo/as-reviewed/passwords/ines.marsh"
	filled := func(call string) string {
		return strings.NewReplacer("SITE", "demo/as-reviewed", "DEVICE", "north-sw-1", "YOU", "ines.marsh", "NAME",
			"ines.marsh",
			"FOLDER", "mellowgate-state", "SERVER", "tern", "STATE", "mellowgate-state").Replace(call)
	}
	lab := c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	for _, person := range []string{"tobin.reed", "ines.marsh"} { // a refused command, and a wrong password
		c.run(t, "login", "-device", "north-sw-1", "-person", "tobin.reed", "-password-file",
			"demo/as-reviewed/passwords/"+person, "-command", "set port 3 off")
	}
	follow(t, c, "docs/lab.md", []printed{
		{call: "mellowgate lab -set 'clock +6h'", says: `clock \+6h`},
		{call: "mellowgate lab -set 'tern silent' -set 'plover slow 3s for north-sw-1'", says: "tern silent"},
		{call: "mellowgate lab -faults", says: "plover slow 3s for north-sw-1"},
		{call: "mellowgate lab -lift 'tern silent'", says: "(?m)^plover slow 3s for north-sw-1"},
		{call: "mellowgate lab -lift all", says: "no fault is in effect"},
		{call: "mellowgate drill SITE", as: "mellowgate drill -network " + another(t) + " -device hq-fw-1" + site,
			says: "came out as foreseen"},
	})
	counters := func(t *testing.T, c call) {
		r := c.run(t, "listen")
		require.Zero(t, r.status, r.err)
	}
	why := func(call, says string) printed { return printed{call: call, as: filled(call), says: says} }
	follow(t, c, "docs/a-login-fails.md", []printed{
		{call: "mellowgate why -state FOLDER -person NAME -device DEVICE",
			as: "mellowgate why -state mellowgate-state -person tobin.reed -device north-sw-1", says: "^wrong-password",
			before: counters},
		{call: "mellowgate why -capture FILE SITE", as: "mellowgate why -capture mellowgate-state/traffic.pcapng" +
			site,
			says: `(?m)^\S+: `},
		{call: "mellowgate why -capture NEAR,FAR SITE",
			as:   "mellowgate why -capture mellowgate-state/traffic.pcapng,mellowgate-state/traffic.pcapng" + site,
			says: `(?m)^\S+: `},
		{call: "mellowgate why -events FOLDER/events.jsonl -device DEVICE",
			as: "mellowgate why -events mellowgate-state/events.jsonl -device north-sw-1", says: "^wrong-password"},
		{call: "mellowgate why -log FILE -device DEVICE SITE",
			as: "mellowgate why -log mellowgate-state/events.jsonl -device north-sw-1" + site, says: "^wrong-password"},
		{call: "mellowgate why -log FILE -phrases BOOK -device DEVICE SITE",
			as: "mellowgate why -log demo/logs/north-sw-1.log -phrases demo/phrasebooks/quay-switch.yaml -device " +
				"north-sw-1" +
				site, says: "^wrong-password"},
		{call: "mellowgate why -counters OLD,NEW -device DEVICE SITE",
			as: "mellowgate why -counters " +
				"mellowgate-state/counters/north-sw-1.json,mellowgate-state/counters/north-sw-1.json " +
				"-device north-sw-1" + site, status: 1, says: `^not-known`},
		{call: "mellowgate why -person NAME -device DEVICE -access ssh -saw refused SITE",
			as: filled("mellowgate why -state mellowgate-state -person tobin.reed -device DEVICE -access ssh -saw " +
				"refused SITE"),
			says: "^wrong-password"},
		{call: "mellowgate why -person NAME -device DEVICE -symptom 'Access denied' SITE",
			as: "mellowgate why -state mellowgate-state -person tobin.reed -device north-sw-1 -symptom 'Access " +
				"denied'" + site,
			says: "^wrong-password"},
		{call: "mellowgate why -probe -device DEVICE SITE",
			as: filled("mellowgate why -state mellowgate-state -probe -device DEVICE SITE"), says: `(?m)^\S+: `},
		{call: "mellowgate why -follow -state FOLDER",
			as: "mellowgate why -follow -for 1s -state mellowgate-state", says: "following the logins"},
		why("mellowgate why -state FOLDER -all", "wrong-password"),
		{call: "mellowgate ledger sessions -open", says: "no record fits|PERSON"},
		{call: "mellowgate ledger -device north-sw-1 -kind command -until 03:10 -last 20",
			as: "mellowgate ledger -device north-sw-1 -kind command -last 20"},
		{call: "mellowgate ledger failures -since 1h", says: "tobin.reed"},
		{call: "mellowgate ledger -follow", not: "goes on until Ctrl-C; the ledger's own tests follow it"},
	})
	lab.end(t)
	require.NoError(t, os.RemoveAll(filepath.Join(c.dir, "mellowgate-state")))
	c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	secret := "ines.marsh" + as
	you := func(call string) string {
		return strings.NewReplacer("YOU", secret, "SITE", "demo/as-reviewed", "FILE",
			"demo/as-reviewed/passwords/harbourmaster",
			"SERVER", "tern", "DEVICE A B C D", "north-sw-1 north-rtr-1", "DEVICE", "north-sw-1").Replace(call)
	}
	drift := func(t *testing.T, c call) { changeSite(t, c, "servers: [tern, plover]", "servers: [plover, tern]") }
	back := func(t *testing.T, c call) { changeSite(t, c, "servers: [plover, tern]", "servers: [tern, plover]") }
	follow(t, c, "docs/first-change.md", []printed{
		{call: "mellowgate check SITE", as: you("mellowgate check SITE"), says: "^nothing found"},
		{call: "mellowgate foresee -device DEVICE SITE", as: you("mellowgate foresee -device DEVICE SITE"),
			says: "harbourmaster"},
		{call: "mellowgate drill -device DEVICE SITE",
			as: you("mellowgate drill -network " + another(t) + " -device DEVICE SITE"), says: "came out as foreseen"},
		{call: "mellowgate lab -set 'DEVICE drops commit'", as: you("mellowgate lab -set 'DEVICE drops commit'"),
			says: "north-sw-1 drops commit"},
		{call: "mellowgate serve", not: "above"},
		{call: "mellowgate ask -server SERVER -as DEVICE -person YOU SITE",
			as: you("mellowgate ask -server SERVER -as DEVICE -person YOU SITE"), says: "accepted by tern"},
		{call: "mellowgate compare -person YOU DEVICE SITE", as: you("mellowgate compare -person YOU DEVICE SITE"),
			says: "as the site has it"},
		{call: "mellowgate send -dry-run -person YOU DEVICE SITE",
			as:   you("mellowgate send -dry-run -person YOU DEVICE SITE"),
			says: "it holds the design already"},
		{call: "mellowgate sheet DEVICE SITE", as: you("mellowgate sheet DEVICE SITE"), says: "^# Change sheet"},
		{call: "mellowgate compare -adopt", as: you("mellowgate compare -adopt -person YOU DEVICE SITE"),
			says: "as the site has it"},
		{call: "mellowgate send -person YOU -fallback-password-file FILE DEVICE SITE",
			before: func(t *testing.T, c call) {
				require.Zero(t, c.run(t, "lab", "-lift", "all").status)
				drift(t, c)
			}, as: you("mellowgate send -yes -person YOU -fallback-password-file FILE DEVICE SITE"), says: "kept"},
		{call: "mellowgate why -device DEVICE", as: you("mellowgate why -device DEVICE"), says: `(?m)^\S+: `},
		{call: "mellowgate send -now harbourmaster -now-password-file FILE -person YOU DEVICE SITE",
			as:   you("mellowgate send -yes -now harbourmaster -now-password-file FILE -person YOU DEVICE SITE"),
			says: "it holds the design already"},
		{call: "mellowgate compare", as: you("mellowgate compare -person YOU DEVICE SITE"), says: "as the site has it"},
		{call: "mellowgate login -address ADDRESS -device DEVICE -from-site PASSWORDS -write sheet.html SITE",
			as: "mellowgate login -device north-sw-1 -from-site demo/as-reviewed/passwords -no-outage -write " +
				"sheet.html" +
				site,
			says: "logins of north-sw-1 were as expected"},
		{call: "mellowgate ledger -state mellowgate-sent", says: "north-sw-1"},
		{call: "mellowgate send -person YOU -canary DEVICE -at-once 4 DEVICE A B C D SITE", before: back,
			as: you("mellowgate send -yes -person YOU -canary DEVICE -at-once 4 DEVICE A B C D SITE"), says: "kept"},
		{call: "mellowgate send -person YOU -resume SITE", as: you("mellowgate send -yes -person YOU -resume SITE"),
			says: "2 of them hold the design, none is left"},
		{call: "mellowgate compare -person YOU -all SITE", as: you("mellowgate compare -person YOU -all SITE"),
			says: "as the site has it"},
	})
	follow(t, c, "docs/serve.md", []printed{
		{call: "mellowgate check my-site", as: "mellowgate check" + site, says: "^nothing found"},
		{call: "mellowgate serve -unit my-site > /etc/systemd/system/mellowgate.service", as: "mellowgate serve -unit" +
			site,
			says: `\[Service\]`},
		{call: "mellowgate ledger -state /var/lib/mellowgate -last 20", as: "mellowgate ledger -last 20",
			says: "ines.marsh"},
		{call: "mellowgate why -state /var/lib/mellowgate", as: "mellowgate why", says: `(?m)^\S+: `},
		{call: "mellowgate ask -explain -as DEVICE -person NAME my-site",
			as: "mellowgate ask -explain -as north-sw-1 -person tobin.reed" + site, says: "^accepted: tobin.reed"},
		{call: "mellowgate serve -explain", not: "serve's own tests run it"},
		{call: "mellowgate keys hash", stdin: "a password of mine\n", says: `^"\$argon2id\$`},
		{call: "mellowgate ledger verify", says: "every record is as it was written"},
		{call: "mellowgate ledger heads -json", says: `"newest": \d+`},
		{call: "mellowgate listen -state DIR", as: "mellowgate listen -state mellowgate-state", says: "ines.marsh"},
		{call: "mellowgate why -state DIR", as: "mellowgate why -state mellowgate-state", says: `(?m)^\S+: `},
		{call: "mellowgate why -follow -state DIR", as: "mellowgate why -follow -for 1s -state mellowgate-state",
			says: "following the logins"},
		{call: "mellowgate watch -state /var/lib/mellowgate", as: "mellowgate watch", status: 2,
			says: "draws on a terminal"},
		{call: "mellowgate ledger sessions -open", says: "no record fits"},
	})
	follow(t, c, "docs/site-file.md", []printed{
		{call: "mellowgate new -schema", says: `"\$schema"`},
		{call: "mellowgate check -explain defaults", as: "mellowgate check -explain defaults" + site,
			says: "because of|BECAUSE OF"},
		{call: "mellowgate check -refresh", as: "mellowgate check -refresh" + site, says: "^nothing found"},
		{call: "mellowgate keys hash", stdin: "a password of mine\n"},
	})
	follow(t, c, "docs/templates.md", []printed{
		{call: "mellowgate render -template FILE DEVICE", before: func(t *testing.T, c call) {
			page, err := os.ReadFile("../../docs/templates.md")
			require.NoError(t, err)
			example := fence.FindStringSubmatch(string(page))[2]
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, "own.tmpl"), []byte(example), 0o600))
		}, as: "mellowgate render -template own.tmpl north-sw-1" + site,
			says: "^server tern at 192.0.2.21, secret .*, timeout 1\n(?s).*ssh uses crew\n"},
	})
	for _, page := range []string{"docs/standards.md", "docs/performance.md", "docs/json.md", "docs/README.md",
		"docs/understanding.md"} {
		follow(t, c, page, nil)
	}
}

// changeSite changes the demo site in its file.
func changeSite(t *testing.T, c call, old, now string) {
	t.Helper()
	path := filepath.Join(c.dir, "demo/as-reviewed/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	changed := strings.Replace(string(text), old, now, 1)
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(path, []byte(changed), 0o600))
}
