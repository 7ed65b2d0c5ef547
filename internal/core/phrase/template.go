package phrase

import "slices"

// A device may keep a pattern of its own, by a name, and say elsewhere that something is like
// it. Such a template is read and never believed by itself: what is like it inherits what it
// does not say.

// inherit gives records what their templates say and they do not.
func (r *reading) inherit() {
	for _, o := range r.text.Records {
		for _, named := range o.Get("template") {
			t := r.known(Template, named.Text)
			if t == nil {
				r.note(o.facts["template"].Line, "%s is like the template %s, and the text has none", o, named.Text)
				continue
			}
			for _, field := range t.order {
				_, has := fields[o.About][field]
				purpose := o.About == Way && slices.Contains(purposes(), field)
				f := t.facts[field]
				if f == nil || field == "name" || field == "template" || !has && !purpose || o.facts[field] != nil {
					continue
				}
				inherited := *f
				inherited.State = Inherited
				o.facts[field] = &inherited
				if !slices.Contains(o.order, field) {
					o.order = append(o.order, field)
				}
			}
		}
	}
	r.text.Records = slices.DeleteFunc(r.text.Records, func(o *Record) bool { return o.About == Template })
}

// bind gives ways in the lists that say by themselves where they hold.
func (r *reading) bind() {
	for _, l := range r.text.Records {
		ways := l.facts["ways"]
		if l.About != List || ways == nil {
			continue
		}
		purpose, name := l.first("purpose"), l.first("name")
		for _, v := range ways.Values {
			w := r.known(Way, v.Text)
			if w == nil {
				w = r.find(Way, v.Text, ways.Line)
			}
			if w.facts[purpose] == nil {
				w.facts[purpose] = &Fact{Field: purpose, Values: []Value{{Text: name}}, State: Said, Line: ways.Line}
				w.order = append(w.order, purpose)
			}
		}
	}
}
