// Package layers has no code: its test holds the layers of the architecture.
package layers

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// floor gives the layer of a package: an import only ever points to the same
// layer or a lower one.
func floor(path string) (int, string) {
	for i, prefix := range []string{"mellowgate/internal/core/", "mellowgate/internal/wire/", "mellowgate/internal/live/", "mellowgate/internal/cli", "mellowgate/cmd/"} {
		if strings.HasPrefix(path, prefix) {
			return i, prefix
		}
	}
	return -1, ""
}

type pkg struct {
	ImportPath string
	Imports    []string
}

// packages reads the imports from the files themselves, so that a changed
// import is never hidden by a test result that Go remembers.
func packages(t *testing.T) []pkg {
	imports := map[string][]string{}
	root := filepath.Join("..", "..")
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		dir, err := filepath.Rel(root, filepath.Dir(path))
		name := "mellowgate/" + filepath.ToSlash(dir)
		for _, i := range f.Imports {
			imports[name] = append(imports[name], strings.Trim(i.Path.Value, `"`))
		}
		return err
	}))
	require.Greater(t, len(imports), 15)
	var all []pkg
	for name, is := range imports {
		all = append(all, pkg{name, is})
	}
	return all
}

func TestImportsOnlyPointDown(t *testing.T) {
	for _, p := range packages(t) {
		from, _ := floor(p.ImportPath)
		for _, i := range p.Imports {
			to, prefix := floor(i)
			require.LessOrEqual(t, to, max(from, 0), "%s imports %s, which is above it", p.ImportPath, i)
			if from == 1 && p.ImportPath != "mellowgate/internal/wire/yang" { // which says a blueprint in the words of the models
				require.NotEqual(t, "mellowgate/internal/core/", prefix, "%s: the protocols know nothing of ours", p.ImportPath)
			}
		}
	}
}

// The core computes: it has no socket, file, clock, goroutine or printing.
func TestTheCoreTouchesNothingOutside(t *testing.T) {
	forbidden := []string{"os", "net", "net/http", "io/ioutil", "log", "log/slog", "os/exec", "os/signal", "context", "syscall", "math/rand", "crypto/rand"}
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "mellowgate/internal/core/") {
			continue
		}
		for _, i := range p.Imports {
			require.NotContains(t, forbidden, i, p.ImportPath)
		}
		out, err := exec.Command("grep", "-rnE", `time\.(Now|Sleep|After|Since|NewTimer|NewTicker)\(|^\s*go func|fmt\.Print`, "--include=*.go", "--exclude=*_test.go",
			"../"+strings.TrimPrefix(p.ImportPath, "mellowgate/internal/")).Output()
		require.Error(t, err, "%s uses a clock, a goroutine or prints:\n%s", p.ImportPath, out) // grep: nothing found
	}
}

func TestNobodyReachesForTheDemoButTheInterface(t *testing.T) {
	for _, p := range packages(t) {
		for _, i := range p.Imports {
			if i == "mellowgate/demo" {
				require.Equal(t, "mellowgate/internal/cli", p.ImportPath)
			}
		}
	}
}
