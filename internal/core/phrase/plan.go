package phrase

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Phase is what a step of a plan is for. They stand in the order in which nobody is locked
// out: what is new comes first, and what nobody uses any more goes last.
type Phase string

// The phases of a plan, in order.
const (
	Adds    Phase = "add"    // accounts, servers, groups and lists that are not there yet, or are otherwise
	Binds   Phase = "bind"   // ways in take their lists, or are opened
	Removes Phase = "remove" // what the design does not have
)

// Step is what is typed at once: a line, or the lines of a section.
type Step struct {
	Phase  Phase
	Record *Record
	Lines  []*Sentence
	Undo   []*Sentence // in the order in which they are typed; nil where it cannot be undone
	Stuck  string      // why it cannot be undone, "" where it can
	chain  string      // steps of one chain keep their order, "" for none
	Unseen bool        // no line of the text was of the form of one of these
	Unsafe bool        // once it is typed, and until the next is, somebody is locked out
}

// Plan is the way from what a device holds to what it should have.
type Plan struct {
	Steps []Step
	Left  []Unsaid // of the design, that the make has no words for
	Stays []string // lines of the device that nothing takes back
	book  *Book
	held  string
}

// Same reports whether a secret that a device holds can be the one that is wanted.
type Same func(field string, held, wanted Value) bool

// Plan returns the steps from what a text says to wanted records: no line for what is held
// already, what is new first, and what is not wanted last. The error is that of reading.
func (b *Book) Plan(held string, wanted []*Record, same Same) (*Plan, error) {
	_, lines, err := b.readHeld(strings.NewReader(held))
	if err != nil {
		return nil, err
	}
	p := &planning{book: b, held: lines, same: same, used: map[*heldLine]bool{}, plan: &Plan{book: b, held: held}}
	p.numbers(wanted)
	sentences, left := b.Write(wanted)
	p.plan.Left = left
	p.flatten(sentences, nil, nil)
	p.add()
	p.order()
	p.remove()
	slices.SortStableFunc(p.plan.Steps, func(x, y Step) int { return cmp.Compare(x.rank(), y.rank()) })
	return p.plan, nil
}

// rank orders the steps: what others name comes before them, and goes after them.
func (s Step) rank() int {
	order := []About{Account, Secret, Interface, Server, Device, Group, List, Way}
	at := slices.Index(order, s.Record.About)
	if s.Phase == Removes {
		return 2*len(order) - at
	}
	return at
}

// wanting is a sentence with where it stands.
type wantedLine struct {
	heldLine
	sentence *Sentence
	parent   *wantedLine
}

type planning struct {
	book   *Book
	held   []*heldLine
	wanted []*wantedLine
	used   map[*heldLine]bool
	same   Same
	plan   *Plan
}

func (p *planning) flatten(all []*Sentence, parent *wantedLine, above *Record) {
	for _, s := range all {
		w := &wantedLine{sentence: s, parent: parent}
		w.phrase, w.record, w.words = s.phrase, s.Record, typedWords(s.words)
		if parent != nil {
			w.above = &parent.heldLine
		}
		says, _ := p.book.read(s.phrase, w.words, above)
		w.says = s.phrase.holesOf(says)
		p.wanted = append(p.wanted, w)
		p.flatten(s.Below, w, s.Record)
	}
}

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
func (p *planning) numbered(r *Record, field string) (all []numberedValue, alike bool) {
	alike = true
	for _, h := range p.held {
		if h.phrase.order != byMark || !h.record.same(r) || len(h.says[field]) == 0 {
			continue
		}
		n, _ := strconv.Atoi(h.says["mark"][0].Text)
		all = append(all, numberedValue{n, h.says[field][0].Text})
		for other, v := range h.says {
			if other != field && other != "mark" && r.facts[other] != nil && !r.facts[other].Values[0].equals(v[0]) {
				alike = false
			}
		}
	}
	slices.SortStableFunc(all, func(a, b numberedValue) int { return a.mark - b.mark })
	return all, alike
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
		for at := from; at < len(held); at++ {
			if held[at].value == v.Text {
				marks[i], from = held[at].mark, at+1
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
		at := slices.IndexFunc(p.held, func(h *heldLine) bool { return !p.used[h] && p.matches(h, w) })
		if at >= 0 {
			p.used[p.held[at]] = true
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
func (p *planning) spoken(h *heldLine) (all []spoken) {
	secret := p.book.secretWords(h.phrase, h.words)
	for _, w := range h.words {
		all = append(all, spoken{text: w, secret: slices.Contains(secret, w)})
	}
	return all
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
		s.Undo = append([]*Sentence{p.inSectionOf(h, &Sentence{Record: h.record, phrase: h.phrase, words: p.spoken(h)})},
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
	if len(h.phrase.undo.elements) > 0 {
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
func merged(all []*Sentence) (out []*Sentence) {
	for _, s := range all {
		if n := len(out); n > 0 && out[n-1].phrase != nil && out[n-1].phrase == s.phrase && out[n-1].Record.same(s.Record) &&
			len(s.Below) > 0 && out[n-1].phrase.below != nil {
			out[n-1].Below = merged(append(slices.Clone(out[n-1].Below), s.Below...))
			continue
		}
		out = append(out, s)
	}
	return out
}

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
			if o.phrase == w.phrase && o.record == w.record {
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
	p.say.holes(func(hole, _ string, many bool) {
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
	if len(lines) == 0 {
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
		at := slices.IndexFunc(lines[from:], func(h *heldLine) bool { return value(h.says) == value(want[kept].says) })
		if at < 0 {
			break
		}
		keep[lines[from+at]] = true
		from += at + 1
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
			Lines: []*Sentence{p.inSection(w.parent, &Sentence{Record: w.record, phrase: w.phrase, words: w.sentence.words})},
			Undo:  []*Sentence{p.inSection(w.parent, p.takeBack(&w.heldLine, w.sentence.words))}})
	}
}

// kept are what a device says of itself and a design does not.
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

// After returns the text of the device once some of the steps were typed: each line holds
// from then on, as the last one that says it.
func (p *Plan) After(steps int) (string, error) {
	var b strings.Builder
	end := ""
	for line := range strings.Lines(p.held) {
		if p.book.isEnd(line) {
			end = strings.TrimRight(line, "\r\n") + "\n"
			break
		}
		b.WriteString(strings.TrimRight(line, "\r\n") + "\n")
	}
	for _, s := range p.Steps[:steps] {
		lines, err := p.book.Text(s.Lines, true)
		if err != nil {
			return "", err
		}
		for _, line := range lines {
			b.WriteString(line + "\n")
		}
	}
	return b.String() + end, nil
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

// Back returns the steps from what a text says to what an earlier one said. Secrets that
// either hides are taken for the same.
func (b *Book) Back(now, before string) (*Plan, error) {
	text, _, err := b.readHeld(strings.NewReader(before))
	if err != nil {
		return nil, err
	}
	for _, r := range text.Records {
		for field, f := range r.facts { // what no line said is not said again
			if f.State != Said {
				delete(r.facts, field)
			}
		}
		r.order = slices.DeleteFunc(r.order, func(field string) bool { return r.facts[field] == nil })
	}
	text.Records = inlined(text.Records)
	return b.Plan(now, text.Records, func(_ string, held, wanted Value) bool {
		return held.Secret != wanted.Secret || held.Secret != Clear || held.Text == wanted.Text
	})
}

// inlined gives ways in the methods of the lists that stand in their own sections.
func inlined(all []*Record) []*Record {
	own := map[*Record]bool{}
	for _, w := range all {
		if w.About != Way {
			continue
		}
		for _, purpose := range purposes() {
			if w.first(purpose) != OwnList {
				continue
			}
			for _, l := range all {
				if l.About == List && l.ID == "of "+w.ID+" "+purpose {
					own[l] = true
					w.facts[Inline(purpose)] = l.facts["methods"]
					w.order = append(w.order, Inline(purpose))
				}
			}
			delete(w.facts, purpose)
			w.order = slices.DeleteFunc(w.order, func(field string) bool { return field == purpose })
		}
	}
	return slices.DeleteFunc(all, func(r *Record) bool { return own[r] })
}

// HasSecret reports whether a line of the step has a secret.
func (s Step) HasSecret() bool {
	var has func([]*Sentence) bool
	has = func(all []*Sentence) bool {
		return slices.ContainsFunc(all, func(o *Sentence) bool {
			return slices.ContainsFunc(o.words, func(w spoken) bool { return w.secret }) || has(o.Below)
		})
	}
	return has(s.Lines)
}
