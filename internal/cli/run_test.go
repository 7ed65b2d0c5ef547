package cli_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli"
	"mellowgate/internal/cli/clitest"
)

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

// process guards what a process has once: its folder, which a call changes, and its environment. Whatever a test
// reads itself it names by a whole path: see here.
var process sync.Mutex

// folder is that of the package, as the tests begin.
var folder = func() string {
	dir, err := os.Getwd()
	if err != nil {
		panic(err)
	}
	return dir
}()

// here returns the whole path of a file of this package or of the tree.
func here(path string) string { return filepath.Join(folder, path) }

// run calls a command in this process, as the program does.
func (c call) run(t *testing.T, args ...string) result {
	t.Helper()
	process.Lock()
	defer process.Unlock()
	if c.dir != "" {
		require.NoError(t, os.Chdir(c.dir))
		defer func() { _ = os.Chdir(folder) }()
	}
	for _, variable := range append([]string{"MELLOWGATE_SITE=", "COLUMNS="}, c.env...) {
		name, value, _ := strings.Cut(variable, "=")
		before, set := os.LookupEnv(name)
		require.NoError(t, os.Setenv(name, value))
		defer func() {
			if _ = os.Unsetenv(name); set {
				_ = os.Setenv(name, before)
			}
		}()
	}
	var out, errs bytes.Buffer
	status := cli.Main(context.Background(), args, strings.NewReader(c.stdin), &out, &errs)
	return result{out.String(), errs.String(), status}
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

func unwrapped(text string) string { return strings.Join(strings.Fields(text), " ") }
