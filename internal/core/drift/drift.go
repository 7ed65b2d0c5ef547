// Package drift compares what a device should hold with what it holds. Both are
// facts: plain values by what they are about. Secrets are compared, and said by
// how they differ only.
package drift

import (
	"cmp"
	"fmt"
	"slices"

	"mellowgate/internal/core/site"
)

// About is the kind of thing that a fact is about.
type About string

// The kinds of things.
const (
	Server  About = "server"
	Group   About = "group"
	List    About = "list"
	Account About = "account"
	Way     About = "way"
)

// Key names a fact: the port of the server tern.
type Key struct {
	About About
	Name  string
	What  string
}

// Value is the value of a fact. A secret is never shown.
type Value struct {
	Text   string
	Secret site.Secret
	hidden bool // it is a secret
	unread bool // it is a secret that the device does not show
	other  bool // it is a secret that is known to be another than the wanted one, and no more of it
}

// Facts are what a device holds, or should hold.
type Facts map[Key]Value

// Note notes that something is there at all.
func (f Facts) Note(about About, name string) {
	f[Key{About: about, Name: name, What: ""}] = Value{}
}

// Unread notes a secret that is there, and that the device does not show.
func (f Facts) Unread(about About, name, what string) {
	f[Key{About: about, Name: name, What: what}] = Value{hidden: true, unread: true}
}

// Other notes a secret that is there, and is another than the wanted one.
func (f Facts) Other(about About, name, what string) {
	f[Key{About: about, Name: name, What: what}] = Value{hidden: true, other: true}
}

// Say notes a plain fact; an empty value is none.
func (f Facts) Say(about About, name, what, value string) {
	if value != "" {
		f[Key{About: about, Name: name, What: what}] = Value{Text: value}
	}
}

// Hide notes a secret; an empty one is none.
func (f Facts) Hide(about About, name, what, value string) {
	if value != "" {
		f[Key{About: about, Name: name, What: what}] = Value{Secret: site.NewSecret(value), hidden: true}
	}
}

// Join adds facts of another model: those that are there stay, except a secret
// that only the other one shows.
func (f Facts) Join(other Facts) {
	for k, v := range other {
		if have, ok := f[k]; !ok || have.unread && !v.unread {
			f[k] = v
		}
	}
}

// Forget takes out all that is said of a thing.
func (f Facts) Forget(about About, name string) {
	for k := range f {
		if k.About == about && k.Name == name {
			delete(f, k)
		}
	}
}

// Shows reports whether any secret could be read.
func (f Facts) Shows() bool {
	for _, v := range f {
		if v.hidden && !v.unread {
			return true
		}
	}
	return false
}

// Settle lets what a device holds count as what it should hold, where equal
// tells that two secrets which are written in different ways are the same.
func (f Facts) Settle(held Facts, equal func(want, have site.Secret) bool) {
	for k, w := range f {
		if h, both := held[k]; both && w.hidden && h.hidden && !h.unread && equal(w.Secret, h.Secret) {
			f[k] = h
		}
	}
}

// Kinds of differences.
const (
	Missing = "missing" // it should be there
	Extra   = "extra"   // it is there, and nothing says so
	Differs = "differs"
	Unread  = "unread" // a secret that the device does not show: it may differ
)

// Difference is one way in which a device is not as it should be.
type Difference struct {
	About About  `json:"about"`
	Name  string `json:"name"`
	What  string `json:"what"`
	Kind  string `json:"kind"`
	Want  string `json:"want"` // "" for a secret
	Have  string `json:"have"`
	How   string `json:"how"` // for secrets: how the two differ
	Place string `json:"place"`
}

// String says the difference in the site's words.
func (d Difference) String() string {
	thing := fmt.Sprintf("%s %s", d.About, d.Name)
	switch {
	case d.About == Way && d.Kind == Missing && d.What == "":
		return thing + " is open in the site, and not on the device"
	case d.About == Way && d.Kind == Extra && d.What == "":
		return thing + " is open on the device, and not in the site"
	case d.Kind == Missing && d.What == "":
		return thing + " is missing"
	case d.Kind == Extra && d.What == "":
		return thing + " is on the device, and not in the site"
	case d.Kind == Missing:
		return fmt.Sprintf("%s: %s should be %s, and none is set", thing, d.What, shown(d.Want))
	case d.Kind == Extra:
		return fmt.Sprintf("%s: %s is %s, and the site sets none", thing, d.What, shown(d.Have))
	case d.Kind == Unread:
		return fmt.Sprintf("%s: the device does not show its %s, which may be another", thing, d.What)
	case d.How != "":
		return fmt.Sprintf("%s: %s is another: %s", thing, d.What, d.How)
	}
	return fmt.Sprintf("%s: %s is %s, and should be %s", thing, d.What, d.Have, d.Want)
}

func shown(value string) string {
	if value == "" {
		return "a secret"
	}
	return value
}

// Compare returns every difference, by kind of thing and name. Something that is
// missing, or extra, as a whole is one difference. Where gives the place in the
// site of what a difference is about.
func Compare(want, have Facts, where func(About, string) string) []Difference {
	type thing struct {
		about About
		name  string
	}
	wanted, held := map[thing]bool{}, map[thing]bool{}
	for k := range want {
		wanted[thing{about: k.About, name: k.Name}] = true
	}
	for k := range have {
		held[thing{about: k.About, name: k.Name}] = true
	}
	var differences []Difference
	add := func(d Difference) {
		d.Place = where(d.About, d.Name)
		differences = append(differences, d)
	}
	for t := range wanted {
		if !held[t] {
			add(Difference{About: t.about, Name: t.name, Kind: Missing})
		}
	}
	for t := range held {
		if !wanted[t] {
			add(Difference{About: t.about, Name: t.name, Kind: Extra})
		}
	}
	for k, w := range want {
		if k.What == "" || !held[thing{about: k.About, name: k.Name}] {
			continue
		}
		h, have := have[k]
		d := Difference{About: k.About, Name: k.Name, What: k.What, Kind: Differs, Want: w.Text, Have: h.Text}
		switch {
		case !have:
			d.Kind = Missing
			add(d)
		case w.unread: // the value is not known here either
		case h.unread:
			d.Kind = Unread
			add(d)
		case h.other:
			d.How = "it is not the one of the site's hash"
			add(d)
		case w.hidden:
			if d.How = h.Secret.Difference(w.Secret); d.How != "" {
				add(d)
			}
		case w.Text != h.Text:
			add(d)
		}
	}
	for k, h := range have {
		if _, also := want[k]; !also && k.What != "" && wanted[thing{about: k.About, name: k.Name}] {
			add(Difference{About: k.About, Name: k.Name, What: k.What, Kind: Extra, Have: h.Text})
		}
	}
	slices.SortFunc(differences, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(order[a.About], order[b.About]), cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.What, b.What))
	})
	return differences
}

var order = map[About]int{Server: 0, Group: 1, List: 2, Way: 3, Account: 4}
