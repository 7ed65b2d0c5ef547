package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"mellowgate/internal/cli/clitest"

	"github.com/stretchr/testify/require"
)

// One lab, some faults, and why asked in every way.
func TestWhyIsAskedWithWhateverIsAtHand(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	password := []string{"-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	try := func(device string) {
		c.run(t, append([]string{"login", "-state", "st", "-device", device, "-person", "ines.marsh"}, password...)...)
	}
	require.Zero(t, c.run(t, "lab", "-state", "st", "-set", "tern key-differs for south-sw-1", "-set",
		"plover key-differs for south-sw-1", "-set", "sanderling closed for mv-avocet-rtr").status)
	try("mv-avocet-rtr")
	try("north-sw-1")
	try("south-sw-1")

	for _, evidence := range [][]string{{"-state", "st"},
		{"-capture", "st/traffic.pcapng", "-device", "south-sw-1", "demo/as-reviewed"},
		{"-events", "st/events.jsonl", "-device", "south-sw-1"},
		{"-trace", "st/traces/south-sw-1.jsonl"}, {"-log", "st/logs/south-sw-1.jsonl"},
		{"-counters", "st/counters/south-sw-1.json"}} {
		r := c.run(t, append([]string{"why"}, evidence...)...)
		require.Zero(t, r.status, "%v: %s", evidence, r.err)
		require.Regexp(t, `^key-differs: south-sw-1 and server (tern|plover)\n`, r.out, "%v", evidence)
	}
	stdin := c
	capture, err := os.ReadFile(filepath.Join(c.dir, "st/traffic.pcapng"))
	require.NoError(t, err)
	stdin.stdin = string(capture)
	r := stdin.run(t, "why", "-capture", "-", "-key-file", "demo/as-reviewed/keys/shore.key")
	require.Zero(t, r.status, r.err)

	r = c.run(t, append([]string{"why", "-state", "st", "-probe", "-device", "south-sw-1", "-write", "incident.md",
		"-confirm"}, password...)...)
	require.Equal(t, 1, r.status, "it still fails")
	require.Contains(t, r.err,
		"asked: tern refuses a name that nobody has, asked as south-sw-1: with the site's key it answers")
	require.Contains(t, r.out, "it still fails: repeated at")
	written, err := os.ReadFile(filepath.Join(c.dir, "incident.md"))
	require.NoError(t, err)
	for _, part := range []string{"# key-differs: south-sw-1 and server tern\n",
		"- Symptom: ines.marsh at south-sw-1 by ssh", "Repair: put the key shore-key on south-sw-1",
		"| login | crew | group shore |", "repeated at"} {
		require.Contains(t, string(written), part)
	}
	require.Contains(t, c.run(t, "why", "-state", "st", "-write", "incident.md").err,
		"is there already; name a new file")

	r = c.run(t, "why", "-state", "st", "-all")
	require.Zero(t, r.status)
	require.Contains(t, r.out, "key-differs: south-sw-1 and server tern\n")
	require.Contains(t, r.out, "server-off: mv-avocet-rtr to server sanderling\n")
	require.Contains(t, r.out, "4 logins, 1 of them healthy; 3 causes\n", "and nothing else of the healthy one")
	var all struct {
		Groups []struct {
			Cause, Where, Server, Layer, Says, Repair, First, Last string
			Confidence                                             float64
			Evidence, Against, Next, People, Devices               []string
			Follows, Instead                                       bool
			Logins                                                 int
		}
		Logins, Healthy int
	}
	clitest.Strictly(t, c.run(t, "why", "-state", "st", "-all", "-json").out, &all)
	require.Len(t, all.Groups, 3)
	require.Contains(t, c.run(t, "why", "-state", "st", "-all", "-device", "north-sw-1").out,
		"healthy: 1 login, and nothing is wrong with any")

	r = c.run(t, "why", "-person", "odd.larsen", "-device", "north-sw-1", "-access", "ssh", "-saw", "refused",
		"demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "disabled-or-expired: north-sw-1 by ssh")

	r = c.run(t, "why", "-state", "st", "-at", "2020-01-01T03:10")
	require.Equal(t, 1, r.status, "nobody logged in then: %s", r.out)
	require.Empty(t, r.out)
	require.Contains(t, c.run(t, "why", "-state", "st", "-device", "hq-fw-1").out,
		"no login is in what is at hand")

	// Somebody whom only a directory knows is foreseen by the teams that it gives: in a lab they are known. What a
	// broken directory does to them is not.
	ebba := []string{"login", "-state", "st", "-device", "north-rtr-1", "-person", "ebba.lind", "-password-file",
		"demo/as-reviewed/passwords/ebba.lind"}
	r = c.run(t, ebba...)
	require.Zero(t, r.status, r.out)
	require.Contains(t, r.out, "as expected: in at level 1")
	r = c.run(t, "login", "-state", "st", "-device", "north-rtr-1", "-person", "tobin.red", "-password-file",
		"demo/as-reviewed/passwords/ebba.lind")
	require.Contains(t, r.err, `the site has nobody called "tobin.red"; did you mean "tobin.reed"?`)
	require.Contains(t, r.out, "nothing was foreseen")
	r = c.run(t, "login", "-state", "st", "-device", "north-rtr-1", "-person", "tobin.red", "-teams", "network",
		"-password-file", "demo/as-reviewed/passwords/ebba.lind")
	require.Equal(t, 1, r.status, "team network would be in, and no directory has the name: %s", r.out)
	r = c.run(t, "login", "-state", "st", "-device", "north-rtr-1", "-person", "tobin.red", "-teams", "netwrok",
		"-password-file", "demo/as-reviewed/passwords/ebba.lind")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, `did you mean "network"?`)
	require.Zero(t, c.run(t, "lab", "-state", "st", "-set", "dunlin closed").status)
	r = c.run(t, ebba...)
	require.Zero(t, r.status, r.out)
	require.Contains(t, r.out, "nothing was foreseen; say what you expect with -expect")

	require.Contains(t, c.run(t, "why", "-symptom", "frobnicate", "-device", "south-sw-1", "demo/as-reviewed").err,
		`no word of "frobnicate" tells what was seen, so it is not weighed; say it with -saw: `)
	for _, bad := range []struct {
		args []string
		says string
	}{
		{[]string{"-saw", "refusde"}, `did you mean "refused"?`}, {[]string{"-access", "shh"}, `did you mean "ssh"?`},
		{[]string{"-probe", "demo/as-reviewed"}, "name it with -device"},
		{[]string{"-all", "-confirm"}, "-all is about all"},
		{[]string{"-at", "noon"}, "2026-11-23T14:30 or 2026-11-23T14:30:00Z is wanted"},
		{[]string{"-capture", "demo/as-reviewed/site.yaml"}, "this is no pcap or pcapng capture"},
		{[]string{"-counters", "demo/as-reviewed/site.yaml"}, "holds no counters"},
		{[]string{"-events", "demo/as-reviewed/site.yaml"}, "holds no line that can be read"},
		{[]string{"-log", "none"}, "none"},
		{[]string{"-device", "south-sw-2", "demo/as-reviewed"}, `did you mean "south-sw-1"?`},
	} {
		r := c.run(t, append([]string{"why"}, bad.args...)...)
		require.Equal(t, 2, r.status, "%v: %s", bad.args, r.err)
		require.Contains(t, r.err, bad.says, "%v", bad.args)
	}
	r = c.run(t, "why", "-state", "st", "-person", "ines.mrash")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, `did you mean "ines.marsh"?`)
	require.Equal(t, 130, lab.end(t))
}

// What passes an interface, and what the servers noted meanwhile, is one story.
func TestALoginIsExplainedWhileItIsListenedTo(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("listening on an interface needs a privilege")
	}
	c := demoSite(t)
	c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	why := c.start(t, "why", "-interface", "lo", "-for", "3s", "-state", "st", "-device", "north-sw-1", "-person",
		"ines.marsh")
	require.Zero(t, c.run(t, "login", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh",
		"-password-file",
		"demo/as-reviewed/passwords/tobin.reed", "-expect", "refused").status)
	require.NoError(t, why.Wait())
	for _, says := range []string{"wrong-password: north-sw-1 by ssh, server tern", "(99 % sure; layer:",
		"for      tern noted at",
		"the login: ines.marsh at north-sw-1 by ssh"} {
		require.Contains(t, why.out.String(), says, why.said())
	}
	require.NotContains(t, why.said(), "no pcap")
}

// A lab runs while why follows it, and listen shows a part of what goes over the wire.
func TestFailedLoginsAreToldAsTheyHappen(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	unknown := c.run(t, "why", "-follow", "-state", "st", "-device", "hq-fw-9")
	require.Equal(t, 2, unknown.status)
	require.Contains(t, unknown.err, `demo/as-reviewed has no device "hq-fw-9"; did you mean "hq-fw-1"?`)
	told := c.start(t, "why", "-follow", "-state", "st")
	asJSON := c.start(t, "why", "-follow", "-json", "-device", "hq-fw-1", "-state", "st")
	heard := c.start(t, "listen", "-follow", "-state", "st", "-device", "hq-fw-1", "-answer", "refused")
	try := func(device, person, password string) {
		c.run(t, "login", "-state", "st", "-device", device, "-person", person, "-password-file",
			"demo/as-reviewed/passwords/"+password)
	}
	try("north-sw-1", "ines.marsh", "ines.marsh")
	try("hq-fw-1", "ines.marsh", "master")
	try("north-sw-1", "odd.larsen", "odd.larsen")
	require.Eventually(t, func() bool {
		return strings.Contains(told.out.String(),
			"disabled-or-expired: north-sw-1 by ssh, server tern (odd.larsen)") &&
			strings.Contains(asJSON.out.String(), "\n") && strings.Contains(heard.out.String(), "ines.marsh")
	}, 20*time.Second, 10*time.Millisecond, told.out)
	require.Equal(t, 1, strings.Count(told.out.String(), "wrong-password: hq-fw-1 by ssh, server tern (ines.marsh)"))
	require.NotContains(t, told.out.String(), "(tobin", "nobody else tried")
	require.Equal(t, 2, strings.Count(told.out.String(), "repair "), "who got in is not told")
	var one struct{ Device, Person, Access, Cause, Repair string }
	clitest.Strictly(t, asJSON.out.String(), &one)
	require.Equal(t, []string{"hq-fw-1", "ines.marsh", "ssh", "wrong-password"},
		[]string{one.Device, one.Person, one.Access,
			one.Cause})
	require.NotContains(t, heard.out.String(), "accepted")
	for _, b := range []*background{told, asJSON, heard} {
		require.Equal(t, 130, b.end(t))
	}
	last := c.run(t, "listen", "-state", "st", "-last", "1", "-person", "odd.larsen")
	require.Equal(t, 2, strings.Count(last.out, "\n"), "the header and one line: %s", last.out)
	require.Contains(t, c.run(t, "listen", "-state", "st", "-person", "nobody").err,
		"none is one of those that were asked for")
	require.Contains(t, c.run(t, "listen", "-capture", "st/traffic.pcapng", "demo/as-reviewed").out, "ines.marsh",
		"the capture of a lab is read with its addresses")
	for call, says := range map[string]string{
		"why -follow -all -state st":                "-follow reads the state folder",
		"listen -follow -capture st/traffic.pcapng": "-follow is for the state folder",
		"listen -last 2 -follow":                    "-last is for what is there already",
		"listen -last -2 -state st":                 "a number above 0 is wanted",
		"listen -since soon -state st":              "03:10, 2026-11-23T03:10 or 10m is wanted",
		"listen -answer refusd -state st":           `did you mean "refused"?`,
	} {
		r := c.run(t, strings.Fields(call)...)
		require.Equal(t, 2, r.status, call)
		require.Contains(t, unwrapped(r.err), says, call)
	}
	require.Equal(t, 130, lab.end(t))
}
