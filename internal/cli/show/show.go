// Package show puts results on a terminal or into a pipe: tables, colour and
// JSON. It decides nothing.
package show

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/walk"
)

// Style is how text may be shown on one writer.
type Style struct {
	Width  int // columns to use; 0: as many as there are words for
	colour bool
}

// leastWidth is the narrowest terminal that text is made for.
const leastWidth = 20

// For returns the style for a writer: the width of its terminal, or $COLUMNS
// where that is set; into a pipe nothing is wrapped. Colour is for a terminal
// only, and neither with plain nor with NO_COLOR set.
func For(w io.Writer, plain bool) Style {
	s := Style{}
	f, ok := w.(*os.File)
	terminal := ok && term.IsTerminal(int(f.Fd()))
	if terminal {
		if columns, _, err := term.GetSize(int(f.Fd())); err == nil && columns >= leastWidth {
			s.Width = columns
		}
		_, no := os.LookupEnv("NO_COLOR")
		s.colour = !plain && !no && os.Getenv("TERM") != "dumb"
	}
	if columns, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && columns >= leastWidth {
		s.Width = columns
	}
	return s
}

// Coloured returns a style with colours, of no width.
func Coloured() Style { return Style{colour: true} }

// Wide is the style for another width.
func (s Style) Wide(columns int) Style {
	s.Width = columns
	return s
}

// Tone is what a colour means.
type Tone int

const (
	Plain Tone = iota
	Good
	Bad
	Careful
	Faint
	Strong
)

var tones = map[Tone]string{Good: "32", Bad: "31;1", Careful: "33", Faint: "2", Strong: "1"}

// Paint colours a text.
func (s Style) Paint(t Tone, text string) string {
	if !s.colour || tones[t] == "" || text == "" {
		return text
	}
	return "\x1b[" + tones[t] + "m" + text + "\x1b[0m"
}

// OutcomeTone returns the tone of an outcome or an answer.
func OutcomeTone[Word ~string](word Word) Tone { return toneOf[string(word)] }

// toneOf is the tone of outcomes and answers; the rest is plain.
var toneOf = map[string]Tone{
	string(walk.OutcomeIn): Good, string(walk.OutcomeAllowed): Good, string(evidence.Accepted): Good,
	string(evidence.Recorded): Good, string(walk.OutcomeOpen): Bad, string(evidence.Failed): Bad,
	string(walk.OutcomeNoAnswer): Bad,
	string(walk.OutcomeUnsure):   Careful, string(walk.OutcomeLow): Careful, string(walk.OutcomeRefused): Careful,
	string(evidence.Dropped): Careful,
}

// Wrap writes text in lines of the style's width, each after indent.
func (s Style) Wrap(w io.Writer, indent, words string) {
	for _, line := range fold(s.clean(words), s.beside(len(indent))) {
		_, _ = fmt.Fprintln(w, strings.TrimRight(indent+line, " "))
	}
}

// Item writes words after a label, with further lines below the words.
func (s Style) Item(w io.Writer, label, words string) {
	indent := text.StringWidthWithoutEscSequences(label)
	for i, line := range fold(s.clean(words), s.beside(indent)) {
		if i > 0 {
			label = strings.Repeat(" ", indent)
		}
		_, _ = fmt.Fprintln(w, strings.TrimRight(label+line, " "))
	}
}

// Fold returns text whose lines fit the style's width; what a line is continued
// with stands below its first word.
func (s Style) Fold(words string) string {
	words = s.clean(words)
	if s.Width == 0 {
		return words
	}
	var lines []string
	for line := range strings.SplitSeq(words, "\n") {
		indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
		if text.StringWidthWithoutEscSequences(line) <= s.Width {
			lines = append(lines, line)
			continue
		}
		for _, part := range fold(line[len(indent):], s.beside(len(indent))) {
			lines = append(lines, indent+part)
		}
	}
	return strings.Join(lines, "\n")
}

// beside is the width beside an indent, 0 where there is no bound.
func (s Style) beside(indent int) int {
	if s.Width == 0 {
		return 0
	}
	return max(20, s.Width-indent)
}

// Seconds shows a wait: "0 s", "4 s", "1.5 s".
func Seconds(d time.Duration) string {
	return strconv.FormatFloat(d.Round(100*time.Millisecond).Seconds(), 'f', -1, 64) + " s"
}

// JSON writes one value as one indented object.
func JSON(w io.Writer, v any) error { return encode(w, v, "  ") }

// encode writes JSON in which every character that cannot be seen is escaped.
func encode(w io.Writer, v any, indent string) error {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", indent)
	if err := e.Encode(v); err != nil {
		return err
	}
	text := b.String()
	if strings.ContainsFunc(text, unseen) {
		b.Reset()
		for _, c := range text {
			switch {
			case !unseen(c):
				b.WriteRune(c)
			case c > 0xffff:
				high, low := utf16.EncodeRune(c)
				fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
			default:
				fmt.Fprintf(&b, `\u%04x`, c)
			}
		}
		text = b.String()
	}
	_, err := io.WriteString(w, text)
	return err
}

// unseen reports whether a character beyond ASCII cannot be seen.
func unseen(c rune) bool { return c > 0x7f && !unicode.IsPrint(c) }

// Line writes one value as one line of JSON.
func Line(w io.Writer, v any) error { return encode(w, v, "") }

// Safe makes text from elsewhere fit for a terminal: control characters, marks
// that turn the direction of text, and characters without a width are shown as
// such, and not obeyed.
func Safe(text string) string {
	return strings.Map(func(c rune) rune {
		if c != '\n' && c != '\t' && !unicode.IsPrint(c) {
			return '\uFFFD'
		}
		return c
	}, text)
}

// painted finds what Paint adds to a text.
var painted = regexp.MustCompile("\x1b\\[[0-9;]*m")

// clean is Safe for text in which there may be colours of this style.
func (s Style) clean(text string) string {
	if !s.colour {
		return Safe(text)
	}
	var b strings.Builder
	last := 0
	for _, at := range painted.FindAllStringIndex(text, -1) {
		b.WriteString(Safe(text[last:at[0]]))
		b.WriteString(text[at[0]:at[1]])
		last = at[1]
	}
	b.WriteString(Safe(text[last:]))
	return b.String()
}

// Count returns "1 error", "2 errors".
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if stem, ok := strings.CutSuffix(one, "y"); ok && !strings.HasSuffix(one, "ay") {
		return fmt.Sprintf("%d %sies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, one)
}
