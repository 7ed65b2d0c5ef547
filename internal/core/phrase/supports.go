package phrase

import (
	"slices"
	"strings"
)

// Supports reports whether the phrasebook can say a value of a field of something, "" for any:
// by a phrase, or by what is unsaid. What it cannot say, no text of the make carries.
func (b *Book) Supports(about About, field, value string) bool {
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
		p.say.Holes(func(hole, as string, _ bool) {
			found = found || hole == field && len(p.where[field]) == 0 && (value == "" || b.canBe(as, value))
		})
		if found {
			return true
		}
	}
	return slices.ContainsFunc(b.defaultRules, func(u defaultRule) bool {
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

// Writes reports whether a phrase can say a value of a field, "" for any that is said in words
// of its own, and of what the phrase says else: the purpose of a list or the protocol of a
// device. Of a way, the methods are those of a list without a name, and value is their purpose.
func (b *Book) Writes(about About, field, value string, of ...string) bool {
	return slices.ContainsFunc(b.all, func(p *phrase) bool {
		if p.about != about {
			return false
		}
		if about == Way && field == "methods" {
			return p.has("methods") && (value == "" || slices.Contains(p.lists, value))
		}
		for _, other := range of {
			which := map[About]string{List: "purpose", Device: "protocol"}[about]
			if !p.canSay(b, which, other) || other == "" && p.where[which] != nil {
				return false
			}
		}
		if wanted := p.where[field]; wanted != nil && !p.has(field) {
			return slices.Contains(wanted, value)
		}
		return p.canSay(b, field, value) && p.has(field)
	})
}

// canSay reports whether a phrase says a value of a field, or nothing of it where the value
// is "".
func (p *phrase) canSay(b *Book, field, value string) bool {
	if wanted := p.where[field]; wanted != nil {
		return value == "" || slices.Contains(wanted, value)
	}
	has := false
	p.say.Holes(func(hole, as string, _ bool) {
		has = has || hole == field && (value == "" || b.canBe(as, value))
	})
	return has || value == "" && !p.has(field)
}

// EveryServer returns the name of the group of all servers of a protocol, "" where the make
// has none.
func (b *Book) EveryServer(protocol string) string {
	for _, e := range b.every {
		if e.protocol == protocol {
			return e.group
		}
	}
	return ""
}

// Names reports whether the phrasebook has a word of its own for a value of a field.
func (b *Book) Names(about About, field, value string) bool {
	return slices.ContainsFunc(b.all, func(p *phrase) bool {
		if p.about != about {
			return false
		}
		if slices.Contains(p.where[field], value) {
			return true
		}
		named := false
		p.say.Holes(func(hole, as string, _ bool) {
			if t := b.tables[as]; hole == field && t != nil {
				named = named || slices.ContainsFunc(t.words, func(w word) bool { return w.site == value })
			}
		})
		return named
	})
}
