package phrase

import (
	"maps"
	"slices"
	"strings"
)

// A device may keep a pattern of its own, by a name, and say elsewhere that something is like
// it. Such a template is read and never believed by itself: what is like it inherits what it
// does not say.

// inherit gives records what their templates say and they do not.
func (r *parser) inherit() {
	for _, o := range r.text.Records {
		for _, named := range o.Get("template") {
			t := r.known(Template, named.Text)
			if t == nil {
				r.note(o.facts["template"].Line, "%s is like the template %s, and the text has none", o, named.Text)
				continue
			}
			for _, field := range t.order {
				_, has := fields[o.About][field]
				f := t.facts[field]
				if f == nil || field == "name" || field == "template" || !has || o.facts[field] != nil {
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
func (r *parser) bind() {
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

// apart makes a way in for each of several that one section is of, such as "ssh telnet": each
// has what the section says, and those that its field open does not name are off.
func (r *parser) apart() {
	for _, w := range slices.Clone(r.text.Records) {
		several := strings.Fields(w.first("access"))
		if w.About != Way || len(several) == 0 || len(several) == 1 && w.facts["open"] == nil {
			continue
		}
		r.text.Records = slices.DeleteFunc(r.text.Records, func(o *Record) bool {
			return o == w || len(several) > 1 && o.About == List && strings.HasPrefix(o.ID, "of "+w.ID+" ")
		})
		delete(r.index, r.key(Way, w.ID))
		for _, access := range several {
			one := r.find(Way, strings.TrimSpace(access+" "+w.first("lines")), w.Line)
			for _, field := range w.order {
				f := w.facts[field]
				if own := r.known(List, "of "+w.ID+" "+field); own != nil {
					same := r.find(List, "of "+one.ID+" "+field, own.Line)
					same.facts, same.order = maps.Clone(own.facts), own.order
				}
				if f == nil || field == "access" || field == "open" || one.facts[field] != nil {
					continue
				}
				same := *f
				one.facts[field], one.order = &same, append(one.order, field)
			}
			one.facts["access"] = &Fact{Field: "access", Values: []Value{{Text: access}}, State: Said, Line: w.Line}
			one.order = append(one.order, "access")
			if open := w.facts["open"]; open != nil && one.facts["state"] == nil {
				state := "off"
				for _, v := range open.Values {
					if v.Text == "all" || slices.Contains(strings.Fields(v.Text), access) {
						state = "on"
					}
				}
				one.facts["state"] = &Fact{Field: "state", Values: []Value{{Text: state}}, State: Said, Line: open.Line}
				one.order = append(one.order, "state")
			}
		}
	}
}

// spread gives the servers of a group what it says of how they are asked, where they do not say
// it themselves.
func (r *parser) spread() {
	for _, g := range r.text.Records {
		for _, field := range []string{"network", "source", "interface"} {
			f := g.facts[field]
			if g.About != Group || f == nil {
				continue
			}
			for _, v := range g.Get("servers") {
				if s := r.known(Server, v.Text); s != nil && s.facts[field] == nil {
					inherited := *f
					inherited.State = Inherited
					s.facts[field], s.order = &inherited, append(s.order, field)
				}
			}
		}
	}
}
