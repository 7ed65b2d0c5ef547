package phrase

import (
	"slices"
)

// order makes the steps that bring values which stand one a line into their order: those that
// stand too early are taken back and said again, and one of them always stands.
func (p *planning) order() {
	done := map[*phrase]map[string]bool{}
	for _, w := range p.wanted {
		field := w.phrase.appends()
		if field == "" || done[w.phrase][w.record.ID] {
			continue
		}
		if done[w.phrase] == nil {
			done[w.phrase] = map[string]bool{}
		}
		done[w.phrase][w.record.ID] = true
		var want []*wantedLine
		for _, o := range p.wanted {
			if o.phrase == w.phrase && o.record == w.record && len(o.says[field]) > 0 {
				want = append(want, o)
			}
		}
		p.bring(field, want)
	}
}

// appends returns the field of which each line of a phrase adds a value at the end, "" for none.
func (p *phrase) appends() (field string) {
	if p.order == byMark || p.again == againReplaces {
		return ""
	}
	p.say.Holes(func(hole, _ string, many bool) {
		if fields[p.about][hole] && !many {
			field = hole
		}
	})
	return field
}

func (p *planning) bring(field string, want []*wantedLine) {
	value := func(says map[string][]Value) string { return says[field][0].Text }
	var lines []*heldLine // as they stand once what is missing was added
	for _, h := range p.held {
		if h.phrase == want[0].phrase && h.record.same(want[0].record) && len(h.says[field]) > 0 {
			lines = append(lines, h)
		}
	}
	if len(lines) == 0 || len(want) == 0 {
		return
	}
	for _, w := range want {
		if !slices.ContainsFunc(lines, func(h *heldLine) bool { return value(h.says) == value(w.says) }) {
			lines = append(lines, &w.heldLine)
		}
	}
	keep, from := map[*heldLine]bool{}, 0
	kept := 0
	for ; kept < len(want); kept++ {
		index := slices.IndexFunc(lines[from:], func(h *heldLine) bool {
			return value(h.says) == value(
				want[kept].says)
		})
		if index < 0 {
			break
		}
		keep[lines[from+index]] = true
		from += index + 1
	}
	for _, h := range lines {
		p.used[h] = true
		if keep[h] {
			continue
		}
		s := Step{Phase: Removes, Record: p.named(h.record), chain: "order of " + h.record.ID}
		words := p.spoken(h)
		back := p.takeBack(h, words)
		if back == nil {
			p.stays(h)
			continue
		}
		s.Lines = []*Sentence{p.inSection(want[0].parent, back)}
		s.Undo = []*Sentence{p.inSection(want[0].parent, &Sentence{Record: h.record, phrase: h.phrase, words: words})}
		p.plan.Steps = append(p.plan.Steps, s)
	}
	for _, w := range want[kept:] {
		p.plan.Steps = append(p.plan.Steps, Step{Phase: Removes, Record: w.record,
			chain: "order of " + w.record.ID,
			Lines: []*Sentence{p.inSection(w.parent, &Sentence{
				Record: w.record, phrase: w.phrase, words: w.sentence.words})},
			Undo: []*Sentence{p.inSection(w.parent, p.takeBack(&w.heldLine, w.sentence.words))}})
	}
}
