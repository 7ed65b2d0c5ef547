package findings

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

// Each bound by a key that is just weak and one that is just not.
func TestWhatMakesAKeyWeak(t *testing.T) {
	t.Parallel()
	s := &site.Site{Name: "Saltmarsh Ferries"}
	for key, why := range map[string]string{
		"k7Qw2Zr9Tb4Xn1M":      "has 15 characters, and 16 are the least",
		"k7Qw2Zr9Tb4Xn1Mö":     "",
		"abcdeabcdeabcdeabcde": "has only 5 different characters",
		"abcdefabcdefabcdef":   "",
		"networkpassword2026":  "is made of common words and digits",
		"SaltmarshFerries":     "is made of common words and digits",
		"networkpasswordx2026": "",
		"networkpassword-2026": "",
		"saltmarshferriesx":    "",
	} {
		require.Equal(t, why, weakness(site.NewSecret(key), s), key)
	}
}
