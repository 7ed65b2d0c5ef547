package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/pki"
)

// program is the built program.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "mellowgate-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "mellowgate")
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(string(out))
	}
	status := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(status)
}

// result is what a call printed and its exit status.
type result struct {
	out, err string
	status   int
}

// call is a call of the program in a folder.
type call struct {
	dir   string
	stdin string
	env   []string
}

func (c call) run(t *testing.T, args ...string) result {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 90*time.Second)
	defer stop()
	cmd := exec.CommandContext(ctx, program, args...)
	var out, errs bytes.Buffer
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = c.dir, strings.NewReader(c.stdin), &out, &errs
	cmd.Env = append(append(os.Environ(), "MELLOWGATE_SITE="), c.env...)
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	r := result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
	require.NotContains(t, r.err, "goroutine ", "never a stack trace")
	return r
}

// demoSite writes the demo site into a fresh folder.
func demoSite(t *testing.T) call {
	c := call{dir: t.TempDir()}
	require.Zero(t, c.run(t, "demo", "-write", "demo").status)
	return c
}

func TestTheDemoTellsItsStoryAndEveryLoginIsAsForeseen(t *testing.T) {
	began := time.Now()
	r := call{dir: t.TempDir()}.run(t, "demo", "-network", "127.92.0.0/16")
	require.Zero(t, r.status, r.err)
	require.Less(t, time.Since(began), 30*time.Second)
	require.Equal(t, 8, strings.Count(r.out, "as foreseen\n"), r.out)
	require.NotContains(t, r.out, "foreseen was")
	require.Contains(t, r.out, "Every login came out as foreseen.")
	for _, want := range []string{"locked-out", "key-differs", "nothing found: 8 devices", "command-refused: north-sw-1", "wrong-password: north-sw-1",
		"fallback-used: mv-avocet-rtr", "unreachable: mv-avocet-rtr to server sanderling", "key-differs: south-sw-1 and server tern", "set port 3 off", "session-start"} {
		require.Contains(t, r.out, want)
	}
	require.Regexp(t, `ines\.marsh +at mv-avocet-rtr +refused +after 4\.\d s`, r.out)
	require.Regexp(t, `master +at mv-avocet-rtr +in at level 15 after 0\.\d s`, r.out)
	for _, secret := range []string{"demo-only-", "heron-over", "harbour-light"} {
		require.NotContains(t, r.out+r.err, secret)
	}
	require.NotContains(t, r.out, "\x1b", "no colour in a pipe")
}

func TestCheckOnBothStatesOfTheDemo(t *testing.T) {
	c := demoSite(t)
	r := c.run(t, "check", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "nothing found: 8 devices, 20 ways in")
	r = c.run(t, "check", "demo/as-drafted/site.yaml")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "error    open-when-silent  demo/as-drafted/site.yaml:")
	require.Contains(t, strings.Join(strings.Fields(r.out), " "), "the same but for two characters swapped")
	require.LessOrEqual(t, widest(r.out), 100)

	r = c.run(t, "check", "-json", "demo/as-drafted")
	require.Equal(t, 1, r.status)
	var report struct {
		Findings []struct {
			Code, Severity, Device, Access, File, Text, Repair string
			Line, Column                                       int
		}
		Errors, Warnings, Notes int
	}
	strictly(t, r.out, &report)
	require.Equal(t, len(report.Findings), report.Errors+report.Warnings+report.Notes)
	require.Equal(t, "demo/as-drafted/site.yaml", report.Findings[0].File)
	require.Positive(t, report.Findings[0].Line*report.Findings[0].Column)
}

// strictly decodes JSON, and checks that its names are snake_case.
func strictly(t *testing.T, text string, into any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), into), text)
	for _, key := range regexp.MustCompile(`"([^"\\]+)":`).FindAllStringSubmatch(text, -1) {
		require.Regexp(t, `^[a-z][a-z0-9_]*$|[ .%]`, key[1], "names are snake_case")
	}
}

func widest(text string) int {
	most := 0
	for line := range strings.SplitSeq(text, "\n") {
		most = max(most, len([]rune(line)))
	}
	return most
}

func TestForeseeNarrowsAndFits(t *testing.T) {
	c := demoSite(t)
	r := c.run(t, "foresee", "demo/as-reviewed")
	require.Zero(t, r.status)
	require.LessOrEqual(t, widest(r.out), 100)
	r = c.run(t, "foresee", "-json", "-device", "mv-avocet-rtr", "-through", "ssh", "-person", "master", "-silent", "sanderling,tern,plover", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	var cases struct {
		Cases []struct {
			Device, Access, Person, Outcome, By string
			When                                []struct{ Server, State string }
			Level                               int
			WaitSeconds                         float64 `json:"wait_seconds"`
			Steps                               []struct {
				Purpose, Method, Result, Reason string
				Seconds                         float64
			}
		}
	}
	strictly(t, r.out, &cases)
	require.Len(t, cases.Cases, 1)
	one := cases.Cases[0]
	require.Equal(t, []any{"in", 15, "local", 4.0, 3}, []any{one.Outcome, one.Level, one.By, one.WaitSeconds, len(one.When)})
	require.Equal(t, "group sea", one.Steps[0].Method)

	for _, bad := range [][]string{{"-device", "mv-avocet"}, {"-person", "ines"}, {"-through", "shh"}, {"-silent", "trn"}} {
		r := c.run(t, append(append([]string{"foresee"}, bad...), "demo/as-reviewed")...)
		require.Equal(t, 2, r.status, bad)
		require.NotEmpty(t, r.err)
	}
	require.Contains(t, c.run(t, "foresee", "-silent", "trn", "demo/as-reviewed").err, `no server "trn"; did you mean "tern"?`)
}

// background is a call that goes on until it is ended.
type background struct {
	*exec.Cmd
	lines chan string
	err   *bytes.Buffer
	out   *bytes.Buffer
}

// start starts a call and waits until it says ready.
func (c call) start(t *testing.T, args ...string) *background {
	t.Helper()
	b := &background{Cmd: exec.Command(program, args...), err: &bytes.Buffer{}, out: &bytes.Buffer{}}
	b.Dir, b.Stdout = c.dir, b.out
	pipe, err := b.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(func() { _ = b.Process.Kill(); _ = b.Wait() })
	ready := make(chan bool, 1)
	go func() {
		for lines := bufio.NewScanner(pipe); lines.Scan(); {
			b.err.WriteString(lines.Text() + "\n")
			if lines.Text() == "ready" {
				ready <- true
			}
		}
		close(ready)
	}()
	select {
	case ok := <-ready:
		require.True(t, ok, b.err.String())
	case <-time.After(30 * time.Second):
		t.Fatal("never ready")
	}
	return b
}

// end ends a background call as Ctrl-C does, and gives its exit status.
func (b *background) end(t *testing.T) int {
	require.NoError(t, b.Process.Signal(os.Interrupt))
	_ = b.Wait()
	return b.ProcessState.ExitCode()
}

func TestALabIsLoggedInToAskedWhyAndRead(t *testing.T) {
	c := demoSite(t)
	lab := c.start(t, "lab", "-state", "st", "-network", "127.93.0.0/16", "demo/as-reviewed")
	password := func(person string) string { return "demo/as-reviewed/passwords/" + person }

	r := c.run(t, "login", "-json", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh", "-command", "set port 3 off", "-command", "look settings", "-password-file", password("ines.marsh"))
	require.Zero(t, r.status, r.err)
	var seen struct {
		Device, Access, Person, Outcome string
		Level                           int
		Seconds                         float64
		Commands                        []struct{ Command, Result, Output string }
		AsExpected                      bool `json:"as_expected"`
	}
	strictly(t, r.out, &seen)
	require.Equal(t, []any{"in", 15, true, "allowed"}, []any{seen.Outcome, seen.Level, seen.AsExpected, seen.Commands[0].Result})
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
		}
		Healthy bool
	}
	strictly(t, r.out, &verdict)
	require.Equal(t, "wrong-password", verdict.Causes[0].Cause)
	require.False(t, verdict.Healthy)

	r = c.run(t, "login", "-state", "st", "-device", "hq-fw-1", "-person", "harbourmaster", "-through", "console", "-password-file", password("harbourmaster"))
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "as expected: refused")
	require.Contains(t, c.run(t, "why", "-state", "st").out, "local-while-server-answers: hq-fw-1 by console")

	r = c.run(t, "ledger", "-state", "st", "-person", "ines.marsh", "-kind", "command", "-json")
	require.Zero(t, r.status)
	var record map[string]any
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	require.Len(t, lines, 2)
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &record))
	for _, name := range []string{"time", "node", "kind", "person", "device", "access", "from", "level", "result", "command", "reason", "session", "protocol", "sequence", "hash"} {
		require.Contains(t, record, name)
	}
	require.Equal(t, "set port 3 off", record["command"])
	require.Contains(t, c.run(t, "ledger", "-state", "st", "-since", "1h", "-last", "3").out, "SERVER")

	for _, file := range []string{"events.jsonl", "traces/north-sw-1.jsonl", "places.json", "traffic.pcapng", "ledger.db"} {
		text, err := os.ReadFile(filepath.Join(c.dir, "st", file))
		require.NoError(t, err)
		for _, secret := range []string{"heron-over", "harbour-light", "not the password", "demo-only-"} {
			require.NotContains(t, string(text), secret, file)
		}
	}

	other := c.run(t, "lab", "-state", "other", "-network", "127.93.0.0/16", "demo/as-reviewed")
	require.Equal(t, 3, other.status)
	require.Contains(t, other.err, "the port is in use; is another lab running?")
	require.NoDirExists(t, filepath.Join(c.dir, "other"), "nothing is left behind")

	require.Equal(t, 130, lab.end(t))
	require.Contains(t, lab.out.String(), "log in with any SSH client:")
	r = c.run(t, "login", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh", "-password-file", password("ines.marsh"))
	require.Equal(t, 3, r.status, "the lab has ended")
	require.Contains(t, r.out, "cannot be reached")
	require.Zero(t, c.run(t, "why", "-state", "st").status, "its evidence stays")
}

func TestAskPutsEachQuestionInALab(t *testing.T) {
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", "127.98.0.0/16", "demo/as-reviewed")
	password := []string{"-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	for _, q := range []struct {
		args   string
		status int
		says   string
	}{
		{"-server tern -as north-sw-1 -person ines.marsh", 0, "accepted by tern"},
		{"-server tern -as north-sw-1 -person ines.marsh -form pap", 0, "accepted by tern"},
		{"-server tern -as north-sw-1 -person tobin.reed", 1, "refused by tern"},
		{"-server sanderling -as mv-avocet-rtr -person ines.marsh", 0, "Management-Privilege-Level = 15"},
		{"-server sanderling -as mv-avocet-rtr -person ines.marsh -form mschapv2", 1, "refused by sanderling"},
		{"-server sanderling -as mv-avocet-rtr -question status", 0, "alive by sanderling"},
		{"-server sanderling -as mv-avocet-rtr -question record-start -person ines.marsh", 0, "recorded by sanderling"},
		{"-group shore -as north-sw-1 -person tobin.reed -question session", 0, "priv-lvl = 1"},
		{"-group shore -as north-sw-1 -person tobin.reed -question commands -command save", 1, "refused by tern"},
		{"-group shore -as north-sw-1 -person tobin.reed -question record-stop -command save", 0, "recorded by tern"},
		{"-server tern -person ines.marsh", 3, "ask as a device of the site with -as"},
		{"-server tern", 2, "name one with -person"},
		{"-person x", 2, "needs -server or -group"},
		{"-server trn -person x", 2, `did you mean "tern"?`},
		{"-server tern -person x -question staus", 2, `did you mean "status"?`},
		{"-server tern -question status", 2, "has no status question"},
		{"-server sanderling -person x -question session", 2, "the rights come with the login"},
		{"-server sanderling -person x -form ascii", 2, "it has pap, chap, mschapv2"},
		{"-server sanderling -person x -attribute Nothing=1", 2, "no RADIUS attribute is called"},
		{"-server tern -person x -count 1000000", 2, "-count is from 1 to 100000"},
	} {
		r := c.run(t, append(append([]string{"ask"}, strings.Fields(q.args)...), password...)...)
		require.Equal(t, q.status, r.status, "%s\n%s%s", q.args, r.out, r.err)
		require.Contains(t, r.out+r.err, q.says, q.args)
	}
	r := c.run(t, "ask", "-json", "-server", "sanderling", "-as", "mv-avocet-rtr", "-question", "status", "-count", "50", "-rate", "1000")
	require.Zero(t, r.status, r.err)
	var many struct {
		Count   int
		Answers map[string]int
		Seconds struct{ Min, P50, P99, Max float64 }
	}
	strictly(t, r.out, &many)
	require.Equal(t, 50, many.Count)
	require.Equal(t, map[string]int{"alive": 50}, many.Answers)
	require.Positive(t, many.Seconds.Min)
	require.LessOrEqual(t, many.Seconds.P50, many.Seconds.Max)
	require.Contains(t, c.run(t, "ask", "-server", "sanderling", "-as", "mv-avocet-rtr", "-question", "status", "-count", "20", "-rate", "1000").out, "HALF WITHIN")
	require.Equal(t, 130, lab.end(t))
}

// servedSite is a site with a server for each protocol and transport on
// loopback, asked from a loopback device, and a person for every form.
const servedSite = `site: Served
keys: {k: file k, kept: file kept}
servers:
  - {name: r-udp, protocol: radius, address: 127.95.1.1, ports: {authentication: 11812, accounting: 11813}, key: k, wait: 2s, run: true}
  - {name: r-tls, protocol: radius, address: 127.95.1.1, transport: tls, port: 12083, tls: {certificate: c/server.pem, key: c/server.key, authorities: c/authority.pem}, run: true}
  - {name: t-tcp, protocol: tacacs, address: 127.95.1.1, port: 10049, key: k, run: true}
  - {name: t-tls, protocol: tacacs, address: 127.95.1.1, transport: tls, port: 10300, tls: {certificate: c/server.pem, key: c/server.key, authorities: c/authority.pem}, run: true}
devices: [{name: sw, addresses: [127.95.1.9]}]
people: [{name: ines, teams: [net], password: key kept}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
vendors: [{name: example, number: 32473, attributes: [{name: Example-Level, number: 1, type: integer}]}]
`

func TestAskAgainstServeInEveryFormOverEveryTransport(t *testing.T) {
	c := call{dir: t.TempDir()}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	write("site.yaml", servedSite)
	write("k", "a-key-for-this-test")
	write("kept", "right")
	now := time.Now()
	authority, err := pki.NewAuthority("a test", now)
	require.NoError(t, err)
	for name, at := range map[string]string{"server": "127.95.1.1", "sw": "127.95.1.9"} {
		identity, err := authority.Issue(name, netip.MustParseAddr(at), now)
		require.NoError(t, err)
		require.NoError(t, authority.Write(filepath.Join(c.dir, "c"), name, identity))
	}
	serve := c.start(t, "serve", "-state", "st")
	require.Contains(t, serve.err.String(), "r-tls: RADIUS over TLS on 127.95.1.1:12083")
	require.Contains(t, serve.err.String(), "t-tls: TACACS+ over TLS on 127.95.1.1:10300")
	certificate := []string{"-certificate", "c/sw.pem", "-certificate-key", "c/sw.key", "-authorities", "c/authority.pem"}
	for server, forms := range map[string][]string{"r-udp": {"pap", "chap", "mschapv2"}, "r-tls": {"pap", "chap", "mschapv2"},
		"t-tcp": {"ascii", "pap", "chap", "mschapv2"}, "t-tls": {"ascii", "pap", "chap", "mschapv2"}} {
		ask := func(args ...string) result {
			args = append([]string{"ask", "-server", server, "-as", "sw", "-person", "ines", "-password-file", "kept"}, args...)
			if strings.HasSuffix(server, "tls") {
				args = append(args, certificate...)
			}
			return c.run(t, args...)
		}
		for _, form := range forms {
			r := ask("-form", form)
			require.Zero(t, r.status, "%s %s: %s%s", server, form, r.out, r.err)
			require.Contains(t, r.out, "accepted by "+server)
		}
		require.Contains(t, ask("-question", "record-start").out, "recorded by "+server)
		if strings.HasPrefix(server, "t") {
			require.Contains(t, ask("-question", "commands", "-command", "save").out, "accepted by "+server)
		} else {
			require.Contains(t, ask("-question", "status").out, "alive by "+server)
			require.Zero(t, ask("-attribute", "Example-Level=3").status)
		}
	}
	require.Contains(t, c.run(t, "ask", "-server", "t-tls", "-as", "sw", "-person", "ines", "-password-file", "kept").err, "give -certificate, -certificate-key and -authorities")
	r := c.run(t, "ledger", "-state", "st", "-kind", "session-start", "-json")
	require.Equal(t, 4, strings.Count(r.out, "\n"))
	require.Equal(t, 130, serve.end(t))
}

func TestACaptureOfAnotherProgramIsRead(t *testing.T) {
	if _, err := exec.LookPath("tcpdump"); err != nil || os.Getuid() != 0 {
		if os.Getenv("MELLOWGATE_PEERS") == "require" {
			t.Fatal("tcpdump is not installed, or this is not root")
		}
		t.Skip("tcpdump is not installed, or this is not root")
	}
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", "127.89.0.0/16", "demo/as-reviewed")
	dump := exec.Command("tcpdump", "-i", "lo", "-U", "-w", "other.pcap", "net", "127.89.0.0/16", "and", "(port 49 or port 1812 or port 1813)")
	dump.Dir = c.dir
	said, err := dump.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, dump.Start())
	t.Cleanup(func() { _ = dump.Process.Kill() })
	for lines := bufio.NewScanner(said); lines.Scan(); {
		if strings.Contains(lines.Text(), "listening on") {
			break
		}
	}
	password := []string{"-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	require.Zero(t, c.run(t, append([]string{"login", "-device", "north-sw-1", "-person", "ines.marsh", "-command", "save"}, password...)...).status)
	require.Zero(t, c.run(t, append([]string{"ask", "-server", "sanderling", "-as", "mv-avocet-rtr", "-person", "ines.marsh"}, password...)...).status)
	heard := func() string {
		stand := c.run(t, "listen", "-capture", "other.pcap", "-key-file", "demo/as-reviewed/keys/shore.key")
		return stand.out
	}
	require.Eventually(t, func() bool {
		return strings.Contains(heard(), "login            accept") && strings.Contains(heard(), `"save"`)
	}, 10*time.Second, 100*time.Millisecond)
	require.Equal(t, 130, lab.end(t))
	require.NoError(t, dump.Process.Signal(os.Interrupt))
	_ = dump.Wait()
	text := heard()
	require.Contains(t, text, `commands         accept`)
	require.Regexp(t, `127.89.0.\d+ +127.89.0.\d+ +ines.marsh +login +accept`, text)
}

func TestListenReadsTheTrafficOfALab(t *testing.T) {
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", "127.99.0.0/16", "demo/as-reviewed")
	password := []string{"-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	require.Zero(t, c.run(t, append([]string{"login", "-device", "north-sw-1", "-person", "ines.marsh", "-command", "set port 3 off"}, password...)...).status)
	require.Zero(t, c.run(t, append([]string{"ask", "-server", "sanderling", "-as", "mv-avocet-rtr", "-person", "ines.marsh"}, password...)...).status)
	require.Equal(t, 130, lab.end(t))

	r := c.run(t, "listen")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `north-sw-1 +tern +ines.marsh +commands +accept +[\d.]+ ms +"set port 3 off"`, r.out)
	require.Regexp(t, `mv-avocet-rtr +sanderling +ines.marsh +login +accept`, r.out)
	r = c.run(t, "listen", "-full", "-state", "mellowgate-state")
	require.Contains(t, r.out, "< Management-Privilege-Level = 15")
	require.Contains(t, r.out, "> User-Password = (32 octets, not shown)")
	require.NotContains(t, r.out, "heron")

	r = c.run(t, "listen", "-json")
	for line := range strings.SplitSeq(strings.TrimSpace(r.out), "\n") {
		var e struct{ Time, Device, Server, Person, Question, Answer, Key string }
		strictly(t, line, &e)
		require.Equal(t, "fits", e.Key)
	}
	require.Zero(t, c.run(t, "listen", "-scrub", "shared.pcapng").status)
	shared, err := os.ReadFile(filepath.Join(c.dir, "shared.pcapng"))
	require.NoError(t, err)
	require.NotContains(t, string(shared), "ines")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "stand-in"), []byte("scrubbed-capture-stand-in-key"), 0o600))
	traffic, err := os.ReadFile(filepath.Join(c.dir, "shared.pcapng"))
	require.NoError(t, err)
	piped := c
	piped.stdin = string(traffic)
	r = piped.run(t, "listen", "-capture", "-", "-key-file", "stand-in")
	require.Regexp(t, `person-\d+ +commands +accept +[\d.]+ ms +"set words-\d+ words-\d+ words-\d+"`, r.out)

	for args, says := range map[string]string{
		"-capture none.pcap":                  "none.pcap: there is no such file",
		"-capture demo/as-reviewed/site.yaml": "this is no pcap or pcapng capture",
		"-capture x -state y":                 "give one of",
		"-state demo":                         "is not a state folder",
		"-scrub shared.pcapng":                "it may be there already",
	} {
		r := c.run(t, append([]string{"listen"}, strings.Fields(args)...)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, says)
	}
	r = c.run(t, "listen", "-interface", "no-such-card")
	require.Equal(t, 3, r.status)
	require.Contains(t, r.err, "there is no network interface no-such-card here")
}

func TestAnOrdinarySSHClientLogsIn(t *testing.T) {
	for _, tool := range []string{"ssh", "sshpass"} {
		if _, err := exec.LookPath(tool); err != nil {
			if os.Getenv("MELLOWGATE_PEERS") == "require" {
				t.Fatalf("%s is not installed", tool)
			}
			t.Skipf("%s is not installed", tool)
		}
	}
	c := demoSite(t)
	lab := c.start(t, "lab", "-json", "-state", "st", "-network", "127.94.0.0/16", "demo/as-reviewed")
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
		args := append([]string{"-f", "demo/as-reviewed/passwords/" + person, "ssh", "-F", "none", "-o", "UserKnownHostsFile=st/known_hosts", "-o", "StrictHostKeyChecking=yes",
			"-o", "PubkeyAuthentication=no", "-p", port, person + "@" + host}, command...)
		cmd := exec.Command("sshpass", args...)
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
	c := call{dir: t.TempDir()}
	require.Zero(t, c.run(t, "new", "s").status)
	path := filepath.Join(c.dir, "s", "site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	site := strings.NewReplacer("192.0.2.11", "127.95.0.11\n    port: 10490", "192.0.2.12", "127.95.0.12\n    port: 10491", "192.0.2.101", "127.95.0.101").Replace(string(text))
	require.NoError(t, os.WriteFile(path, []byte(site), 0o600))

	serve := c.start(t, "serve", "-state", "st", "s")
	require.Contains(t, serve.err.String(), "gate-1: TACACS+ on 127.95.0.11:10490")
	busy := c.run(t, "serve", "-only", "gate-2", "-state", "other", "s")
	require.Equal(t, 3, busy.status)
	require.Contains(t, busy.err, "the port is in use")
	require.NoDirExists(t, filepath.Join(c.dir, "other"))

	conn, err := net.Dial("tcp", "127.95.0.11:10490") // from an address that is no device
	require.NoError(t, err)
	_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	n, err := conn.Read(make([]byte, 1))
	require.Zero(t, n)
	require.Error(t, err)
	require.NoError(t, conn.Close())
	require.Eventually(t, func() bool {
		return strings.Contains(c.run(t, "why", "-state", "st").out, "asker-unknown: server gate-1, asker 127.0.0.1")
	}, 5*time.Second, 10*time.Millisecond)
	require.Equal(t, 130, serve.end(t))
}

func TestANewSiteIsSafeAndRunsInALab(t *testing.T) {
	c := call{dir: t.TempDir()}
	require.Zero(t, c.run(t, "new", "my site").status)
	r := c.run(t, "check", "my site")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "nothing found")
	info, err := os.Stat(filepath.Join(c.dir, "my site", "keys", "gate.key"))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	again := c.run(t, "new", "my site")
	require.Equal(t, 2, again.status)
	require.Contains(t, again.err, "there already")

	lab := c.start(t, "lab", "-state", "st", "-network", "127.96.0.0/24", "my site")
	r = c.run(t, "login", "-state", "st", "-device", "switch-1", "-person", "first.admin", "-password-file", "my site/passwords/first.admin", "-command", "save")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "as expected: in at level 15")
	require.Equal(t, 130, lab.end(t))
}

func TestWrongCallsAndBadInputGetOneClearMessageAndTheRightStatus(t *testing.T) {
	c := demoSite(t)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	good, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/site.yaml"))
	require.NoError(t, err)
	write("empty.yaml", "")
	write("half.yaml", string(good[:1000]))
	write("binary.yaml", "\x00\x01\x02\xff")
	write("words.yaml", "not a site at all")
	write("env.yaml", strings.Replace(string(good), "file keys/shore.key", "env NOT_SET_HERE", 1))
	write("hash.yaml", strings.Replace(string(good), "$argon2id$v=19$m=1024,t=1,p=1$3B1Q", "$nosuchform$v=19$m=1024,t=1,p=1$3B1Q", 1))
	big, err := os.Create(filepath.Join(c.dir, "big.yaml"))
	require.NoError(t, err)
	require.NoError(t, big.Truncate(50<<20))
	require.NoError(t, big.Close())
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "nothing"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "damaged"), 0o700))
	write("damaged/places.json", "{")
	before := listing(t, c.dir)

	for _, b := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{}, 2, ""},
		{[]string{"chekc"}, 2, `there is no command "chekc"; did you mean "check"?`},
		{[]string{"check", "-jsn"}, 2, "check has no flag -jsn; did you mean -json?"},
		{[]string{"login", "-password", "x"}, 2, "passwords and keys are never given as a flag's value"},
		{[]string{"check", "a", "b"}, 2, `check takes no argument "b"`},
		{[]string{"help", "foresse"}, 2, `did you mean "foresee"?`},
		{[]string{"check", "none.yaml"}, 2, "none.yaml: there is no such file or folder"},
		{[]string{"check"}, 2, "or start one: mellowgate new DIR"},
		{[]string{"check", "empty.yaml"}, 2, "empty.yaml: there is no site in this file"},
		{[]string{"check", "half.yaml"}, 2, "half.yaml:4"},
		{[]string{"check", "binary.yaml"}, 2, "binary.yaml:1:1: this is not YAML: it holds binary data"},
		{[]string{"check", "words.yaml"}, 2, "words.yaml:1:1: the site file is a single value"},
		{[]string{"check", "big.yaml"}, 2, "the file has 50 MB and a site file may have 32"},
		{[]string{"check", "nothing"}, 2, "no *.yaml file in this folder"},
		{[]string{"check", "hash.yaml"}, 2, "the password of ines.marsh is no hash in PHC or crypt form"},
		{[]string{"lab", "env.yaml"}, 2, "the key shore-key has no value here: the environment variable NOT_SET_HERE is not set"},
		{[]string{"lab", "-network", "10.0.0.0/8", "demo/as-reviewed"}, 2, "a loopback network such as 127.77.0.0/16 is wanted"},
		{[]string{"lab", "-state", "demo", "demo/as-reviewed"}, 2, "demo is not a state folder: it holds as-drafted"},
		{[]string{"serve", "demo/as-reviewed"}, 3, "this host does not have that address"},
		{[]string{"serve", "-only", "trn", "demo/as-reviewed"}, 2, `did you mean "tern"?`},
		{[]string{"why"}, 2, "mellowgate-state is not a state folder"},
		{[]string{"why", "-state", "nothing"}, 2, "nothing is not a state folder: it has no places.json"},
		{[]string{"why", "-state", "damaged"}, 2, "places.json is damaged"},
		{[]string{"ledger", "-state", "nothing"}, 2, "is not a state folder"},
		{[]string{"ledger", "-kind", "comand"}, 2, `did you mean "command"?`},
		{[]string{"ledger", "-since", "yesterday"}, 2, "2h, 2026-11-23 or"},
		{[]string{"login"}, 2, "login needs -device and -person"},
		{[]string{"login", "-device", "a", "-person", "b", "-through", "shh"}, 2, `did you mean "ssh"?`},
		{[]string{"login", "-device", "a", "-person", "b", "-state", "nothing"}, 2, "is not a state folder"},
		{[]string{"demo", "-write", "demo"}, 2, "is there already"},
		{[]string{"new"}, 2, "new needs the name of a folder"},
		{[]string{"new", "demo"}, 2, "is there already and not empty"},
		{[]string{"new", "empty.yaml/x"}, 3, "cannot be made"},
	} {
		t.Run(strings.Join(b.args, " "), func(t *testing.T) {
			r := c.run(t, b.args...)
			require.Equal(t, b.status, r.status, r.err)
			require.Contains(t, r.err, b.says)
			if len(b.args) > 0 {
				require.Empty(t, r.out)
			}
		})
	}
	require.Equal(t, before, listing(t, c.dir), "nothing is left behind")
}

func TestAKeyWithoutAValueIsComparedByName(t *testing.T) {
	c := demoSite(t)
	require.NoError(t, os.RemoveAll(filepath.Join(c.dir, "demo/as-reviewed/keys")))
	r := c.run(t, "check", "demo/as-reviewed")
	require.Zero(t, r.status)
	require.Contains(t, r.err, "keys are then compared by name only")
}

func listing(t *testing.T, dir string) []string {
	var all []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		all = append(all, path)
		return err
	}))
	return all
}

func TestHelpIsWholeAndTheReferenceIsMadeFromIt(t *testing.T) {
	c := call{dir: t.TempDir()}
	overview := c.run(t, "help")
	require.Zero(t, overview.status)
	for _, name := range []string{"demo", "new", "check", "foresee", "serve", "lab", "ask", "login", "listen", "why", "ledger", "version", "help"} {
		require.Contains(t, overview.out, "\n  "+name+" ")
		page := c.run(t, "help", name)
		require.Zero(t, page.status)
		for _, part := range []string{"usage: mellowgate " + name, "examples:", "exit status:"} {
			require.Contains(t, page.out, part)
		}
		require.GreaterOrEqual(t, strings.Count(page.out, "\n  mellowgate "+name), 2, "two examples")
		require.Equal(t, page.out, c.run(t, name, "-help").out)
		require.LessOrEqual(t, widest(page.out), 160)
	}
	want, err := os.ReadFile("../../docs/commands.md")
	require.NoError(t, err)
	require.Equal(t, string(want), c.run(t, "help", "-reference").out, "make it again: go run ./cmd/mellowgate help -reference > docs/commands.md")
	require.Regexp(t, `^mellowgate \d+\.\d+\.\d+`, c.run(t, "version").out)
}

func TestDemoKeepStaysUpUntilCtrlC(t *testing.T) {
	cmd := exec.Command(program, "demo", "-keep", "-network", "127.97.0.0/16")
	pipe, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	login := ""
	lines := bufio.NewScanner(pipe)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "  mellowgate login ") {
			login = strings.TrimSpace(lines.Text())
		}
		if strings.HasPrefix(lines.Text(), "The passwords are in") {
			break
		}
	}
	require.NotEmpty(t, login)
	r := call{dir: t.TempDir()}.run(t, strings.Fields(login)[1:]...)
	require.Zero(t, r.status, r.out+r.err)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	for lines.Scan() {
	}
	_ = cmd.Wait()
	require.Equal(t, 130, cmd.ProcessState.ExitCode())
	dir := regexp.MustCompile(`/\S*mellowgate-demo-\d+`).FindString(login)
	require.NoDirExists(t, dir, "nothing is left behind")
}
