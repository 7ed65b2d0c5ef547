package phrase

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Model is what a device of a make holds, as text, and how lines that are typed change it.
// It knows nothing of sessions, prompts or time. It is a model: a line holds when a phrase
// reads it.
type Model struct {
	book    *Book
	text    string
	opened  string // the line that opened the section in which lines are typed, "" for none
	pending string // of a statement that has begun and is not whole
}

// NewModel returns the model of a device that holds a text.
func (b *Book) NewModel(text string) *Model { return &Model{book: b, text: text} }

// Text returns what the device holds, with its secrets.
func (d *Model) Text() string { return d.text }

// Copy returns a device that holds the same.
func (d *Model) Copy() *Model { return &Model{book: d.book, text: d.text} }

// Type takes one line. It returns why the line is refused, "" where it is taken.
func (d *Model) Type(line string) (refused string) {
	line = strings.TrimRight(d.pending+line, " \t\r")
	if strings.TrimSpace(line) == "" {
		return ""
	}
	layout := d.book.layout
	if layout.sections == byBraces && strings.Count(line, "{") > strings.Count(line, "}") {
		d.pending = line + " "
		return ""
	}
	d.pending = ""
	child := line != strings.TrimLeft(line, " \t")
	if layout.sections == byFields {
		child = !strings.HasPrefix(strings.TrimSpace(line), "[")
	}
	bare := strings.TrimSpace(line)
	if d.opened != "" && layout.sections != byPaths {
		taken, why := d.try(d.opened+"\n "+bare, bare)
		if taken {
			return ""
		}
		if child {
			return why
		}
	}
	taken, why := d.try(bare, bare)
	if taken {
		d.opened = bare
	}
	return why
}

// Shown returns a line as it may be kept and shown: without the secrets in it.
func (d *Model) Shown(line string) string {
	bare := strings.TrimSpace(line)
	shown := ""
	for _, under := range []string{d.opened, ""} {
		lines := bare
		if under != "" {
			lines = under + "\n " + bare
		}
		body, _ := d.parts()
		last, understood := strings.Count(body+lines, "\n")+1, false
		_, err := d.book.Read(strings.NewReader(body+lines+"\n"), func(l Line) {
			if l.Number == last && l.Kind != Elsewhere {
				shown, understood = l.Text, l.Kind == Understood
			}
		})
		if err == nil && understood {
			return shown
		}
	}
	if shown == "" && strings.IndexByte(bare, ' ') > 0 { // of none of ours: its first word says what it was
		return bare[:strings.IndexByte(bare, ' ')] + " …"
	}
	return cmp.Or(shown, bare)
}

// try adds lines to the text, and keeps them where the last one is understood.
func (d *Model) try(lines, line string) (taken bool, refused string) {
	body, end := d.parts()
	text := body + lines + "\n" + end
	kind, means := Elsewhere, ""
	last := strings.Count(body+lines, "\n") + 1
	got, err := d.book.Read(strings.NewReader(text), func(l Line) {
		if l.Number == last {
			kind, means = l.Kind, l.Means
		}
	})
	switch {
	case err != nil:
		return false, err.Error()
	case kind == NotUnderstood:
		return false, means
	case kind == Elsewhere:
		return false, "no phrase reads it"
	}
	for _, n := range got.Notes {
		if n.Line == last && strings.HasPrefix(n.What, "it takes back ") {
			return false, n.What
		}
	}
	d.text = d.normal(text, end)
	return true, ""
}

// parts returns the text without its last line, and that line.
func (d *Model) parts() (body, end string) {
	for line := range strings.Lines(d.text) {
		if d.book.isEnd(line) {
			return body, strings.TrimRight(line, "\r\n") + "\n"
		}
		body += strings.TrimRight(line, "\r\n") + "\n"
	}
	return body, ""
}

// isEnd reports whether a line is the last one of a whole text.
func (b *Book) isEnd(line string) bool {
	if len(b.layout.end.Elements) == 0 {
		return false
	}
	line = strings.TrimRight(line, "\r\n")
	if inner := strings.TrimSpace(line); b.layout.sections == byFields && strings.HasPrefix(inner, "[") {
		line = strings.Trim(inner, "[]")
	}
	words, _ := b.layout.words(line, nil, nil)
	return len(words) > 0 && b.fits(b.layout.end, words)
}

// normal returns a text with one line for each thing that holds, in order.
func (d *Model) normal(text, end string) string {
	lines, err := d.book.Text(d.sentences(text, false), true)
	if err != nil { // a word that was read and cannot be written: as it was typed
		return text
	}
	return strings.Join(append(lines, end), "\n")
}

// Show returns what the device shows of what it holds: secrets as the make shows them.
func (d *Model) Show() []string {
	_, end := d.parts()
	lines, err := d.book.Text(d.sentences(d.text, true), true)
	if err != nil {
		return []string{fmt.Sprintf("it cannot be shown: %v", err)}
	}
	if end != "" {
		lines = append(lines, strings.TrimRight(end, "\n"))
	}
	return lines
}

// sentences are the lines of a text that hold, in their sections.
func (d *Model) sentences(text string, hide bool) (all []*Sentence) {
	_, held, err := d.book.readHeld(strings.NewReader(text))
	if err != nil {
		return nil
	}
	p := &planning{book: d.book}
	of := map[*heldLine]*Sentence{}
	for _, h := range held {
		words := p.spoken(h)
		if hide {
			words = d.shown(h, words)
		}
		s := &Sentence{About: h.phrase.about, Record: h.record, phrase: h.phrase, words: words}
		of[h] = s
		if above := of[h.above]; h.above != nil && above != nil {
			above.Below = append(above.Below, s)
			continue
		}
		all = append(all, s)
	}
	slices.SortStableFunc(all, func(x, y *Sentence) int {
		return slices.Index(d.book.phrases, x.phrase) - slices.Index(d.book.phrases, y.phrase)
	})
	return all
}

// covered is what a device shows in the place of a secret, where the make has a word with a
// hole for that.
const covered = "c0ffee"

// shown returns the words of a line with its secrets as the make shows them: hidden where it
// hides them, else hashed, else as they are.
func (d *Model) shown(h *heldLine, words []spoken) []spoken {
	for _, as := range []Secrecy{Hidden, Hash} {
		says := map[string][]Value{}
		secret := false
		for field, v := range h.says {
			if secretFields[field] || len(v) > 0 && v[0].Secret != Open {
				v, secret = []Value{{Text: covered, Secret: as}}, true
			}
			says[field] = v
		}
		if !secret {
			return words
		}
		f := &filling{book: d.book, record: NewRecord(h.record.About, says), used: map[string]bool{}}
		if purpose := says["purpose"]; purpose != nil {
			f.only = map[string][]Value{"purpose": purpose}
		}
		if filled, ok := f.fill(h.phrase.say); ok {
			return filled
		}
	}
	return words
}

// End returns the last line of a whole text with a line end, "" where the make has none.
func (b *Book) End() string {
	if len(b.layout.end.Elements) == 0 {
		return ""
	}
	text := b.layout.end.Text
	if b.layout.sections == byFields {
		text = "[" + text + "]"
	}
	return text + "\n"
}
