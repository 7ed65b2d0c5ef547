package childproc_test

import (
	"bufio"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/childproc"
)

const parent = "MELLOWGATE_TEST_IS_A_PARENT"

// A parent that is killed, and so can clean nothing up, takes its child with it.
func TestAChildEndsWithAParentThatIsKilled(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("only Linux tells a child of its parent's end")
	}
	if os.Getenv(parent) != "" {
		child := childproc.Child(exec.Command("sleep", "300"))
		require.NoError(t, child.Start())
		_, _ = os.Stdout.WriteString("child " + strconv.Itoa(child.Process.Pid) + "\n")
		_ = child.Wait()
		return
	}
	p := childproc.Child(exec.Command(os.Args[0], "-test.run", "^TestAChildEndsWithAParentThatIsKilled$"))
	p.Env = append(os.Environ(), parent+"=1")
	out, err := p.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, p.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(line, "child ")))
	require.NoError(t, err, line)
	require.NoError(t, syscall.Kill(pid, 0))
	require.NoError(t, p.Process.Kill())
	_ = p.Wait()
	require.Eventually(t, func() bool {
		status, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
		return err != nil || strings.Contains(string(status), ") Z ")
	}, 30*time.Second, 5*time.Millisecond)
}
