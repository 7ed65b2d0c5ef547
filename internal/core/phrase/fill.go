package phrase

import (
	"strconv"
	"strings"
	"time"
	"unicode"

	"mellowgate/internal/core/phrase/pattern"
)

// spoken is a word as it is typed; secret is one that is not to be shown.
type spoken struct {
	text   string
	secret bool
	stands string // in the place of the secret
}

// filling fills the holes of patterns with the values of a record.
type filling struct {
	book   *Book
	record *Record
	only   map[string][]Value // values in the place of those of the record
	used   map[string]bool    // the fields that were said
	wrong  string             // why a value has no word
}

func (f *filling) values(field string) []Value {
	if v, ok := f.only[field]; ok {
		return v
	}
	return f.record.Get(field)
}

// fill returns the words of a pattern, false where a hole has no value or the make no word
// for it.
func (f *filling) fill(p pattern.Pattern) (words []spoken, ok bool) {
	for _, e := range p.Elements {
		more, ok := f.element(e)
		if !ok {
			return nil, false
		}
		words = append(words, more...)
	}
	return words, true
}

func (f *filling) element(e pattern.Element) ([]spoken, bool) {
	switch {
	case e.Rest:
		return nil, true
	case e.Any:
		return nil, false
	case e.Literal != "":
		return []spoken{{text: e.Literal}}, true
	case len(e.Parts) > 0:
		return f.parts(e.Parts)
	case e.Unordered:
		var words []spoken
		for _, o := range e.Options {
			words = append(words, f.optional(o)...)
		}
		return words, true
	case e.Optional:
		return f.optional(e.Options[0]), true
	case len(e.Options) > 0:
		return f.alternative(e)
	}
	return f.hole(e)
}

// optional returns the words of a part that is said where all its holes have values.
func (f *filling) optional(p pattern.Pattern) []spoken {
	holes := false
	p.Holes(func(string, string, bool) { holes = true })
	if !holes {
		return nil
	}
	before := len(f.used)
	used := map[string]bool{}
	for field := range f.used {
		used[field] = true
	}
	words, ok := f.fill(p)
	if !ok || len(f.used) == before { // what is said before is not said again
		f.used, f.wrong = used, ""
		return nil
	}
	return words
}

// alternative chooses the words that have the value of the field; without a field the first.
func (f *filling) alternative(e pattern.Element) ([]spoken, bool) {
	for _, o := range e.Options {
		words, ok := f.fill(o)
		if !ok {
			continue
		}
		if e.Hole == "" {
			return words, true
		}
		v, takes := f.book.valueOf(e.Hole, e.As, typedWords(words))
		if wanted := f.values(e.Hole); takes && len(wanted) > 0 && v.Text == wanted[0].Text {
			f.used[e.Hole] = true
			return words, true
		}
	}
	return nil, false
}

func typedWords(words []spoken) (all []string) {
	for _, w := range words {
		all = append(all, w.text)
	}
	return all
}

// parts returns a word with holes in it.
func (f *filling) parts(parts []pattern.Part) ([]spoken, bool) {
	word := spoken{}
	for i, p := range parts {
		if p.Literal != "" {
			word.text, word.stands = word.text+p.Literal, word.stands+p.Literal
			continue
		}
		words, ok := f.hole(pattern.Element{Hole: p.Hole, As: p.As})
		if !ok || len(words) != 1 {
			return nil, false
		}
		text := words[0].text
		if p.Hole == "address" && strings.Contains(text, ":") && i+1 < len(parts) {
			text = "[" + text + "]" // what follows would run into it
		}
		shown := text
		if words[0].secret {
			word.secret, shown = true, words[0].shown()
		}
		word.text, word.stands = word.text+text, word.stands+shown
	}
	return []spoken{word}, true
}

func (f *filling) hole(e pattern.Element) ([]spoken, bool) {
	values := f.values(e.Hole)
	if len(values) == 0 || !e.Many && len(values) > 1 {
		return nil, false
	}
	var words []spoken
	for i, v := range values {
		one, wrong := f.book.wordsOf(e.Hole, e.As, v)
		if wrong != "" {
			f.wrong = wrong
			return nil, false
		}
		switch last := len(words) - 1; {
		case i > 0 && e.Commas:
			words[last].text += ","
		case i > 0 && e.Between != "":
			words = append(words, spoken{text: e.Between})
		}
		words = append(words, one...)
	}
	f.used[e.Hole] = true
	return words, true
}

// wordsOf returns the words of the device for a value of the site; or why it has none.
func (b *Book) wordsOf(field, as string, v Value) (words []spoken, wrong string) {
	if strings.ContainsFunc(v.Text, unicode.IsControl) {
		return nil, "it has a character that would end the line"
	}
	secret := secretFields[field] || v.Secret != Open
	switch t, table := b.types[as], b.tables[as]; {
	case as == "":
		words = []spoken{{v.Text, secret, v.Stands}}
	case table != nil:
		words = b.ofTable(table, v.Text)
	case t == nil || t.time != "":
	case len(t.forms) > 0:
		words = b.ofForms(t, v)
	default:
		if text, found := t.number(v.Text); found {
			words = []spoken{{text: text}}
		} else {
			return nil, "the make says it in steps that do not have this value"
		}
	}
	if words == nil {
		return nil, "the make has no word for it"
	}
	back, ok := b.valueOf(field, as, typedWords(words))
	if !ok || v.Secret != Hidden && !back.equals(v) { // what is said is what is read
		return nil, "the make would say something else"
	}
	return words, ""
}

// ofTable returns the first words of a table that stand for a word of the site.
func (b *Book) ofTable(t *table, text string) []spoken {
	for _, w := range t.words {
		have, fits := wordOfSite(w.site, text)
		if !fits {
			continue
		}
		record := &Record{facts: map[string]*Fact{}}
		for hole, value := range have {
			record.facts[hole] = &Fact{Values: []Value{{Text: value}}}
		}
		f := filling{book: &Book{layout: b.layout}, record: record, used: map[string]bool{}}
		if words, ok := f.fill(w.device); ok {
			return words
		}
	}
	return nil
}

// wordOfSite compares a word of the site with one that may have a hole: "group <group>".
func wordOfSite(pattern, text string) (map[string]string, bool) {
	before, rest, holed := strings.Cut(pattern, "<")
	if !holed {
		return nil, pattern == text
	}
	hole, after, _ := strings.Cut(rest, ">")
	value, starts := strings.CutPrefix(text, before)
	value, ends := strings.CutSuffix(value, after)
	return map[string]string{hole: value}, starts && ends && value != ""
}

// ofForms returns the words of a secret in the first form that has it as it is known.
func (b *Book) ofForms(t *valueType, v Value) []spoken {
	for _, form := range t.forms {
		if form.as != v.Secret {
			continue
		}
		record := &Record{facts: map[string]*Fact{}}
		form.say.Holes(func(hole, _ string, _ bool) { record.facts[hole] = &Fact{Values: []Value{{Text: v.Text}}} })
		f := filling{book: &Book{layout: b.layout}, record: record, used: map[string]bool{}}
		if words, ok := f.fill(form.say); ok && (len(f.used) == 1 || v.Secret == Hidden) {
			for i := range words {
				if words[i].text == v.Text {
					words[i].secret, words[i].stands = true, v.Stands
				}
			}
			return words
		}
	}
	return nil
}

// number returns the number of a device for one of the site, or for a time; false where it has none.
func (t *valueType) number(text string) (string, bool) {
	n, err := strconv.Atoi(text)
	if t.unit > 0 {
		span, bad := time.ParseDuration(text)
		n, err = int(span/t.unit), bad
		if span%t.unit != 0 {
			return "", false
		}
	}
	n -= t.add
	return strconv.Itoa(n), err == nil && n >= 0
}
