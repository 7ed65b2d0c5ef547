package reason

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEveryReasonStandsOnceWithASentenceOfItsOwn(t *testing.T) {
	t.Parallel()
	words := map[Reason]bool{}
	sentences := map[string]bool{}
	well := []Reason{}
	for _, k := range All {
		require.Regexp(t, `^[a-z]+(-[a-z]+)*$`, string(k.Reason))
		require.Regexp(t, `^[A-Z].*\.$`, k.Text)
		require.False(t, words[k.Reason] || sentences[k.Text], "%s stands twice", k.Reason)
		words[k.Reason], sentences[k.Text] = true, true
		require.Equal(t, k.Text, k.Reason.Sentence())
		if k.Well {
			well = append(well, k.Reason)
		}
	}
	require.Equal(t, []Reason{GivenUp, Accepted, Recorded, CodeAsked}, well,
		"all others say that something is not well")
	require.Empty(t, Reason("").Sentence())
	require.Empty(t, Reason("of-another-program").Sentence())
}
