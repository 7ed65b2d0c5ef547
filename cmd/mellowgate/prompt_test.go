package main

import (
	"bytes"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/childproc"
)

// atTerminal runs a call at a terminal of its own. What is typed at each prompt
// is given by how the prompt ends.
func atTerminal(t *testing.T, c call, line string, typed ...string) (out string, status int) {
	t.Helper()
	if _, err := exec.LookPath("script"); err != nil {
		t.Skip("no script(1) here, which has a terminal to lend")
	}
	cmd := childproc.Child(exec.Command("script", "-qfec", program+" "+line, "/dev/null"))
	cmd.Dir = c.dir
	keys, err := cmd.StdinPipe()
	require.NoError(t, err)
	screen, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	var shown bytes.Buffer
	one := make([]byte, 1)
	for {
		if _, err := screen.Read(one); err != nil {
			break
		}
		shown.Write(one)
		if len(typed) > 1 && strings.HasSuffix(shown.String(), typed[0]) {
			_, err := io.WriteString(keys, typed[1])
			require.NoError(t, err)
			typed = typed[2:]
		}
	}
	require.Empty(t, typed, shown.String())
	_ = cmd.Wait()
	return shown.String(), cmd.ProcessState.ExitCode()
}

func TestCtrlCEndsAPasswordPromptAtOnce(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	began := time.Now()
	_, status := atTerminal(t, c, "keys hash", "password of the hash: ", "half of a pass\x03")
	require.Equal(t, 130, status)
	require.Less(t, time.Since(began), 30*time.Second, "nobody had to press Return")
	out, status := atTerminal(t, c, "keys hash", "password of the hash: ", "harbour lights\r", "again: ",
		"harbour lights\r")
	require.Zero(t, status, out)
	require.NotContains(t, out, "harbour", "what is typed is not shown")
}

func TestANewPassphraseIsTypedTwiceAndAnOldOneOnce(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	c.newSite(t, "mine")
	const fresh, again, old = "a new passphrase for the sealed keys: ", "the same once more: ",
		"passphrase of the sealed keys: "
	out, status := atTerminal(t, c, "keys seal gate-key mine", fresh, "one\r", again, "another\r")
	require.Equal(t, 2, status, out)
	require.Contains(t, out, "the two passphrases differ; nothing was sealed")
	require.NoFileExists(t, c.dir+"/mine/keys.sealed")
	out, status = atTerminal(t, c, "keys seal gate-key mine", fresh, "one\r", again, "one\r")
	require.Zero(t, status, out)
	out, status = atTerminal(t, c, "keys seal gate-key mine", old, "one\r")
	require.Zero(t, status, out)
	require.Equal(t, 1, strings.Count(out, old), "it is asked for once")
}
