package pattern

import (
	"slices"
	"strings"
)

// Bound is what a hole has.
type Bound struct {
	Hole, As string
	Words    []string
	Many     bool       // they are several values
	Values   [][]string // the words of each, where marks or words stand between them
}

// Words is what a make's words are compared by.
type Words interface {
	// Same reports whether two words are the same for the device, and Folded returns a word as it is compared.
	Same(a, b string) bool
	Folded(word string) string
	// Longest returns the most words that a value of a type has, and Takes reports whether words are one.
	Longest(as string) int
	Takes(as string, words []string) bool
}

// matcher compares words with patterns.
type matcher struct {
	by    Words
	words []string
}

// Match returns what the holes of a pattern have where it fits all the words; false where
// it does not. The first way in which it fits counts: a hole takes as few words as it can.
func (p Pattern) Match(by Words, words []string) ([]Bound, bool) {
	if !p.CouldBegin(by, words) {
		return nil, false
	}
	m := &matcher{by: by, words: words}
	var found []Bound
	ok := m.seq(p.Elements, 0, nil, func(index int, have []Bound) bool {
		if index != len(words) {
			return false
		}
		found = have
		return true
	})
	return found, ok
}

// CouldBegin reports whether the literal words that a pattern begins with are those of a
// statement: most statements are turned away here.
func (p Pattern) CouldBegin(by Words, words []string) bool {
	for i, e := range p.Elements {
		if e.Literal == "" {
			break
		}
		if i >= len(words) || !by.Same(words[i], e.Literal) {
			return false
		}
	}
	return true
}

// Begins reports whether the first words of a statement fit a pattern.
func (p Pattern) Begins(by Words, words []string) bool {
	if !p.CouldBegin(by, words) {
		return false
	}
	m := &matcher{by: by, words: words}
	return m.seq(p.Elements, 0, nil, func(int, []Bound) bool { return true })
}

// FitsWord reports whether a word with holes in it fits one word.
func (e Element) FitsWord(by Words, word string) bool {
	_, fits := (&matcher{by: by}).split(e.Parts, word, nil)
	return fits
}

// Heads calls found with what the holes have for each way in which a pattern fits the first words, the shortest
// first, until it returns true.
func (p Pattern) Heads(by Words, words []string, found func([]Bound) bool) {
	(&matcher{by: by, words: words}).seq(p.Elements, 0, nil, func(_ int, have []Bound) bool { return found(have) })
}

// seq matches elements from a word on, and then the rest.
func (m *matcher) seq(elements []Element, index int, have []Bound, then func(int, []Bound) bool) bool {
	if len(elements) == 0 {
		return then(index, have)
	}
	return m.one(elements[0], index, have, func(position int,
		have []Bound) bool {
		return m.seq(elements[1:], position, have, then)
	})
}

func (m *matcher) one(e Element, index int, have []Bound, then func(int, []Bound) bool) bool {
	word := func() (string, bool) {
		if index < len(m.words) {
			return m.words[index], true
		}
		return "", false
	}
	with := func(words ...string) []Bound {
		return append(slices.Clone(have), Bound{Hole: e.Hole, As: e.As, Words: words, Many: e.Many})
	}
	switch {
	case e.Rest:
		return then(len(m.words), have)
	case e.Any:
		_, ok := word()
		return ok && then(index+1, have)
	case e.Literal != "":
		w, ok := word()
		return ok && m.by.Same(w, e.Literal) && then(index+1, have)
	case len(e.Parts) > 0:
		w, ok := word()
		if !ok {
			return false
		}
		found, fits := m.split(e.Parts, w, have)
		return fits && then(index+1, found)
	case e.Unordered:
		return m.inAnyOrder(e.Options, 0, index, have, then)
	case e.Optional:
		return m.seq(e.Options[0].Elements, index, have, then) || then(index, have)
	case len(e.Options) > 0:
		for _, o := range e.Options {
			if m.seq(o.Elements, index, have, func(to int, have []Bound) bool {
				if e.Hole != "" {
					have = append(slices.Clone(have), Bound{Hole: e.Hole, As: e.As, Words: m.words[index:to]})
				}
				return then(to, have)
			}) {
				return true
			}
		}
		return false
	case e.Commas || e.Between != "":
		for to := index + 1; to <= len(m.words); to++ {
			if values := e.apart(m.by, m.words[index:to]); values != nil {
				have := with(slices.Concat(values...)...)
				have[len(have)-1].Values = values
				if then(to, have) {
					return true
				}
			}
		}
		return false
	case e.Many:
		for to := index + 1; to <= len(m.words); to++ {
			if then(to, with(m.words[index:to]...)) {
				return true
			}
		}
		return false
	}
	return m.hole(e, index, with, then)
}

// apart parts the words of several values at the marks or words between them; nil where they
// are none.
func (e Element) apart(by Words, words []string) (values [][]string) {
	last := []string{}
	next := func() bool {
		ok := len(last) > 0 && (e.As == "" && len(last) == 1 || e.As != "" && by.Takes(e.As, last))
		values, last = append(values, last), []string{}
		return ok
	}
	for _, w := range words {
		if e.Between != "" {
			if !by.Same(w, e.Between) {
				last = append(last, w)
			} else if !next() {
				return nil
			}
			continue
		}
		for i, part := range strings.Split(w, ",") {
			if i > 0 && !next() {
				return nil
			}
			if part != "" {
				last = append(last, part)
			}
		}
	}
	if !next() {
		return nil
	}
	return values
}

// inAnyOrder matches the options that were not used yet, in any order.
func (m *matcher) inAnyOrder(options []Pattern, used uint64, index int, have []Bound,
	then func(int, []Bound) bool) bool {
	for i, o := range options {
		if used&(1<<i) == 0 && m.seq(o.Elements, index, have, func(to int, have []Bound) bool {
			return to > index && m.inAnyOrder(options, used|1<<i, to, have, then)
		}) {
			return true
		}
	}
	return then(index, have)
}

// hole matches a hole: one word, or as many as the words of its table or the forms of its
// type have.
func (m *matcher) hole(e Element, index int, with func(...string) []Bound, then func(int, []Bound) bool) bool {
	longest := m.by.Longest(e.As)
	for to := index + 1; to <= len(m.words) && to-index <= longest; to++ {
		if m.by.Takes(e.As, m.words[index:to]) && then(to, with(m.words[index:to]...)) {
			return true
		}
	}
	return false
}

// split compares one word with literal text and holes.
func (m *matcher) split(parts []Part, word string, have []Bound) ([]Bound, bool) {
	found := slices.Clone(have)
	for i, p := range parts {
		switch {
		case p.Literal != "":
			if len(word) < len(p.Literal) || !m.by.Same(word[:len(p.Literal)], p.Literal) {
				return nil, false
			}
			word = word[len(p.Literal):]
			continue
		case i == len(parts)-1:
			found = append(found, Bound{Hole: p.Hole, As: p.As, Words: []string{word}})
			return found, word != "" && m.by.Takes(p.As, []string{word})
		}
		end := strings.Index(m.by.Folded(word), m.by.Folded(parts[i+1].Literal))
		if p.Hole == "address" { // an IPv6 address has colons of its own: the last one ends it
			end = strings.LastIndex(m.by.Folded(word), m.by.Folded(parts[i+1].Literal))
		}
		if end <= 0 || !m.by.Takes(p.As, []string{word[:end]}) {
			return nil, false
		}
		found = append(found, Bound{Hole: p.Hole, As: p.As, Words: []string{word[:end]}})
		word = word[end:]
	}
	return found, word == ""
}
