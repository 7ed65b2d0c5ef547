// Package show puts results on a terminal or into a pipe: tables, colour and
// JSON. It decides nothing.
package show

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/walk"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
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
	string(walk.OutcomeNoAnswer): Bad, string(walk.OutcomeLow): Careful, string(walk.OutcomeRefused): Careful,
	string(evidence.Dropped): Careful,
}

// Wrap writes text in lines of the style's width, each after indent.
func (s Style) Wrap(w io.Writer, indent, words string) {
	for _, line := range fold(words, s.beside(len(indent))) {
		_, _ = fmt.Fprintln(w, strings.TrimRight(indent+line, " "))
	}
}

// Item writes words after a label, with further lines below the words.
func (s Style) Item(w io.Writer, label, words string) {
	indent := text.StringWidthWithoutEscSequences(label)
	for i, line := range fold(words, s.beside(indent)) {
		if i > 0 {
			label = strings.Repeat(" ", indent)
		}
		_, _ = fmt.Fprintln(w, strings.TrimRight(label+line, " "))
	}
}

// Fold returns text whose lines fit the style's width; what a line is continued
// with stands below its first word.
func (s Style) Fold(words string) string {
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
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// Line writes one value as one line of JSON.
func Line(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Safe makes text from elsewhere fit for a terminal: control characters are
// shown, not obeyed.
func Safe(text string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' && c != '\n' && c != '\t' || c == 0x7f || c >= 0x80 && c < 0xa0 {
			return '\uFFFD'
		}
		return c
	}, text)
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
