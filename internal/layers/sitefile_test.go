package layers

import (
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

// leadingKeys are the keys with which a row of a table begins.
var leadingKeys, leading = regexp.MustCompile("^ `[a-z-]+`(, `[a-z-]+`)*"), regexp.MustCompile("`([a-z-]+)`")

// Each key that a site file takes stands in the page about it, and the page
// names no key that it does not take.
func TestEveryKeyOfASiteFileStandsInItsPage(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/site-file.md")
	require.NoError(t, err)
	page := string(text)
	keys := map[string]bool{}
	var collect func(v any)
	collect = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if properties, ok := v["properties"].(map[string]any); ok {
				for key := range properties {
					keys[key] = true
				}
			}
			for _, inner := range v {
				collect(inner)
			}
		case []any:
			for _, inner := range v {
				collect(inner)
			}
		}
	}
	var schema any
	require.NoError(t, json.Unmarshal(site.Schema(), &schema))
	collect(schema)
	require.Greater(t, len(keys), 80)
	for key := range keys {
		if !strings.Contains(page, "`"+key+"`") && !strings.Contains(page, key+":") &&
			!strings.Contains(page, "## "+key) {
			t.Errorf("docs/site-file.md does not have the key %q", key)
		}
	}
	for line := range strings.Lines(page) {
		cells := strings.Split(line, "|")
		if len(cells) < 4 || !strings.HasPrefix(line, "| `") {
			continue
		}
		for _, m := range leading.FindAllStringSubmatch(leadingKeys.FindString(cells[1]), -1) {
			if !keys[m[1]] {
				t.Errorf("docs/site-file.md has the key %q, and a site file does not", m[1])
			}
		}
	}
}
