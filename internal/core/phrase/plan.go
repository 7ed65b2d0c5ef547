package phrase

import (
	"cmp"
	"slices"
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
	index := slices.Index(order, s.Record.About)
	if s.Phase == Removes {
		return 2*len(order) - index
	}
	return index
}

// After returns the text of the device once some of the steps were typed: each line holds
// from then on, as the last one that says it.
func (p *Plan) After(steps int) (string, error) { return p.after(p.Steps[:steps]) }

func (p *Plan) after(steps []Step) (string, error) {
	var b strings.Builder
	end := ""
	for line := range strings.Lines(p.held) {
		if p.book.isEnd(line) {
			end = strings.TrimRight(line, "\r\n") + "\n"
			break
		}
		b.WriteString(strings.TrimRight(line, "\r\n") + "\n")
	}
	for _, s := range steps {
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
func inlined(records []*Record) []*Record {
	own := map[*Record]bool{}
	for _, w := range records {
		if w.About != Way {
			continue
		}
		for _, purpose := range purposes() {
			if w.first(purpose) != OwnList {
				continue
			}
			for _, l := range records {
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
	return slices.DeleteFunc(records, func(r *Record) bool { return own[r] })
}

// HasSecret reports whether a line of the step has a secret.
func (s Step) HasSecret() bool {
	var has func([]*Sentence) bool
	has = func(sentences []*Sentence) bool {
		return slices.ContainsFunc(sentences, func(o *Sentence) bool {
			return slices.ContainsFunc(o.words, func(w spoken) bool { return w.secret }) || has(o.Below)
		})
	}
	return has(s.Lines)
}
