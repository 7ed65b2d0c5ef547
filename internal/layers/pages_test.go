package layers

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// goTest is a call in a page that runs some tests of a package.
var goTest = regexp.MustCompile("go test (\\./[a-z/]+) -run ([A-Za-z]+)((`, `-run [A-Za-z]+)*)")

// The tests that a page names are there: a name that none has would pass.
func TestThePagesNameTestsThatThereAre(t *testing.T) {
	t.Parallel()
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	require.NotEmpty(t, pages)
	found := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, call := range goTest.FindAllStringSubmatch(string(text), -1) {
			files, err := filepath.Glob("../../" + call[1] + "/*_test.go")
			require.NoError(t, err)
			code := ""
			for _, file := range files {
				some, err := os.ReadFile(file)
				require.NoError(t, err)
				code += string(some)
			}
			for _, name := range strings.Split(call[2]+call[3], "`, `-run ") {
				require.Regexp(t, `(?m)^func Test\w*`+name, code, "%s: %s", page, call[0])
				found++
			}
		}
	}
	require.Greater(t, found, 20)
}
