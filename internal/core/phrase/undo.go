package phrase

import (
	"slices"
)

// undone takes back what a line says that undoes another by a phrase of its own: all of a
// thing, or what one phrase says of it. It reports whether the line is one.
func (r *parser) undone(s statement, candidates []*phrase, of *Record) (means string, found bool) {
	for _, p := range candidates {
		have, fits := r.book.match(p.undo, s.words)
		if len(p.undo.Elements) == 0 || !fits {
			continue
		}
		target := of
		if p.own || of == nil {
			values := map[string][]Value{}
			for _, h := range have {
				if v, ok := r.book.valueOf(h.Hole, h.As, h.Words); ok {
					values[h.Hole] = []Value{v}
				}
			}
			for field, wanted := range p.where {
				if values[field] == nil {
					values[field] = []Value{{Text: wanted[0]}}
				}
			}
			target = r.byParts(p.about, values)
			if target == nil {
				r.note(s.line, "it takes back a %s, of which no line before it speaks", p.about)
				return "", true
			}
			r.forget(target)
		} else {
			r.unsay(p, target)
		}
		for _, h := range r.kept {
			h.gone = h.gone || h.phrase == p && h.record.same(target)
		}
		r.kept = slices.DeleteFunc(r.kept, func(h *heldLine) bool { return h.gone || h.above != nil && h.above.gone })
		return "taken back: " + target.String(), true
	}
	return "", false
}

// byParts returns the record that has these values as part of what tells it from others; nil
// for none.
func (r *parser) byParts(about About, values map[string][]Value) *Record {
	for _, o := range r.text.Records {
		same := o.About == about
		for field, v := range values {
			same = same && r.book.layout.same(o.first(field), v[0].Text)
		}
		if same {
			return o
		}
	}
	return nil
}

// unsay drops what one phrase says of a thing.
func (r *parser) unsay(p *phrase, record *Record) {
	for _, purpose := range p.lists {
		if list := r.known(List, "of "+record.ID+" "+purpose); list != nil {
			r.forget(list)
		}
		delete(record.facts, purpose)
	}
	p.say.Holes(func(hole, _ string, _ bool) { delete(record.facts, hole) })
}
