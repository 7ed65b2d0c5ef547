package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/store/childproc"
	"mellowgate/internal/testscale"
)

// program is the program that the tests call: this test binary under the name of the program, in which all of
// it is linked, or the one that MELLOWGATE_PROGRAM names.
var program string

func TestMain(m *testing.M) {
	if filepath.Base(os.Args[0]) == "mellowgate" {
		main() // it does not return
	}
	dir, err := os.MkdirTemp("", "mellowgate-test-")
	if err != nil {
		panic(err)
	}
	if program = os.Getenv("MELLOWGATE_PROGRAM"); program == "" {
		program = filepath.Join(dir, "mellowgate")
		if err := ownCopy(program); err != nil {
			panic(err)
		}
	}
	testscale.Wait()
	status := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(status)
}

// ownCopy puts the running test binary at a path.
func ownCopy(path string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if os.Link(self, path) == nil {
		return nil
	}
	binary, err := os.ReadFile(self)
	if err != nil {
		return err
	}
	return os.WriteFile(path, binary, 0o700)
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
	// an end for what hangs, on the busiest machine
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	defer stop()
	cmd := childproc.Child(exec.CommandContext(ctx, program, args...))
	var out, errs bytes.Buffer
	cmd.Dir = c.dir
	cmd.Stdin = strings.NewReader(c.stdin)
	cmd.Stdout = &out
	cmd.Stderr = &errs
	cmd.Env = append(append(os.Environ(), "MELLOWGATE_SITE=", "COLUMNS="), c.env...)
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

// newSite makes a site as `new` does; its passwords have hashes that cost little.
func (c call) newSite(t *testing.T, folder string) {
	t.Helper()
	require.Zero(t, c.run(t, "new", folder).status)
	clitest.CheapHashes(t, filepath.Join(c.dir, folder))
}

// background is a call that goes on until it is ended.
type background struct {
	*exec.Cmd
	mu  *sync.Mutex
	err *bytes.Buffer
	out *output
}

// output is what a background call prints.
type output struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(b)
}

// String returns what was printed so far.
func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// start starts a call and waits until it says that it is ready, or listens.
func (c call) start(t *testing.T, args ...string) *background {
	t.Helper()
	b := &background{Cmd: childproc.Child(exec.Command(program, args...)), mu: &sync.Mutex{}, err: &bytes.Buffer{},
		out: &output{}}
	b.Dir, b.Stdout = c.dir, b.out
	pipe, err := b.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(func() { _ = b.Process.Kill(); _ = b.Wait() })
	ready := make(chan bool, 1)
	go func() {
		for lines := bufio.NewScanner(pipe); lines.Scan(); {
			b.mu.Lock()
			b.err.WriteString(lines.Text() + "\n")
			b.mu.Unlock()
			if text := lines.Text(); text == "ready" || strings.Contains(text, `"msg":"ready"`) ||
				strings.HasPrefix(text, "listening on ") || strings.HasPrefix(text, "following ") {
				ready <- true
			}
		}
		close(ready)
	}()
	select {
	case ok := <-ready:
		require.True(t, ok, b.said())
	case <-time.After(30 * time.Second):
		t.Fatal("never ready")
	}
	return b
}

// said returns what a background call wrote to standard error.
func (b *background) said() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.err.String()
}

// end ends a background call as Ctrl-C does, and returns its exit status.
func (b *background) end(t *testing.T) int {
	require.NoError(t, b.Process.Signal(os.Interrupt))
	_ = b.Wait()
	return b.ProcessState.ExitCode()
}
