package inventory

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mellowgate/internal/core/site"
)

// lineSpan is a range of lines that one way in has.
type lineSpan struct {
	site.Range
	of *way
}

// mostLine is the highest number of a line that a site has.
const mostLine = 4095

// spans cuts the ranges of ways in apart: what stands later takes its lines out of what
// stands earlier, and a way in without lines has those that are left.
func spans(ways []*way, note func(*way, string)) (lineSpans []lineSpan) {
	ordered := slices.Clone(ways)
	slices.SortStableFunc(ordered, func(a, b *way) int { // one without lines first
		return min(1, len(a.lines)) - min(1, len(b.lines))
	})
	for _, x := range ordered {
		r := site.Range{Low: 0, High: mostLine}
		if x.lines != "" {
			low, high, ok := strings.Cut(x.lines, "-")
			a, errA := strconv.Atoi(low)
			b, errB := strconv.Atoi(high)
			if !ok {
				b, errB = a, errA
			}
			if errA != nil || errB != nil || a > b || b > mostLine {
				note(x, fmt.Sprintf("its lines are %q; a range such as 0-4 is wanted, so they are left out", x.lines))
				continue
			}
			r = site.Range{Low: a, High: b}
		}
		var left []lineSpan
		for _, s := range lineSpans {
			if s.Low < r.Low {
				left = append(left, lineSpan{site.Range{Low: s.Low, High: min(s.High, r.Low-1)}, s.of})
			}
			if s.High > r.High {
				left = append(left, lineSpan{site.Range{Low: max(s.Low, r.High+1), High: s.High}, s.of})
			}
		}
		lineSpans = append(left, lineSpan{r, x})
	}
	slices.SortFunc(lineSpans, func(a, b lineSpan) int { return a.Low - b.Low })
	return lineSpans
}

// access writes one way in, "" where the device has none of it, and the line that says so.
func (d *Device) access(w *writing, name string) (text string, line int) {
	var all, open []*way
	lined := false
	for _, x := range d.ways {
		if x.access == name {
			all = append(all, x)
			lined = lined || x.lines != ""
		}
	}
	if open = slices.DeleteFunc(slices.Clone(all), func(x *way) bool { return x.off }); len(open) == 0 {
		if len(all) == 0 {
			return "", 0
		}
		return "off", all[0].line
	}
	if !lined {
		return open[len(open)-1].write(d.active, ""), open[len(open)-1].line
	}
	var entries []string
	for _, s := range spans(all, func(x *way, what string) { w.note(d.File, x.line, "%s", what) }) {
		if !s.of.off {
			entries = append(entries, s.of.write(d.active, s.Range.String()))
		}
	}
	return "[" + strings.Join(entries, ", ") + "]", open[0].line
}

// write writes a way in.
func (x *way) write(active bool, lines string) string {
	var p pairs
	p.text("lines", lines)
	if active {
		p = append(p, binds(x.lists)...)
	}
	if len(x.from) > 0 {
		p.add("from", sequence(x.from))
	}
	return p.String()
}
