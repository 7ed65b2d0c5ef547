package phrase

import (
	"slices"
	"strings"
)

// Says reports whether the phrasebook can say a value of a field of something, "" for any:
// by a phrase, or by what is unsaid. What it cannot say, no text of the make carries.
func (b *Book) Says(about About, field, value string) bool {
	for _, p := range b.all {
		if p.about != about {
			continue
		}
		if wanted := p.where[field]; slices.Contains(wanted, value) || value == "" && len(wanted) > 0 {
			return true
		}
		if about == Way && field == "purpose" && (slices.Contains(p.lists, value) || value == "" && len(p.lists) > 0) {
			return true
		}
		found := false
		p.say.holes(func(hole, as string, _ bool) {
			found = found || hole == field && len(p.where[field]) == 0 && (value == "" || b.canBe(as, value))
		})
		if found {
			return true
		}
	}
	return slices.ContainsFunc(b.unsaid, func(u unsaid) bool {
		return u.about == about && u.field == field && value == ""
	})
}

// canBe reports whether a value can come of a type or table.
func (b *Book) canBe(as, value string) bool {
	t := b.tables[as]
	return t == nil || slices.ContainsFunc(t.words, func(w word) bool {
		return w.site == value || strings.Contains(w.site, "<")
	})
}
