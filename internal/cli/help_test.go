package cli_test

import (
	"os"
	"strings"
	"testing"

	"mellowgate/internal/cli/clitest"

	"github.com/stretchr/testify/require"
)

func TestHelpIsWholeAndTheReferenceIsMadeFromIt(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	overview := c.run(t, "help")
	require.Zero(t, overview.status)
	for _, name := range []string{"demo", "new", "check", "foresee", "serve", "lab", "ask", "login", "listen", "why",
		"ledger", "version", "help"} {
		require.Contains(t, overview.out, "\n  "+name+" ")
		page := c.run(t, "help", name)
		require.Zero(t, page.status)
		for _, part := range []string{"usage: mellowgate " + name, "examples:", "exit status:"} {
			require.Contains(t, page.out, part)
		}
		require.GreaterOrEqual(t, strings.Count(page.out, "\n  mellowgate "+name), 2, "two examples")
		require.Equal(t, page.out, c.run(t, name, "-help").out)
		require.LessOrEqual(t, clitest.Widest(page.out), 160)
	}
	want, err := os.ReadFile(here("../../docs/commands.md"))
	require.NoError(t, err)
	require.Equal(t, string(want), c.run(t, "help", "-reference").out,
		"make it again: go run ./cmd/mellowgate help -reference > docs/commands.md")
	want, err = os.ReadFile(here("../../docs/findings.md"))
	require.NoError(t, err)
	require.Equal(t, string(want), c.run(t, "help", "-reference", "findings").out,
		"make it again: go run ./cmd/mellowgate help -reference findings > docs/findings.md")
	r := c.run(t, "help", "-reference", "checks")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "help -reference findings")
	require.Regexp(t, `^mellowgate \d+\.\d+\.\d+`, c.run(t, "version").out)
}
