// Package show puts results on a terminal or into a pipe: tables, colour and
// JSON. It decides nothing.
package show

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/walk"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// Style is how text may be shown on one writer.
type Style struct {
	Width  int // columns to use
	colour bool
}

// DefaultWidth is the width where there is no terminal to ask.
const DefaultWidth = 100

// For returns the style for a writer: colour only on a terminal, and neither
// with plain nor with NO_COLOR set.
func For(w io.Writer, plain bool) Style {
	s := Style{Width: DefaultWidth}
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return s
	}
	if columns, _, err := term.GetSize(int(f.Fd())); err == nil && columns >= 40 {
		s.Width = columns
	}
	_, no := os.LookupEnv("NO_COLOR")
	s.colour = !plain && !no && os.Getenv("TERM") != "dumb"
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

// Table writes rows under a header. The columns are as wide as they need; the
// flexible ones, counted from 0, share what is left of the width and wrap.
func (s Style) Table(w io.Writer, header []string, rows [][]string, flexible ...int) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	t.SetStyle(table.Style{Box: table.BoxStyle{PaddingRight: "  "}, Format: table.FormatOptions{Header: text.FormatUpper}})
	head := make(table.Row, len(header))
	widths, words := make([]int, len(header)), make([]int, len(header))
	for i, h := range header {
		head[i] = s.Paint(Strong, h)
		for _, r := range append([][]string{header}, rows...) {
			widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(r[i]))
			for word := range strings.FieldsSeq(r[i]) {
				words[i] = max(words[i], text.StringWidthWithoutEscSequences(word))
			}
		}
	}
	t.AppendHeader(head)
	t.SetColumnConfigs(s.shares(widths, words, flexible))
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, v := range r {
			row[i] = v
		}
		t.AppendRow(row)
	}
	t.SuppressTrailingSpaces()
	t.Render()
}

// narrowest is the least width of a column that wraps, where it has words so
// long.
const narrowest = 16

// shares returns the flexible columns their widths: what each needs, or an equal
// share of what is left.
func (s Style) shares(widths, words, flexible []int) []table.ColumnConfig {
	left := s.Width - 2*len(widths)
	for i, n := range widths {
		if !slices.Contains(flexible, i) {
			left -= n
		}
	}
	order := slices.Clone(flexible)
	slices.SortFunc(order, func(a, b int) int { return widths[a] - widths[b] })
	var configs []table.ColumnConfig
	for i, column := range order {
		width := min(widths[column], max(min(narrowest, words[column]), left/(len(order)-i)))
		left -= width
		configs = append(configs, table.ColumnConfig{Number: column + 1, WidthMax: width, WidthMaxEnforcer: text.WrapSoft})
	}
	return configs
}

// Wrap writes text in lines of the style's width, each after indent.
func (s Style) Wrap(w io.Writer, indent, words string) {
	for _, line := range strings.Split(text.WrapSoft(words, max(20, s.Width-len(indent))), "\n") {
		_, _ = fmt.Fprintln(w, indent+strings.TrimRight(line, " "))
	}
}

// Item writes words after a label, with further lines below the words.
func (s Style) Item(w io.Writer, label, words string) {
	for i, line := range strings.Split(text.WrapSoft(words, max(20, s.Width-len(label))), "\n") {
		if i > 0 {
			label = strings.Repeat(" ", len(label))
		}
		_, _ = fmt.Fprintln(w, label+strings.TrimRight(line, " "))
	}
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
