package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// No word of a table is cut, however little room there is.
func TestACodeIsNeverCut(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	codes := strings.Fields(c.run(t, "check", "-explain", "all").out)
	c.env = []string{"COLUMNS=40"}
	narrow := strings.Fields(c.run(t, "check", "-explain", "all").out)
	for _, word := range codes {
		if strings.Contains(word, "-") {
			require.Contains(t, narrow, word)
		}
	}
}
