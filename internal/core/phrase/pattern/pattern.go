// Package pattern has the pattern of a phrase: literal words, holes, parts that may be left out or stand in any
// order; how it is read, and how words are compared with it. By what words are the same, and which are a value of
// a type, it is told (Words): it knows nothing of phrasebooks.
package pattern

import (
	"fmt"
	"slices"
	"strings"
)

// Pattern is what a statement is compared with: elements that stand for words.
type Pattern struct {
	Elements []Element
	Text     string
}

// Element stands for one word, or more.
type Element struct {
	Literal   string
	Hole      string // the field
	As        string // its type or table, "" for the word as it is
	Many      bool   // one or more words
	Commas    bool   // with commas between them
	Between   string // with this word between them, "" for none
	Rest      bool   // "*" at the end: any words
	Any       bool   // "*" before the end: any one word
	Options   []Pattern
	Optional  bool   // options may be left out
	Unordered bool   // each of options once or not at all, in any order
	Parts     []Part // a word with holes in it
}

// Part is a part of a word: literal text or a hole.
type Part struct {
	Literal  string
	Hole, As string
}

// Parse reads a phrase, or tells what is wrong with it.
func Parse(text string) (Pattern, error) {
	p := &patternParser{rest: text, whole: text}
	elements, err := p.sequence(0)
	if err == nil && p.rest != "" {
		err = fmt.Errorf("a %q stands there that nothing opened", p.rest[:1])
	}
	if err == nil && len(elements) == 0 {
		err = fmt.Errorf("it says nothing")
	}
	return Pattern{Elements: elements, Text: text}, err
}

type patternParser struct{ rest, whole string }

// sequence reads elements up to the end, or to what closes it.
func (p *patternParser) sequence(closing byte) (elements []Element, err error) {
	for {
		p.rest = strings.TrimLeft(p.rest, " ")
		switch {
		case p.rest == "" && closing != 0:
			return elements, fmt.Errorf("a %q is missing", string(closing))
		case p.rest == "":
			return elements, nil
		case p.rest[0] == closing, closing == ')' && p.rest[0] == '|':
			return elements, nil
		case strings.IndexByte("])|", p.rest[0]) >= 0:
			return elements, fmt.Errorf("a %q stands there that nothing opened", p.rest[:1])
		}
		e, err := p.element()
		if err != nil {
			return elements, err
		}
		elements = append(elements, e)
	}
}

func (p *patternParser) element() (e Element, err error) {
	switch {
	case p.rest[0] == '[':
		p.rest = p.rest[1:]
		inner, err := p.sequence(']')
		if err != nil {
			return e, err
		}
		p.rest = p.rest[1:]
		return Element{Options: []Pattern{{Elements: inner}}, Optional: true}, nil
	case p.rest[0] == '(':
		return p.alternatives()
	case p.rest == "*" || strings.HasPrefix(p.rest, "* "):
		p.rest = strings.TrimLeft(p.rest[1:], " ")
		return Element{Rest: p.rest == "", Any: p.rest != ""}, nil
	}
	return p.word()
}

// alternatives reads (a|b), and the field that they carry: (a|b)=<field as table>.
func (p *patternParser) alternatives() (e Element, err error) {
	for p.rest[0] != ')' {
		p.rest = p.rest[1:] // ( or |
		inner, err := p.sequence(')')
		if err != nil {
			return e, err
		}
		e.Options = append(e.Options, Pattern{Elements: inner})
	}
	p.rest = p.rest[1:]
	if rest, carries := strings.CutPrefix(p.rest, "=<"); carries {
		p.rest = "<" + rest
		hole, err := p.word()
		if err != nil {
			return e, err
		}
		if len(hole.Parts) != 0 || hole.Hole == "" || hole.Many {
			return e, fmt.Errorf("=<field as table> is wanted after the alternatives")
		}
		e.Hole, e.As = hole.Hole, hole.As
	}
	return e, nil
}

// word reads a word: literal text, holes, or both.
func (p *patternParser) word() (e Element, err error) {
	var parts []Part
	literal := ""
	flush := func() {
		if literal != "" {
			parts = append(parts, Part{Literal: literal})
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
			parts = append(parts, Part{Hole: strings.TrimSpace(name), As: strings.TrimSpace(as)})
			if parts[len(parts)-1].Hole == "" {
				return e, fmt.Errorf("a hole has no name")
			}
		case c == '*':
			return e, fmt.Errorf("* stands for whole words, and not for a part of one; write \\* for the sign")
		case c == '+' && len(parts) > 1 && parts[len(parts)-1].Hole != "" && literal == "":
			return e, fmt.Errorf("+ goes with a hole that is a word of its own; write \\+ for the sign")
		case c == '+' && len(parts) == 1 && parts[0].Hole != "" && literal == "":
			p.rest = p.rest[1:]
			e.Many = true
			if strings.HasPrefix(p.rest, ",") {
				p.rest, e.Commas = p.rest[1:], true
			} else if word, ok := strings.CutPrefix(p.rest, "("); ok {
				between, rest, closed := strings.Cut(word, ")")
				if between = strings.TrimSpace(between); !closed || between == "" ||
					strings.ContainsAny(between, " |<") {
					return e, fmt.Errorf("the word between values stands in brackets: <%s>+(then)", parts[0].Hole)
				}
				p.rest, e.Between = rest, between
			}
		default:
			literal, p.rest = literal+p.rest[:1], p.rest[1:]
		}
	}
	flush()
	switch {
	case e.Many && (len(parts) != 1 || literal != ""):
		return e, fmt.Errorf("+ goes with a hole that is a word of its own")
	case len(parts) == 1 && parts[0].Hole != "":
		e.Hole, e.As = parts[0].Hole, parts[0].As
	case len(parts) == 1:
		e.Literal = parts[0].Literal
	default:
		for i := 1; i < len(parts); i++ {
			if parts[i].Hole != "" && parts[i-1].Hole != "" {
				return e, fmt.Errorf("two holes stand side by side in a word: nobody can tell where one ends")
			}
		}
		e.Parts = parts
	}
	return e, nil
}

// Holes calls do for every hole of a pattern, with its type.
func (p Pattern) Holes(do func(hole, as string, many bool)) {
	for _, e := range p.Elements {
		if e.Hole != "" {
			do(e.Hole, e.As, e.Many)
		}
		for _, q := range e.Parts {
			if q.Hole != "" {
				do(q.Hole, q.As, false)
			}
		}
		for _, o := range e.Options {
			o.Holes(do)
		}
	}
}

// AnyOrder returns a pattern of which the optional parts at the end stand in any order.
func (p Pattern) AnyOrder() Pattern {
	index := len(p.Elements)
	var options []Pattern
	for index > 0 && p.Elements[index-1].Optional {
		index--
	}
	for _, e := range p.Elements[index:] {
		options = append(options, e.Options[0])
	}
	if len(options) > 1 {
		p.Elements = append(slices.Clone(p.Elements[:index]),
			Element{Options: options[:min(len(options), 60)], Unordered: true})
	}
	return p
}
