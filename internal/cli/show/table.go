package show

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Table writes rows under a header, with columns as wide as they need. Where
// that is more than the style's width, the flexible columns, counted from 0,
// give way, then the others; where their longest words do not fit side by side,
// each row becomes lines of a heading and a value. A word is never cut.
func (s Style) Table(w io.Writer, header []string, rows [][]string, flexible ...int) {
	r := s.Rows(w, header, flexible...)
	for _, row := range rows {
		r.Add(row...)
	}
	r.Flush()
}

// Rows is a table whose rows come one by one. It belongs to one goroutine.
type Rows struct {
	Ready    int   // rows are written when so many have come, or with Flush; 0: with Flush only
	Least    []int // columns are no narrower than this, where the width allows
	style    Style
	w        io.Writer
	header   []string
	flexible []int
	waiting  [][]string
	natural  []int // widest cell of each column so far
	longest  []int // longest word of each column so far
	written  int
}

// Rows returns a table without rows.
func (s Style) Rows(w io.Writer, header []string, flexible ...int) *Rows {
	r := &Rows{style: s, w: w, flexible: flexible, header: make([]string, len(header)),
		natural: make([]int, len(header)),
		longest: make([]int, len(header))}
	for i, h := range header {
		r.header[i] = text.FormatUpper.Apply(h)
	}
	return r
}

// Add takes a row.
func (r *Rows) Add(cells ...string) {
	clean := make([]string, len(cells))
	for i, c := range cells {
		clean[i] = r.style.clean(c)
	}
	r.waiting = append(r.waiting, clean)
	if r.Ready > 0 && len(r.waiting) >= r.Ready {
		r.Flush()
	}
}

// Empty reports whether no row has come.
func (r *Rows) Empty() bool { return r.written+len(r.waiting) == 0 }

// Flush writes the rows that wait. Columns that were written once grow and never
// shrink, so that later rows stay below them.
func (r *Rows) Flush() {
	for _, row := range append([][]string{r.header}, r.waiting...) {
		for i := range r.header {
			r.natural[i] = max(r.natural[i], text.StringWidthWithoutEscSequences(row[i]))
			for word := range strings.FieldsSeq(row[i]) {
				r.longest[i] = max(r.longest[i], text.StringWidthWithoutEscSequences(word))
			}
		}
	}
	for i, n := range r.Least {
		r.natural[i] = max(r.natural[i], n)
	}
	if widths, fit := r.fit(); fit {
		r.beside(widths)
	} else {
		r.below()
	}
	r.written += len(r.waiting)
	r.waiting = nil
}

// gap is the space between columns.
const gap = 2

// beside writes rows as a table.
func (r *Rows) beside(widths []int) {
	t := table.NewWriter()
	t.SetOutputMirror(r.w)
	t.SetStyle(table.Style{Box: table.BoxStyle{PaddingRight: strings.Repeat(" ", gap)}})
	var configs []table.ColumnConfig
	for i, width := range widths {
		configs = append(configs, table.ColumnConfig{Number: i + 1, WidthMin: width, WidthMax: width,
			WidthMaxEnforcer: text.WrapSoft})
	}
	t.SetColumnConfigs(configs)
	rows := r.waiting
	if r.written == 0 {
		head := make([]string, len(r.header))
		for i, h := range r.header {
			head[i] = r.style.Paint(Strong, h)
		}
		rows = append([][]string{head}, rows...)
	}
	for _, cells := range rows {
		row := make(table.Row, len(cells))
		for i, v := range cells {
			row[i] = v
		}
		t.AppendRow(row)
	}
	t.SuppressTrailingSpaces()
	t.Render()
}

// below writes each row as lines of a heading and a value.
func (r *Rows) below() {
	label := 0
	for _, h := range r.header {
		label = max(label, len(h))
	}
	for i, row := range r.waiting {
		if i+r.written > 0 {
			_, _ = fmt.Fprintln(r.w)
		}
		for i, v := range row {
			if v != "" {
				r.style.Item(r.w, r.style.Paint(Strong, fmt.Sprintf("%-*s  ", label, r.header[i])), v)
			}
		}
	}
}

// narrowest is the least width of a flexible column before other columns give way.
const narrowest = 16

// fit returns the widths of the columns, and whether they fit side by side.
func (r *Rows) fit() ([]int, bool) {
	least := slices.Clone(r.natural)
	if r.width(least) <= r.style.Width || r.style.Width == 0 {
		return least, true
	}
	for _, give := range []func(i int) int{
		func(i int) int { // the flexible ones
			if slices.Contains(r.flexible, i) {
				return max(r.longest[i], min(r.natural[i], narrowest))
			}
			return r.natural[i]
		},
		func(i int) int { // further
			if slices.Contains(r.flexible, i) {
				return r.longest[i]
			}
			return r.natural[i]
		},
		func(i int) int { return r.longest[i] }, // all
	} {
		for i := range least {
			least[i] = give(i)
		}
		if r.width(least) <= r.style.Width {
			return r.share(least), true
		}
	}
	return nil, false
}

// share gives columns what is left above their least widths: the widest gives
// way first.
func (r *Rows) share(least []int) []int {
	for most := slices.Max(r.natural); ; most-- {
		widths := make([]int, len(least))
		for i := range widths {
			widths[i] = max(least[i], min(r.natural[i], most))
		}
		if r.width(widths) <= r.style.Width || most == 0 {
			return widths
		}
	}
}

// width is that of columns side by side.
func (r *Rows) width(columns []int) int {
	sum := gap * (len(columns) - 1)
	for _, n := range columns {
		sum += n
	}
	return sum
}

// fold splits text into lines of a width, between words only; a word that is
// longer has a line of its own. Width 0 is without a bound.
func fold(words string, width int) []string {
	var lines []string
	for part := range strings.SplitSeq(words, "\n") {
		line, used := "", 0
		for i, word := range strings.Split(part, " ") {
			n := text.StringWidthWithoutEscSequences(word)
			if i > 0 && width > 0 && used+1+n > width {
				lines = append(lines, strings.TrimRight(line, " "))
				line, used = word, n
				continue
			}
			if i > 0 {
				line, used = line+" ", used+1
			}
			line, used = line+word, used+n
		}
		lines = append(lines, strings.TrimRight(line, " "))
	}
	return lines
}

// Call writes a command that is there to be copied: where it is wider than the
// style, it goes on in further lines, between words outside of quotes, each line
// but the last with the backslash that a shell wants.
func (s Style) Call(w io.Writer, indent, call string) {
	width := s.beside(len(indent))
	if width == 0 || len(call) <= width {
		_, _ = fmt.Fprintln(w, indent+call)
		return
	}
	const more = " \\"
	line := ""
	for _, word := range shellWords(call) {
		switch {
		case line == "":
			line = word
		case len(line)+1+len(word)+len(more) > width:
			_, _ = fmt.Fprintln(w, indent+line+more)
			line = "  " + word
		default:
			line += " " + word
		}
	}
	_, _ = fmt.Fprintln(w, indent+line)
}

// shellWords splits a command at its blanks, but not within quotes.
func shellWords(call string) []string {
	var words []string
	begin, quote := 0, rune(0)
	for i, c := range call {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
		case c == ' ':
			words, begin = append(words, call[begin:i]), i+1
		}
	}
	return append(words, call[begin:])
}
