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

// Every page can be found from the one of all pages, and leads back to it; and every link
// within the documentation leads to a file that is there, and to a heading of it.
func TestThePagesLeadToEachOther(t *testing.T) {
	t.Parallel()
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	pages = append(pages, "../../README.md", "../../CHANGELOG.md", "../../CONTRIBUTING.md", "../../SECURITY.md",
		"../../ARCHITECTURE.md")
	text := map[string]string{}
	for _, page := range pages {
		b, err := os.ReadFile(page)
		require.NoError(t, err)
		text[filepath.Clean(page)] = string(b)
	}
	index := text["../../docs/README.md"]
	for page, says := range text {
		name := filepath.Base(page)
		if filepath.Dir(page) == "../../docs" && name != "README.md" {
			require.Contains(t, index, "]("+name, "docs/README.md lists every page")
			require.Contains(t, says, "*All pages: [README.md](README.md)*", name)
		}
		for _, link := range regexp.MustCompile(`\]\(([^)]+)\)`).FindAllStringSubmatch(says, -1) {
			to, heading, _ := strings.Cut(link[1], "#")
			if strings.Contains(to, "://") {
				continue
			}
			at := filepath.Join(filepath.Dir(page), to)
			if to == "" {
				at = page
			}
			_, err := os.Stat(at)
			require.NoError(t, err, "%s leads to %s", page, link[1])
			if heading != "" {
				require.Contains(t, anchors(text[at]), heading, "%s leads to %s", page, link[1])
			}
		}
	}
}

// anchors are the names of the headings of a page, as links have them.
func anchors(page string) (all []string) {
	for _, h := range regexp.MustCompile(`(?m)^#+ (.*)$`).FindAllStringSubmatch(page, -1) {
		name := regexp.MustCompile("[^a-z0-9 -]").ReplaceAllString(strings.ToLower(h[1]), "")
		all = append(all, strings.ReplaceAll(name, " ", "-"))
	}
	return all
}
