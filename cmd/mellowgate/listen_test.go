package main

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/store/childproc"
)

func TestACaptureOfAnotherProgramIsRead(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("tcpdump"); err != nil || os.Getuid() != 0 {
		if os.Getenv("MELLOWGATE_PEERS") == "require" {
			t.Fatal("tcpdump is not installed, or this is not root")
		}
		t.Skip("tcpdump is not installed, or this is not root")
	}
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	dump := childproc.Child(exec.Command("tcpdump", "-i", "lo", "-U", "-w", "other.pcap", "net", network(t), "and",
		"(port 49 or port 1812 or port 1813)"))
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
	require.Zero(t, c.run(t, append([]string{"login", "-device", "north-sw-1", "-person", "ines.marsh", "-command",
		"save"}, password...)...).status)
	require.Zero(t, c.run(t, append([]string{"ask", "-server", "sanderling", "-as", "mv-avocet-rtr", "-person",
		"ines.marsh"}, password...)...).status)
	heard := func() string {
		stand := c.run(t, "listen", "-capture", "other.pcap", "-key-file", "demo/as-reviewed/keys/shore.key")
		return stand.out
	}
	require.Eventually(t, func() bool {
		return strings.Contains(heard(), "login            accept") && strings.Contains(heard(), `"save"`)
	}, 30*time.Second, 100*time.Millisecond)
	require.Equal(t, 130, lab.end(t))
	require.NoError(t, dump.Process.Signal(os.Interrupt))
	_ = dump.Wait()
	text := heard()
	require.Contains(t, text, `commands         accept`)
	require.Regexp(t, here(t, `127.89.0.\d+ +127.89.0.\d+ +ines.marsh +login +accepted`), text)
}

func TestListenReadsTheTrafficOfALab(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	password := []string{"-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	require.Zero(t, c.run(t, append([]string{"login", "-device", "north-sw-1", "-person", "ines.marsh", "-command",
		"set port 3 off"}, password...)...).status)
	require.Zero(t, c.run(t, append([]string{"ask", "-server", "sanderling", "-as", "mv-avocet-rtr", "-person",
		"ines.marsh"}, password...)...).status)
	require.Equal(t, 130, lab.end(t))

	r := c.run(t, "listen")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `north-sw-1 +tern +ines.marsh +commands +accepted +[\d.]+ ms +"set port 3 off"`, r.out)
	require.Regexp(t, `mv-avocet-rtr +sanderling +ines.marsh +login +accepted`, r.out)
	for flag, says := range map[string]string{"-server=trn": `the site has no server "trn"; did you mean "tern"?`,
		"-device=north-sw": `the site has no device "north-sw"; did you mean "north-sw-1"?`} {
		r := c.run(t, "listen", flag)
		require.Equal(t, 2, r.status)
		require.Contains(t, r.err, says)
	}
	require.Zero(t, c.run(t, "listen", "-server=192.0.2.250").status, "an address may be of anybody")
	r = c.run(t, "listen", "-full", "-state", "mellowgate-state")
	require.Contains(t, r.out, "< Management-Privilege-Level = 15")
	require.Contains(t, r.out, "> User-Password = (32 octets, not shown)")
	require.NotContains(t, r.out, "heron")

	r = c.run(t, "listen", "-json")
	for line := range strings.SplitSeq(strings.TrimSpace(r.out), "\n") {
		var e struct{ Time, Device, Server, Person, Question, Answer, Key string }
		clitest.Strictly(t, line, &e)
		require.EqualValues(t, "fits", e.Key)
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
	require.Regexp(t, `person-\d+ +commands +accepted +[\d.]+ ms +"set words-\d+ words-\d+ words-\d+"`, r.out)

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
