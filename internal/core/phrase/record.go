package phrase

import (
	"slices"
	"strings"
)

// State says how a fact is known.
type State string

// The states of a fact.
const (
	Said      State = "said"
	Implied   State = "implied"   // no line says it: the phrasebook says what holds then
	Inherited State = "inherited" // a line of a template says it, that this is like
)

// Fact is a field of a record, with the line that says it.
type Fact struct {
	Field  string
	Values []Value
	State  State
	Line   int          // 0 where no line says it
	marks  []int        // of each of several values, where they are ordered by one
	lines  []int        // of each of several values
	from   *phrase      // the one that said it last
	by     map[int]bool // the numbers of the lines that say it, where lines have numbers
}

// Record is a server, group, list, way in, account, or the device itself, as a text says it.
type Record struct {
	About About
	ID    string // what tells it from others of its kind, as it can be shown
	// Called is what it is called where it is spoken of, "" for its ID.
	Called string
	Line   int // the first that speaks of it, 0 for none
	facts  map[string]*Fact
	order  []string
}

// Facts returns what is known of a record, in the order in which it was said.
func (r *Record) Facts() []Fact {
	var all []Fact
	for _, field := range r.order {
		if f := r.facts[field]; f != nil {
			all = append(all, *f)
		}
	}
	return all
}

// Get returns the values of a field, nil for none.
func (r *Record) Get(field string) []Value {
	if f := r.facts[field]; f != nil {
		return f.Values
	}
	return nil
}

// alsoSaid reports whether a field with one value is said by a line with another number too.
func (r *Record) alsoSaid(field string, mark int) bool {
	f := r.facts[field]
	if f == nil || f.by == nil || mark == 0 {
		return false
	}
	delete(f.by, mark)
	return len(f.by) > 0
}

// drop takes values of a field away, those of a number where it is not 0, and with the last of them the field.
func (r *Record) drop(field string, values []Value, mark int) {
	f := r.facts[field]
	if f == nil {
		return
	}
	for i := len(f.Values) - 1; i >= 0; i-- {
		if mark != 0 && f.marks[i] != mark {
			continue
		}
		if fields[r.About][field] && slices.ContainsFunc(
			values, func(v Value) bool { return v.Text == f.Values[i].Text }) {
			f.Values, f.marks = slices.Delete(f.Values, i, i+1), slices.Delete(f.marks, i, i+1)
			f.lines = slices.Delete(f.lines, i, i+1)
		}
	}
	single := !fields[r.About][field]
	named := len(values) == 0 || len(f.Values) == 0 || secretFields[field] || f.Values[0].equals(values[0])
	if len(f.Values) == 0 || single && named { // what another line says since then stays
		delete(r.facts, field)
	}
}

func (r *Record) first(field string) string {
	if values := r.Get(field); len(values) > 0 {
		return values[0].Text
	}
	return ""
}

// String names the record.
func (r *Record) String() string {
	switch {
	case r.Called != "":
		return r.Called
	case r.ID == "":
		return "the " + string(r.About)
	case r.About == Device:
		return "the device for " + r.ID
	}
	if index := strings.LastIndexByte(r.ID, ' '); r.About == List && index > 0 {
		return r.ID[index+1:] + " list " + r.ID[:index]
	}
	return string(r.About) + " " + r.ID
}

// Identifies reports whether a field is part of what tells the record from others, which
// String says.
func (r *Record) Identifies(field string) bool {
	return field == "mark" || r.About == Device && field == "protocol" || slices.ContainsFunc(identity[r.About],
		func(set []string) bool {
			return slices.Contains(set, field) && field != "address" && field != "protocol"
		})
}

func valuesText(values []Value) string {
	var out []string
	for _, v := range values {
		out = append(out, v.String())
	}
	return strings.Join(out, ", then ")
}

// String returns the values as they can be shown.
func (f Fact) String() string { return valuesText(f.Values) }

var aboutOrder = []About{Device, Interface, Server, Group, List, Way, Account, Secret}
