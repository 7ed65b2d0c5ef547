package phrase

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// statement is one thing that a device says: the words of a line, or of a part of one.
type statement struct {
	words []string
	line  int
	depth int      // of the section that it stands in
	taken bool     // it takes back what it says
	whole []string // of one that takes back, with the word that does
	opens bool     // what follows, deeper, is below it
}

// lines makes statements of lines, and keeps no more than one line and the depth of where
// it is. Each line is given to it with next, in order.
type lines struct {
	layout  layout
	book    *Book
	line    int
	indents []int // of the open sections, for indent
	depth   int   // for braces and end-word
	until   string
	starts  []int    // where the columns of the table begin that is read, nil for none
	since   int      // the line where that text, or the section at the top, began
	closed  bool     // a section was closed that none had opened
	words   []string // of the line, room that is used again
	columns []int
	single  [1]statement // the same for a line that is one statement
}

// next returns the statements of a line.
func (l *lines) next(text string) (statements []statement) {
	if l.layout.sections == byFields {
		return l.fields(text)
	}
	if l.until != "" { // within a text that is never looked into
		if strings.Contains(text, l.until) {
			l.until = ""
		}
		return nil
	}
	if l.layout.cell != "" && strings.Contains(text, l.layout.cell) {
		return []statement{l.row(text)}
	}
	if l.starts != nil && strings.TrimSpace(text) != "" {
		return []statement{l.columnsOf(text)}
	}
	l.starts = nil
	l.words, l.columns = l.layout.words(text, l.words[:0], l.columns[:0])
	words, columns := l.words, l.columns
	if len(words) == 0 {
		return nil
	}
	if slices.EqualFunc(words, l.layout.heading, l.layout.same) {
		l.starts = slices.Clone(columns)
		return nil
	}
	for _, n := range l.layout.noise {
		if _, ok := l.book.match(n, words); ok {
			return nil
		}
	}
	if have, found := l.book.match(l.layout.block, words); len(l.layout.block.Elements) > 0 && found {
		for _, h := range have {
			if h.Hole == l.layout.blockEnd {
				mark := strings.Join(h.Words, " ")
				if _, after, _ := strings.Cut(text, mark); !strings.Contains(after, mark) {
					l.until, l.since = mark, l.line
				}
			}
		}
		return nil
	}
	switch l.layout.sections {
	case byBraces:
		return l.braces(words)
	case byEndWord:
		ends := func(w string) bool { return l.layout.same(w, words[0]) }
		if len(words) == 1 && slices.ContainsFunc(l.layout.endWords, ends) {
			l.depth = max(0, l.depth-1)
			return nil
		}
		return l.alone(l.made(words, l.depth))
	case byPaths:
		return l.alone(l.made(words, 0))
	}
	for len(l.indents) > 0 && columns[0] <= l.indents[len(l.indents)-1] {
		l.indents = l.indents[:len(l.indents)-1]
	}
	s := l.made(words, len(l.indents))
	l.indents = append(l.indents, columns[0])
	return l.alone(s)
}

// alone returns one statement in room that is used again.
func (l *lines) alone(s statement) []statement {
	l.single[0] = s
	return l.single[:]
}

// columnsOf makes the statement "row CELL..." of a line of a table, up to the empty line that
// ends it: each cell begins where the word above it does.
func (l *lines) columnsOf(text string) statement {
	s := statement{words: []string{"row"}, line: l.line, depth: l.depth}
	for i, from := range l.starts {
		to := len(text)
		if i+1 < len(l.starts) {
			to = l.starts[i+1]
		}
		s.words = append(s.words, strings.TrimSpace(text[min(from, len(text)):min(to, len(text))]))
	}
	return s
}

// row makes the statement "row CELL..." of a row of a table.
func (l *lines) row(text string) statement {
	s := statement{words: []string{"row"}, line: l.line, depth: l.depth}
	for _, cell := range strings.Split(text, l.layout.cell) {
		cell = strings.TrimSpace(cell)
		if q := l.layout.quote; q != 0 && len(cell) > 1 && cell[0] == q && cell[len(cell)-1] == q {
			cell = cell[1 : len(cell)-1]
		}
		s.words = append(s.words, cell)
	}
	return s
}

// fields makes a statement of a [heading], or of name = value below it.
func (l *lines) fields(text string) []statement {
	text = strings.TrimSpace(text)
	if inner, ok := strings.CutPrefix(text, "["); ok && strings.HasSuffix(inner, "]") {
		words, _ := l.layout.words(strings.TrimSuffix(inner, "]"), nil, nil)
		if len(words) == 0 {
			return nil
		}
		l.depth = 1
		return []statement{{words: words, line: l.line, opens: true}}
	}
	name, value, both := strings.Cut(text, "=")
	words, _ := l.layout.words(name, nil, nil)
	if both {
		after, _ := l.layout.words(value, nil, nil)
		words = append(append(words, "="), after...)
	}
	if len(words) == 0 {
		return nil
	}
	return []statement{l.made(words, l.depth)}
}

// opened tells the layout that what follows stands below the last statement: end words say
// where a section ends, and only a phrase says where one begins.
func (l *lines) opened() {
	if l.layout.sections == byEndWord {
		if l.depth++; l.depth == 1 {
			l.since = l.line
		}
	}
}

// braces makes statements of the words of a line with braces and ends of statements.
func (l *lines) braces(words []string) (statements []statement) {
	var part []string
	add := func(opens bool) {
		if len(part) > 0 {
			s := l.made(part, l.depth)
			s.opens = opens
			statements = append(statements, s)
		}
		part = nil
	}
	for _, w := range words {
		switch w {
		case bracket + "{":
			add(true)
			if l.depth++; l.depth == 1 {
				l.since = l.line
			}
		case bracket + "}":
			add(false)
			l.closed = l.closed || l.depth == 0
			l.depth = max(0, l.depth-1)
		case bracket + ";":
			add(false)
		default:
			part = append(part, w)
		}
	}
	add(false)
	return statements
}

// bracket is before a brace, or the end of a statement, that is none of a quoted text: no
// text has it.
const bracket = "\x00"

func (l *lines) made(words []string, depth int) statement {
	s := statement{words: words, line: l.line, depth: depth}
	if len(words) < 2 {
		return s
	}
	for back, instead := range l.layout.takeBack {
		if !l.layout.same(words[0], back) {
			continue
		}
		s.whole = words
		s.words = words[1:]
		s.taken = true
		if instead != "" {
			s.words = append([]string{instead}, words[1:]...)
		}
	}
	return s
}

// words splits a line into words, with the column of each from 0, and appends them; a quoted
// text is one, and what is after a comment is left out.
func (l layout) words(text string, words []string, columns []int) ([]string, []int) {
	for index := 0; index < len(text); {
		c, size := utf8.DecodeRuneInString(text[index:])
		switch {
		case c == ' ' || c == '\t':
			index += size
			continue
		case l.comment != "" && strings.HasPrefix(text[index:], l.comment):
			return words, columns
		case l.sections == byBraces && strings.IndexByte("{};", text[index]) >= 0:
			words, columns = append(words, bracket+text[index:index+1]), append(columns, index)
			index++
			continue
		case l.quote != 0 && text[index] == l.quote:
			word, length := l.quoted(text[index+1:])
			words, columns = append(words, word), append(columns, index)
			index += length + 1
			continue
		}
		ends := " \t"
		if l.sections == byBraces {
			ends = " \t{};"
		}
		end := strings.IndexAny(text[index:], ends)
		if end < 0 {
			end = len(text) - index
		}
		words, columns = append(words, text[index:index+end]), append(columns, index)
		index += end
	}
	return words, columns
}

// quoted returns the text up to the closing mark, and how many octets of the line it takes with
// that.
func (l layout) quoted(text string) (word string, length int) {
	if l.escape == 0 {
		if end := strings.IndexByte(text, l.quote); end >= 0 {
			return text[:end], end + 1
		}
		return text, len(text)
	}
	var out []byte
	for index := 0; index < len(text); index++ {
		switch {
		case text[index] == l.escape && index+1 < len(text):
			index++
		case text[index] == l.quote:
			return string(out), index + 1
		}
		out = append(out, text[index])
	}
	return string(out), len(text)
}
