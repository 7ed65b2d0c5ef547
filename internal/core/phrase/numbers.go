package phrase

import (
	"slices"
	"strconv"
)

// numbers gives the values of lists that are ordered by number those that they have on the
// device, and new ones numbers between them.
func (p *planning) numbers(wanted []*Record) {
	for _, r := range wanted {
		for field := range r.facts {
			if !fields[r.About][field] {
				continue
			}
			held, levels := p.numbered(r, field)
			if held == nil {
				continue
			}
			r.facts[field].marks = marksFor(r.Get(field), held, levels)
		}
	}
}

// numberedValue is a value with its number on the device.
type numberedValue struct {
	mark  int
	value string
}

// numbered returns the values that the device has by number; alike reports whether all else
// that their lines say is as it is wanted.
func (p *planning) numbered(r *Record, field string) (numberedValues []numberedValue, alike bool) {
	alike = true
	for _, h := range p.held {
		if h.phrase.order != byMark || !h.record.same(r) || len(h.says[field]) == 0 || len(h.says["mark"]) == 0 {
			continue
		}
		n, _ := strconv.Atoi(h.says["mark"][0].Text)
		numberedValues = append(numberedValues, numberedValue{n, h.says[field][0].Text})
		for other, v := range h.says {
			if other != field && other != "mark" && r.facts[other] != nil && !r.facts[other].Values[0].equals(v[0]) {
				alike = false
			}
		}
	}
	slices.SortStableFunc(numberedValues, func(a, b numberedValue) int { return a.mark - b.mark })
	return numberedValues, alike
}

// marksFor numbers values: those that are held in this order keep theirs, and new ones stand
// between; where there is no room, or nothing is alike, all of them stand after what is held.
func marksFor(wanted []Value, held []numberedValue, alike bool) []int {
	most := 0
	for _, h := range held {
		most = max(most, h.mark)
	}
	after := make([]int, len(wanted))
	for i := range after {
		after[i] = (most/10 + 1 + i) * 10
	}
	if !alike {
		return after
	}
	marks, from := make([]int, len(wanted)), 0
	for i, v := range wanted { // keep in order
		for index := from; index < len(held); index++ {
			if held[index].value == v.Text {
				marks[i], from = held[index].mark, index+1
				break
			}
		}
	}
	taken := map[int]bool{}
	for _, h := range held {
		taken[h.mark] = true
	}
	last := 0
	for i := range marks {
		if marks[i] != 0 {
			last = marks[i]
			continue
		}
		next, room := most+10*(len(wanted)+1), 0
		gaps := 1
		for j := i + 1; j < len(marks); j++ {
			if marks[j] != 0 {
				next = marks[j]
				break
			}
			gaps++
		}
		step := max(1, (next-last)/(gaps+1))
		for room = last + step; room < next && taken[room]; room++ {
		}
		if room >= next {
			return after
		}
		marks[i], last = room, room
		taken[room] = true
	}
	return marks
}
