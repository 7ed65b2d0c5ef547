package nearest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestTheNearestWordIsSuggestedOnlyWhenItIsNear(t *testing.T) {
	t.Parallel()
	known := []string{"check", "foresee", "lab", "ledger", "login"}
	for typed, want := range map[string]string{"chekc": "check", "CHECK": "check", "foresse": "foresee",
		"ledgre": "ledger", "lba": "lab", "fore": "foresee", "l": "", "lo": "login", "x": "", "something": "",
		"logout": ""} {
		got, ok := Word(typed, known)
		require.Equal(t, want, got, typed)
		require.Equal(t, want != "", ok)
	}
	require.Equal(t, `; did you mean "lab"?`, Suggest("lbb", known))
	require.Empty(t, Suggest("zzz", known))
}

func TestPropertyOneSlipIsOneSlip(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[a-z]{2,20}`).Draw(t, "word")
		at := rapid.IntRange(0, len(word)-2).Draw(t, "at")
		swapped := word[:at] + string(word[at+1]) + string(word[at]) + word[at+2:]
		for _, slip := range []string{word + "x", word[1:], strings.Replace(word, word[at:at+1], "0", 1), swapped} {
			if d := Slips(word, slip); slip != word && d != 1 || slip == word && d != 0 {
				t.Fatalf("%q to %q: %d", word, slip, d)
			}
			if Slips(word, slip) != Slips(slip, word) {
				t.Fatalf("not the same both ways: %q %q", word, slip)
			}
		}
	})
}
