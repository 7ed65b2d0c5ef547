package phrase

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"mellowgate/internal/core/nearest"
)

// State says how a fact is known.
type State string

// The states of a fact.
const (
	Said    State = "said"
	Implied State = "implied" // no line says it: the phrasebook says what holds then
)

// Fact is a field of a record, with the line that says it.
type Fact struct {
	Field  string
	Values []Value
	State  State
	Line   int // 0 where no line says it
	marks  []int
}

// Record is a server, group, list, way in, account, or the device itself, as a text says it.
type Record struct {
	About About
	ID    string // what tells it from others of its kind, as it can be shown
	Line  int    // the first that speaks of it, 0 for none
	facts map[string]*Fact
	order []string
}

// Facts returns what is known of a record, in the order in which it was said.
func (r *Record) Facts() []Fact {
	var all []Fact
	for _, field := range r.order {
		if f := r.facts[field]; f != nil {
			all = append(all, *f)
		}
	}
	return all
}

// Get returns the values of a field, nil for none.
func (r *Record) Get(field string) []Value {
	if f := r.facts[field]; f != nil {
		return f.Values
	}
	return nil
}

func (r *Record) first(field string) string {
	if all := r.Get(field); len(all) > 0 {
		return all[0].Text
	}
	return ""
}

// Kind is what became of a line.
type Kind string

// What becomes of a line.
const (
	Understood    Kind = "understood"
	PassedOver    Kind = "passed over"    // ours, and of no concern: the phrasebook says so
	NotUnderstood Kind = "not understood" // ours, and no phrase reads it
	Elsewhere     Kind = "not ours"       // no line of the territory
)

// Line is a statement of a text, and what became of it. Text has no secret and no word that
// might be one.
type Line struct {
	Number int
	Kind   Kind
	Text   string
	Means  string // what it says, of what; or why it was not understood
}

// Text is what a text says.
type Text struct {
	Records []*Record
	Notes   []Note
	Lines   int
	Counts  map[Kind]int
	Whole   bool // the text is whole, and every line of ours was read: what is unsaid can be known
}

// Note is something about the text that its reader should know.
type Note struct {
	Line int // 0 for the whole text
	What string
}

// longestLine bounds a line of a text, in octets.
const longestLine = 1 << 20

// Read reads a text by the phrasebook, and calls each, if there is one, for every
// statement as it comes. It keeps the facts and no more than one line. The error is that
// of the reader, or of a line over a million octets.
func (b *Book) Read(text io.Reader, each func(Line)) (*Text, error) {
	r := &reading{book: b, text: &Text{Counts: map[Kind]int{}}, index: map[string]*Record{}, each: each,
		names: map[string]bool{}}
	r.lines = &lines{layout: b.layout, book: b}
	scan := bufio.NewScanner(text)
	scan.Buffer(make([]byte, 0, 64<<10), longestLine)
	for scan.Scan() {
		r.line(scan.Text())
	}
	if err := scan.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			return nil, fmt.Errorf("line %d has more than a million octets: this is no configuration", r.lines.line+1)
		}
		return nil, err
	}
	r.finish()
	return r.text, nil
}

type reading struct {
	book  *Book
	text  *Text
	lines *lines
	open  []scope
	index map[string]*Record
	names map[string]bool // identities, folded: they are no secrets
	each  func(Line)
	ended bool // the last line of a whole text was seen
	after bool // and there was more
}

// scope is a section that is open.
type scope struct {
	depth  int
	kind   Kind
	phrase *phrase
	record *Record
}

func (r *reading) note(line int, format string, args ...any) {
	r.text.Notes = append(r.text.Notes, Note{Line: line, What: fmt.Sprintf(format, args...)})
}

// line reads one line.
func (r *reading) line(text string) {
	text = strings.TrimSuffix(text, "\r")
	if r.lines.line == 0 {
		text = strings.TrimPrefix(text, "\ufeff")
	}
	r.text.Lines++
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		r.lines.line++
		r.text.Counts[NotUnderstood]++
		r.seen(Line{Number: r.lines.line, Kind: NotUnderstood, Means: "it is not UTF-8 text: save it in that encoding"})
		return
	}
	clean, bad := erased(text)
	if bad {
		r.lines.line++
		r.text.Counts[NotUnderstood]++
		r.seen(Line{Number: r.lines.line, Kind: NotUnderstood, Means: "it has control characters"})
		return
	}
	for _, s := range r.lines.next(clean) {
		r.statement(s)
	}
}

// erased applies the backspaces that page breaks leave behind, and reports whether there
// are control characters besides.
func erased(text string) (string, bool) {
	if !strings.ContainsFunc(text, func(c rune) bool { return c < ' ' && c != '\t' || c == 0x7f }) {
		return text, false
	}
	var out []rune
	for _, c := range text {
		switch {
		case c == '\b' || c == 0x7f:
			out = out[:max(0, len(out)-1)]
		case c == '\r': // the line is written anew
			out = out[:0]
		case c < ' ' && c != '\t':
			return "", true
		default:
			out = append(out, c)
		}
	}
	return string(out), false
}

func (r *reading) seen(l Line) {
	if r.each != nil {
		r.each(l)
	}
}

// statement reads one statement in the section that it stands in.
func (r *reading) statement(s statement) {
	for len(r.open) > 0 && r.open[len(r.open)-1].depth >= s.depth {
		r.open = r.open[:len(r.open)-1]
	}
	var above *scope
	if len(r.open) > 0 {
		above = &r.open[len(r.open)-1]
	}
	out := Line{Number: s.line}
	next := scope{depth: s.depth}
	var secrets []string
	if r.ended && !r.after {
		r.after = true
		r.note(s.line, "the text goes on after its end: it may be of two devices; give one at a time")
	}
	switch {
	case len(r.book.layout.end.elements) > 0 && above == nil && r.book.fits(r.book.layout.end, s.words):
		r.ended = true
		out.Kind = Understood
		out.Means = "the end of the text"
	case above != nil && above.kind != Understood:
		out.Kind, out.Means = above.kind, "in a section that was "+string(above.kind)
	default:
		out.Kind, out.Means, secrets = r.phrase(s, above, &next)
	}
	next.kind = out.Kind
	if out.Kind == Elsewhere {
		out.Means = ""
	}
	out.Text = r.shown(s, out.Kind, secrets)
	r.text.Counts[out.Kind]++
	r.seen(out)
	if s.opens || next.phrase != nil && len(next.phrase.below) > 0 || r.opensUnread(s, next) {
		r.open = append(r.open, next)
		r.lines.opened()
		return
	}
	if r.book.layout.sections == byIndent || r.book.layout.sections == byFields && s.depth == 0 {
		r.open = append(r.open, next)
	}
}

// opensUnread reports whether a line that no phrase reads opens a section.
func (r *reading) opensUnread(s statement, n scope) bool {
	return n.phrase == nil && slices.ContainsFunc(r.book.layout.opens,
		func(p pattern) bool { return r.book.fits(p, s.words) })
}

// fits reports whether all the words of a statement are a pattern.
func (b *Book) fits(p pattern, words []string) bool {
	_, is := b.match(p, words)
	return is
}

// phrase finds the phrase that reads a statement, takes what it says, and returns the
// words of it that are secret.
func (r *reading) phrase(s statement, above, here *scope) (Kind, string, []string) {
	candidates, record := r.book.phrases, (*Record)(nil)
	if above != nil {
		candidates, record = above.phrase.below, above.record
	}
	var have map[string][]Value
	for _, p := range candidates {
		values, fits := r.book.read(p, s.words, record)
		switch {
		case !fits:
			continue
		case here.phrase != nil:
			both := fmt.Sprintf("two phrases read it: %s and %s", here.phrase.text, p.text)
			here.phrase = nil
			return NotUnderstood, both, nil
		}
		here.phrase, have = p, values
	}
	if p := here.phrase; p != nil {
		p.used++
		means := ""
		means, here.record = r.take(p, have, s, record)
		return Understood, means, r.book.secretWords(p, s.words)
	}
	begins := func(p pattern) bool { return r.book.begins(p, s.words) }
	switch {
	case slices.ContainsFunc(r.book.pass, begins):
		return PassedOver, "the phrasebook passes over it", nil
	case above != nil:
		return NotUnderstood, fmt.Sprintf("no phrase below %q reads it", above.phrase.text) + r.slip(s), nil
	case slices.ContainsFunc(r.book.territory, begins):
		return NotUnderstood, "no phrase reads it" + r.slip(s), nil
	}
	return Elsewhere, "", nil
}

// slip suggests the word of the phrasebook that the first unknown word of a statement may be
// a slip of.
func (r *reading) slip(s statement) string {
	for _, w := range s.words {
		low := r.book.layout.folded(w)
		if r.book.telling[low] {
			break
		}
		if r.book.known[low] || r.names[low] {
			continue
		}
		if hint := nearest.Suggest(low, r.book.literals); hint != "" {
			return hint
		}
	}
	return ""
}

// secretWords returns the words of a statement that a phrase reads as a secret.
func (b *Book) secretWords(p *phrase, words []string) (all []string) {
	have, _ := b.match(p.say, words)
	for _, h := range have {
		if secretFields[h.hole] {
			all = append(all, h.words...)
		}
	}
	return all
}

// read returns the values that a phrase has in a statement, by field; false where it does
// not read it. A condition must hold of the values, or of the record that the section is
// about.
func (b *Book) read(p *phrase, words []string, above *Record) (map[string][]Value, bool) {
	have, fits := b.match(p.say, words)
	if !fits {
		return nil, false
	}
	values := map[string][]Value{}
	for _, h := range have {
		if h.hole == "" {
			continue
		}
		many := fields[p.about][h.hole] && h.many
		for _, group := range b.grouped(h, many) {
			v, ok := b.value(h.as, group)
			if !ok {
				return nil, false
			}
			if secretFields[h.hole] && v.Secret == Open {
				v.Secret = Clear
			}
			if numeric[h.hole] && !number(v.Text) || h.hole == "address" && !address(v.Text) {
				return nil, false
			}
			values[h.hole] = append(values[h.hole], v)
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

// grouped parts the words of a hole into values: those of several values take as many
// words as each has.
func (b *Book) grouped(h bound, many bool) [][]string {
	if !many {
		return [][]string{h.words}
	}
	var all [][]string
	for at := 0; at < len(h.words); {
		to := min(len(h.words), at+b.longest(h.as))
		for to > at+1 && !b.takes(h.as, h.words[at:to]) {
			to--
		}
		all, at = append(all, h.words[at:to]), to
	}
	return all
}

func number(text string) bool {
	_, err := strconv.ParseUint(text, 10, 32)
	return err == nil
}

// address reports whether a text is an address, or a name of a host.
func address(text string) bool {
	if _, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return true
	}
	return strings.ContainsFunc(text, func(c rune) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }) &&
		!strings.ContainsAny(text, ":/=")
}

// take keeps what a phrase said, and returns it in words.
func (r *reading) take(p *phrase, have map[string][]Value, s statement, above *Record) (string, *Record) {
	record := above
	if above == nil || p.own {
		record = r.record(p, have, s.line)
	}
	if s.taken {
		if record.Line == s.line {
			r.note(s.line, "it takes back %s, of which no line before it speaks", record)
		}
		return r.takeBack(p, have, record), record
	}
	if above != nil && above.About == Group && record.About == Server {
		r.set(above, "servers", []Value{{Text: record.ID}}, p, have, s.line)
	}
	switch {
	case p.about == Way && have["purpose"] != nil && have["list"] != nil:
		have = map[string][]Value{have["purpose"][0].Text: have["list"]}
	case p.about == Way && have["methods"] != nil:
		for _, purpose := range p.lists {
			list := r.find(List, "of "+record.ID+" "+purpose, s.line)
			r.set(list, "purpose", []Value{{Text: purpose}}, p, have, s.line)
			r.set(list, "methods", have["methods"], p, have, s.line)
			r.set(record, purpose, []Value{{Text: ownList}}, p, have, s.line)
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

// takeBack takes back what a statement says.
func (r *reading) takeBack(p *phrase, have map[string][]Value, record *Record) string {
	ids := identified(p)
	for field := range have {
		if !slices.Contains(ids, field) && p.where[field] == nil {
			delete(record.facts, field)
		}
	}
	left := slices.ContainsFunc(record.order, func(f string) bool {
		return record.facts[f] != nil && !slices.Contains(ids, f) && p.where[f] == nil
	})
	if (!left || len(p.below) > 0) && p.about != Device {
		r.text.Records = slices.DeleteFunc(r.text.Records, func(o *Record) bool { return o == record })
		delete(r.index, r.key(record.About, record.ID))
	}
	return "taken back: " + r.means(record, have)
}

// record returns the record that the values of a phrase tell.
func (r *reading) record(p *phrase, have map[string][]Value, line int) *Record {
	var parts []string
	for _, f := range identified(p) {
		if v := have[f]; len(v) > 0 {
			parts = append(parts, v[0].Text)
		}
	}
	return r.find(p.about, strings.Join(parts, " "), line)
}

func (r *reading) find(about About, id string, line int) *Record {
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
func (r *reading) set(record *Record, field string, values []Value, p *phrase, have map[string][]Value, line int) {
	f := record.facts[field]
	if f == nil {
		f = &Fact{Field: field, State: Said, Line: line}
		record.facts[field] = f
		if !slices.Contains(record.order, field) {
			record.order = append(record.order, field)
		}
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
	mark := 0
	if m := have["mark"]; p.order == byMark && m != nil {
		mark, _ = strconv.Atoi(m[0].Text)
	}
	for _, v := range values {
		if p.order == lastFirst {
			f.Values, f.marks = slices.Insert(f.Values, 0, v), slices.Insert(f.marks, 0, mark)
			continue
		}
		at := len(f.Values)
		for at > 0 && f.marks[at-1] > mark {
			at--
		}
		f.Values, f.marks = slices.Insert(f.Values, at, v), slices.Insert(f.marks, at, mark)
	}
}

// String names the record.
func (r *Record) String() string {
	if r.ID == "" {
		return "the " + string(r.About)
	}
	if at := strings.LastIndexByte(r.ID, ' '); r.About == List && at > 0 {
		return r.ID[at+1:] + " list " + r.ID[:at]
	}
	return string(r.About) + " " + r.ID
}

// Identifies reports whether a field is part of what tells the record from others, which
// String says.
func (r *Record) Identifies(field string) bool {
	return field == "mark" || slices.ContainsFunc(identity[r.About],
		func(set []string) bool {
			return slices.Contains(set, field) && field != "address" && field != "protocol"
		})
}

// means says what a statement says, in the words of the site.
func (r *reading) means(record *Record, have map[string][]Value) string {
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

func valuesText(all []Value) string {
	var out []string
	for _, v := range all {
		out = append(out, v.String())
	}
	return strings.Join(out, ", then ")
}

// String returns the values as they can be shown.
func (f Fact) String() string { return valuesText(f.Values) }

// shown returns a statement with nothing in it that might be a secret. Of a line that was
// understood it is known what is secret; of another, only the words that the phrasebook
// has, names that are known, addresses and small numbers are shown, and nothing after a
// word that a secret may follow.
func (r *reading) shown(s statement, kind Kind, secrets []string) string {
	if kind == Elsewhere {
		return ""
	}
	var out []string
	if s.taken {
		out = append(out, r.book.layout.takeBack)
	}
	telling := false
	for _, w := range s.words {
		low := r.book.layout.folded(w)
		_, notAddress := netip.ParseAddr(w)
		hidden := slices.Contains(secrets, w)
		if kind != Understood {
			hidden = telling || !r.book.known[low] && !r.names[low] && notAddress != nil && !(number(w) && len(w) <= 3)
			telling = telling || r.book.telling[low]
		}
		if hidden {
			w = "…"
			if n := len(out); n > 0 && out[n-1] == "…" {
				continue
			}
		}
		out = append(out, w)
	}
	return strings.Join(out, " ")
}

// finish fills in what no line says, and checks that every name leads somewhere.
func (r *reading) finish() {
	t := r.text
	t.Whole = t.Counts[NotUnderstood] == 0 && !r.after
	switch {
	case len(r.book.layout.end.elements) > 0 && !r.ended:
		t.Whole = false
		r.note(0, "the end of the text (%s) was not seen: it may be cut off, so nothing follows from what it does "+
			"not say", r.book.layout.end.text)
	case t.Counts[NotUnderstood] > 0:
		r.note(0, "some lines were not understood, so nothing follows from what the text does not say")
	}
	if len(t.Records) == 0 && t.Counts[NotUnderstood] == 0 {
		r.note(0, "no line of it is of the territory: it may be of another make than %s", r.book.Make)
	}
	if t.Whole {
		r.implied()
	}
	r.protocols()
	r.lead()
	slices.SortStableFunc(t.Records, func(a, b *Record) int {
		return cmp.Compare(slices.Index(aboutOrder, a.About), slices.Index(aboutOrder, b.About))
	})
}

var aboutOrder = []About{Device, Server, Group, List, Way, Account}

// protocols gives a group the protocol of its servers, where they have one.
func (r *reading) protocols() {
	for _, g := range r.text.Records {
		if g.About != Group || g.facts["protocol"] != nil {
			continue
		}
		one := ""
		for _, s := range g.Get("servers") {
			if server := r.known(Server, s.Text); server != nil {
				p := server.first("protocol")
				if one != "" && p != one {
					r.note(g.Line, "%s has servers of two protocols, %s and %s", g, one, p)
				}
				one = p
			}
		}
		if one != "" {
			g.facts["protocol"] = &Fact{Field: "protocol", Values: []Value{{Text: one}}, State: Implied}
			g.order = append(g.order, "protocol")
		}
	}
}

// known returns the record of a name, nil for none.
func (r *reading) known(about About, id string) *Record { return r.index[r.key(about, id)] }

func (r *reading) key(about About, id string) string {
	return string(about) + "\x00" + r.book.layout.folded(id)
}

// lead notes the names that lead nowhere.
func (r *reading) lead() {
	names := map[About][]string{}
	for _, o := range r.text.Records {
		names[o.About] = append(names[o.About], o.ID)
	}
	check := func(from *Record, f *Fact, about About, id string) {
		every := slices.ContainsFunc(r.book.every, func(e every) bool { return about == Group && e.group == id })
		if r.known(about, id) == nil && !every {
			near, meant := nearest.Word(id, names[about])
			if meant {
				near = "; did you mean the " + (&Record{About: about, ID: near}).String() + "?"
			}
			r.note(f.Line, "%s names the %s, and the text has none%s", from, &Record{About: about, ID: id}, near)
		}
	}
	for _, o := range r.text.Records {
		for _, field := range o.order {
			f := o.facts[field]
			for _, v := range valuesOf(f) {
				group, names := strings.CutPrefix(v.Text, "group ")
				switch {
				case o.About == Group && field == "servers":
					check(o, f, Server, v.Text)
				case o.About == List && field == "methods" && names:
					check(o, f, Group, group)
				case o.About == Way && slices.Contains(purposes(), field) && v.Text != ownList:
					check(o, f, List, v.Text+" "+field)
				}
			}
		}
	}
}

func valuesOf(f *Fact) []Value {
	if f == nil {
		return nil
	}
	return f.Values
}

// ownList is said of a way whose list stands in its own section.
const ownList = "a list of its own"

// implied fills in what the phrasebook says of what is unsaid.
func (r *reading) implied() {
	for _, e := range r.book.every {
		r.everyServer(e)
	}
	for _, u := range r.book.unsaid {
		if u.about == Device {
			r.find(Device, "", 0)
		}
		if u.about == Way && u.which != "" && u.field == "state" && !r.speaksOf(u.which) {
			r.find(Way, u.which, 0)
		}
		for _, record := range r.text.Records {
			if record.About == u.about && record.facts[u.field] == nil && u.holdsFor(record) {
				r.imply(record, u)
			}
		}
	}
}

// speaksOf reports whether a line speaks of ways in by an access.
func (r *reading) speaksOf(access string) bool {
	return slices.ContainsFunc(r.text.Records,
		func(o *Record) bool { return o.About == Way && o.first("access") == access })
}

// holdsFor reports whether what is unsaid is meant for a record.
func (u unsaid) holdsFor(record *Record) bool {
	switch {
	case u.which == "":
		return true
	case u.about == Way && u.field == "state":
		return record.first("access") == u.which || record.ID == u.which && record.Line == 0
	}
	return slices.Contains([]string{record.first("protocol"), record.first("purpose"), record.first("access")}, u.which)
}

func (r *reading) imply(record *Record, u unsaid) {
	v := Value{Text: u.value}
	if u.about == Way && u.field == "state" && record.Line > 0 {
		v.Text = "on" // a line speaks of it
	}
	if u.from != "" {
		from, field := record, u.from
		if name, of := strings.CutPrefix(u.from, "device."); of {
			from, field = r.find(Device, "", 0), name
		}
		values := from.Get(field)
		if len(values) == 0 {
			return
		}
		v = values[0]
		if u.plus > 0 {
			n, _ := strconv.Atoi(v.Text)
			v.Text = strconv.Itoa(n + u.plus)
		}
	}
	record.facts[u.field] = &Fact{Field: u.field, Values: []Value{v}, State: Implied}
	if !slices.Contains(record.order, u.field) {
		record.order = append(record.order, u.field)
	}
}

// everyServer makes the group that no line names.
func (r *reading) everyServer(e every) {
	type member struct {
		id   string
		mark int
	}
	var all []member
	for _, s := range r.text.Records {
		if s.About == Server && s.first("protocol") == e.protocol {
			n, _ := strconv.Atoi(s.first("mark"))
			all = append(all, member{s.ID, n})
		}
	}
	if len(all) == 0 {
		return
	}
	slices.SortStableFunc(all, func(a, b member) int { return a.mark - b.mark })
	g := r.find(Group, e.group, 0)
	var servers []Value
	for _, m := range all {
		servers = append(servers, Value{Text: m.id})
	}
	g.facts["protocol"] = &Fact{Field: "protocol", Values: []Value{{Text: e.protocol}}, State: Implied}
	g.facts["servers"] = &Fact{Field: "servers", Values: servers, State: Implied}
	g.order = []string{"protocol", "servers"}
}
