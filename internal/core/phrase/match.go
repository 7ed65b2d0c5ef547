package phrase

import (
	"fmt"
	"slices"
	"strings"
)

// pattern is what a statement is compared with: elements that stand for words.
type pattern struct {
	elements []element
	text     string
}

// element stands for one word, or more.
type element struct {
	literal  string
	hole     string // the field
	as       string // its type or table, "" for the word as it is
	many     bool   // one or more words
	commas   bool   // with commas between them
	between  string // with this word between them, "" for none
	rest     bool   // "*" at the end: any words
	any      bool   // "*" before the end: any one word
	options  []pattern
	optional bool   // options may be left out
	anyOrder bool   // each of options once or not at all, in any order
	parts    []part // a word with holes in it
}

// part is a part of a word: literal text or a hole.
type part struct {
	literal  string
	hole, as string
}

// parsePattern reads a phrase, or tells what is wrong with it.
func parsePattern(text string) (pattern, error) {
	p := &patternParser{rest: text, whole: text}
	elements, err := p.sequence(0)
	if err == nil && p.rest != "" {
		err = fmt.Errorf("a %q stands there that nothing opened", p.rest[:1])
	}
	if err == nil && len(elements) == 0 {
		err = fmt.Errorf("it says nothing")
	}
	return pattern{elements: elements, text: text}, err
}

type patternParser struct{ rest, whole string }

// sequence reads elements up to the end, or to what closes it.
func (p *patternParser) sequence(closing byte) (all []element, err error) {
	for {
		p.rest = strings.TrimLeft(p.rest, " ")
		switch {
		case p.rest == "" && closing != 0:
			return all, fmt.Errorf("a %q is missing", string(closing))
		case p.rest == "":
			return all, nil
		case p.rest[0] == closing, closing == ')' && p.rest[0] == '|':
			return all, nil
		case strings.IndexByte("])|", p.rest[0]) >= 0:
			return all, fmt.Errorf("a %q stands there that nothing opened", p.rest[:1])
		}
		e, err := p.element()
		if err != nil {
			return all, err
		}
		all = append(all, e)
	}
}

func (p *patternParser) element() (e element, err error) {
	switch {
	case p.rest[0] == '[':
		p.rest = p.rest[1:]
		inner, err := p.sequence(']')
		if err != nil {
			return e, err
		}
		p.rest = p.rest[1:]
		return element{options: []pattern{{elements: inner}}, optional: true}, nil
	case p.rest[0] == '(':
		return p.alternatives()
	case p.rest == "*" || strings.HasPrefix(p.rest, "* "):
		p.rest = strings.TrimLeft(p.rest[1:], " ")
		return element{rest: p.rest == "", any: p.rest != ""}, nil
	}
	return p.word()
}

// alternatives reads (a|b), and the field that they carry: (a|b)=<field as table>.
func (p *patternParser) alternatives() (e element, err error) {
	for p.rest[0] != ')' {
		p.rest = p.rest[1:] // ( or |
		inner, err := p.sequence(')')
		if err != nil {
			return e, err
		}
		e.options = append(e.options, pattern{elements: inner})
	}
	p.rest = p.rest[1:]
	if rest, carries := strings.CutPrefix(p.rest, "=<"); carries {
		p.rest = "<" + rest
		hole, err := p.word()
		if err != nil {
			return e, err
		}
		if len(hole.parts) != 0 || hole.hole == "" || hole.many {
			return e, fmt.Errorf("=<field as table> is wanted after the alternatives")
		}
		e.hole, e.as = hole.hole, hole.as
	}
	return e, nil
}

// word reads a word: literal text, holes, or both.
func (p *patternParser) word() (e element, err error) {
	var parts []part
	literal := ""
	flush := func() {
		if literal != "" {
			parts = append(parts, part{literal: literal})
			literal = ""
		}
	}
	for p.rest != "" && !strings.ContainsAny(p.rest[:1], " ])|") {
		switch c := p.rest[0]; {
		case c == '\\' && len(p.rest) > 1:
			literal, p.rest = literal+p.rest[1:2], p.rest[2:]
		case c == '<':
			end := strings.IndexByte(p.rest, '>')
			if end < 0 {
				return e, fmt.Errorf("a hole is not closed: %s", p.rest)
			}
			flush()
			name, as, _ := strings.Cut(p.rest[1:end], " as ")
			p.rest = p.rest[end+1:]
			parts = append(parts, part{hole: strings.TrimSpace(name), as: strings.TrimSpace(as)})
			if parts[len(parts)-1].hole == "" {
				return e, fmt.Errorf("a hole has no name")
			}
		case c == '*':
			return e, fmt.Errorf("* stands for whole words, and not for a part of one; write \\* for the sign")
		case c == '+' && len(parts) > 1 && parts[len(parts)-1].hole != "" && literal == "":
			return e, fmt.Errorf("+ goes with a hole that is a word of its own; write \\+ for the sign")
		case c == '+' && len(parts) == 1 && parts[0].hole != "" && literal == "":
			p.rest = p.rest[1:]
			e.many = true
			if strings.HasPrefix(p.rest, ",") {
				p.rest, e.commas = p.rest[1:], true
			} else if word, is := strings.CutPrefix(p.rest, "("); is {
				between, rest, closed := strings.Cut(word, ")")
				if between = strings.TrimSpace(between); !closed || between == "" ||
					strings.ContainsAny(between, " |<") {
					return e, fmt.Errorf("the word between values stands in brackets: <%s>+(then)", parts[0].hole)
				}
				p.rest, e.between = rest, between
			}
		default:
			literal, p.rest = literal+p.rest[:1], p.rest[1:]
		}
	}
	flush()
	switch {
	case e.many && (len(parts) != 1 || literal != ""):
		return e, fmt.Errorf("+ goes with a hole that is a word of its own")
	case len(parts) == 1 && parts[0].hole != "":
		e.hole, e.as = parts[0].hole, parts[0].as
	case len(parts) == 1:
		e.literal = parts[0].literal
	default:
		for i := 1; i < len(parts); i++ {
			if parts[i].hole != "" && parts[i-1].hole != "" {
				return e, fmt.Errorf("two holes stand side by side in a word: nobody can tell where one ends")
			}
		}
		e.parts = parts
	}
	return e, nil
}

// holes calls do for every hole of a pattern, with its type.
func (p pattern) holes(do func(hole, as string, many bool)) {
	for _, e := range p.elements {
		if e.hole != "" {
			do(e.hole, e.as, e.many)
		}
		for _, q := range e.parts {
			if q.hole != "" {
				do(q.hole, q.as, false)
			}
		}
		for _, o := range e.options {
			o.holes(do)
		}
	}
}

// bound is what a hole has.
type bound struct {
	hole, as string
	words    []string
	many     bool       // they are several values
	values   [][]string // the words of each, where marks or words stand between them
}

// matcher compares words with patterns.
type matcher struct {
	book  *Book
	words []string
}

// match returns what the holes of a pattern have where it fits all the words; false where
// it does not. The first way in which it fits counts: a hole takes as few words as it can.
func (b *Book) match(p pattern, words []string) ([]bound, bool) {
	if !b.couldBegin(p, words) {
		return nil, false
	}
	m := &matcher{book: b, words: words}
	var found []bound
	ok := m.seq(p.elements, 0, nil, func(at int, have []bound) bool {
		if at != len(words) {
			return false
		}
		found = have
		return true
	})
	return found, ok
}

// couldBegin reports whether the literal words that a pattern begins with are those of a
// statement: most statements are turned away here.
func (b *Book) couldBegin(p pattern, words []string) bool {
	for i, e := range p.elements {
		if e.literal == "" {
			break
		}
		if i >= len(words) || !b.layout.same(words[i], e.literal) {
			return false
		}
	}
	return true
}

// begins reports whether the first words of a statement fit a pattern.
func (b *Book) begins(p pattern, words []string) bool {
	if !b.couldBegin(p, words) {
		return false
	}
	m := &matcher{book: b, words: words}
	return m.seq(p.elements, 0, nil, func(int, []bound) bool { return true })
}

// seq matches elements from a word on, and then the rest.
func (m *matcher) seq(all []element, at int, have []bound, then func(int, []bound) bool) bool {
	if len(all) == 0 {
		return then(at, have)
	}
	return m.one(all[0], at, have, func(at int, have []bound) bool { return m.seq(all[1:], at, have, then) })
}

func (m *matcher) one(e element, at int, have []bound, then func(int, []bound) bool) bool {
	word := func() (string, bool) {
		if at < len(m.words) {
			return m.words[at], true
		}
		return "", false
	}
	with := func(words ...string) []bound {
		return append(slices.Clone(have), bound{hole: e.hole, as: e.as, words: words, many: e.many})
	}
	switch {
	case e.rest:
		return then(len(m.words), have)
	case e.any:
		_, ok := word()
		return ok && then(at+1, have)
	case e.literal != "":
		w, ok := word()
		return ok && m.book.layout.same(w, e.literal) && then(at+1, have)
	case len(e.parts) > 0:
		w, ok := word()
		if !ok {
			return false
		}
		found, fits := m.split(e.parts, w, have)
		return fits && then(at+1, found)
	case e.anyOrder:
		return m.inAnyOrder(e.options, 0, at, have, then)
	case e.optional:
		return m.seq(e.options[0].elements, at, have, then) || then(at, have)
	case len(e.options) > 0:
		for _, o := range e.options {
			if m.seq(o.elements, at, have, func(to int, have []bound) bool {
				if e.hole != "" {
					have = append(slices.Clone(have), bound{hole: e.hole, as: e.as, words: m.words[at:to]})
				}
				return then(to, have)
			}) {
				return true
			}
		}
		return false
	case e.commas || e.between != "":
		for to := at + 1; to <= len(m.words); to++ {
			if values := m.book.apart(e, m.words[at:to]); values != nil {
				have := with(slices.Concat(values...)...)
				have[len(have)-1].values = values
				if then(to, have) {
					return true
				}
			}
		}
		return false
	case e.many:
		for to := at + 1; to <= len(m.words); to++ {
			if then(to, with(m.words[at:to]...)) {
				return true
			}
		}
		return false
	}
	return m.hole(e, at, with, then)
}

// apart parts the words of several values at the marks or words between them; nil where they
// are none.
func (b *Book) apart(e element, words []string) (values [][]string) {
	last := []string{}
	next := func() bool {
		ok := len(last) > 0 && (e.as == "" && len(last) == 1 || e.as != "" && b.takes(e.as, last))
		values, last = append(values, last), []string{}
		return ok
	}
	for _, w := range words {
		if e.between != "" {
			if !b.layout.same(w, e.between) {
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
func (m *matcher) inAnyOrder(options []pattern, used uint64, at int, have []bound, then func(int, []bound) bool) bool {
	for i, o := range options {
		if used&(1<<i) == 0 && m.seq(o.elements, at, have, func(to int, have []bound) bool {
			return to > at && m.inAnyOrder(options, used|1<<i, to, have, then)
		}) {
			return true
		}
	}
	return then(at, have)
}

// inAnyOrder returns a pattern of which the optional parts at the end stand in any order.
func (p pattern) inAnyOrder() pattern {
	at := len(p.elements)
	var options []pattern
	for at > 0 && p.elements[at-1].optional {
		at--
	}
	for _, e := range p.elements[at:] {
		options = append(options, e.options[0])
	}
	if len(options) > 1 {
		p.elements = append(slices.Clone(p.elements[:at]),
			element{options: options[:min(len(options), 60)], anyOrder: true})
	}
	return p
}

// hole matches a hole: one word, or as many as the words of its table or the forms of its
// type have.
func (m *matcher) hole(e element, at int, with func(...string) []bound, then func(int, []bound) bool) bool {
	longest := m.book.longest(e.as)
	for to := at + 1; to <= len(m.words) && to-at <= longest; to++ {
		if m.book.takes(e.as, m.words[at:to]) && then(to, with(m.words[at:to]...)) {
			return true
		}
	}
	return false
}

// split compares one word with literal text and holes.
func (m *matcher) split(parts []part, word string, have []bound) ([]bound, bool) {
	found := slices.Clone(have)
	for i, p := range parts {
		switch {
		case p.literal != "":
			if len(word) < len(p.literal) || !m.book.layout.same(word[:len(p.literal)], p.literal) {
				return nil, false
			}
			word = word[len(p.literal):]
			continue
		case i == len(parts)-1:
			found = append(found, bound{hole: p.hole, as: p.as, words: []string{word}})
			return found, word != "" && m.book.takes(p.as, []string{word})
		}
		end := strings.Index(m.book.layout.folded(word), m.book.layout.folded(parts[i+1].literal))
		if p.hole == "address" { // an IPv6 address has colons of its own: the last one ends it
			end = strings.LastIndex(m.book.layout.folded(word), m.book.layout.folded(parts[i+1].literal))
		}
		if end <= 0 || !m.book.takes(p.as, []string{word[:end]}) {
			return nil, false
		}
		found = append(found, bound{hole: p.hole, as: p.as, words: []string{word[:end]}})
		word = word[end:]
	}
	return found, word == ""
}
