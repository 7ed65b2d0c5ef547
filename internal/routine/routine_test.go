package routine

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// broken panics where the name of its starter is that of the environment.
var starters = map[string]func(f func()){
	"Go":        Go,
	"Group":     func(f func()) { var g Group; g.Go(f); g.Wait() },
	"AfterFunc": func(f func()) { AfterFunc(time.Microsecond, f) },
	"OnDone": func(f func()) {
		ctx, cancel := context.WithCancel(context.Background())
		OnDone(ctx, f)
		cancel()
	},
	"Work": func(f func()) { go func() { _ = Work(func() error { f(); return nil })() }() },
}

func TestMain(m *testing.M) {
	if starter, is := starters[os.Getenv("MELLOWGATE_TESTS")]; is {
		starter(func() { panic("the thing that went wrong") })
		select {}
	}
	os.Exit(m.Run())
}

func TestAPanicInAnyGoroutineEndsTheProgramWithASentence(t *testing.T) {
	t.Parallel()
	for name := range starters {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			cmd := exec.Command(os.Args[0])
			cmd.Env = append(os.Environ(), "MELLOWGATE_TESTS="+name, "TMPDIR="+dir)
			out, err := cmd.CombinedOutput()
			var exit *exec.ExitError
			require.ErrorAs(t, err, &exit, "%s", out)
			require.Equal(t, Status, exit.ExitCode(), "%s", out)
			file := regexp.MustCompile(`please send the file (\S+), `).FindSubmatch(out)
			require.NotNil(t, file, "%s", out)
			require.NotContains(t, string(out), "goroutine")
			text, err := os.ReadFile(string(file[1]))
			require.NoError(t, err)
			require.Contains(t, string(text), "the thing that went wrong")
			require.Contains(t, string(text), "routine_test.go")
			info, err := os.Stat(string(file[1]))
			require.NoError(t, err)
			require.EqualValues(t, 0o600, info.Mode().Perm())
		})
	}
}

func TestAPanicIsAnErrorOfWhatIsTried(t *testing.T) {
	var fault *Fault
	require.ErrorAs(t, Try(func() error { panic(errors.New("a divisor is nought")) }), &fault)
	t.Cleanup(func() { _ = os.Remove(fault.file) })
	require.ErrorContains(t, fault, "met a fault of its own")
	require.NoError(t, Try(func() error { return nil }))
	require.EqualError(t, Try(func() error { return errors.New("no") }), "no")
}

func TestAFaultThatFindsNoPlaceForAFileIsSaidWhole(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir()+"/gone")
	var errs bytes.Buffer
	status := 0
	run(func() { panic("the thing") }, &errs, func(code int) { status = code })
	require.Equal(t, Status, status)
	require.Contains(t, errs.String(), "stopped: the thing\nplease send this")
	require.Contains(t, errs.String(), "routine_test.go")
}
