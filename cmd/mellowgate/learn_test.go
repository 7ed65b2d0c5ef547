package main

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/childproc"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/testscale"
)

// unlearned is a site of whose make nothing is known.
const unlearned = `site: Unlearned
keys: {k: clear a-key-of-this-test-only-31}
servers:
  - {name: tern, protocol: tacacs, address: 192.0.2.21, port: 4949, key: k, timeout: 300ms}
  - {name: plover, protocol: tacacs, address: 192.0.2.22, port: 4949, key: k, timeout: 300ms}
groups: [{name: shore, servers: [tern, plover]}]
lists:
  - {name: crew, authenticate: login, methods: [group shore, local]}
  - {name: crew-session, authorize: session, methods: [group shore, local]}
  - {name: crew-visits, account: sessions, when: start and stop, methods: [group shore]}
platforms:
  - name: quay-switch
devices:
  - name: sw-1
    platform: quay-switch
    addresses: [192.0.2.101]
    accounts: [wayback]
    access:
      ssh: {login: crew, session: crew-session, record-sessions: crew-visits}
      console: {login: crew, session: crew-session}
accounts: [{name: wayback, level: 15, password: 'HASH'}]
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
lab: {only: true}
`

func unlearnedSite(t *testing.T, more ...string) call {
	t.Helper()
	c := call{dir: t.TempDir()}
	hash, err := secrets.Hash("the way back in", 64, 1)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"),
		[]byte(strings.NewReplacer(append(more, "HASH", hash)...).Replace(unlearned)), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "wayback"), []byte("the way back in\n"), 0o600))
	return c
}

func TestWhatIsNotKnownIsFoundOutAndWrittenAndThenNothingDependsOnIt(t *testing.T) {
	t.Parallel()
	c := unlearnedSite(t)
	found := c.run(t, "check")
	require.Zero(t, found.status, found.err)
	require.Contains(t, found.out, "What happens depends on password-form tacacs, which is not known of the platform "+
		"quay-switch.")
	require.Contains(t, found.out, "find it out by mellowgate learn quay-switch -device sw-1")
	before := c.run(t, "foresee", "-person", "wayback", "-access", "ssh")
	require.Contains(t, before.out, "depends on refusal, which is not known: with ends-list")
	assumed := c.run(t, "check", "-assume")
	require.NotContains(t, assumed.out, "depends-on-behaviour")
	require.NotContains(t, c.run(t, "foresee", "-assume").out, "depends on")

	c.start(t, "lab", "-devices-only", "-state", "st", "-network", network(t),
		"-behaves", "quay-switch refusal: ends-list",
		"-behaves", "quay-switch password-form tacacs: chap")
	r := c.run(t, "learn", "-json", "-yes", "-write", "-state", "st", "-device", "sw-1", "-password-file", "wayback",
		"quay-switch")
	require.Zero(t, r.status, r.err)
	var learned struct {
		Claimed []struct {
			Aspect string `json:"trait"`
			Value  string `json:"value"`
		} `json:"claimed"`
		Odd    []string `json:"odd"`
		Logins int      `json:"logins"`
		Whole  bool     `json:"whole"`
	}
	clitest.Strictly(t, r.out, &learned)
	is := map[string]string{}
	for _, one := range learned.Claimed {
		is[one.Aspect] = one.Value
	}
	require.Equal(t, "ends-list", is["refusal"])
	require.Equal(t, "chap", is["password-form tacacs"])
	require.Equal(t, "ignores", is["accounting-failure"])
	require.True(t, learned.Whole)
	require.NotContains(t, r.out+r.err, "the way back in")
	kept, err := os.ReadFile(filepath.Join(c.dir, "learned-sw-1.jsonl"))
	require.NoError(t, err)
	for line := range strings.SplitSeq(strings.TrimSpace(string(kept)), "\n") {
		clitest.Strictly(t, line, new(map[string]any))
	}
	require.NotContains(t, string(kept), "the way back in")
	login := c.run(t, "login", "-state", "st", "-device", "sw-1", "-person", "ines", "-password-file", "wayback")
	require.Zero(t, login.status, "no server runs there, so ines is refused as expected\n%s", login.out)
	require.Contains(t, login.out, "tern not run by this lab")

	text, err := os.ReadFile(filepath.Join(c.dir, "site.yaml"))
	require.NoError(t, err)
	require.Contains(t, string(text), "\n  - name: quay-switch\n    behaviour: {refusal: ends-list, ")
	require.Contains(t, string(text), "password-form: {tacacs: chap}")
	require.Contains(t, string(text), "port-names: {console: [console], ssh: [ssh]}")
	after := c.run(t, "check")
	require.Equal(t, 1, after.status, "the hash of ines cannot be checked against chap")
	require.NotContains(t, after.out, "depends-on-behaviour")
	require.NotContains(t, c.run(t, "foresee").out, "depends on refusal")
}

func TestADeviceThatIsOtherwiseThanTheSiteSaysIsTold(t *testing.T) {
	t.Parallel()
	c := unlearnedSite(t, "  - name: quay-switch\n", "  - name: quay-switch\n    behaviour:\n      refusal: "+
		"tries-next\n"+
		"      password-form: {radius: pap}\n")
	c.start(t, "lab", "-devices-only", "-state", "st", "-network", network(t), "-behaves",
		"quay-switch refusal: ends-list")
	r := c.run(t, "learn", "-yes", "-again", "-write", "-state", "st", "-device", "sw-1", "-password-file", "wayback",
		"quay-switch")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "the site says refusal: tries-next, and it is ends-list")
	text, err := os.ReadFile(filepath.Join(c.dir, "site.yaml"))
	require.NoError(t, err)
	require.Contains(t, string(text), "refusal: tries-next\n", "what the site says is for you to change")
	require.Contains(t, string(text), "      password-form: {tacacs: ascii, radius: pap}\n")
	require.Contains(t, string(text), "      accounting-failure: ignores\n")
}

// A real device is entered at its address, by OpenSSH's protocol, and asks servers at
// addresses of this host.
func TestARealDeviceIsLearnedByItsAddress(t *testing.T) {
	t.Parallel()
	c := unlearnedSite(t)
	net := labtest.Network(t)
	c.start(t, "lab", "-devices-only", "-state", "st", "-network", net.String(), "-behaves",
		"quay-switch refusal: ends-list")
	var places struct {
		Servers []struct{ Name, Address string }
		Devices []struct {
			Name, Source string
			Ways         []struct{ Access, Address string }
		}
	}
	text, err := os.ReadFile(filepath.Join(c.dir, "st", "places.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &places))
	var ssh string
	for _, w := range places.Devices[0].Ways {
		if w.Access == "ssh" {
			ssh = w.Address
		}
	}
	r := c.run(t, "learn", "-yes", "-device", "sw-1", "-address", ssh, "-from", places.Devices[0].Source,
		"-known-hosts",
		"hosts", "-accept-host-key", "-listen", "tern="+places.Servers[0].Address, "-listen",
		"plover="+places.Servers[1].Address, "-prompt", `level (\d+)\] $`, "-password-file", "wayback", "quay-switch")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `refusal +ends-list`, r.out)
	require.Regexp(t, `accounting-failure +ignores`, r.out)
	require.NotContains(t, r.out, "by console")
}

// A device that shares no code with the program, with packets of its own making: what is
// claimed of it is what its text says.
func TestADeviceThatWasWrittenFromTheStandardsAloneIsLearned(t *testing.T) {
	t.Parallel()
	c := unlearnedSite(t, "protocol: tacacs", "protocol: radius", "port: 4949",
		"ports: {authentication: 11812, accounting: 11813}, attempts: 2", "timeout: 300ms", "timeout: 400ms",
		"      ssh: {login: crew, session: crew-session, record-sessions: crew-visits}\n", "")
	script, err := filepath.Abs("testdata/device.py")
	require.NoError(t, err)
	net := labtest.Network(t)
	at := func(last byte) string { return labtest.Host(net, 0, last).String() }
	device := childproc.Child(exec.Command(peer(t, "/usr/bin/python3", "python3"), script, "0", at(9),
		"a-key-of-this-test-only-31", at(1)+":11812", at(2)+":11812"))
	out, err := device.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, device.Start())
	t.Cleanup(func() { _ = device.Process.Kill(); _ = device.Wait() })
	port, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	r := c.run(t, "learn", "-yes", "-write", "-device", "sw-1", "-address", at(9)+":"+strings.TrimSpace(port),
		"-access",
		"console", "-from", at(9), "-listen", "tern="+at(1), "-listen", "plover="+at(2), "-prompt", `tug-(\d+)\) # $`,
		"-password-file", "wayback", "quay-switch")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "for the platform quay-switch: behaviour: {refusal: ends-list, notices-closed-port: "+
		"false, "+
		"level-attribute: radius-standard, password-form: {radius: pap}, port-names: {console: [\"tty *\"]}}")
	require.Regexp(t, `tern is asked again after 0\.[4-9][^;]* s, 2 times in all at most`, r.out) // a busy machine is late
	require.Contains(t, r.out, "a question of RADIUS carries Message-Authenticator, NAS-IP-Address, NAS-Port-Id, "+
		"User-Name, User-Password")
	require.Contains(t, c.run(t, "foresee").out, "ines")
}

func TestALearnThatCannotBeMadeSaysWhy(t *testing.T) {
	t.Parallel()
	c := unlearnedSite(t)
	c.start(t, "lab", "-state", "running", "-network", network(t))
	for _, k := range []struct {
		args []string
		says string
	}{
		{[]string{}, "learn needs the platform"},
		{[]string{"quay-swich"}, `the site has no platform "quay-swich"; did you mean "quay-switch"?`},
		{[]string{"-device", "sw-2", "quay-switch"}, "sw-2"},
		{[]string{"-device", "sw-1", "-account", "nobody", "quay-switch"}, `no local account "nobody" that logs in`},
		{[]string{"-device", "sw-1", "-state", "none", "quay-switch"}, "none"},
		{[]string{"-device", "sw-1", "-state", "running", "quay-switch"}, "start it with mellowgate lab -devices-only"},
		{[]string{"-device", "sw-1", "-failures", "0", "quay-switch"}, "-failures is at least 1"},
		{[]string{"-plan", "quay-switch"}, "say on which device"},
		{[]string{"-device", "sw-1", "-address", "192.0.2.101:22", "-listen", "gull=127.0.0.1", "quay-switch"},
			"SERVER=ADDRESS is wanted"},
	} {
		r := c.run(t, append([]string{"learn"}, k.args...)...)
		require.Equal(t, 2, r.status, "%s\n%s", k.args, r.err)
		require.Contains(t, r.err, k.says)
	}
	plan := c.run(t, "learn", "-plan", "-device", "sw-1", "quay-switch")
	require.Zero(t, plan.status, plan.err)
	require.Contains(t, plan.out, " 1. wayback by ssh while plover and tern are silent")
	require.Contains(t, plan.out, "on a device that behaves as usual; another one may take other steps")
	unasked := c.run(t, "learn", "-device", "sw-1", "-state", "running", "quay-switch")
	require.Equal(t, 2, unasked.status)
}

func TestWhatHappenedAnywayIsReadOff(t *testing.T) {
	t.Parallel()
	c := unlearnedSite(t)
	c.start(t, "lab", "-state", "st", "-network", network(t))
	login := c.run(t, "login", "-state", "st", "-device", "sw-1", "-person", "ines", "-password-file", "wayback")
	require.Zero(t, login.status, login.err)
	r := c.run(t, "learn", "-state", "st", "quay-switch")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "passwords go to TACACS+ servers as ascii")
	require.Contains(t, r.out, "questions come from 127.")
}

func TestEveryCallOfThePageAboutInstallingDoesWhatThePageSays(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	follow(t, c, "docs/install.md", []printed{
		{call: "mellowgate check /etc/mellowgate/site", as: "mellowgate check demo/as-reviewed",
			says: "^nothing found"},
		{call: "mellowgate check SITE", as: "mellowgate check demo/as-reviewed", says: "^nothing found"},
		{call: "mellowgate migrate SITE", as: "mellowgate migrate demo/as-reviewed", says: "nothing is changed"},
		{call: "mellowgate new -schema > site.schema.json", as: "mellowgate new -schema", says: "json-schema.org"},
		{call: "mellowgate help completion", says: "bashrc"},
		{call: "mellowgate help -man FOLDER", as: "mellowgate help -man pages"},
	})
	page, err := os.ReadFile(filepath.Join(c.dir, "pages", "mellowgate-learn.1"))
	require.NoError(t, err)
	require.Contains(t, string(page), ".SH SYNOPSIS\n.B mellowgate learn [flags] PLATFORM [SITE]\n")
	require.FileExists(t, filepath.Join(c.dir, "pages", "mellowgate.1"))
	for _, line := range strings.Split(string(page), "\n") {
		require.NotRegexp(t, `^'`, line, "a line that begins so is a request")
	}
}

func TestEveryCallOfThePageAboutHabitsDoesWhatThePageSays(t *testing.T) {
	t.Parallel()
	testscale.Whole(t, "the calls of the README and of the guide")
	c := call{dir: t.TempDir()}
	change := func(path string, pairs ...string) func(*testing.T, call) {
		return func(t *testing.T, c call) {
			text, err := os.ReadFile(filepath.Join(c.dir, path))
			require.NoError(t, err)
			changed := strings.NewReplacer(pairs...).Replace(string(text))
			require.NotEqual(t, string(text), changed)
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, path), []byte(changed), 0o600))
		}
	}
	const reviewed, wayback = "demo/as-reviewed", " -password-file demo/as-reviewed/passwords/"
	bare := change("my-site/site.yaml", "dead-time: 1m", "dead-time: 0", "timeout: 2s", "timeout: 400ms",
		"    behaviour: {refusal: ends-list, all-dead: passes, accounting-failure: ignores, "+
			"console-obeys-authorization: true, password-form: {tacacs: ascii}}\n", "")
	follow(t, c, "docs/learn.md", []printed{
		{call: "mellowgate foresee SITE", not: "below, of sites that there are"},
		{call: "mellowgate check SITE", not: "below"},
		{call: "mellowgate new my-site", says: "my-site is a site to edit"},
		{call: "mellowgate check my-site", before: func(t *testing.T, c call) {
			clitest.CheapHashes(t, filepath.Join(c.dir, "my-site"))
			bare(t, c)
		}, says: "What happens depends on accounting-failure"},
		{call: "mellowgate lab -devices-only -behaves 'switch refusal: ends-list' -behaves 'switch password-form " +
			"tacacs: pap' my-site",
			as: "mellowgate lab -devices-only -network " + another(t) +
				" -behaves 'switch refusal: ends-list' -behaves 'switch password-form tacacs: pap' my-site",
			says: "switch-2"},
		{call: "mellowgate learn -plan -device switch-1 switch my-site",
			says: " 1. wayback by ssh while gate-1 and gate-2 are silent"},
		{call: "mellowgate learn -yes -write -device switch-1 -password-file my-site/passwords/wayback switch my-site",
			says: `refusal +ends-list(?s).*password-form tacacs +pap(?s).*the way in waits so long at least`},
		{call: "mellowgate check my-site", says: "0 errors, 0 warnings|nothing found|slow-fallback"},
		{call: "mellowgate demo -write demo"},
		{call: "mellowgate lab -devices-only -behaves 'pier-switch refusal: tries-next' demo/as-reviewed",
			before: func(t *testing.T, c call) {
				change(reviewed+"/site.yaml", "dead-time: 1m", "dead-time: 0", "timeout: 1s", "timeout: 300ms")(t, c)
			},
			as: "mellowgate lab -devices-only -state st -network " + another(t) +
				" -behaves 'pier-switch refusal: tries-next' " + reviewed, says: "hq-fw-1"},
		{call: "mellowgate learn -again -yes -device north-sw-1" + wayback + "harbourmaster pier-switch " + reviewed,
			as: "mellowgate learn -state st -again -yes -device north-sw-1" + wayback + "harbourmaster pier-switch " +
				reviewed,
			status: 1, says: `the site says refusal: ends-list, and it is tries-next`},
		{call: "mellowgate learn -again -yes -device mv-avocet-rtr" + wayback + "master ship-router " + reviewed,
			// its own tests try RADIUS
			as:   "mellowgate learn -plan -again -device mv-avocet-rtr ship-router " + reviewed,
			says: "1. master by ssh while plover, sanderling and tern are silent"},
		{call: "mellowgate learn -device DEVICE -address ADDRESS PLATFORM SITE",
			not: "a test of its own learns a device by its address"},
		{call: "mellowgate learn -capture FILE PLATFORM SITE", not: "learn's own tests read captures"},
		{call: "mellowgate learn -state DIR PLATFORM SITE", not: "learn's own tests read a state folder"},
	})
	require.NotContains(t, c.run(t, "check", "my-site").out, "depends-on-behaviour")
}
