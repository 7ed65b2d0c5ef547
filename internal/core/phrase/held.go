package phrase

import (
	"io"
	"maps"
	"slices"
)

// same reports whether two records are of the same thing.
func (r *Record) same(o *Record) bool {
	return r == o || o != nil && r.About == o.About && r.ID == o.ID
}

// within reports whether a line stands in the section of a record that is taken back by
// another line.
func (h *heldLine) within(back *heldLine) bool {
	for o := h.above; o != nil; o = o.above {
		if o.phrase == back.phrase && o.record.same(back.record) && o.saysSame(back) {
			return true
		}
	}
	return false
}

// holesOf are the values that the words of a phrase say; what only its conditions say is the
// phrase itself.
func (p *phrase) holesOf(says map[string][]Value) map[string][]Value {
	for field := range says {
		if p.where[field] != nil && !p.has(field) {
			delete(says, field)
		}
	}
	return says
}

// closes reports whether a line closes a way in.
func (h *heldLine) closes() bool {
	if state := h.says["state"]; len(state) > 0 {
		return state[0].Text == "off"
	}
	return slices.Contains(h.phrase.where["state"], "off")
}

// saysSame reports whether two lines of a phrase say the same; a secret that is hidden is
// the same as any.
func (h *heldLine) saysSame(o *heldLine) bool { return sameValues(h.says, o.says) }

func sameValues(a, b map[string][]Value) bool {
	return maps.EqualFunc(a, b, func(x, y []Value) bool {
		return slices.EqualFunc(x, y, func(v, w Value) bool {
			return v.Secret == Hidden || w.Secret == Hidden || v.equals(w)
		})
	})
}

// replacedBy reports whether a line holds no more once another was typed: it says one value
// of a thing, and the other says another one.
func (h *heldLine) replacedBy(o *heldLine) bool {
	return h.phrase == o.phrase && h.record.same(o.record) && h.phrase.replaces() && !h.opensSection() &&
		slices.Equal(h.says["mark"], o.says["mark"]) && slices.Equal(h.says["purpose"], o.says["purpose"])
}

// opensSection reports whether others may stand below a line.
func (h *heldLine) opensSection() bool { return len(h.phrase.below) > 0 }

// replaces reports whether a second line of a phrase about the same thing replaces the first.
func (p *phrase) replaces() bool {
	adds := false
	p.say.Holes(func(hole, _ string, _ bool) { adds = adds || fields[p.about][hole] })
	return !adds || p.again == againReplaces || p.order == byMark
}

// sectionHeld returns the line that opened the same section before, nil for none.
func (r *parser) sectionHeld(h *heldLine) *heldLine {
	if !h.opensSection() {
		return nil
	}
	for _, o := range r.kept {
		if o.phrase == h.phrase && o.record.same(h.record) {
			return o
		}
	}
	return nil
}

// readHeld reads a text and keeps the lines that say something.
func (b *Book) readHeld(text io.Reader) (*Text, []*heldLine, error) {
	r := b.newParser(nil)
	r.keeps = true
	if err := r.all(text); err != nil {
		return nil, nil, err
	}
	return r.text, r.kept, nil
}
