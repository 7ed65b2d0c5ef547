package layers

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var jsonTag = regexp.MustCompile("`json:\"([a-z_0-9]+)[,\"]")

// Other programs build on the names in what is printed as JSON: each stands in
// the page about it.
func TestEveryNameInJSONStandsInItsPage(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/json.md")
	require.NoError(t, err)
	names := map[string]bool{} // a path such as `a[].b` has both
	for _, span := range regexp.MustCompile("`[a-z_0-9.\\[\\]]+`").FindAllString(string(page), -1) {
		for _, name := range strings.FieldsFunc(span, func(c rune) bool { return strings.ContainsRune("`.[]", c) }) {
			names[name] = true
		}
	}
	for _, room := range []string{"cli/*", "core/evidence", "core/diagnose"} {
		files, err := filepath.Glob(filepath.Join("..", room, "*.go"))
		require.NoError(t, err)
		for _, file := range files {
			// the names there are OASIS's
			if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, "/formats.go") {
				continue
			}
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, m := range jsonTag.FindAllStringSubmatch(string(text), -1) {
				if m[1] == "as" { // of a question put on purpose, which the scored cases keep and no command prints
					continue
				}
				if !names[m[1]] {
					t.Errorf("%s has %q, and docs/json.md does not", file, m[1])
				}
			}
		}
	}
}
