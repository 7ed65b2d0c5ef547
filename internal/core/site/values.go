package site

import (
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

// list reads a list of mappings and appends each value.
func list[T any](sh *shape[T], to func(*Site) *[]*T, fresh func(*reader, *yaml.Node) T) field[Site] {
	return func(r *reader, n *yaml.Node, s *Site) {
		if n.Tag == "!!null" {
			return
		}
		if !r.is(n, yaml.SequenceNode, "this", "a list, each item starting with \"-\",") {
			return
		}
		for _, item := range n.Content {
			v := fresh(r, item)
			sh.read(r, item, &v)
			*to(s) = append(*to(s), &v)
		}
	}
}

func blank[T any](*reader, *yaml.Node) T { var v T; return v }

// nameField reads the name of a value whose Ref is at.
func nameField[T any](what string, at func(*T) *Ref) field[T] {
	return func(r *reader, n *yaml.Node, v *T) { *at(v), _ = r.name(n, what) }
}

// refField reads a name that refers to a value elsewhere.
func refField[T any](what string, at func(*T) *Ref) field[T] { return nameField(what, at) }

func refsField[T any](what string, at func(*T) *[]Ref) field[T] {
	return func(r *reader, n *yaml.Node, v *T) {
		r.each(n, what, func(item *yaml.Node) {
			if ref, ok := r.name(item, what); ok {
				*at(v) = append(*at(v), ref)
			}
		})
	}
}

func durationField[T any](what string, low, high time.Duration, at func(*T) *time.Duration) field[T] {
	return func(r *reader, n *yaml.Node, v *T) {
		text, ok := r.scalar(n, what)
		if !ok {
			return
		}
		d, err := time.ParseDuration(text)
		if text == "0" {
			d, err = 0, nil
		}
		if err != nil || d < low || d > high {
			r.wrong(n, "%s is %q; a duration from %s to %s is wanted, such as 2s or 1m30s", what, shorten(text), low, high)
			return
		}
		*at(v) = d
	}
}

func intField[T any](what string, low, high int, at func(*T) *int) field[T] {
	return func(r *reader, n *yaml.Node, v *T) { r.integer(n, what, low, high, at(v)) }
}

func (r *reader) integer(n *yaml.Node, what string, low, high int, to *int) {
	text, ok := r.scalar(n, what)
	if !ok {
		return
	}
	i, err := strconv.Atoi(text)
	if err != nil || i < low || i > high {
		r.wrong(n, "%s is %q; a whole number from %d to %d is wanted", what, shorten(text), low, high)
		return
	}
	*to = i
}

func (r *reader) port(n *yaml.Node, what string, to *uint16) {
	p := int(*to)
	r.integer(n, what, 1, 65535, &p)
	*to = uint16(p)
}

func boolField[T any](what string, at func(*T) *bool) field[T] {
	return func(r *reader, n *yaml.Node, v *T) {
		*at(v) = r.oneOf(n, what, "true", "false") == "true"
	}
}

// oneOf reads one of a few words.
func (r *reader) oneOf(n *yaml.Node, what string, words ...string) string {
	text, ok := r.scalar(n, what)
	if !ok {
		return ""
	}
	if !contains(words, text) {
		r.wrong(n, "%s is %q; %s is wanted%s", what, shorten(text), strings.Join(words, " or "), nearest.Suggest(text, words))
		return ""
	}
	return text
}

// span reads a range such as 1-15, or one number.
func (r *reader) span(n *yaml.Node, what string, high int) (Range, bool) {
	text, ok := r.scalar(n, what)
	if !ok {
		return Range{}, false
	}
	lo, hi, two := strings.Cut(text, "-")
	if !two {
		hi = lo
	}
	l, err1 := strconv.Atoi(strings.TrimSpace(lo))
	h, err2 := strconv.Atoi(strings.TrimSpace(hi))
	if err1 != nil || err2 != nil || l < 0 || h > high || l > h {
		r.wrong(n, "%s is %q; a range such as 0-15 within 0-%d is wanted", what, shorten(text), high)
		return Range{}, false
	}
	return Range{l, h}, true
}
