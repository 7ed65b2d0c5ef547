package phrase

import (
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"mellowgate/internal/core/phrase/pattern"
)

// read returns the values that a phrase has in a statement, by field; false where it does
// not read it. A condition must hold of the values, or of the record that the section is
// about.
func (b *Book) read(p *phrase, words []string, above *Record) (map[string][]Value, bool) {
	have, fits := b.match(p.say, words)
	if !fits && len(p.types.Elements) > 0 {
		have, fits = b.match(p.types, words)
	}
	if !fits {
		return nil, false
	}
	values := map[string][]Value{}
	for _, h := range have {
		if h.Hole == "" {
			continue
		}
		many := fields[p.about][h.Hole] && h.Many
		for _, group := range b.grouped(h, many) {
			v, ok := b.valueOf(h.Hole, h.As, group)
			if !ok {
				return nil, false
			}
			values[h.Hole] = append(values[h.Hole], v)
		}
	}
	for field, wanted := range p.where {
		got := values[field]
		if got == nil && above != nil && above.About == p.about {
			got = above.Get(field)
		}
		if len(got) > 0 && !slices.Contains(wanted, got[0].Text) {
			return nil, false
		}
		if len(got) == 0 {
			values[field] = []Value{{Text: wanted[0]}}
		}
	}
	return values, true
}

// valueOf returns the site's value of a field for words of a device; false where they are
// none.
func (b *Book) valueOf(field, as string, words []string) (Value, bool) {
	v, ok := b.value(as, words)
	switch {
	case !ok:
		return v, false
	case secretFields[field] && v.Secret == Open:
		v.Secret = Clear
	case numeric[field]:
		return v, number(v.Text)
	case field == "address":
		v.Text, ok = address(v.Text)
	}
	return v, ok
}

// grouped parts the words of a hole into values: those of several values take as many
// words as each has.
func (b *Book) grouped(h pattern.Bound, many bool) [][]string {
	if !many {
		return [][]string{h.Words}
	}
	if h.Values != nil {
		return h.Values
	}
	var values [][]string
	for index := 0; index < len(h.Words); {
		to := min(len(h.Words), index+b.longest(h.As))
		for to > index+1 && !b.takes(h.As, h.Words[index:to]) {
			to--
		}
		values, index = append(values, h.Words[index:to]), to
	}
	return values
}

func number(text string) bool {
	_, err := strconv.ParseUint(text, 10, 32)
	return err == nil
}

// address returns an address in its usual form, without the length of its network, or a name
// of a host as it is; false for what is neither.
func address(text string) (string, bool) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Addr().String(), true
	}
	if a, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return a.String(), true
	}
	return text, !strings.ContainsAny(text, ":/=[]") &&
		strings.ContainsFunc(text, func(c rune) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' })
}

// take keeps what a phrase said, and returns it in words.
func (r *parser) take(p *phrase, have map[string][]Value, s statement, above *Record) (string, *Record) {
	var said []string
	record := above
	if p.about == List && len(p.lists) > 0 { // one line, a list for each of its purposes
		for i, purpose := range p.lists {
			one, same := *p, maps.Clone(have)
			one.lists, one.where = nil, maps.Clone(p.where)
			one.where["purpose"], same["purpose"] = []string{purpose}, []Value{{Text: purpose}}
			means, of := r.take(&one, same, s, above)
			if i == 0 {
				record = of
			}
			said = append(said, means)
		}
		return strings.Join(said, "; "), record
	}
	if above == nil || p.own {
		record = r.record(p, have, s.line)
	}
	if s.taken {
		if record.Line == s.line {
			r.note(s.line, "it takes back %s, of which no line before it speaks", record)
		}
		return r.takeBack(p, have, record, above), record
	}
	if above != nil && above.About == Group && record.About == Server {
		r.set(above, "servers", []Value{{Text: record.ID}}, p, have, s.line)
	}
	switch {
	case (p.about == Way || p.about == Template) && have["purpose"] != nil && have["list"] != nil:
		have = r.held(p, have, record)
	case p.about == Way && have["methods"] != nil:
		for _, purpose := range p.lists {
			list := r.find(List, "of "+record.ID+" "+purpose, s.line)
			r.set(list, "purpose", []Value{{Text: purpose}}, p, have, s.line)
			r.set(list, "methods", have["methods"], p, have, s.line)
			r.set(record, purpose, []Value{{Text: OwnList}}, p, have, s.line)
		}
		return r.means(record, map[string][]Value{"methods": have["methods"]}), record
	}
	var names []string
	for field := range have {
		names = append(names, field)
	}
	slices.Sort(names)
	for _, field := range names {
		if field == "mark" && record.About == List {
			continue
		}
		r.set(record, field, have[field], p, have, s.line)
	}
	return r.means(record, have), record
}

// held are the values of a phrase by the fields in which the record has them: a way has its list
// by the purpose.
func (r *parser) held(p *phrase, have map[string][]Value, record *Record) map[string][]Value {
	have = maps.Clone(have)
	switch {
	case (p.about == Way || p.about == Template) && have["purpose"] != nil && have["list"] != nil:
		have[have["purpose"][0].Text] = have["list"]
		delete(have, "purpose")
		delete(have, "list")
	case p.about == Way && have["methods"] != nil:
		for _, purpose := range p.lists {
			have[purpose] = []Value{{Text: OwnList}}
			if list := r.known(List, "of "+record.ID+" "+purpose); list != nil && have["methods"] != nil {
				list.drop("methods", have["methods"], 0)
				if list.Get("methods") != nil { // others are left: the way still has a list of its own
					delete(have, purpose)
				} else {
					r.forget(list)
				}
			}
		}
	}
	return have
}

// forget takes a record out of the text.
func (r *parser) forget(record *Record) {
	r.text.Records = slices.DeleteFunc(r.text.Records, func(o *Record) bool { return o == record })
	delete(r.index, r.key(record.About, record.ID))
}

// takeBack takes back what a statement says: of several values the one that it names.
func (r *parser) takeBack(p *phrase, have map[string][]Value, record, above *Record) string {
	ids := identified(p)
	for field := range p.where { // what holds because of this phrase, and is no condition of it
		if f := record.facts[field]; f != nil && f.from == p && have[field] == nil {
			have = maps.Clone(have)
			have[field] = f.Values
		}
	}
	for field, values := range r.held(p, have, record) {
		if !slices.Contains(ids, field) && !record.alsoSaid(field, p.markOf(have)) {
			record.drop(field, values, p.markOf(have))
		}
	}
	left := slices.ContainsFunc(record.order, func(f string) bool {
		return record.facts[f] != nil && !slices.Contains(ids, f) && p.where[f] == nil
	})
	if p.about != Device && p.own && (!left || len(p.below) > 0) {
		r.forget(record)
		if above != nil && above.About == Group && record.About == Server {
			above.drop("servers", []Value{{Text: record.ID}}, 0)
		}
	}
	return "taken back: " + r.means(record, have)
}

// record returns the record that the values of a phrase tell.
func (r *parser) record(p *phrase, have map[string][]Value, line int) *Record {
	var parts []string
	for _, f := range identified(p) {
		if v := have[f]; len(v) > 0 {
			parts = append(parts, v[0].Text)
		}
	}
	return r.find(p.about, strings.Join(parts, " "), line)
}

func (r *parser) find(about About, id string, line int) *Record {
	if known := r.known(about, id); known != nil {
		return known
	}
	record := &Record{About: about, ID: id, Line: line, facts: map[string]*Fact{}}
	r.index[r.key(about, id)] = record
	r.text.Records = append(r.text.Records, record)
	for _, w := range strings.Fields(id) {
		r.names[r.book.layout.folded(w)] = true
	}
	return record
}

// set keeps the values of a field.
func (r *parser) set(record *Record, field string, values []Value, p *phrase, have map[string][]Value, line int) {
	defer func() {
		if p != nil {
			record.facts[field].from = p
		}
		if m := p.markOf(have); m > 0 && !fields[record.About][field] {
			if f := record.facts[field]; f.by == nil || f.Values[0].Text != values[0].Text {
				f.by = map[int]bool{}
			}
			record.facts[field].by[m] = true
		}
	}()
	f := record.facts[field]
	if f == nil {
		f = &Fact{Field: field, State: Said, Line: line}
		record.facts[field] = f
		if !slices.Contains(record.order, field) {
			record.order = append(record.order, field)
		}
	} else if p.again == againReplaces {
		f.Values = nil
		f.marks = nil
		f.lines = nil
		f.Line = line
	} else if !fields[record.About][field] {
		if f.Values[0] == values[0] {
			return
		}
		if f.Values[0].Text != values[0].Text {
			r.note(line, "the %s of %s is said before, in line %d, as something else; the last one holds", field,
				record.String(), f.Line)
		}
		f.Values, f.Line = values, line
		return
	}
	mark := p.markOf(have)
	for _, v := range values {
		if p.order == lastFirst {
			f.Values, f.marks = slices.Insert(f.Values, 0, v), slices.Insert(f.marks, 0, mark)
			f.lines = slices.Insert(f.lines, 0, line)
			continue
		}
		index := len(f.Values)
		for index > 0 && f.marks[index-1] > mark {
			index--
		}
		f.Values, f.marks = slices.Insert(f.Values, index, v), slices.Insert(f.marks, index, mark)
		f.lines = slices.Insert(f.lines, index, line)
	}
}

// markOf returns the number of a line, where values are ordered by it; 0 for none.
func (p *phrase) markOf(have map[string][]Value) int {
	if m := have["mark"]; p.order == byMark && m != nil {
		n, _ := strconv.Atoi(m[0].Text)
		return n
	}
	return 0
}

// means says what a statement says, in the words of the site.
func (r *parser) means(record *Record, have map[string][]Value) string {
	if r.each == nil { // nobody asks
		return ""
	}
	var names, parts []string
	for field := range have {
		names = append(names, field)
	}
	slices.Sort(names)
	for _, field := range names {
		text := valuesText(have[field])
		if field == "mark" || strings.Contains(" "+record.ID+" ", " "+text+" ") {
			continue
		}
		parts = append(parts, field+" "+text)
	}
	if len(parts) == 0 {
		return record.String()
	}
	return record.String() + ": " + strings.Join(parts, ", ")
}

// known returns the record of a name, nil for none.
func (r *parser) known(about About, id string) *Record { return r.index[r.key(about, id)] }

func (r *parser) key(about About, id string) string {
	return string(about) + "\x00" + r.book.layout.folded(id)
}
