package site

import (
	"fmt"
	"slices"
	"strings"
)

// Place is where a value stands in the site's files: the index of the file in
// Site.Files, the line and the column, both from 1. The zero Place is nowhere.
type Place struct{ File, Line, Column int32 }

// Known reports whether the place is somewhere.
func (p Place) Known() bool { return p.Line > 0 }

// Before orders places by file, line and column.
func (p Place) Before(q Place) bool {
	if p.File != q.File {
		return p.File < q.File
	}
	if p.Line != q.Line {
		return p.Line < q.Line
	}
	return p.Column < q.Column
}

// Ref is a name written in the site file, with its place.
type Ref struct {
	Name  string
	Place Place
}

// Problem is one thing that is wrong in a site file: where, what was found,
// what was expected, and the line itself.
type Problem struct {
	Where string // file:line:column
	What  string // what is wrong and what to write instead
	Line  string // the line as it stands in the file, "" when there is none
	place Place
}

// Error returns the problem as it is printed: the place, what is wrong, and
// under it the line with a mark below the column.
func (p Problem) Error() string {
	head := p.Where + ": " + p.What
	if p.Line == "" {
		return head
	}
	line, column := p.Line, int(p.place.Column)
	if runes := []rune(line); len(runes) > 100 {
		line = string(runes[:97]) + "..."
	}
	number := fmt.Sprint(p.place.Line)
	mark := ""
	if column >= 1 && column <= 100 {
		mark = "\n    " + strings.Repeat(" ", len(number)) + " | " + strings.Repeat(" ", column-1) + "^"
	}
	return head + "\n    " + number + " | " + line + mark
}

// Problem makes a problem of a site that was read: something that its text alone
// does not show.
func (s *Site) Problem(at Place, format string, args ...any) Problem {
	return Problem{Where: s.Where(at), What: fmt.Sprintf(format, args...), place: at}
}

// At returns the line and column of the problem in its file, from 1; 0 where it
// has none.
func (p Problem) At() (file string, line, column int) {
	file = strings.TrimSuffix(p.Where, fmt.Sprintf(":%d:%d", p.place.Line, p.place.Column))
	return file, int(p.place.Line), int(p.place.Column)
}

// Problems is everything that is wrong in a site, in the order of its places.
// It is the error that Parse returns.
type Problems []Problem

// mostShown bounds how many problems are printed at once.
const mostShown = 20

func (ps Problems) Error() string {
	shown := make([]string, 0, len(ps))
	for i, p := range ps {
		if i == mostShown {
			shown = append(shown, fmt.Sprintf("and %d more problems", len(ps)-mostShown))
			break
		}
		shown = append(shown, p.Error())
	}
	return strings.Join(shown, "\n")
}

// With returns the problems and more of them, in order.
func (ps Problems) With(more ...Problem) Problems { return append(slices.Clone(ps), more...).sorted() }

func (ps Problems) sorted() Problems {
	slices.SortStableFunc(ps, func(a, b Problem) int {
		switch {
		case a.place.Before(b.place):
			return -1
		case b.place.Before(a.place):
			return 1
		}
		return strings.Compare(a.What, b.What)
	})
	return slices.Compact(ps) // a mistake in a profile is met once for each device
}
