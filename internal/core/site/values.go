package site

import (
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

// list reads a list of mappings and appends each value.
func list[O, T any](sh *shape[T], to func(*O) *[]*T, fresh func(*reader, *yaml.Node) T) field[O] {
	return field[O]{form: orNothing(listForm(sh.form())), read: func(r *reader, n *yaml.Node, s *O) {
		if n.Tag == "!!null" {
			return
		}
		if !r.is(n, yaml.SequenceNode, "this", "a list, each item starting with \"-\",") {
			return
		}
		for _, item := range n.Content {
			v, before := fresh(r, item), len(*r.problems)
			sh.read(r, item, &v)
			if len(*r.problems) > before {
				r.breaks(item)
			}
			*to(s) = append(*to(s), &v)
		}
	}}
}

func blank[T any](*reader, *yaml.Node) T { var v T; return v }

// nameField reads the name of a value whose Ref is at.
func nameField[T any](what string, at func(*T) *Ref) field[T] {
	return field[T]{form: nameForm(), read: func(r *reader, n *yaml.Node, v *T) { *at(v), _ = r.name(n, what) }}
}

// refField reads a name that refers to a value elsewhere.
func refField[T any](what string, at func(*T) *Ref) field[T] { return nameField(what, at) }

func refsField[T any](what string, at func(*T) *[]Ref) field[T] {
	return field[T]{form: oneOrMore(nameForm()), read: func(r *reader, n *yaml.Node, v *T) {
		r.each(n, what, func(item *yaml.Node) {
			if ref, ok := r.name(item, what); ok {
				*at(v) = append(*at(v), ref)
			}
		})
	}}
}

func durationField[T any](what string, low, high time.Duration, at func(*T) *time.Duration) field[T] {
	return field[T]{form: durationForm(), read: func(r *reader, n *yaml.Node, v *T) {
		text, ok := r.scalar(n, what)
		if !ok {
			return
		}
		d, err := time.ParseDuration(text)
		if text == "0" {
			d, err = 0, nil
		}
		if err != nil || d < low || d > high {
			r.wrong(n, "%s is %q; a duration from %s to %s is wanted, such as 2s or 1m30s", what, shorten(text), low,
				high)
			return
		}
		*at(v) = d
	}}
}

func intField[T any](what string, low, high int, at func(*T) *int) field[T] {
	return field[T]{form: intForm(low, high),
		read: func(r *reader, n *yaml.Node, v *T) { r.integer(n, what, low, high, at(v)) }}
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

// truth is what the words for yes and no mean, in any case.
var truth = map[string]bool{"true": true, "yes": true, "on": true, "false": false, "no": false, "off": false}

func boolField[T any](what string, at func(*T) *bool) field[T] {
	return field[T]{form: form{"type": "boolean"}, read: func(r *reader, n *yaml.Node, v *T) {
		text, ok := r.scalar(n, what)
		if on, known := truth[strings.ToLower(text)]; known {
			*at(v) = on
		} else if ok {
			r.wrong(n, "%s is %q; true or false is wanted", what, shorten(text))
		}
	}}
}

// textOf reads any text.
func textOf[T any](what string, at func(*T) *string) field[T] {
	return field[T]{form: textForm(), read: func(r *reader, n *yaml.Node, v *T) { *at(v), _ = r.scalar(n, what) }}
}

// wordField reads one of a few words.
func wordField[T any](what string, words []string, set func(v *T, word string)) field[T] {
	return field[T]{form: wordsForm(words...), read: func(r *reader, n *yaml.Node, v *T) {
		if word := r.oneOf(n, what, words...); word != "" {
			set(v, word)
		}
	}}
}

// itemsField reads a list of texts, or one text in place of a list of one.
func itemsField[T any](what string, item form, read func(r *reader, n *yaml.Node, text string, v *T)) field[T] {
	return field[T]{form: oneOrMore(item), read: func(r *reader, n *yaml.Node, v *T) {
		r.each(n, what, func(item *yaml.Node) {
			if text, ok := r.scalar(item, what); ok {
				read(r, item, text, v)
			}
		})
	}}
}

// inner reads a mapping within a mapping.
func inner[T, U any](sh *shape[U], at func(*T) *U) field[T] {
	return field[T]{form: sh.form(), read: func(r *reader, n *yaml.Node, v *T) { sh.read(r, n, at(v)) }}
}

// pairs calls do for each key of a mapping that has no fixed keys, and reports
// a key that stands twice.
func (r *reader) pairs(n *yaml.Node, what, wanted string, do func(key, value *yaml.Node)) {
	if !r.is(n, yaml.MappingNode, what, wanted) {
		return
	}
	seen := make(map[string]bool, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		if seen[n.Content[i].Value] {
			r.wrong(n.Content[i], "%q stands twice in %s; keep one", n.Content[i].Value, what)
			continue
		}
		seen[n.Content[i].Value] = true
		do(n.Content[i], n.Content[i+1])
	}
}

// day reads a last day, as the end of that day in UTC.
func (r *reader) day(n *yaml.Node, to *time.Time) {
	day, err := time.Parse(time.DateOnly, n.Value)
	if n.Kind != yaml.ScalarNode || err != nil {
		r.wrong(n, "until is %q; the last day is wanted, as 2027-03-31", shorten(n.Value))
		return
	}
	*to = day.AddDate(0, 0, 1)
}

// oneOf reads one of a few words.
func (r *reader) oneOf(n *yaml.Node, what string, words ...string) string {
	text, ok := r.scalar(n, what)
	if !ok {
		return ""
	}
	if !contains(words, text) {
		r.wrong(n, "%s is %q; %s is wanted%s", what, shorten(text), orList(words), nearest.Suggest(text, words))
		return ""
	}
	return text
}

// orList makes "a, b or c".
func orList(words []string) string {
	last := len(words) - 1
	if last < 1 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:last], ", ") + " or " + words[last]
}

// span reads a range such as 1-15, or one number.
func (r *reader) span(n *yaml.Node, what string, high int) (Range, bool) {
	text, ok := r.scalar(n, what)
	if !ok {
		return Range{}, false
	}
	span, ok := parseRange(text, high)
	if !ok {
		r.wrong(n, "%s is %q; a range such as 0-15 within 0-%d is wanted", what, shorten(text), high)
	}
	return span, ok
}

func parseRange(text string, high int) (Range, bool) {
	lo, hi, two := strings.Cut(text, "-")
	if !two {
		hi = lo
	}
	l, err1 := strconv.Atoi(strings.TrimSpace(lo))
	h, err2 := strconv.Atoi(strings.TrimSpace(hi))
	return Range{Low: l, High: h}, err1 == nil && err2 == nil && l >= 0 && h <= high && l <= h
}
