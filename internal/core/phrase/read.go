package phrase

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/phrase/pattern"
)

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
	Version string // of what runs on the device, "" where that is not known
	Unread  []Line // of ours that were not understood, the first thousand
	Cut     bool   // its end was not seen, or it could not be read to its end
	Whole   bool   // the text is whole, and every line of ours was read: what is unsaid can be known
}

// Note is something about the text that its reader should know.
type Note struct {
	Line int // 0 for the whole text
	What string

	nowhere bool
}

// LeadsNowhere reports whether the note is of a name that the text has nothing of.
func (n Note) LeadsNowhere() bool { return n.nowhere }

// longestLine bounds a line of a text, in octets.
const longestLine = 1 << 20

// Read reads a text by the phrasebook, and calls each, if there is one, for every
// statement as it comes. It keeps the facts and no more than one line. The error is that
// of the reader, or of a line over a million octets.
func (b *Book) Read(text io.Reader, each func(Line)) (*Text, error) {
	r := b.newParser(each)
	if err := r.all(text); err != nil {
		return nil, err
	}
	return r.text, nil
}

func (b *Book) newParser(each func(Line)) *parser {
	return &parser{book: b, text: &Text{Counts: map[Kind]int{}}, index: map[string]*Record{}, each: each,
		names: map[string]bool{}, unaware: map[string]bool{}, lines: &lines{layout: b.layout, book: b},
		version: b.given}
}

// all reads a text to its end.
func (r *parser) all(text io.Reader) error {
	if r.book.layout.sections == byTags {
		if err := r.tags(text); err != nil {
			return err
		}
		r.finish()
		return nil
	}
	if err := eachLine(text, r.line); err != nil {
		return err
	}
	if r.begun != "" { // its last line goes on in nothing
		r.parts--
		r.whole(r.begun)
	}
	r.finish()
	return nil
}

// eachLine calls do for each line of a text. The error is that of the reader, of a text in
// UTF-16, which nobody could read, or of a line over a million octets.
func eachLine(text io.Reader, do func(string)) error {
	in := bufio.NewReaderSize(text, 4<<10)
	if mark, _ := in.Peek(2); bytes.Equal(mark, []byte{0xff, 0xfe}) || bytes.Equal(mark, []byte{0xfe, 0xff}) {
		return errors.New("it is UTF-16 text: save it as UTF-8")
	}
	scan := bufio.NewScanner(in)
	scan.Buffer(make([]byte, 0, 4<<10), longestLine)
	lines := 0
	for scan.Scan() {
		lines++
		do(scan.Text())
	}
	if err := scan.Err(); !errors.Is(err, bufio.ErrTooLong) {
		return err
	}
	return fmt.Errorf("line %d has more than a million octets: this is no text of a device", lines+1)
}

type parser struct {
	book  *Book
	text  *Text
	lines *lines
	open  []scope
	index map[string]*Record
	names map[string]bool // identities, folded: they are no secrets
	each  func(Line)
	ended bool // the last line of a whole text was seen
	after bool // and there was more

	broken  bool            // it could not be read to its end
	version version         // of the text, nil where it is not known
	number  int             // of the last line
	begun   string          // of a line that goes on in the next
	parts   int             // the lines that it has
	unaware map[string]bool // what is unsaid and depends on the version, which is not known

	keeps bool // the lines that were understood are kept
	kept  []*heldLine
}

// heldLine is a line that says something of a record.
type heldLine struct {
	phrase *phrase
	record *Record
	words  []string
	says   map[string][]Value
	above  *heldLine // the line that opens its section
	line   int
	gone   bool // it is taken back
}

// scope is a section that is open.
type scope struct {
	depth  int
	kind   Kind
	phrase *phrase
	record *Record
	around bool // it only surrounds: what stands in it is read as at the top
	held   *heldLine
}

func (r *parser) note(line int, format string, args ...any) {
	r.text.Notes = append(r.text.Notes, Note{Line: line, What: fmt.Sprintf(format, args...)})
}

// line reads one line, and waits for the next where it goes on there.
func (r *parser) line(text string) {
	text = strings.TrimSuffix(text, "\r")
	if r.number == 0 {
		text = strings.TrimPrefix(text, "\ufeff")
	}
	r.text.Lines++
	r.number++
	layout := r.book.layout
	goesOn := layout.wrapped > 0 && utf8.RuneCountInString(text) == layout.wrapped
	if layout.goesOn != "" {
		if r.begun != "" {
			text = " " + strings.TrimLeft(text, " \t")
		}
		text, goesOn = strings.CutSuffix(strings.TrimRight(text, " \t"), layout.goesOn)
	}
	if r.begun += text; goesOn && len(r.begun) < longestLine {
		r.parts++
		return
	}
	r.whole(r.begun)
}

// whole reads a line with all that it goes on with. Where a carriage return stands in it, what came before is read too:
// a page break leaves it behind, or it ends the lines of the whole text.
func (r *parser) whole(text string) {
	r.lines.line = r.number - r.parts
	r.begun = ""
	r.parts = 0
	r.findVersion(text)
	for part := range strings.SplitSeq(text, "\r") {
		clean, what := readable(part)
		if what != "" {
			r.text.Counts[NotUnderstood]++
			r.seen(Line{Number: r.lines.line, Kind: NotUnderstood, Means: what})
			continue
		}
		for _, s := range r.lines.next(clean) {
			r.statement(s)
		}
	}
}

// readable applies the backspaces that page breaks leave behind, and tells what makes a
// text unreadable, "" for nothing.
func readable(text string) (clean, what string) {
	if !utf8.ValidString(text) {
		return "", "it is not UTF-8 text: save it in that encoding"
	}
	control := func(c rune) bool { return c < ' ' && c != '\t' || c == 0x7f }
	if !strings.ContainsFunc(text, control) {
		return text, ""
	}
	var out []rune
	for _, c := range text {
		switch {
		case c == '\b' || c == 0x7f:
			out = out[:max(0, len(out)-1)]
		case control(c):
			return "", "it has control characters"
		default:
			out = append(out, c)
		}
	}
	return string(out), ""
}

// mostUnread bounds the lines that are kept.
const mostUnread = 1000

func (r *parser) seen(l Line) {
	if l.Kind == NotUnderstood && len(r.text.Unread) < mostUnread {
		r.text.Unread = append(r.text.Unread, l)
	}
	if r.each != nil {
		r.each(l)
	}
}

// statement reads one statement in the section that it stands in.
func (r *parser) statement(s statement) {
	for len(r.open) > 0 && r.open[len(r.open)-1].depth >= s.depth {
		r.open = r.open[:len(r.open)-1]
	}
	var above *scope
	if len(r.open) > 0 && !r.open[len(r.open)-1].around {
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
	case len(r.book.layout.end.Elements) > 0 && above == nil && r.book.fits(r.book.layout.end, s.words):
		r.ended, out.Kind = true, Understood
		out.Means = "the end of the text"
	case above != nil && above.kind != Understood:
		out.Kind, out.Means = above.kind, "in a section that was "+string(above.kind)
	default:
		out.Kind, out.Means, secrets = r.phrase(s, above, &next)
	}
	next.kind = out.Kind
	if r.keeps && out.Kind == Understood && next.phrase != nil {
		r.keep(s, above, &next)
	}
	if out.Kind == Elsewhere {
		out.Means = ""
	}
	if r.each != nil || out.Kind == NotUnderstood {
		out.Text = r.shown(s, out.Kind, secrets)
	}
	r.text.Counts[out.Kind]++
	r.seen(out)
	if out.Kind == Understood && next.phrase == nil { // the end of the text: nothing stands below it
		return
	}
	next.around = above == nil && slices.ContainsFunc(r.book.layout.around,
		func(p pattern.Pattern) bool { return r.book.fits(p, s.words) })
	if s.opens || next.around || next.phrase != nil && len(next.phrase.below) > 0 || r.opensUnread(s, next) {
		r.open = append(r.open, next)
		r.lines.opened()
		return
	}
	if r.book.layout.sections == byIndent || r.book.layout.sections == byFields && s.depth == 0 {
		r.open = append(r.open, next)
	}
}

// keep keeps a line that was understood, with what it says; a line that takes another back
// takes it out.
func (r *parser) keep(s statement, above, here *scope) {
	record := here.record
	var of *Record
	h := &heldLine{phrase: here.phrase, record: record, words: slices.Clone(s.words), line: s.line}
	if above != nil {
		h.above, of = above.held, above.record
	}
	says, _ := r.book.read(here.phrase, s.words, of)
	h.says = here.phrase.holesOf(says)
	if s.taken {
		r.kept = slices.DeleteFunc(r.kept, func(o *heldLine) bool {
			return o.phrase == h.phrase && o.record.same(record) && o.saysSame(h) || o.within(h)
		})
		return
	}
	if known := r.sectionHeld(h); known != nil { // the same section once more, as it is said now
		known.words = h.words
		known.says = h.says
		known.line = h.line
		here.held = known
		return
	}
	r.kept = slices.DeleteFunc(r.kept, func(o *heldLine) bool { return o.replacedBy(h) })
	here.held = h
	r.kept = append(r.kept, h)
}

// opensUnread reports whether a line that no phrase reads opens a section.
func (r *parser) opensUnread(s statement, n scope) bool {
	return n.phrase == nil && slices.ContainsFunc(r.book.layout.opens,
		func(p pattern.Pattern) bool { return r.book.fits(p, s.words) })
}

// fits reports whether all the words of a statement are a pattern.
func (b *Book) fits(p pattern.Pattern, words []string) bool {
	_, ok := b.match(p, words)
	return ok
}

// phrase finds the phrase that reads a statement, takes what it says, and returns the
// words of it that are secret.
func (r *parser) phrase(s statement, above, here *scope) (kind Kind, means string, secrets []string) {
	if s.taken { // a make may say something by itself in a line that begins so
		itself := s
		itself.words, itself.taken = s.whole, false
		if kind, means, secrets := r.phrase(itself, above, here); kind == Understood {
			return kind, means, secrets
		}
		*here = scope{depth: here.depth}
	}
	candidates, record := r.book.phrases, (*Record)(nil)
	if above != nil {
		candidates, record = above.phrase.below, above.record
	}
	var have map[string][]Value
	other, unaware := "", ""
	for _, p := range candidates {
		values, fits := r.book.read(p, s.words, record)
		if !fits {
			continue
		}
		switch now, unknown := r.saysNow(p); {
		case !now:
			other = fmt.Sprintf("the phrase that reads it is %s, and the text is of another version", p.when)
			continue
		case unknown:
			unaware = fmt.Sprintf("the phrase that reads it is %s, and no line before says the version: give it "+
				"with -version",
				p.when)
		}
		switch {
		case unaware != "":
			continue
		case here.phrase != nil:
			both := fmt.Sprintf("two phrases read it: %s and %s", here.phrase.text, p.text)
			here.phrase = nil
			return NotUnderstood, both, nil
		}
		here.phrase, have = p, values
	}
	if unaware != "" {
		here.phrase = nil
		return NotUnderstood, unaware, nil
	}
	if p := here.phrase; p != nil {
		p.used++
		means, here.record = r.take(p, have, s, record)
		if r.each != nil {
			secrets = r.book.secretWords(p, s.words)
		}
		return Understood, means, secrets
	}
	if means, ok := r.undone(s, candidates, record); ok {
		return Understood, means, nil
	}
	begins := func(p pattern.Pattern) bool { return p.Begins(comparing{r.book}, s.words) }
	switch {
	case slices.ContainsFunc(r.book.pass, begins):
		return PassedOver, "the phrasebook passes over it", nil
	case above != nil && above.phrase.about == Interface: // read for its address alone
		return Elsewhere, "", nil
	case other != "":
		return NotUnderstood, other, nil
	case above != nil:
		return NotUnderstood, fmt.Sprintf("no phrase below %q reads it", above.phrase.text) + r.slip(s), nil
	case slices.ContainsFunc(r.book.territory, begins):
		return NotUnderstood, "no phrase reads it" + r.slip(s), nil
	}
	return Elsewhere, "", nil
}

// slip suggests the word of the phrasebook that the first unknown word of a statement may be
// a slip of.
func (r *parser) slip(s statement) string {
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
	have, fits := b.match(p.say, words)
	if !fits {
		have, _ = b.match(p.types, words)
	}
	for _, h := range have {
		t := b.types[h.As]
		if !secretFields[h.Hole] && (t == nil || len(t.forms) == 0) {
			continue
		}
		words := h.Words
		for _, form := range formsOf(t) { // the words of the form itself are none
			if !b.fits(form.say, h.Words) {
				continue
			}
			for i, e := range form.say.Elements {
				if e.Literal == "" {
					break
				}
				words = h.Words[i+1:]
			}
			break
		}
		all = append(all, words...)
	}
	return all
}

// shown returns a statement with nothing in it that might be a secret. Of a line that was
// understood it is known what is secret; of another, only the words that the phrasebook
// has, names that are known, addresses and small numbers are shown, and nothing after a
// word that a secret may follow.
func (r *parser) shown(s statement, kind Kind, secrets []string) string {
	if kind == Elsewhere {
		return ""
	}
	var out []string
	words := s.words
	if s.taken {
		words = s.whole
	}
	telling := false
	for i, w := range words {
		if s.taken && i == 0 {
			out = append(out, w)
			continue
		}
		low := r.book.layout.folded(w)
		_, notAddress := netip.ParseAddr(w)
		hidden := slices.ContainsFunc(secrets, func(secret string) bool { return strings.Contains(w, secret) })
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
