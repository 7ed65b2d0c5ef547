package foresee

import (
	"fmt"
	"slices"

	"mellowgate/internal/core/site"
)

// WhoKind tells apart those for whom a login is foreseen.
type WhoKind int

const (
	Known   WhoKind = iota // a person of the site, with their right password
	Local                  // a local account of the device, with its right password
	Unknown                // a name that nobody has
	Anyone                 // a name that exists, with a wrong password
)

// Who is someone for whom a login is foreseen.
type Who struct {
	Kind    WhoKind
	Name    string // as shown: a name, "unknown" or "anyone"
	person  *site.Person
	account *site.Account
	typed   string // the name as typed at the prompt
	order   int    // in which people are shown
}

// Typed returns the name as it is typed at the prompt.
func (w Who) Typed() string { return w.typed }

// crowd groups the people of the site by all that a decision can depend on.
// Whoever is named by a grant, or bears the name of a local account, stands
// alone.
func (f Reckoner) crowd() [][]Who {
	alone := map[string]bool{}
	for _, g := range f.Site.Grants {
		for _, w := range g.Who {
			alone[w.Person] = true
		}
	}
	for _, a := range f.Site.Accounts {
		alone[a.Name] = true
	}
	var groups [][]Who
	at := map[string]int{}
	for i, p := range f.Site.People {
		key := fmt.Sprintf("%t %t %q", p.Disabled, p.Expired(f.Now), p.Teams)
		if alone[p.Name] {
			key = p.Name
		}
		n, known := at[key]
		if !known {
			n = len(groups)
			at[key] = n
			groups = append(groups, nil)
		}
		groups[n] = append(groups[n], Who{Kind: Known, Name: p.Name, person: p, typed: p.Name, order: i})
	}
	return groups
}

// others returns the local accounts, unknown and anyone, each a group of its own.
func (f Reckoner) others(d *site.Device) [][]Who {
	var groups [][]Who
	add := func(w Who) {
		w.order = len(f.Site.People) + len(groups)
		groups = append(groups, []Who{w})
	}
	for _, a := range d.Accounts {
		add(Who{Kind: Local, Name: a.Name, account: a, typed: a.Name})
	}
	anyone := "(anyone)"
	switch {
	case len(d.Accounts) > 0:
		anyone = d.Accounts[0].Name
	case len(f.Site.People) > 0:
		anyone = f.Site.People[0].Name
	}
	add(Who{Kind: Unknown, Name: "unknown", typed: "(unknown)"})
	add(Who{Kind: Anyone, Name: "anyone", typed: anyone})
	return groups
}

// Whos returns those for whom logins on d are foreseen.
func (f Reckoner) Whos(d *site.Device) []Who {
	var whos []Who
	for _, g := range append(f.crowd(), f.others(d)...) {
		whos = append(whos, g...)
	}
	slices.SortFunc(whos, func(a, b Who) int { return a.order - b.order })
	return whos
}

// Find returns the Who of a name on d, or false.
func (f Reckoner) Find(d *site.Device, name string) (Who, bool) {
	for _, w := range f.Whos(d) {
		if w.Name == name {
			return w, true
		}
	}
	return Who{}, false
}
