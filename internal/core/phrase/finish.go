package phrase

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"mellowgate/internal/core/nearest"
)

// finish fills in what no line says, and checks that every name leads somewhere.
func (r *parser) finish() {
	t := r.text
	t.Version = r.version.String()
	switch l := r.lines; {
	case l.until != "":
		r.broken = true
		r.note(l.since, "the text that begins here and is not looked into has no end")
	case l.depth > 0 && (l.layout.sections == byBraces || l.layout.sections == byEndWord):
		r.broken = true
		r.note(l.since, "the section that begins here has no end: the text may be cut off")
	case l.closed:
		r.broken = true
		r.note(0, "a section is closed that none had opened: the beginning may be cut off")
	}
	t.Cut = r.broken || len(r.book.layout.end.Elements) > 0 && !r.ended
	t.Whole = t.Counts[NotUnderstood] == 0 && !r.after && !r.broken
	switch {
	case len(r.book.layout.end.Elements) > 0 && !r.ended:
		t.Whole = false
		r.note(0, "the end of the text (%s) was not seen: it may be cut off, so nothing follows from what it does "+
			"not say", r.book.layout.end.Text)
	case t.Counts[NotUnderstood] > 0:
		r.note(0, "some lines were not understood, so nothing follows from what the text does not say")
	}
	if len(t.Records) == 0 && t.Counts[NotUnderstood] == 0 {
		r.note(0, "no line of it is of the territory: it may be of another make than %s", r.book.Make)
	}
	r.members()
	r.inherit()
	r.apart()
	r.bind()
	r.spread()
	for _, e := range r.book.every { // of the servers that are said, whether or not there are more
		r.everyServer(e)
	}
	if t.Whole {
		r.implied()
	}
	r.protocols()
	r.lead()
	slices.SortStableFunc(t.Records, func(a, b *Record) int {
		return cmp.Compare(slices.Index(aboutOrder, a.About), slices.Index(aboutOrder, b.About))
	})
}

// members lets a group name its servers by whatever tells one from another: its name, or its
// address where there is one server at that.
func (r *parser) members() {
	by := map[string][]*Record{}
	for _, s := range r.text.Records {
		if s.About != Server {
			continue
		}
		for _, field := range []string{"name", "address"} {
			if v := s.first(field); v != "" && v != s.ID {
				by[r.book.layout.folded(v)] = append(by[r.book.layout.folded(v)], s)
			}
		}
	}
	for _, g := range r.text.Records {
		if g.About != Group || g.facts["servers"] == nil {
			continue
		}
		for i, v := range g.facts["servers"].Values {
			if are := by[r.book.layout.folded(v.Text)]; r.known(Server, v.Text) == nil && len(are) == 1 {
				g.facts["servers"].Values[i].Text = are[0].ID
			}
		}
	}
}

// protocols gives a group the protocol of its servers, where they have one.
func (r *parser) protocols() {
	for _, g := range r.text.Records {
		if g.About != Group || g.facts["protocol"] != nil {
			continue
		}
		one, alike := "", true
		for _, s := range g.Get("servers") {
			if server := r.known(Server, s.Text); server != nil {
				p := server.first("protocol")
				if one != "" && p != one {
					r.note(g.Line, "%s has servers of two protocols, %s and %s", g, one, p)
					alike = false
				}
				one = p
			}
		}
		if one != "" && alike {
			g.facts["protocol"] = &Fact{Field: "protocol", Values: []Value{{Text: one}}, State: Implied}
			g.order = append(g.order, "protocol")
		}
	}
}

// lead notes the names that lead nowhere.
func (r *parser) lead() {
	names := map[About][]string{}
	for _, o := range r.text.Records {
		names[o.About] = append(names[o.About], o.ID)
	}
	check := func(from *Record, line int, about About, id string) {
		every := slices.ContainsFunc(r.book.every, func(e every) bool { return about == Group && e.group == id })
		if r.known(about, id) == nil && !every {
			near, meant := nearest.Word(id, names[about])
			if meant {
				near = "; did you mean the " + (&Record{About: about, ID: near}).String() + "?"
			}
			r.note(line, "%s names the %s, and the text has none%s", from, &Record{About: about, ID: id}, near)
			r.text.Notes[len(r.text.Notes)-1].nowhere = true
		}
	}
	for _, o := range r.text.Records {
		for _, field := range o.order {
			f := o.facts[field]
			for i, v := range valuesOf(f) {
				line := f.Line
				if i < len(f.lines) {
					line = f.lines[i]
				}
				group, names := strings.CutPrefix(v.Text, "group ")
				switch {
				case o.About == Group && field == "servers":
					check(o, line, Server, v.Text)
				case o.About == List && field == "methods" && names:
					check(o, line, Group, group)
				case o.About == Way && slices.Contains(purposes(), field) && v.Text != OwnList:
					check(o, line, List, v.Text+" "+field)
				}
			}
		}
	}
}

func valuesOf(f *Fact) []Value {
	if f == nil {
		return nil
	}
	return f.Values
}

// OwnList is the value of a purpose of a way whose list stands in its own section.
const OwnList = "a list of its own"

// implied fills in what the phrasebook says of what is unsaid.
func (r *parser) implied() {
	for _, u := range r.book.defaultRules {
		if u.about == Device {
			r.find(Device, u.which, 0)
		}
		if u.about == Way && u.which != "" && u.field == "state" && !r.speaksOf(u.which) {
			r.find(Way, u.which, 0)
		}
		if u.when.bounded() && r.version == nil {
			if what := string(u.about) + "." + u.field; !r.unaware[what] {
				r.unaware[what] = true
				r.note(0, "what holds of %s where no line says it depends on the version, and no line says that: "+
					"give it with -version", what)
			}
			continue
		}
		if u.when.bounded() && !u.when.has(r.version) {
			continue
		}
		for _, record := range r.text.Records {
			if record.About == u.about && record.facts[u.field] == nil && u.holdsFor(record) {
				r.imply(record, u)
			}
		}
	}
}

// speaksOf reports whether a line speaks of ways in by an access.
func (r *parser) speaksOf(access string) bool {
	return slices.ContainsFunc(r.text.Records,
		func(o *Record) bool { return o.About == Way && o.first("access") == access })
}

// holdsFor reports whether what is unsaid is meant for a record.
func (u defaultRule) holdsFor(record *Record) bool {
	switch {
	case u.about == Device: // what it says for one protocol is a record of its own
		return record.ID == u.which
	case u.which == "":
		return true
	case u.about == Way && u.field == "state":
		return record.first("access") == u.which || record.ID == u.which && record.Line == 0
	}
	return slices.Contains([]string{record.first("protocol"), record.first("purpose"), record.first("access")}, u.which)
}

func (r *parser) imply(record *Record, u defaultRule) {
	v := Value{Text: u.value}
	if u.about == Way && u.field == "state" && record.Line > 0 {
		v.Text = "on" // a line speaks of it
	}
	if u.from != "" {
		from, field := record, u.from
		if name, ok := strings.CutPrefix(u.from, "device"); ok {
			which, name, _ := strings.Cut(name, ".")
			from, field = r.find(Device, strings.Trim(which, "[]"), 0), name
		}
		values := from.Get(field)
		if len(values) == 0 {
			return
		}
		v = values[0]
		if u.plus > 0 {
			n, _ := strconv.Atoi(v.Text)
			v.Text = strconv.Itoa(n + u.plus)
		}
	}
	record.facts[u.field] = &Fact{Field: u.field, Values: []Value{v}, State: Implied}
	if !slices.Contains(record.order, u.field) {
		record.order = append(record.order, u.field)
	}
}

// everyServer makes the group that no line names.
func (r *parser) everyServer(e every) {
	type member struct {
		id   string
		mark int
	}
	var members []member
	for _, s := range r.text.Records {
		if s.About == Server && s.first("protocol") == e.protocol {
			n, _ := strconv.Atoi(s.first("mark"))
			members = append(members, member{s.ID, n})
		}
	}
	if len(members) == 0 {
		return
	}
	slices.SortStableFunc(members, func(a, b member) int { return a.mark - b.mark })
	g := r.find(Group, e.group, 0)
	var servers []Value
	for _, m := range members {
		servers = append(servers, Value{Text: m.id})
	}
	g.facts["protocol"] = &Fact{Field: "protocol", Values: []Value{{Text: e.protocol}}, State: Implied}
	g.facts["servers"] = &Fact{Field: "servers", Values: servers, State: Implied}
	g.order = []string{"protocol", "servers"}
}
