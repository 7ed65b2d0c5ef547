package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/store/childproc"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/testscale"
)

// sending is a lab of the demo site, and sites that are to be sent to it.
func sending(t *testing.T, network string) (c call, lab *background, variant func(name string, pairs ...string),
	as []string) {
	c = demoSite(t)
	path := filepath.Join(c.dir, "demo/as-reviewed/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	// No delay after a refusal, and NETCONF also on a device that asks by RADIUS.
	text = []byte(strings.Replace(string(text), "addresses: [198.51.100.11],",
		"addresses: [198.51.100.11], access: {netconf: {}},", 1) + "service: {limits: {failure-delay: 0s}}\n")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	lab = c.start(t, "lab", "-state", "st", "-network", network, "demo/as-reviewed")
	variant = func(name string, pairs ...string) {
		changed := strings.NewReplacer(pairs...).Replace(string(text))
		require.NotEqual(t, string(text), changed)
		require.NoError(t, os.MkdirAll(filepath.Join(c.dir, name, "keys"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name, "site.yaml"), []byte(changed), 0o600))
		keys, err := filepath.Glob(filepath.Join(c.dir, "demo/as-reviewed/keys/*"))
		require.NoError(t, err)
		for _, k := range keys {
			value, err := os.ReadFile(k)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, name, "keys", filepath.Base(k)), value, 0o600))
		}
	}
	as = []string{"-state", "st", "-person", "ines.marsh", "-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	return c, lab, variant, as
}

// unwrapped is a text without the ends of its lines.
func unwrapped(text string) string { return strings.Join(strings.Fields(text), " ") }

func (c call) holds(t *testing.T, as []string, device, site string) bool {
	r := c.run(t, append(append([]string{"compare"}, as...), device, site)...)
	return r.status == 0
}

func TestSendPutsADesignOnDevicesWithProofOrTakesItBack(t *testing.T) {
	t.Parallel()
	c, lab, variant, as := sending(t, network(t))
	variant("other", "servers: [tern, plover]", "servers: [plover, tern]")
	send := func(args ...string) result { return c.run(t, append(append([]string{"send"}, as...), args...)...) }

	r := send("-dry-run", "north-rtr-1", "other")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "group shore: servers in order is tern, plover, and should be plover, tern")
	require.Contains(t, r.out, "not carried: ")
	require.NoDirExists(t, filepath.Join(c.dir, "mellowgate-sent"))
	r = send("north-rtr-1", "other")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "nobody is here to be asked; agree with -yes")
	require.True(t, c.holds(t, as, "north-rtr-1", "demo/as-reviewed"))

	r = send("-yes", "north-rtr-1", "north-sw-1", "other")
	require.Zero(t, r.status, r.err)
	for _, proof := range []string{"proven: ines.marsh gets in by netconf from a new connection, and may change " +
		"the configuration", "proven: a wrong password is refused", "proven: ines.marsh by ssh: in at level 15",
		"(plover accepted it)", "the old session is still open", "confirmed: the design stays"} {
		require.Contains(t, r.err, proof)
	}
	require.True(t, c.holds(t, as, "north-sw-1", "other"))
	kept, err := filepath.Glob(filepath.Join(c.dir, "mellowgate-sent/*.xml"))
	require.NoError(t, err)
	require.Len(t, kept, 2)
	info, err := os.Stat(kept[0])
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.Contains(t, send("-yes", "north-rtr-1", "other").out, "it holds the design already")

	variant("broken", "address: 192.0.2.21", "address: 192.0.2.22", "address: 192.0.2.22", "address: 192.0.2.21")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "broken/keys/shore.key"), []byte("a-key-that-no-server-has-1"),
		0o600))
	r = send("-yes", "north-rtr-1", "broken")
	require.Equal(t, 3, r.status, r.err)
	require.Contains(t, unwrapped(r.out), "2 server ports stayed without an answer")
	r = send("-dry-run", "north-rtr-1", "broken")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.err, "north-rtr-1: it would not be sent: ")
	require.Contains(t, r.out, "server tern: key is another")
	r = send("-yes", "-json", "-servers-may-be-down", "north-rtr-1", "north-sw-1", "broken")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.err, "taken back: a new connection finds the device as it was")
	var got struct {
		Left    []string
		Devices []struct {
			Time, Device, Person, Outcome, Why, Kept, Data string
			Accounts                                       bool `json:"accounts_stay"`
			Differences                                    []string
			NotCarried                                     []string `json:"not_carried"`
			Causes                                         []struct {
				Cause, Where, Says, Repair string
				Confidence                 float64
			}
			Proofs []struct {
				What, Saw string
				OK        bool
			}
		}
	}
	clitest.Strictly(t, r.out, &got)
	require.Len(t, got.Devices, 1, "it stops at the first that fails")
	require.Equal(t, []string{"north-sw-1"}, got.Left)
	require.EqualValues(t, "taken-back", got.Devices[0].Outcome)
	var causes []string
	for _, cause := range got.Devices[0].Causes {
		causes = append(causes, cause.Cause)
	}
	require.Contains(t, causes, "key-differs")
	require.NotContains(t, r.out+r.err, "a-key-that-no-server-has")
	require.True(t, c.holds(t, as, "north-rtr-1", "other"), "as it was")

	variant("locked", "methods: [group shore, local]", "methods: [group shore]")
	for args, says := range map[string]string{"-yes hq-fw-1 demo/as-reviewed": "no way in by netconf",
		"-yes north-rtr-1 locked": "check finds"} {
		r := send(strings.Fields(args)...)
		require.Equal(t, 2, r.status, "%s: %s", args, r.err)
		require.Contains(t, r.err, says)
	}
	r = c.run(t, "send", "-state", "st", "-person", "tobin.reed", "-password-file",
		"demo/as-reviewed/passwords/tobin.reed", "-yes", "north-rtr-1", "other")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "foresee says that tobin.reed will not get into north-rtr-1 by netconf after the change")
	require.Equal(t, 130, lab.end(t))
}

// steps reads what a run says, one step after the other, until it ends.
func (c call) steps(t *testing.T, args []string, do func(step string, p *os.Process)) (all []string) {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	cmd := childproc.Child(exec.CommandContext(ctx, program, args...))
	pipe, err := cmd.StderrPipe()
	require.NoError(t, err)
	cmd.Dir = c.dir
	require.NoError(t, cmd.Start())
	for lines := bufio.NewScanner(pipe); lines.Scan(); {
		all = append(all, lines.Text())
		do(lines.Text(), cmd.Process)
	}
	_ = cmd.Wait()
	return all
}

// The program is killed, or ended, at each of its steps: the device is as it was,
// by itself, until the change is confirmed; then it holds the change.
func TestAChangeComesBackWhereverTheProgramDies(t *testing.T) {
	t.Parallel()
	c, lab, variant, as := sending(t, network(t))
	variant("other", "servers: [tern, plover]", "servers: [plover, tern]", "accounts: [harbourmaster]",
		"accounts: [harbourmaster, master]")
	args := append(append([]string{"send"}, as...), "-yes", "-fallback-password-file",
		"demo/as-reviewed/passwords/harbourmaster", "north-rtr-1", "other")
	back := append(append([]string{"send"}, as...), "-yes", "-keep", "back", "north-rtr-1", "demo/as-reviewed")
	all := c.steps(t, args, func(string, *os.Process) {})
	require.Contains(t, strings.Join(all, "\n"), "confirmed: the part with the local accounts stays")
	require.Contains(t, strings.Join(all, "\n"), "confirmed: the design stays")
	require.Greater(t, len(all), 15)
	// After the last proof the program confirms, and says so when the device has answered: a signal that comes
	// in between finds the change kept or taken back.
	proven := all[slices.Index(all, "north-rtr-1: confirmed: the design stays")-1]
	for n, signal := range []syscall.Signal{syscall.SIGKILL, syscall.SIGINT} {
		for i := range all {
			if n > 0 && i%4 > 0 || !testscale.One(i+2*n, 5) {
				continue // Ctrl-C at some of the steps will do
			}
			require.Zero(t, c.run(t, back...).status)
			said := c.steps(t, args, func(step string, p *os.Process) {
				if step == all[i] || strings.HasPrefix(step, "north-rtr-1: what is on it is kept") &&
					strings.HasPrefix(all[i], "north-rtr-1: what is on it is kept") {
					_ = p.Signal(signal)
				}
			})
			story := fmt.Sprintf("signal %v at %q, after: %s", signal, all[i], strings.Join(said, "\n"))
			confirmed := slices.Contains(said, proven)
			require.Eventually(t, func() bool {
				is := c.holds(t, as, "north-rtr-1", "other")
				was := c.run(t, append(append([]string{"compare"}, as...), "north-rtr-1", "demo/as-reviewed")...)
				return is && (confirmed || i >= len(all)-2) || was.status == 0 ||
					strings.Count(was.out, "\n  - ") == 1 &&
						strings.Contains(was.out, "account master is on the device")
			}, 20*time.Second, 50*time.Millisecond, story)
		}
	}
	require.Equal(t, 130, lab.end(t))
}

// stranger is a session of somebody else on a device of the lab.
func (c call) stranger(t *testing.T, standIn string) (*device.Session, evidence.WayPlace) {
	folder, err := state.Open(filepath.Join(c.dir, "st"))
	require.NoError(t, err)
	places, err := folder.Places()
	require.NoError(t, err)
	at, _ := places.Device(standIn)
	i := slices.IndexFunc(at.Ways, func(w evidence.WayPlace) bool { return w.Access == site.NETCONF })
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(at.HostKey))
	require.NoError(t, err)
	password, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/passwords/ines.marsh"))
	require.NoError(t, err)
	s, err := device.Open(context.Background(), device.Target{Address: at.Ways[i].Address, Person: "ines.marsh",
		HostKey: key, Auth: []ssh.AuthMethod{ssh.Password(strings.TrimSpace(string(password)))}})
	require.NoError(t, err)
	return s, at.Ways[i]
}

// What devices do to a careful program.
func TestSendStopsOrTakesBackWhateverTheDeviceDoes(t *testing.T) {
	t.Parallel()
	c, lab, variant, as := sending(t, network(t))
	variant("other", "servers: [tern, plover]", "servers: [plover, tern]")
	as = append(as, "-timeout", "1500ms")
	for n, k := range []struct {
		fault, outcome, says string
		status               int
	}{
		{"refuses secret-key", "stopped", "invalid-value at", 3},
		{"lacks openconfig-system", "stopped", "does not know a part of what it announces", 3},
		{"hangs lock", "stopped", "cannot be locked", 3},
		{"hangs edit-config", "stopped", "does not take the design", 3},
		{"hangs validate", "stopped", "not valid", 3},
		{"hangs unlock", "stopped", "cannot be unlocked", 3},
		{"hangs commit", "taken-back", "the commit failed: the connection ended without an answer", 1},
		{"drops get-config", "stopped", "its configuration cannot be read", 3},
		{"drops edit-config", "stopped", "does not take the design", 3},
		{"drops commit", "taken-back", "the commit failed: the connection ended without an answer", 1},
		{"warns edit-config", "kept", "the device warns: operation-failed: this works, and is not what the maker " +
			"recommends",
			0},
	} {
		if !testscale.One(n, 4) {
			continue
		}
		require.Zero(t, c.run(t, "lab", "-state", "st", "-set", "north-sw-1 "+k.fault).status, k.fault)
		r := c.run(t, append(append([]string{"send"}, as...), "-yes", "north-sw-1", "other")...)
		require.Equal(t, k.status, r.status, "%s: %s %s", k.fault, r.out, r.err)
		require.Contains(t, r.out, k.outcome, k.fault)
		require.Contains(t, unwrapped(r.out+r.err), k.says, k.fault)
		require.Zero(t, c.run(t, "lab", "-state", "st", "-lift", "all").status)
		require.Eventually(t, func() bool {
			return c.holds(t, as, "north-sw-1", map[bool]string{
				true: "other", false: "demo/as-reviewed"}[k.outcome == "kept"])
		}, 20*time.Second, 50*time.Millisecond, k.fault)
	}
	r := c.run(t, append(append([]string{"send", "-dry-run", "-data"}, as...), "north-rtr-1", "other")...)
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "<shared-secret>(secret)</shared-secret>")
	require.NotContains(t, r.out, "Tidemill")

	// Others are at work there.
	other, place := c.stranger(t, "north-rtr-1")
	sends := func(says string) {
		t.Helper()
		r := c.run(t, append(append([]string{"send"}, as...), "-yes", "north-rtr-1", "other")...)
		require.Equal(t, 3, r.status, r.err)
		require.Contains(t, unwrapped(r.out), says)
	}
	require.NoError(t, other.Lock("running"))
	sends("session " + other.SessionID + " on the device has it: wait, or have that session ended")
	require.NoError(t, other.Unlock("running"))
	doc := etree.NewDocument()
	require.NoError(t, doc.ReadFromString(`<config><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><authentication><user><name>half-done</name><password>$0$x</password></user></authentication></system></config>`))
	require.NoError(t, other.Edit("candidate", doc.Root()))
	sends("changes wait there that nobody has committed")
	require.NoError(t, other.Discard())
	other.End()
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "hosts"),
		[]byte("["+strings.Replace(place.Address, ":", "]:",
			1)+" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ1Bk0hQ3bRQmWmHfPbUqVWWkTgqZ2lZ2PvF5v8m8c0D\n"), 0o600))
	r = c.run(t, append(append([]string{"send"}, as...), "-yes", "-known-hosts", "hosts", "-address", place.Address,
		"north-rtr-1", "other")...)
	require.Equal(t, 3, r.status, r.err)
	require.Contains(t, r.err, "if the device was renewed on purpose, take the old line out")

	// An error after a warning is an error.
	for _, fault := range []string{"north-rtr-1 warns edit-config", "north-rtr-1 refuses server-group"} {
		require.Zero(t, c.run(t, "lab", "-state", "st", "-set", fault).status)
	}
	sends("this device does not take server-group")
	require.Equal(t, 130, lab.end(t))
}

// Every fault that a design can contain is stopped before the commit, or taken
// back after it.
func TestNoFaultOfADesignStaysOnADevice(t *testing.T) {
	t.Parallel()
	c, lab, variant, as := sending(t, network(t))
	const sw, ship = "north-sw-1", "mv-avocet-rtr"
	for n, k := range []struct {
		fault, device string
		from, to, in  string // what is wrong in the design; a fault of the lab besides
		status        int
		says, without string // without the questions to the servers: the result of it
	}{
		{"key-differs", sw, "192.0.2.22\n    key: shore-key", "192.0.2.22\n    key: ship-key", "", 3,
			"plover: unreadable",
			""},
		{"key-differs of all", sw, "key: shore-key", "key: ship-key", "", 3, "tern: unreadable", "taken-back"},
		{"key-differs, RADIUS", ship, "key: ship-key", "key: shore-key", "", 3, "sanderling: silent", ""},
		{"client-unknown", sw, "[192.0.2.112],", "[192.0.2.112], source: 192.0.2.199,", "", 3, "tern: ended",
			"taken-back"},
		{"wrong-port", sw, "192.0.2.22\n", "192.0.2.22\n    port: 4949\n", "", 3, "plover: closed", ""},
		{"wrong-port, RADIUS", ship, "192.0.2.23\n",
			"192.0.2.23\n    ports: {authentication: 1899, accounting: 1813}\n", "",
			3, "sanderling: closed", ""},
		{"accounting-port, and so record-not-kept", ship, "192.0.2.23\n",
			"192.0.2.23\n    ports: {authentication: 1812, accounting: 1899}\n", "", 3,
			"sanderling (accounting): closed", ""},
		{"unreachable", sw, "192.0.2.22\n", "192.0.2.99\n", "", 3, "plover: ", ""},
		{"server-off", sw, "192.0.2.21\n", "192.0.2.25\n", "", 3, "tern: ", ""},
		{"mixed-protocol", sw, "192.0.2.22\n", "192.0.2.23\n    port: 1812\n", "", 3, "plover: ", ""},
		{"too-slow", sw, "servers: [tern, plover]", "servers: [plover, tern]", "plover slow 2s", 3, "plover: ", ""},
		{"wrong-list", sw, "- name: crew\n    authenticate: login\n    methods: [group shore, local]",
			"- name: crew\n    authenticate: login\n    methods: [group sea, local]", "", 2, "check finds", ""},
		{"no-fallback", sw, "authenticate: login\n    methods: [group shore, local]",
			"authenticate: login\n    methods: [group shore]", "", 2, "check finds", ""},
		{"no-rights", sw, "defaults: {login: crew, session: crew-session,", "defaults: {login: crew,", "", 2,
			"check finds",
			""},
		{"command-stuck", ship, "methods: [group shore, signed-in]", "methods: [group shore]", "", 2, "check finds",
			""},
		{"password-form", sw, "password-form: {tacacs: ascii}", "password-form: {tacacs: chap}", "", 2, "check finds",
			""},
		{"no-grant", sw, "who: [team network]", "who: [team nobody]", "", 2, "will not get into", ""},
		{"disabled-or-expired", sw, "- name: ines.marsh\n", "- name: ines.marsh\n    disabled: true\n", "", 2,
			"will not get into", ""},
		{"unknown-person", sw, "ines.marsh", "ines.other", "", 2, "has nobody called", ""},
		{"template-missing", ship, "ends-list, all-dead: passes, console",
			"ends-list, all-dead: passes, account-attribute: Filter-Id, console", "", 2,
			"check finds", ""},
	} {
		if !testscale.One(n, 4) {
			continue
		}
		name := strings.Trim(strings.ReplaceAll(strings.ReplaceAll(k.fault, " ", "-"), ",", ""), "-")
		pairs := []string{k.from, k.to}
		if k.fault == "template-missing" { // the role names an account that is not there
			pairs = append(pairs, "- name: deck-officer\n", "- name: deck-officer\n    account: watchkeeper\n",
				"accounts:\n",
				"accounts:\n  - {name: watchkeeper, level: 15, password: key shore-key}\n")
		}
		variant(name, pairs...)
		if k.in != "" {
			require.Zero(t, c.run(t, "lab", "-state", "st", "-set", k.in).status)
		}
		r := c.run(t, append(append([]string{"send"}, as...), "-yes", k.device, name)...)
		require.Equal(t, k.status, r.status, "%s: %s %s", k.fault, r.out, r.err)
		require.Contains(t, unwrapped(r.out+r.err), k.says, k.fault)
		require.NotContains(t, r.err, "runs from now on", k.fault)
		if k.without != "" {
			r := c.run(t, append(append([]string{"send"}, as...), "-yes", "-servers-may-be-down", k.device, name)...)
			require.Equal(t, 1, r.status, "%s: %s %s", k.fault, r.out, r.err)
			require.Contains(t, r.out, k.without, k.fault)
		}
		if k.in != "" {
			require.Zero(t, c.run(t, "lab", "-state", "st", "-lift", "all").status)
		}
		require.True(t, c.holds(t, as, k.device, "demo/as-reviewed"), k.fault)
	}
	require.Equal(t, 130, lab.end(t))
}

// Several devices: one first, the others after it, stop at the first that fails,
// go on from the record. The lab's devices differ in how they take a change back,
// and in their models.
func TestSeveralDevicesOfDifferentKinds(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	text := strings.ReplaceAll(`site: Kinds
keys: {k: file k.key}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 1s, run: true}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 1s, run: true}
groups: [{name: g, servers: [t1, t2]}]
lists:
  - {name: l, authenticate: login, methods: [group g, local]}
  - {name: s, authorize: session, methods: [group g, local]}
  - {name: c, authorize: commands, levels: 0-15, methods: [group g, signed-in]}
platforms:
  - {name: usual, behaviour: {refusal: ends-list}}
  - {name: first, behaviour: {refusal: ends-list, rollback: first-confirmed-commit, models: [ietf-system, ietf-system-tacacs-plus]}}
  - {name: plain, behaviour: {refusal: ends-list, rollback: nothing, models: [openconfig-system]}}
  - {name: direct, behaviour: {refusal: ends-list, rollback: no-candidate}}
  - {name: local-too, behaviour: {refusal: tries-next, local-level-needs-session: false}}
  - {name: bare, behaviour: {models: [ietf-system]}}
profiles: [{name: p, defaults: {login: l, session: s, commands: c}, access: {console: {}, netconf: {}}, accounts: [keeper]}]
accounts: [{name: keeper, level: 15, password: 'HASH'}, {name: mate, level: 15, password: 'HASH'}]
devices:
  - {name: usual-1, platform: usual, profile: p, addresses: [192.0.2.11], labels: {pair: core}}
  - {name: usual-2, platform: usual, profile: p, addresses: [192.0.2.12], labels: {pair: core}}
  - {name: first-1, platform: first, profile: p, addresses: [192.0.2.13]}
  - {name: plain-1, platform: plain, profile: p, addresses: [192.0.2.14]}
  - {name: direct-1, platform: direct, profile: p, addresses: [192.0.2.15]}
  - {name: local-1, platform: local-too, profile: p, addresses: [192.0.2.16]}
  - {name: bare-1, platform: bare, profile: p, addresses: [192.0.2.17]}
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
service: {limits: {failure-delay: 0s}}
lab: {network: 127.70.0.0/16}
`, "HASH", hash)
	text = here(t, text)
	for name, content := range map[string]string{"site.yaml": text, "k.key": "a-key-of-this-test-only\n",
		"password": "right\n", "wrong": "not right\n",
		"other.yaml": strings.NewReplacer("[t1, t2]", "[t2, t1]", "accounts: [keeper]",
			"accounts: [keeper, mate]").Replace(text)} {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(content), 0o600))
	}
	lab := c.start(t, "lab", "-state", "st")
	as := []string{"-state", "st", "-person", "ines", "-password-file", "password"}
	send := func(args ...string) result {
		return c.run(t, append(append([]string{"send", "-yes"}, as...), args...)...)
	}

	for args, says := range map[string]string{"-canary nobody-1 usual-1 other.yaml": "nobody-1",
		"-canary usual-2 usual-1 other.yaml":  "name it among the devices too",
		"-at-once 0 usual-1 other.yaml":       "-at-once is from 1 to 50",
		"-resume other.yaml":                  "holds no record of an earlier run",
		"-fallback master usual-1 other.yaml": "has no local account master",
		"-timeout 0s usual-1 other.yaml":      "-timeout is above 0"} {
		r := send(strings.Fields(args)...)
		require.Equal(t, 2, r.status, "%s: %s", args, r.err)
		require.Contains(t, r.err, says, args)
	}
	r := send("plain-1", "other.yaml")
	require.Equal(t, 3, r.status, r.err)
	require.Contains(t, unwrapped(r.out),
		"it cannot take a change back by itself: it offers no confirmed commit (RFC 6241, section 8.4); with "+
			"-without-way-back")

	// The canary fails: none of the others is begun.
	require.Zero(t, c.run(t, "lab", "-state", "st", "-set", "first-1 refuses shared-secret").status)
	r = send("-canary", "first-1", "-at-once", "4", "usual-1", "usual-2", "first-1", "local-1", "other.yaml")
	require.Equal(t, 3, r.status, r.out)
	require.Contains(t, r.out, "not tried: usual-1, usual-2, local-1; go on with -resume")
	require.Zero(t, c.run(t, "lab", "-state", "st", "-lift", "all").status)
	r = send("-at-once", "4", "-fallback-password-file", "password", "-resume", "other.yaml")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.err, "named 4 devices; 0 of them hold the design")
	for _, said := range []string{"4 of 4: ", "local-1: proven: the local account keeper gets in by netconf",
		"usual-1: the local account keeper cannot be tried now: the device asks tacacs-plus first"} {
		require.Contains(t, r.err, said)
	}
	one, other := strings.Index(r.err, "usual-1: confirmed: the design stays"), strings.Index(r.err, "usual-2: reading")
	require.Greater(t, other, one, "never both of a pair at once: %s", r.err)
	r = c.run(t, append(append([]string{"compare"}, as...), "usual-1", "usual-2", "first-1", "local-1",
		"other.yaml")...)
	require.Zero(t, r.status, r.out)
	r = send("-resume", "other.yaml")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.err, "named 4 devices; 4 of them hold the design, none is left")
	require.JSONEq(t, `{"devices": [], "left": []}`, send("-json", "-resume", "other.yaml").out)
	r = c.run(t, "ledger", "-state", "mellowgate-sent", "-device", "first-1")
	require.Zero(t, r.status, r.err)
	for _, word := range []string{"named", "stopped", "kept"} {
		require.Contains(t, r.out, word)
	}
	require.Contains(t, c.run(t, "ledger", "-state", "mellowgate-sent", "verify").out, "every record")

	// Without a way back this program puts back what was there.
	for _, device := range []string{"plain-1", "direct-1"} {
		r = send("-without-way-back", "-fallback-password-file", "wrong", device, "other.yaml")
		require.Zero(t, r.status, r.out+r.err)
		require.Contains(t, r.err, "the device cannot take it back by itself: this program does")
		require.True(t, c.holds(t, as, device, "other.yaml"))
	}
	r = send("-fallback-password-file", "wrong", "local-1", "site.yaml")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.out, "taken-back")
	require.Contains(t, unwrapped(r.out), "the local account keeper gets in by netconf")
	require.True(t, c.holds(t, as, "local-1", "other.yaml"))

	// What the models do not carry is said before anything is sent.
	r = c.run(t, append(append([]string{"send", "-dry-run"}, as...), "bare-1", "other.yaml")...)
	require.Zero(t, r.status, r.err)
	require.Contains(t, unwrapped(r.out),
		"not carried: its TACACS+ servers: the device does not announce ietf-system-tacacs-plus")
	require.Equal(t, 130, lab.end(t))
}
