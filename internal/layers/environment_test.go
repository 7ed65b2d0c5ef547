package layers

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

var getenv = regexp.MustCompile(`(?:Getenv|LookupEnv)\("([A-Z_]+)"\)`)

// Every variable that the program reads stands in the page about the environment, and so does
// every command, by what its exit status 1 says.
func TestThePageOfTheEnvironmentIsWhole(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/environment.md")
	require.NoError(t, err)
	set, files := parsed(t)
	require.NotNil(t, set)
	for path := range files {
		text, err := os.ReadFile(filepath.Join("..", path))
		require.NoError(t, err)
		for _, m := range getenv.FindAllStringSubmatch(string(text), -1) {
			if m[1] != "MELLOWGATE_PEERS" && m[1] != "MELLOWGATE_TESTS" { // of the tests
				require.Contains(t, string(page), "`"+m[1]+"`", path)
			}
		}
	}
	commands, err := os.ReadFile("../../docs/commands.md")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`(?m)^## ([a-z]+)$`).FindAllStringSubmatch(string(commands), -1) {
		require.Regexp(t, "`"+m[1]+"[` ]", string(page), m[1])
	}
}
