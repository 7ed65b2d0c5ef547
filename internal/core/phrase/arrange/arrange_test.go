package arrange

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// arranged returns the order of letters, those that are joined as one word, and "!" after what is not safe. A
// letter that stands in chain never comes before one that stands there before it.
func arranged(letters, chain string, safe func(done string) bool) string {
	rules := Rules[string]{
		Chained: func(earlier, later string) bool {
			before, after := strings.Index(chain, earlier), strings.Index(chain, later)
			return before >= 0 && after >= 0 && before < after
		},
		Join: func(first, second string) string { return first + second },
		Safe: func(steps []string) bool { return safe(strings.Join(steps, "")) },
	}
	var words []string
	for _, p := range Order(strings.Split(letters, ""), rules) {
		if !p.Safe {
			p.Step += "!"
		}
		words = append(words, p.Step)
	}
	return strings.Join(words, " ")
}

func TestEachStepIsTheFirstThatIsSafe(t *testing.T) {
	t.Parallel()
	starts := func(word string) func(string) bool {
		return func(done string) bool { return strings.HasPrefix(done, word) }
	}
	alike := func(a, b string) func(string) bool {
		return func(done string) bool { return strings.Contains(done, a) == strings.Contains(done, b) }
	}
	for title, c := range map[string]struct {
		letters, chain string
		safe           func(string) bool
		want           string
	}{
		"all are safe":                      {"abc", "", func(string) bool { return true }, "a b c"},
		"c opens the way for the others":    {"abc", "", starts("c"), "c a b"},
		"two are only safe together":        {"abc", "", alike("a", "b"), "c ab"},
		"the second of two may come first":  {"ab", "", func(d string) bool { return d == "ba" }, "ba"},
		"nothing is safe":                   {"abc", "", func(string) bool { return false }, "a! b! c!"},
		"a step that is not safe, and then": {"abc", "", func(d string) bool { return len(d) > 2 }, "a! bc"},
		"a chain keeps its order":           {"abc", "abc", func(d string) bool { return d != "a" }, "ab c"},
		"what is not of the chain may pass": {"abc", "ab", func(d string) bool { return d != "a" }, "c a b"},
		"a chain with its first":            {"abc", "ab", starts("ab"), "ab c"},
		"none of a chain passes another":    {"ab", "ab", starts("b"), "a! b!"},
		"no steps":                          {"", "", func(string) bool { return false }, ""},
	} {
		t.Run(title, func(t *testing.T) {
			t.Parallel()
			require.Equal(t, c.want, arranged(c.letters, c.chain, c.safe))
		})
	}
}

func TestTheStepsThatAreGivenStayAsTheyAre(t *testing.T) {
	t.Parallel()
	steps := []string{"a", "b", "c"}
	Order(steps, Rules[string]{Chained: func(string, string) bool { return false },
		Join: func(a, b string) string { return a + b },
		Safe: func(s []string) bool { return slices.Contains(s, "c") }})
	require.Equal(t, []string{"a", "b", "c"}, steps)
}

// To find out whether a step is safe costs a forecast: while some order is safe, no steps are asked about twice.
func TestNothingIsTriedTwice(t *testing.T) {
	t.Parallel()
	for title, safe := range map[string]func(string) bool{
		"all are safe":           func(string) bool { return true },
		"two are, and only both": func(done string) bool { return len(done)%2 == 0 },
	} {
		tried := map[string]int{}
		arranged("abcd", "", func(done string) bool {
			tried[done]++
			return safe(done)
		})
		for done, times := range tried {
			require.Equal(t, 1, times, "%s: %s", title, done)
		}
	}
}
