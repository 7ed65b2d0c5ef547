package main

import (
	"bufio"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/childproc"
)

func TestTheDemoTellsItsStoryAndEveryLoginIsAsForeseen(t *testing.T) {
	t.Parallel()
	began := time.Now()
	r := call{dir: t.TempDir()}.run(t, "demo", "-network", network(t))
	require.Zero(t, r.status, r.err)
	require.Less(t, time.Since(began), 30*time.Second)
	require.Equal(t, 8, strings.Count(r.out, "as foreseen\n"), r.out)
	require.NotContains(t, r.out, "foreseen was")
	require.Contains(t, r.out, "Every login came out as foreseen.")
	for _, want := range []string{"gives-up-first", "key-differs", "nothing found: 8 devices",
		"command-refused: north-sw-1", "wrong-password: north-sw-1",
		"fallback-used: mv-avocet-rtr", "unreachable: mv-avocet-rtr to server sanderling",
		"mended: the router went back by itself", "put entry who 66 h\n", "proven  the old session still works",
		"the router has saved", "key-differs: south-sw-1 and server tern", "set port 3 off", "session-start"} {
		require.Contains(t, r.out, want)
	}
	require.Regexp(t, `ines\.marsh +at mv-avocet-rtr +refused +after 4\.\d s`, r.out)
	require.Regexp(t, `master +at mv-avocet-rtr +in at level 15 after 0\.\d s`, r.out)
	for _, secret := range []string{"demo-only-", "heron-over", "harbour-light"} {
		require.NotContains(t, r.out+r.err, secret)
	}
	require.NotContains(t, r.out, "\x1b", "no colour in a pipe")
}

func TestDemoKeepStaysUpUntilCtrlC(t *testing.T) {
	t.Parallel()
	cmd := childproc.Child(exec.Command(program, "demo", "-keep", "-network", network(t)))
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
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	for lines.Scan() {
	}
	_ = cmd.Wait()
	require.Equal(t, 130, cmd.ProcessState.ExitCode())
	dir := regexp.MustCompile(`/\S*mellowgate-demo-\d+`).FindString(login)
	require.NoDirExists(t, dir, "nothing is left behind")
}
