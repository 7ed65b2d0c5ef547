package phrase

import (
	"mellowgate/internal/core/phrase/pattern"
)

// comparing is a book as patterns compare words by it.
type comparing struct{ *Book }

func (c comparing) Same(a, b string) bool                { return c.layout.same(a, b) }
func (c comparing) Folded(word string) string            { return c.layout.folded(word) }
func (c comparing) Longest(as string) int                { return c.longest(as) }
func (c comparing) Takes(as string, words []string) bool { return c.takes(as, words) }

// match returns what the holes of a pattern have where it fits all the words; false where it does not.
func (b *Book) match(p pattern.Pattern, words []string) ([]pattern.Bound, bool) {
	return p.Match(comparing{b}, words)
}
