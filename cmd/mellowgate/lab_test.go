package main

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/childproc"
	"mellowgate/internal/testscale"
)

func TestALabIsLoggedInToAskedWhyAndRead(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	password := func(person string) string { return "demo/as-reviewed/passwords/" + person }

	r := c.run(t, "login", "-json", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh", "-command",
		"set port 3 off", "-command", "look settings", "-password-file", password("ines.marsh"))
	require.Zero(t, r.status, r.err)
	var seen struct {
		Device, Access, Person, Outcome string
		Level                           int
		Seconds                         float64
		Commands                        []struct{ Command, Result, Output string }
		AsExpected                      bool `json:"as_expected"`
	}
	clitest.Strictly(t, r.out, &seen)
	require.Equal(t, []any{"in", 15, true, "allowed"},
		[]any{seen.Outcome, seen.Level, seen.AsExpected, seen.Commands[0].Result})
	require.Contains(t, seen.Commands[1].Output, "port 3   off")

	r = c.run(t, "why", "-state", "st", "-person", "ines.marsh")
	require.Zero(t, r.status)
	require.Contains(t, r.out, "healthy: ines.marsh at north-sw-1 by ssh")

	wrong := c
	wrong.stdin = "not the password\n"
	r = wrong.run(t, "login", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh")
	require.Equal(t, 1, r.status, "foresee expected in")
	require.Contains(t, r.out, "not as expected: in at level 15 was expected")
	r = wrong.run(t, "login", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh", "-expect", "refused")
	require.Zero(t, r.status, r.out)

	r = c.run(t, "why", "-json", "-state", "st")
	require.Zero(t, r.status)
	var verdict struct {
		Causes []struct {
			Cause, Where, Repair string
			Confidence           float64
			Evidence, Against    []string
			Layer, Says          string
			Next                 []string
			Follows, Instead     bool
		}
		Healthy bool
	}
	clitest.Strictly(t, r.out, &verdict)
	require.Equal(t, "wrong-password", verdict.Causes[0].Cause)
	require.False(t, verdict.Healthy)

	r = c.run(t, "login", "-state", "st", "-device", "hq-fw-1", "-person", "harbourmaster", "-access", "console",
		"-password-file", password("harbourmaster"))
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "as expected: refused")
	require.Contains(t, c.run(t, "why", "-state", "st").out, "local-while-server-answers: hq-fw-1 by console")

	r = c.run(t, "ledger", "-state", "st", "-person", "ines.marsh", "-kind", "command", "-json")
	require.Zero(t, r.status)
	var record map[string]any
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	require.Len(t, lines, 2)
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &record))
	for _, name := range []string{"time", "node", "kind", "person", "device", "access", "from", "level", "result",
		"command", "reason", "session", "protocol", "rule", "returned", "sequence", "hash"} {
		require.Contains(t, record, name)
	}
	require.Equal(t, "set port 3 off", record["command"])
	require.Contains(t, c.run(t, "ledger", "-state", "st", "-since", "1h", "-last", "3").out, "SERVER")
	r = c.run(t, "ledger", "verify", "-state", "st")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "every record is as it was written: ")

	for _, file := range []string{"events.jsonl", "traces/north-sw-1.jsonl", "places.json", "traffic.pcapng",
		"records/0000000000000000001.records"} {
		text, err := os.ReadFile(filepath.Join(c.dir, "st", file))
		require.NoError(t, err)
		for _, secret := range []string{"heron-over", "harbour-light", "not the password", "demo-only-"} {
			require.NotContains(t, string(text), secret, file)
		}
	}

	other := c.run(t, "lab", "-state", "other", "-network", network(t), "demo/as-reviewed")
	require.Equal(t, 3, other.status)
	require.Contains(t, other.err, "the port is in use; is another lab running?")
	require.NoDirExists(t, filepath.Join(c.dir, "other"), "nothing is left behind")

	require.Equal(t, 130, lab.end(t))
	require.Contains(t, lab.out.String(), "log in with any client, for instance:")
	r = c.run(t, "login", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh", "-password-file",
		password("ines.marsh"))
	require.Equal(t, 3, r.status, "the lab has ended")
	require.Contains(t, r.err, "the lab of the state folder st has ended")
	require.Zero(t, c.run(t, "why", "-state", "st").status, "its evidence stays")
}

func TestAnOrdinarySSHClientLogsIn(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"ssh", "sshpass"} {
		if _, err := exec.LookPath(tool); err != nil {
			if os.Getenv("MELLOWGATE_PEERS") == "require" {
				t.Fatalf("%s is not installed", tool)
			}
			t.Skipf("%s is not installed", tool)
		}
	}
	c := demoSite(t)
	lab := c.start(t, "lab", "-json", "-state", "st", "-network", network(t), "demo/as-reviewed")
	var places struct {
		Devices []struct {
			Name string
			Ways []struct{ Access, Address string }
		}
	}
	text, err := os.ReadFile(filepath.Join(c.dir, "st", "places.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &places))
	address := ""
	for _, d := range places.Devices {
		for _, w := range d.Ways {
			if d.Name == "north-sw-1" && w.Access == "ssh" {
				address = w.Address
			}
		}
	}
	host, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	client := func(person string, stdin string, command ...string) (string, error) {
		args := append([]string{"-f", "demo/as-reviewed/passwords/" + person, "ssh", "-F", "none", "-o",
			"UserKnownHostsFile=st/known_hosts", "-o", "StrictHostKeyChecking=yes",
			"-o", "PubkeyAuthentication=no", "-p", port, person + "@" + host}, command...)
		cmd := childproc.Child(exec.Command("sshpass", args...))
		cmd.Dir, cmd.Stdin = c.dir, strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := client("ines.marsh", "", "look session")
	require.NoError(t, err, out)
	require.Contains(t, out, "level    15")
	out, err = client("tobin.reed", "", "look secrets")
	require.Error(t, err, "a refused command has a status of its own")
	require.Contains(t, out, "refused: the server tern does not allow this command")
	out, err = client("ines.marsh", "set port 2 off\nlook settings\nleave\n")
	require.NoError(t, err, out)
	require.Contains(t, out, "port 2   off")
	require.Equal(t, 130, lab.end(t))
}

func TestServeRunsTheSitesServersOnTheirAddresses(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	c.newSite(t, "s")
	path := filepath.Join(c.dir, "s", "site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	site := strings.NewReplacer("192.0.2.11", here(t, "127.95.0.11\n    port: 10490"), "192.0.2.12",
		here(t, "127.95.0.12\n    port: 10491"),
		"192.0.2.101", here(t, "127.95.0.101")).Replace(string(text))
	require.NoError(t, os.WriteFile(path, []byte(site), 0o600))

	serve := c.start(t, "serve", "-state", "st", "s")
	require.Contains(t, serve.err.String(), here(t, "gate-1: TACACS+ on 127.95.0.11:10490"))
	busy := c.run(t, "serve", "-only", "gate-2", "-state", "other", "s")
	require.Equal(t, 3, busy.status)
	require.Contains(t, busy.err, "the port is in use")
	require.NoDirExists(t, filepath.Join(c.dir, "other"))

	conn, err := net.Dial("tcp", here(t, "127.95.0.11:10490")) // from an address that is no device
	require.NoError(t, err)
	_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	n, err := conn.Read(make([]byte, 1))
	require.Zero(t, n)
	require.Error(t, err)
	require.NoError(t, conn.Close())
	require.Eventually(t, func() bool {
		return strings.Contains(c.run(t, "why", "-state", "st").out, "client-unknown: 127.0.0.1 and server gate-1")
	}, 30*time.Second, 10*time.Millisecond)
	require.Equal(t, 130, serve.end(t))
}

func TestDrillMatchesForeseeOnBothStatesOfTheDemo(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	for _, s := range []string{"demo/as-reviewed", "demo/as-drafted"} {
		t.Run(s, func(t *testing.T) {
			t.Parallel()
			testscale.Whole(t, "a drill of one device, and of small sites")
			drilled(t, c, s)
		})
	}
	r := c.run(t, "drill", "-device", "north-sw-1", "-access", "api", "-person", "ines.marsh", "-network", network(t),
		"demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "logins came out as foreseen, in ")
	for args, says := range map[string]string{"-device nort-sw-1": `did you mean "north-sw-1"?`,
		"-person ines.marhs": `did you mean "ines.marsh"?`,
		"-access tlnet":      `did you mean "telnet"?`, "-factor 99": "from 1 to 20",
		"-device hq-fw-1 -access web": "no login of the site fits"} {
		r := c.run(t, append(append([]string{"drill"}, strings.Fields(args)...), "demo/as-reviewed")...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, says)
	}
}

// drilled drills a state of the demo, whole.
func drilled(t *testing.T, c call, s string) {
	r := c.run(t, "drill", "-json", "-factor", "5", "-network", labtest.Network(t).String(), s)
	require.Zero(t, r.status, r.err)
	var got struct {
		Runs []struct {
			Device, Access, Person, Fault, Why string
			Again, Match                       bool
			Foreseen, Seen                     struct {
				Outcome, By, Reason string
				Level               int
				WaitSeconds         float64 `json:"wait_seconds"`
				Steps               []struct{ Purpose, Method, Result, Reason, By string }
			}
		}
		Matched, Total int
		Skipped        map[string]int
		Seconds        float64
	}
	clitest.Strictly(t, r.out, &got)
	require.Equal(t, got.Total, got.Matched)
	require.Greater(t, got.Total, 600)
	require.Len(t, got.Runs, got.Total)
}

func TestARunningLabIsBrokenMendedAndEnteredByEveryWay(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", network(t), "demo/as-drafted")
	require.NotContains(t, lab.out.String(), "token")
	r := c.run(t, "lab", "-set", "tern silent", "-set", "plover slow 20s for north-sw-1")
	require.Equal(t, "tern silent\nplover slow 20s for north-sw-1\n", r.out, r.err)
	r = c.run(t, "lab", "-set", "tern silnt")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, `did you mean "silent"?`)
	require.Contains(t, c.run(t, "lab", "-lift", "plover slow").out, "tern silent")
	require.Contains(t, c.run(t, "lab", "-lift", "all", "-json").out, `"faults": []`)

	r = c.run(t, "login", "-device", "south-sw-1", "-from-site", "demo/as-drafted/passwords")
	require.Zero(t, r.status, r.out+r.err)
	for _, way := range []string{"console", "ssh", "telnet", "web", "api"} {
		require.Contains(t, r.out, way)
		r := c.run(t, "login", "-json", "-device", "south-sw-1", "-access", way, "-person", "ines.marsh",
			"-password-file",
			"demo/as-drafted/passwords/ines.marsh",
			"-expect", "in", "-level", "15", "-allows", "look session", "-refuses", "no such command")
		require.Equal(t, 1, r.status, "a command that is not known is not refused\n%s%s", r.out, r.err)
		require.Contains(t, r.out, `"level": 15`)
	}
	places := c.run(t, "lab", "-faults").out
	require.Equal(t, "no fault is in effect\n", places)

	// As a real device: by its address, with a host key that is accepted once.
	var at struct {
		Devices []struct {
			Name string
			Ways []struct{ Access, Address string }
		}
	}
	text, err := os.ReadFile(filepath.Join(c.dir, "mellowgate-state", "places.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &at))
	address := map[string]string{}
	for _, w := range at.Devices[0].Ways {
		address[w.Access] = w.Address
	}
	real := func(args ...string) result {
		return c.run(t, append([]string{"login", "-address", address["ssh"], "-known-hosts", "hosts", "-person",
			"ines.marsh",
			"-password-file", "demo/as-drafted/passwords/ines.marsh"}, args...)...)
	}
	r = real()
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "is not known: SHA256:")
	r = real("-accept-host-key", "-expect", "in", "-allows", "look session", "-refuses", "look secrets", "-prompt",
		`\[\S+ level (\d+)\] $`, "-refusal", "way in")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.err, "is now in hosts: SHA256:")
	require.Zero(t, real("-level", "15").status)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "hosts"),
		[]byte("["+strings.Replace(address["ssh"], ":", "]:",
			1)+" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ0uH3wA3m9e0dQ5l3o7m2s1c5j4k8h6g7f9d0s1a2b3\n"), 0o600))
	if r = real(); r.status != 3 && r.status != 2 {
		require.Fail(t, "another key is never taken", r.out+r.err)
	}
	lab.end(t)
	r = c.run(t, "lab", "-faults")
	require.Equal(t, 3, r.status)
	require.Contains(t, r.err,
		"the lab of the state folder mellowgate-state has ended; start it again: mellowgate lab ")
}
