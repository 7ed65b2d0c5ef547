package phrase

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"mellowgate/internal/core/phrase/pattern"
)

// A design is said in the words of a make from the same phrases that read them: fill.go fills
// one phrase, this file chooses the phrases, and layout_say.go puts lines together.

// NewRecord returns a record that says these values.
func NewRecord(about About, values map[string][]Value) *Record {
	r := &Record{About: about, facts: map[string]*Fact{}}
	for _, field := range slices.Sorted(maps.Keys(values)) {
		if len(values[field]) > 0 {
			r.facts[field] = &Fact{Field: field, Values: values[field], State: Said}
			r.order = append(r.order, field)
		}
	}
	for _, set := range identity[about] {
		if len(set) > 0 && !slices.ContainsFunc(set, func(f string) bool { return r.first(f) == "" }) {
			r.ID = r.idBy(set)
			break
		}
	}
	return r
}

func (r *Record) idBy(set []string) string {
	var parts []string
	for _, f := range set {
		parts = append(parts, r.first(f))
	}
	return strings.Join(parts, " ")
}

// Sentence is a line that a device is told, with those of its section below it.
type Sentence struct {
	About  About
	Record *Record
	phrase *phrase
	words  []spoken
	says   map[string][]Value // what it says
	Below  []*Sentence
}

// Unsaid is a part of a design that a make has no words for.
type Unsaid struct {
	Record *Record
	Field  string // "" for all of it
	Why    string
}

// String says it.
func (u Unsaid) String() string {
	what := u.Record.String()
	if u.Field != "" {
		what = "the " + u.Field + " of " + what
	}
	return what + ": " + u.Why
}

// Write returns the sentences that say records, in the order of the phrasebook; and what of
// them it cannot say. What holds where no line says it is not said.
func (b *Book) Write(records []*Record) (sentences []*Sentence, left []Unsaid) {
	w := &writing{book: b, records: records, homed: map[*Record]bool{}}
	w.leaveOut()
	for _, about := range aboutOrder {
		for _, r := range records {
			if r.About == about && !w.homed[r] {
				sentences = append(sentences, w.say(r, b.phrases, true)...)
			}
		}
	}
	slices.SortStableFunc(sentences, func(x, y *Sentence) int {
		return cmp.Compare(slices.Index(b.phrases, x.phrase), slices.Index(b.phrases, y.phrase))
	})
	sentences = slices.DeleteFunc(sentences, func(s *Sentence) bool { return s.phrase == nil })
	for _, r := range records {
		left = append(left, w.left(r)...)
	}
	return sentences, left
}

// left returns what was not said of a record.
func (w *writing) left(r *Record) (unsayable []Unsaid) {
	why := ""
	for _, field := range r.order {
		if f := r.facts[field]; f.State != Said || w.said[r][field] || r.identified(field, w.said[r]) {
			continue
		}
		why = cmp.Or(w.why[r][field], why)
		unsayable = append(unsayable, Unsaid{Record: r, Field: field, Why: cmp.Or(w.why[r][field], noWords)})
	}
	if len(w.said[r]) == 0 && len(unsayable) > 1 {
		return []Unsaid{{Record: r, Why: cmp.Or(why, noWords)}}
	}
	return unsayable
}

const noWords = "the phrasebook has no words for it"

type writing struct {
	book    *Book
	records []*Record
	homed   map[*Record]bool // said in the section of another
	said    map[*Record]map[string]bool
	why     map[*Record]map[string]string
}

// identified reports whether a field only tells a record from others that were said.
func (r *Record) identified(field string, said map[string]bool) bool {
	return len(said) > 0 && (field == "name" || field == "mark") || r.About == Device && field == "protocol"
}

// leaveOut marks what holds where no line says it as implied.
func (w *writing) leaveOut() {
	b := w.book
	version := b.given
	device := func(which string) *Record {
		for _, r := range w.records {
			if r.About == Device && r.first("protocol") == which {
				return r
			}
		}
		return nil
	}
	for _, u := range b.defaultRules { // in the order of the book: what one says another may take
		if u.when.bounded() && (version == nil || !u.when.has(version)) {
			continue
		}
		for _, r := range w.records {
			f := r.facts[u.field]
			if r.About != u.about || !u.holdsFor(r) && !(r.About == Device && r.first("protocol") == u.which) {
				continue
			}
			value, known := u.value, true
			if u.from != "" {
				from, field := r, u.from
				if name, ok := strings.CutPrefix(u.from, "device"); ok {
					which, name, _ := strings.Cut(name, ".")
					from, field = device(strings.Trim(which, "[]")), name
				}
				if from == nil || len(from.Get(field)) == 0 {
					known = false
				} else if value = from.first(field); u.plus > 0 {
					n, _ := strconv.Atoi(value)
					value = strconv.Itoa(n + u.plus)
				}
			}
			switch {
			case !known:
			case f == nil && r.About == Device && u.from == "":
				r.facts[u.field] = &Fact{Field: u.field, Values: []Value{{Text: value}}, State: Implied}
				r.order = append(r.order, u.field)
			case f != nil && f.State == Said && len(f.Values) == 1 && f.Values[0].equals(Value{Text: value}):
				f.State = Implied
				if access := r.facts["access"]; u.about == Way && u.field == "state" && value == "off" &&
					access != nil {
					access.State = Implied // a line that speaks of it would open it
				}
			}
		}
	}
}

// say returns the sentences for a record: those that say most come first, and then the
// order is that of the book.
func (w *writing) say(r *Record, phrases []*phrase, top bool) []*Sentence {
	var sentences []*Sentence
	if w.said == nil {
		w.said, w.why = map[*Record]map[string]bool{}, map[*Record]map[string]string{}
	}
	if w.said[r] == nil {
		w.said[r], w.why[r] = map[string]bool{}, map[string]string{}
	}
	for {
		var best []*Sentence
		gain := 0
		var covers map[string]bool
		for _, p := range phrases {
			if p.about != r.About || top != p.own || !w.speaks(p) {
				continue
			}
			one, said := w.sentence(p, r)
			if n := len(said); one != nil && (n > gain || n == gain && n > 0 &&
				len(p.where) > len(best[0].phrase.where)) {
				best = one
				gain = n
				covers = said
			}
		}
		if gain == 0 {
			return sentences
		}
		for field := range covers {
			w.said[r][field] = true
		}
		for _, s := range best {
			s.settle(w)
		}
		sentences = append(sentences, best...)
	}
}

// speaks reports whether a phrase is of the version that is given.
func (w *writing) speaks(p *phrase) bool {
	return !p.when.bounded() || w.book.given != nil && p.when.has(w.book.given)
}

// settle notes what is said below a sentence.
func (s *Sentence) settle(w *writing) {
	for _, below := range s.Below {
		if below.Record != s.Record {
			w.homed[below.Record] = true
			if w.said[below.Record] == nil {
				w.said[below.Record], w.why[below.Record] = map[string]bool{}, map[string]string{}
			}
		}
		for field := range below.says {
			w.said[below.Record][field] = true
		}
		below.settle(w)
	}
}

// sentence returns what a phrase says of a record, one sentence or one for each of several
// values, and the fields that are said by it and were not before.
func (w *writing) sentence(p *phrase, r *Record) (sentences []*Sentence, gained map[string]bool) {
	for field, wanted := range p.where {
		if v := r.first(field); !slices.Contains(wanted, v) || len(r.Get(field)) > 1 {
			return nil, nil
		}
	}
	gained = map[string]bool{}
	gain := func(field string) {
		names := r.About == Device && field == "protocol" // which servers it is for says nothing of them
		if f := r.facts[field]; f != nil && f.State == Said && !w.said[r][field] && !names {
			gained[field] = true
		}
	}
	if p.about == Way && (len(p.lists) > 0 || p.has("purpose") && p.has("list")) {
		return w.bound(p, r)
	}
	several, many := w.several(p, r)
	for i := range max(1, many) {
		f := &filling{book: w.book, record: r, used: map[string]bool{}, only: map[string][]Value{}}
		if several != "" {
			index := i
			if p.order == lastFirst {
				index = many - 1 - i
			}
			f.only[several] = r.Get(several)[index : index+1]
			if p.order == byMark {
				f.only["mark"] = []Value{{Text: strconv.Itoa(r.mark(several, index))}}
			}
		}
		for _, field := range p.leaves(r) {
			f.only[field] = nil
		}
		words, ok := f.fill(p.typed())
		if !ok && len(p.types.Elements) > 0 { // what the device shows says what cannot be typed
			f.used = map[string]bool{}
			words, ok = f.fill(p.say)
		}
		if !ok {
			if f.wrong != "" {
				p.say.Holes(func(hole, _ string, _ bool) {
					if w.why[r] != nil && r.facts[hole] != nil && !f.used[hole] {
						w.why[r][hole] = f.wrong
					}
				})
			}
			return nil, nil
		}
		s := &Sentence{About: p.about, Record: r, phrase: p, words: words, says: map[string][]Value{}}
		for field := range f.used {
			s.says[field] = f.values(field)
			gain(field)
		}
		for field := range p.where {
			s.says[field] = r.Get(field)
			gain(field)
		}
		sentences = append(sentences, s)
	}
	if len(p.below) > 0 {
		sentences[0].Below = w.below(p, r, gained)
	}
	return sentences, gained
}

// bound returns the sentences that give a way its lists: one for each purpose, or one with
// the methods for the purposes of the phrase.
func (w *writing) bound(p *phrase, r *Record) (sentences []*Sentence, gained map[string]bool) {
	gained = map[string]bool{}
	if len(p.lists) > 0 {
		methods := r.Get(Inline(p.lists[0]))
		for _, purpose := range p.lists {
			own := r.Get(Inline(purpose))
			if len(methods) == 0 || !slices.Equal(own, methods) {
				return nil, nil
			}
			if !w.said[r][Inline(purpose)] {
				gained[Inline(purpose)] = true
			}
		}
		f := &filling{book: w.book, record: r, used: map[string]bool{}, only: map[string][]Value{"methods": methods}}
		words, ok := f.fill(p.typed())
		if !ok {
			return nil, nil
		}
		says := map[string][]Value{"methods": methods}
		for field := range gained {
			says[field] = methods
		}
		return []*Sentence{{About: p.about, Record: r, phrase: p, words: words, says: says}}, gained
	}
	for _, purpose := range purposes() {
		if r.first(purpose) == "" || w.said[r][purpose] {
			continue
		}
		f := &filling{book: w.book, record: r, used: map[string]bool{}, only: map[string][]Value{
			"purpose": {{Text: purpose}}, "list": r.Get(purpose)}}
		if words, ok := f.fill(p.typed()); ok {
			gained[purpose] = true
			sentences = append(sentences, &Sentence{About: p.about, Record: r, phrase: p, words: words,
				says: map[string][]Value{purpose: r.Get(purpose)}})
		}
	}
	return sentences, gained
}

// Inline is the field of a way with the methods of a list that has no name and stands in its
// own section.
func Inline(purpose string) string { return "methods for " + purpose }

// has reports whether a field is a hole of a phrase.
func (p *phrase) has(field string) (found bool) {
	p.say.Holes(func(hole, _ string, _ bool) { found = found || hole == field })
	return found
}

// leaves returns the fields of a phrase's optional parts that need not be said.
func (p *phrase) leaves(r *Record) (fields []string) {
	for _, e := range p.say.Elements {
		if !e.Optional && !e.Unordered {
			continue
		}
		for _, o := range e.Options {
			o.Holes(func(hole, _ string, _ bool) {
				if f := r.facts[hole]; f != nil && f.State != Said {
					fields = append(fields, hole)
				}
			})
		}
	}
	return fields
}

// typed returns the pattern that is typed where it differs from what is shown.
func (p *phrase) typed() pattern.Pattern {
	if len(p.types.Elements) > 0 {
		return p.types
	}
	return p.say
}

// several returns the field of which a phrase says one value a line, and how many it has; ""
// for none.
func (w *writing) several(p *phrase, r *Record) (field string, n int) {
	p.say.Holes(func(hole, _ string, many bool) {
		if fields[r.About][hole] && (!many || p.order == byMark) && len(r.Get(hole)) > 0 {
			field, n = hole, len(r.Get(hole))
		}
	})
	return field, n
}

// mark returns the number of one of several values: its own, or ten, twenty and so on.
func (r *Record) mark(field string, index int) int {
	if f := r.facts[field]; f != nil && index < len(f.marks) {
		return f.marks[index]
	}
	return 10 * (index + 1)
}

// below returns what stands in the section of a phrase.
func (w *writing) below(p *phrase, r *Record, gained map[string]bool) (sentences []*Sentence) {
	inner := &writing{book: w.book, records: w.records, homed: map[*Record]bool{},
		said: map[*Record]map[string]bool{r: maps.Clone(gained)}, why: map[*Record]map[string]string{r: {}}}
	for field := range w.said[r] {
		inner.said[r][field] = true
	}
	sentences = inner.say(r, p.below, false)
	for field := range inner.said[r] {
		if !w.said[r][field] {
			gained[field] = true
		}
	}
	for field, why := range inner.why[r] {
		if w.why[r] != nil {
			w.why[r][field] = why
		}
	}
	for _, q := range p.below {
		if q.about != Server || !q.own || r.About != Group {
			continue
		}
		members := slices.Clone(r.Get("servers"))
		if q.order == lastFirst {
			slices.Reverse(members)
		}
		for _, m := range members {
			index := slices.IndexFunc(w.records, func(o *Record) bool { return o.About == Server && o.ID == m.Text })
			if index < 0 {
				continue
			}
			if one, _ := inner.sentence(q, w.records[index]); one != nil {
				sentences = append(sentences, one...)
				if !w.said[r]["servers"] {
					gained["servers"] = true
				}
				if w.records[index].first("protocol") == r.first("protocol") {
					one[0].says["protocol"] = r.Get("protocol")
				}
			}
		}
	}
	slices.SortStableFunc(sentences, func(x, y *Sentence) int {
		return cmp.Compare(slices.Index(p.below, x.phrase), slices.Index(p.below, y.phrase))
	})
	return sentences
}

// Shown returns the line without the secrets in it.
func (s *Sentence) Shown() string {
	words := slices.Clone(s.words)
	for i := range words {
		if words[i].secret {
			words[i].text = words[i].shown()
		}
	}
	return strings.Join(typedWords(words), " ")
}

// String says what a sentence is.
func (s *Sentence) String() string { return fmt.Sprintf("%s: %s", s.Record, s.Shown()) }
