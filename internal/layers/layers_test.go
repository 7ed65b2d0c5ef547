// Package layers has no code: its test holds the layers of the architecture.
package layers

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// floors are the floors of the house, from the ground up.
var floors = []string{
	"mellowgate/internal/routine",
	"mellowgate/internal/wire/",
	"mellowgate/internal/core/",
	"mellowgate/internal/live/store/",
	"mellowgate/internal/live/client/",
	"mellowgate/internal/live/server/",
	"mellowgate/internal/live/lab",
	"mellowgate/internal/task",
	"mellowgate/internal/cli",
	"mellowgate/cmd/",
}

// floor returns the floor of a package, and -1 for what is none of ours.
func floor(path string) int {
	return slices.IndexFunc(floors, func(prefix string) bool { return strings.HasPrefix(path, prefix) })
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
	var pkgs []pkg
	for name, is := range imports {
		pkgs = append(pkgs, pkg{ImportPath: name, Imports: is})
	}
	return pkgs
}

// An import points to the same floor or to a lower one, and every package has a
// floor, except the data of the demo, what measures the program and its pages, and what tests alone use.
func TestImportsOnlyPointDown(t *testing.T) {
	t.Parallel()
	for _, p := range packages(t) {
		from := floor(p.ImportPath)
		none := []string{"mellowgate/demo", "mellowgate/internal/layers", "mellowgate/internal/testscale",
			"mellowgate/internal/randomsite", "mellowgate/internal/randomsite/keep"}
		if slices.Contains(none, p.ImportPath) || strings.HasPrefix(p.ImportPath, "mellowgate/scripts/") {
			continue
		}
		require.NotEqual(t, -1, from, "%s is on no floor", p.ImportPath)
		for _, i := range p.Imports {
			require.LessOrEqual(t, floor(i), max(from, 0), "%s imports %s, which is above it", p.ImportPath, i)
		}
	}
}

// commandRooms are the rooms of the commands, each above those that it may import.
var commandRooms = [][]string{{"show"}, {"screen"}, {"call"}, {"texts"}, {"begin", "check"}, {"sheet"}, {"foresee"},
	{"trial"}, {"why"}, {"service", "devices", "report"}, {"demo"}, {""}}

// An import between rooms of commands points down, and none is so large that nobody knows it.
func TestRoomsOfCommandsPointDown(t *testing.T) {
	t.Parallel()
	const most = 3500 // lines of code
	level := func(path string) int {
		room := strings.TrimPrefix(strings.TrimPrefix(path, "mellowgate/internal/cli"), "/")
		return slices.IndexFunc(commandRooms, func(rooms []string) bool { return slices.Contains(rooms, room) })
	}
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "mellowgate/internal/cli") || strings.HasSuffix(p.ImportPath, "/clitest") {
			continue
		}
		require.NotEqual(t, -1, level(p.ImportPath), "%s is in no place", p.ImportPath)
		for _, i := range p.Imports {
			if strings.HasPrefix(i, "mellowgate/internal/cli") {
				require.Less(t, level(i), level(p.ImportPath), "%s imports %s", p.ImportPath, i)
			}
		}
		files, err := filepath.Glob("../" + strings.TrimPrefix(p.ImportPath, "mellowgate/internal/") + "/*.go")
		require.NoError(t, err)
		lines := 0
		for _, f := range files {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			if !strings.HasSuffix(f, "_test.go") {
				lines += strings.Count(string(text), "\n")
			}
		}
		require.Less(t, lines, most, p.ImportPath)
	}
}

// The core computes: it has no socket, file, clock, goroutine or printing.
func TestTheCoreTouchesNothingOutside(t *testing.T) {
	t.Parallel()
	forbidden := []string{"os", "net", "net/http", "io/ioutil", "log", "log/slog", "os/exec", "os/signal", "context",
		"syscall", "math/rand", "math/rand/v2", "crypto/rand"}
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "mellowgate/internal/core/") {
			continue
		}
		for _, i := range p.Imports {
			require.NotContains(t, forbidden, i, p.ImportPath)
		}
		out, err := exec.Command(
			"grep",
			"-rnE",
			`time\.(Now|Sleep|After|Since|NewTimer|NewTicker)\(|^\s*go func|fmt\.Print`,
			"--include=*.go",
			"--exclude=*_test.go",
			"../"+strings.TrimPrefix(p.ImportPath, "mellowgate/internal/"),
		).Output()
		require.Error(t, err, "%s uses a clock, a goroutine or prints:\n%s", p.ImportPath, out) // grep: nothing found
	}
}

func TestOnlyTheInterfaceReachesForTheDemo(t *testing.T) {
	t.Parallel()
	for _, p := range packages(t) {
		for _, i := range p.Imports {
			if i == "mellowgate/demo" {
				require.Equal(t, "mellowgate/internal/cli/demo", p.ImportPath)
			}
		}
	}
}

// Every goroutine is started by the room that sees to it when one meets a fault: a panic that nobody
// catches prints what no user can use.
func TestEveryGoroutineIsStartedByOneRoom(t *testing.T) {
	t.Parallel()
	set, files := parsed(t)
	for path, f := range files {
		if strings.HasPrefix(path, "routine/") {
			continue
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s: go: use routine.Go", set.Position(n.Pos()))
			case *ast.SelectorExpr:
				if x, ok := n.X.(*ast.Ident); ok && (x.Name == "time" || x.Name == "context") &&
					n.Sel.Name == "AfterFunc" ||
					ok && x.Name == "sync" && n.Sel.Name == "WaitGroup" {
					t.Errorf("%s: %s.%s: use what routine has", set.Position(n.Pos()), x.Name, n.Sel.Name)
				}
			case *ast.CallExpr:
				s, ok := n.Fun.(*ast.SelectorExpr)
				if ok && s.Sel.Name == "Go" && importsErrgroup(f) && !isWork(n) {
					t.Errorf("%s: a group that gives errors: let routine.Work wrap what it starts",
						set.Position(n.Pos()))
				}
			}
			return true
		})
	}
}

func importsErrgroup(f *ast.File) bool {
	return slices.ContainsFunc(
		f.Imports,
		func(i *ast.ImportSpec) bool { return strings.Contains(i.Path.Value, "/errgroup") },
	)
}

// isWork reports whether what a call starts is wrapped, or the call is of routine itself.
func isWork(call *ast.CallExpr) bool {
	if x, ok := call.Fun.(*ast.SelectorExpr).X.(*ast.Ident); ok && x.Name == "routine" {
		return true
	}
	inner, ok := call.Args[0].(*ast.CallExpr)
	if !ok {
		return false
	}
	s, ok := inner.Fun.(*ast.SelectorExpr)
	return ok && s.Sel.Name == "Work"
}
