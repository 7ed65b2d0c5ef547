package phrase

import (
	"fmt"
	"maps"
	"slices"
)

// wantedLine is a sentence of the design with the section that it stands in.
type wantedLine struct {
	heldLine
	sentence *Sentence
	parent   *wantedLine
}

// planning is a plan in the making: what is held, and what is wanted.
type planning struct {
	book   *Book
	held   []*heldLine
	wanted []*wantedLine
	used   map[*heldLine]bool
	same   Same
	plan   *Plan
}

func (p *planning) flatten(sentences []*Sentence, parent *wantedLine, above *Record) {
	for _, s := range sentences {
		w := &wantedLine{sentence: s, parent: parent}
		w.phrase = s.phrase
		w.record = s.Record
		w.words = typedWords(s.words)
		if parent != nil {
			w.above = &parent.heldLine
		}
		says, reads := p.book.read(s.phrase, w.words, above)
		if !reads { // a phrase that does not read what it says
			says = maps.Clone(s.says)
		}
		w.says = s.phrase.holesOf(says)
		p.wanted = append(p.wanted, w)
		p.flatten(s.Below, w, s.Record)
	}
}

// matches reports whether a device holds a line already.
func (p *planning) matches(h *heldLine, w *wantedLine) bool {
	if h.phrase != w.phrase || !h.record.same(w.record) || len(h.says) != len(w.says) {
		return false
	}
	for field, held := range h.says {
		wanted := w.says[field]
		if len(held) != len(wanted) {
			return false
		}
		for i := range held {
			secret := secretFields[field] || held[i].Secret != Open
			if secret && !p.same(field, held[i], wanted[i]) || !secret && !held[i].equals(wanted[i]) {
				return false
			}
		}
	}
	return true
}

// add makes the steps of what is not held.
func (p *planning) add() {
	steps := map[*wantedLine]*Step{} // by the line that opens the section, or the first of the thing
	firstOf := map[*Record]*wantedLine{}
	var order []*Step
	for _, w := range p.wanted {
		index := slices.IndexFunc(p.held, func(h *heldLine) bool { return !p.used[h] && p.matches(h, w) })
		if index >= 0 {
			p.used[p.held[index]] = true
			continue
		}
		var before []*heldLine
		for _, h := range p.held {
			opens := h.opensSection() && h.phrase == w.phrase && h.record.same(w.record)
			if !p.used[h] && (h.replacedBy(&w.heldLine) || opens) {
				p.used[h] = true
				before = append(before, h)
			}
		}
		top := w
		for top.parent != nil {
			top = top.parent
		}
		if first := firstOf[w.record]; w.parent == nil && !w.alone() {
			if first == nil {
				first = w
				firstOf[w.record] = w
			}
			top = first
		}
		s := steps[top]
		phase := w.phase()
		if s == nil || phase != s.Phase {
			s = &Step{Phase: phase, Record: top.record}
			steps[top] = s
			order = append(order, s)
		}
		s.Unseen = s.Unseen || !slices.ContainsFunc(p.held, func(h *heldLine) bool { return h.phrase == w.phrase })
		s.Lines = append(s.Lines,
			p.inSection(w.parent, &Sentence{Record: w.record, phrase: w.phrase, words: w.sentence.words}))
		p.undo(s, w, before)
	}
	for _, s := range order {
		s.Lines = merged(s.Lines)
		s.Undo = merged(s.Undo)
		p.plan.Steps = append(p.plan.Steps, *s)
	}
}

// phase returns when a line is typed.
func (w *wantedLine) phase() Phase {
	switch {
	case w.closes(), w.record.About == Way && w.record.first("state") == "off":
		return Removes
	case w.record.About == Way:
		return Binds
	}
	return Adds
}

// alone reports whether a line is a step by itself: the entries of lists are.
func (w *wantedLine) alone() bool { return w.record.About == List || w.record.About == Way }

// inSection returns a line within the lines that open its section.
func (p *planning) inSection(parent *wantedLine, s *Sentence) *Sentence {
	for o := parent; o != nil; o = o.parent {
		s = &Sentence{Record: o.record, phrase: o.phrase, words: o.sentence.words, Below: []*Sentence{s}}
	}
	return s
}

// inSectionOf returns a line within the lines that open the section of a held one.
func (p *planning) inSectionOf(h *heldLine, s *Sentence) *Sentence {
	for o := h.above; o != nil; o = o.above {
		words := p.spoken(o)
		for _, w := range p.wanted { // it may be opened in other words by then
			if w.phrase == o.phrase && w.record.same(o.record) {
				words = w.sentence.words
			}
		}
		s = &Sentence{Record: o.record, phrase: o.phrase, words: words, Below: []*Sentence{s}}
	}
	return s
}

// spoken returns the words of a held line.
func (p *planning) spoken(h *heldLine) (spokenWords []spoken) {
	secret := p.book.secretWords(h.phrase, h.words)
	for _, w := range h.words {
		spokenWords = append(spokenWords, spoken{text: w, secret: slices.Contains(secret, w)})
	}
	return spokenWords
}

// undo notes what takes a line back: what stood there before, or the line itself.
func (p *planning) undo(s *Step, w *wantedLine, before []*heldLine) {
	if w.parent != nil && slices.ContainsFunc(s.Lines, func(o *Sentence) bool {
		return len(before) == 0 && o.phrase == w.parent.phrase && o.Record == w.parent.record && len(o.Below) == 0
	}) {
		return // its section is new, and goes whole
	}
	for _, h := range before {
		if h.hides() {
			s.Stuck = fmt.Sprintf("the device hides what %s had before", h.record)
			continue
		}
		s.Undo = append([]*Sentence{p.inSectionOf(h, &Sentence{
			Record: h.record, phrase: h.phrase, words: p.spoken(h)})},
			s.Undo...)
	}
	if len(before) > 0 {
		return
	}
	if back := p.takeBack(&w.heldLine, w.sentence.words); back != nil {
		s.Undo = append([]*Sentence{p.inSection(w.parent, back)}, s.Undo...)
	} else {
		s.Stuck = "the phrasebook has no words that take it back"
	}
}

// hides reports whether a line has a secret that the device does not show.
func (h *heldLine) hides() bool {
	for _, values := range h.says {
		for _, v := range values {
			if v.Secret == Hidden || v.Secret == Mark {
				return true
			}
		}
	}
	return false
}

// takeBack returns what takes a line back, nil where nothing does.
func (p *planning) takeBack(h *heldLine, words []spoken) *Sentence {
	s := &Sentence{Record: h.record}
	if len(h.phrase.undo.Elements) > 0 {
		of := NewRecord(h.record.About, h.says)
		f := &filling{book: p.book, record: of, used: map[string]bool{}}
		if filled, ok := f.fill(h.phrase.undo); ok {
			s.words = filled
			return s
		}
		return nil
	}
	for back, instead := range p.book.layout.takeBack {
		switch {
		case instead == "":
			s.words = append([]spoken{{text: back}}, words...)
			return s
		case len(words) > 0 && p.book.layout.same(words[0].text, instead):
			s.words = append([]spoken{{text: back}}, words[1:]...)
			return s
		}
	}
	return nil
}

// merged joins lines of the same section that follow each other.
func merged(sentences []*Sentence) (out []*Sentence) {
	for _, s := range sentences {
		if n := len(out); n > 0 && out[n-1].phrase != nil && out[n-1].phrase == s.phrase &&
			out[n-1].Record.same(s.Record) &&
			len(s.Below) > 0 && out[n-1].phrase.below != nil {
			out[n-1].Below = merged(append(slices.Clone(out[n-1].Below), s.Below...))
			continue
		}
		out = append(out, s)
	}
	return out
}

// leftAlone are the fields that a device says of itself and a design does not.
var leftAlone = []string{"name", "address", "interface", "active", "protocol"}

// remove makes the steps of what is held and not wanted.
func (p *planning) remove() {
	for _, h := range p.held {
		if p.used[h] || h.above != nil && h.above.goes(p) || h.record.About == Interface || h.record.About == Template {
			continue
		}
		if h.record.About == Device && !slices.ContainsFunc(sortedFields(h.says), func(f string) bool {
			return !slices.Contains(leftAlone, f)
		}) {
			continue
		}
		back := p.takeBack(h, p.spoken(h))
		if back == nil {
			p.stays(h)
			continue
		}
		s := Step{Phase: Removes, Record: p.named(h.record), Lines: []*Sentence{p.inSectionOf(h, back)}}
		if h.closes() { // it opens a way in
			s.Phase = Binds
		}
		if s.Undo = p.again(h); s.Undo == nil {
			s.Stuck = fmt.Sprintf("the device hides what %s had before", h.record)
		}
		p.plan.Steps = append(p.plan.Steps, s)
	}
}

func sortedFields(says map[string][]Value) (all []string) {
	for f := range says {
		all = append(all, f)
	}
	slices.Sort(all)
	return all
}

// goes reports whether a line, or one above it, is taken back.
func (h *heldLine) goes(p *planning) bool {
	return !p.used[h] && p.takeBack(h, p.spoken(h)) != nil || h.above != nil && h.above.goes(p)
}

func (p *planning) stays(h *heldLine) {
	s := &Sentence{words: p.spoken(h)}
	p.plan.Stays = append(p.plan.Stays, fmt.Sprintf("line %d: %s", h.line, s.Shown()))
}

// again returns what says a held line again, with all below it; nil where the device hides a
// part of it.
func (p *planning) again(h *heldLine) []*Sentence {
	var of func(*heldLine) (*Sentence, bool)
	of = func(h *heldLine) (*Sentence, bool) {
		s := &Sentence{Record: h.record, phrase: h.phrase, words: p.spoken(h)}
		hides := h.hides()
		for _, o := range p.held {
			if o.above == h {
				below, hidden := of(o)
				s.Below, hides = append(s.Below, below), hides || hidden
			}
		}
		return s, hides
	}
	s, hides := of(h)
	if hides {
		return nil
	}
	return []*Sentence{p.inSectionOf(h, s)}
}

// named returns the wanted record of a thing, which has its name in the site, or the one that
// is held.
func (p *planning) named(r *Record) *Record {
	for _, w := range p.wanted {
		if w.record.same(r) {
			return w.record
		}
	}
	return r
}
