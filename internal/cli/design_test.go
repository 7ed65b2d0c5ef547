package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/store/secrets"
)

func TestCheckOnBothStatesOfTheDemo(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "check", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "nothing found: 8 devices, 22 ways in")
	r = c.run(t, "check", "demo/as-drafted/site.yaml")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "error    open-when-silent  demo/as-drafted/site.yaml:")
	require.Contains(t, strings.Join(strings.Fields(r.out), " "), "the same except for two characters swapped")

	r = c.run(t, "check", "-json", "demo/as-drafted")
	require.Equal(t, 1, r.status)
	var report struct {
		Findings []struct {
			Code, Severity, Device, Access, File, Text, Repair string
			Line, Column                                       int
		}
		Errors, Warnings, Notes int
	}
	clitest.Strictly(t, r.out, &report)
	require.Equal(t, len(report.Findings), report.Errors+report.Warnings+report.Notes)
	require.Equal(t, "demo/as-drafted/site.yaml", report.Findings[0].File)
	require.Positive(t, report.Findings[0].Line*report.Findings[0].Column)
}

func TestForeseeNarrowsAndFits(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "foresee", "demo/as-reviewed")
	require.Zero(t, r.status)
	r = c.run(t, "foresee", "-json", "-device", "mv-avocet-rtr", "-access", "ssh", "-person", "master", "-silent",
		"sanderling,tern,plover", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	var cases struct {
		Devices []string
		Cases   []struct {
			Access, Outcome, By, Reason string
			People                      []string
			When                        []struct{ Server, State string }
			Level                       int
			WaitSeconds                 float64 `json:"wait_seconds"`
			Steps                       []struct {
				Purpose, Method, Result, Reason string
				Seconds                         float64
			}
		}
	}
	clitest.Strictly(t, r.out, &cases)
	require.Len(t, cases.Cases, 1)
	one := cases.Cases[0]
	require.Equal(t, [][]string{{"mv-avocet-rtr"}, {"master"}}, [][]string{cases.Devices, one.People})
	require.Equal(t, []any{"in", 15, "local", 4.0, 3},
		[]any{one.Outcome, one.Level, one.By, one.WaitSeconds, len(one.When)})
	require.Equal(t, "group sea", one.Steps[0].Method)

	// A line for each group of devices that are alike: every device once, everybody in every line.
	devices, people := []string{}, map[string]bool{}
	for line := range strings.Lines(c.run(t, "foresee", "-json", "demo/as-reviewed").out) {
		clitest.Strictly(t, line, &cases)
		devices = append(devices, cases.Devices...)
		for _, k := range cases.Cases {
			for _, p := range k.People {
				people[p] = true
			}
		}
		require.True(t, people["ines.marsh"] && people["anyone of team watch"] && people["unknown"], line)
		clear(people)
	}
	require.ElementsMatch(t, []string{"hq-fw-1", "north-rtr-1", "north-sw-1", "south-sw-1", "ashore-ap-1",
		"mv-avocet-rtr",
		"mv-curlew-rtr", "mv-godwit-rtr"}, devices)

	for _, bad := range [][]string{{"-device", "mv-avocet"}, {"-person", "ines"}, {"-access", "shh"},
		{"-silent", "trn"}} {
		r := c.run(t, append(append([]string{"foresee"}, bad...), "demo/as-reviewed")...)
		require.Equal(t, 2, r.status, bad)
		require.NotEmpty(t, r.err)
	}
	require.Contains(t, c.run(t, "foresee", "-silent", "trn", "demo/as-reviewed").err,
		`no server "trn"; did you mean "tern"?`)
}

func TestAKeyWithoutAValueIsComparedByName(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	require.NoError(t, os.RemoveAll(filepath.Join(c.dir, "demo/as-reviewed/keys")))
	r := c.run(t, "check", "demo/as-reviewed")
	require.Zero(t, r.status)
	require.Contains(t, r.err, "keys are then compared by name only")
}

func TestForeseeAsAMatrixAndWithEveryFault(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "foresee", "-matrix", "demo/as-drafted")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `hq-fw-1 +people +people +people +people +console +people +people +console`, r.out)
	require.Regexp(t, `ashore-ap-1 +people +people +people +open +nobody`, r.out)
	require.NotContains(t, c.run(t, "foresee", "-matrix", "-label", "place=aboard", "demo/as-drafted").out, "hq-fw-1")
	var matrix struct {
		Matrix []struct {
			Device, Standing string
			Silent           []string
		}
	}
	clitest.Strictly(t, c.run(t, "foresee", "-matrix", "-json", "-label", "duty=router", "-label", "place=north-pier",
		"demo/as-reviewed").out, &matrix)
	require.Len(t, matrix.Matrix, 4, "one device, two servers")

	r = c.run(t, "foresee", "-faults", "-device", "hq-fw-1", "-person", "ines.marsh", "-access", "ssh",
		"demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "tern error, client-unknown,")
	require.Equal(t, 2, c.run(t, "foresee", "-label", "place=nowhere", "demo/as-reviewed").status)
	require.Equal(t, 2, c.run(t, "foresee", "-matrix", "-faults", "demo/as-reviewed").status)
}

func TestForeseeSaysHowMuchServersAreAsked(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "foresee", "-load", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `tern +8 +0\.044/s +0\.2/s +1\.7/s +2/s +0\.6 % +314 thousand +304 MB`, r.out)
	require.Contains(t, r.out, "Taken: 3 people (those of the site who have a grant;")
	var load struct {
		Servers []struct {
			Server  string
			Devices int
			Share   float64
		}
	}
	clitest.Strictly(t, c.run(t, "foresee", "-load", "-json", "-label", "place=aboard", "demo/as-reviewed").out, &load)
	require.Len(t, load.Servers, 3)
	require.Equal(t, []any{"tern", 3}, []any{load.Servers[0].Server, load.Servers[0].Devices})
	require.Equal(t, 2, c.run(t, "foresee", "-load", "-matrix", "demo/as-reviewed").status)
	many, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/site.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "many.yaml"), append(many, "\nrates: {people: 2000}\n"...),
		0o600))
	require.Contains(t, c.run(t, "foresee", "-load", "many.yaml").out, "Near the limit after an outage: tern, plover")
}

func TestForeseeComparesTwoVersionsOfASite(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "foresee", "-compare", "demo/as-drafted", "-access", "ssh", "demo/as-reviewed")
	require.Zero(t, r.status, "the review takes nothing from anybody who earned it by ssh: %s", r.out)
	require.Contains(t, r.out, "nobody with full rights loses a way in")
	r = c.run(t, "foresee", "-compare", "demo/as-drafted", "demo/as-reviewed")
	require.Equal(t, 1, r.status, "telnet is shut at a switch, and that is a way in")
	require.Contains(t, r.out, "not there (loses full")
	r = c.run(t, "foresee", "-compare", "demo/as-reviewed", "demo/as-drafted")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "(loses")
	require.Contains(t, r.out, "only the wait changes")
	r = c.run(t, "foresee", "-compare", "demo/as-reviewed", "demo/as-reviewed")
	require.Zero(t, r.status)
	require.Equal(t, "nothing changes for anybody, in any state\n", r.out)

	text, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/site.yaml"))
	require.NoError(t, err)
	without := strings.Replace(string(text), "  - {name: mv-godwit-rtr,", "  - {name: mv-new-rtr,", 1)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "other.yaml"), []byte(without), 0o600))
	require.NoError(t, os.CopyFS(filepath.Join(c.dir, "keys"), os.DirFS(filepath.Join(c.dir, "demo/as-reviewed/keys"))))
	r = c.run(t, "foresee", "-compare", "demo/as-reviewed", "-json", "-person", "ines.marsh", "-access", "ssh",
		"other.yaml")
	require.Equal(t, 1, r.status, r.err)
	var changes struct {
		Changes []struct {
			Devices, People []string
			Before, After   *struct{ Outcome string }
			Loses           bool
		}
	}
	clitest.Strictly(t, r.out, &changes)
	gone, fresh := 0, 0
	for _, ch := range changes.Changes {
		if ch.After == nil {
			gone++
			require.Equal(t, []string{"mv-godwit-rtr"}, ch.Devices)
		}
		if ch.Before == nil {
			fresh++
			require.Equal(t, []string{"mv-new-rtr"}, ch.Devices)
		}
	}
	require.Equal(t, []int{6, 6}, []int{gone, fresh})
}

func TestCheckExplainsFindingsAndDefaults(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "check", "-explain", "all")
	require.Zero(t, r.status)
	require.Contains(t, r.out, "no-way-back")
	r = c.run(t, "check", "-explain", "no-way-back")
	require.Contains(t, r.out, "authenticate: login, methods: [group t, local]")
	require.Contains(t, r.out, "accept: [{code: no-way-back")
	r = c.run(t, "check", "-explain", "no-way-bak")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, `did you mean "no-way-back"?`)
	r = c.run(t, "check", "-explain", "defaults", "demo/as-reviewed")
	require.Regexp(t, `south-sw-1 +ssh, web, api +defaults of the profile`, r.out)
}

func TestCheckTriesBadPasswordsAndSeesOpenFiles(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	c.newSite(t, "mine")
	path := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	hashed, err := secrets.Hash("Wayback", 64, 1)
	require.NoError(t, err)
	weak, err := secrets.Hash("wayback", 64, 1)
	require.NoError(t, err)
	// The hashes that new makes are slow on purpose; those of the others are of no matter here.
	text = regexp.MustCompile(`\$argon2id\$[^" ]+`).ReplaceAll(text, []byte(strings.ReplaceAll(hashed, "$", "$$")))
	replace := func(hash string) string {
		at := strings.Index(string(text), `password: "$argon2id`) + len("password: ")
		end := at + strings.IndexByte(string(text[at:]), ' ')
		return string(text[:at]) + hash + string(text[end:])
	}
	require.NoError(t, os.WriteFile(path, []byte(replace(hashed)), 0o600))
	require.Zero(t, c.run(t, "check", "mine").status)
	require.NoError(t, os.WriteFile(path, []byte(replace(weak)), 0o600))
	require.NoError(t, os.Chmod(filepath.Join(c.dir, "mine/keys/gate.key"), 0o644))
	r := c.run(t, "check", "mine")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "The password of the account wayback is its own name")
	require.Contains(t, strings.Join(strings.Fields(r.out), " "), "readable-by-others")
	require.Contains(t, r.out, "chmod o= mine/keys/gate.key")
}
