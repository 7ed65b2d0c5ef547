package foresee

import (
	"fmt"
	"slices"

	"mellowgate/internal/core/site"
)

// WhoKind tells apart those for whom a login is foreseen.
type WhoKind int

const (
	// a person of the site, or anyone of a team that a directory knows, with their right password
	Known   WhoKind = iota
	Local           // a local account of the device, with its right password
	Unknown         // a name that nobody has
	Anyone          // a name that exists, with a wrong password
)

// Who is someone for whom a login is foreseen.
type Who struct {
	Kind    WhoKind
	Name    string // as shown: a name, "unknown" or "anyone"
	person  *site.Person
	team    string // of a member: the team, "" for none
	member  bool   // the person stands for those whom only a directory knows
	account *site.Account
	typed   string // the name as typed at the prompt
	order   int    // in which people are shown
}

// Typed returns the name as it is typed at the prompt.
func (w Who) Typed() string { return w.typed }

// Member reports whether somebody stands for people whom only a directory knows,
// and of which team; "" for those of none that a grant names.
func (w Who) Member() (team string, ok bool) { return w.team, w.member }

// Person returns the person of whom a login is foreseen, or whose name an account
// bears; nil for none.
func (w Who) Person() *site.Person { return w.person }

// OfDirectory reports whether a directory has the person's password.
func (w Who) OfDirectory() bool { return w.member || w.person != nil && w.person.FromDirectory }

// known returns the person for a server that has looked in a directory, nil for
// one whom the site names.
func (w Who) known() *site.Person {
	if w.member {
		return w.person
	}
	return nil
}

// subjects groups the people of the site by all that a decision can depend on.
// Whoever is named by a grant, or bears the name of a local account, stands
// alone. Those whom only a directory knows are members, one of each team; a person
// whose teams a directory has is one of them, unless nothing lets that person in.
func (f Forecaster) subjects() [][]Who {
	alone := map[string]bool{}
	for _, g := range f.Site.Grants {
		for _, w := range g.Who {
			alone[w.Person] = true
		}
	}
	for _, l := range f.Site.Lists {
		for _, r := range l.Only {
			alone[r.Name] = true
		}
	}
	accounts := map[string]bool{}
	for _, a := range f.Site.Accounts {
		alone[a.Name], accounts[a.Name] = true, !a.Password.None
	}
	var groups [][]Who
	places := map[string]int{}
	for i, p := range f.Site.People {
		if p.FromDirectory && len(p.Teams) == 0 && !p.Disabled && !p.Expired(f.at()) {
			continue
		}
		key := fmt.Sprintf("%t %t %t %q", p.Disabled, p.Expired(f.at()), p.Password.Key != nil, p.Teams)
		if alone[p.Name] {
			key = p.Name
		}
		n, known := places[key]
		if !known {
			n = len(groups)
			places[key] = n
			groups = append(groups, nil)
		}
		name := p.Name
		if accounts[p.Name] {
			name += serversPassword
		}
		groups[n] = append(groups[n], Who{Kind: Known, Name: name, person: p, typed: p.Name, order: i})
	}
	for i, m := range f.Site.Members() {
		groups = append(groups, []Who{{Kind: Known, Name: m.Title(), person: m.Person, member: true, team: m.Team,
			typed: m.Person.Name, order: len(f.Site.People) + i}})
	}
	return groups
}

// others returns the local accounts, unknown and anyone, each a group of its own.
func (f Forecaster) others(d *site.Device) [][]Who {
	var groups [][]Who
	before := len(f.Site.People) + len(f.Site.Members())
	add := func(w Who) {
		w.order = before + len(groups)
		groups = append(groups, []Who{w})
	}
	for _, a := range d.Logins() {
		name := a.Name
		if f.Site.Person(name) != nil {
			name += devicesPassword
		}
		add(Who{Kind: Local, Name: name, account: a, person: f.Site.Person(a.Name), typed: a.Name})
	}
	anyone := "(anyone)"
	switch {
	case len(d.Logins()) > 0:
		anyone = d.Logins()[0].Name
	case len(f.Site.People) > 0:
		anyone = f.Site.People[0].Name
	}
	add(Who{Kind: Unknown, Name: "unknown", typed: "(unknown)"})
	add(Who{Kind: Anyone, Name: "anyone", typed: anyone})
	return groups
}

// Whos returns those for whom logins on d are foreseen.
func (f Forecaster) Whos(d *site.Device) []Who {
	var whos []Who
	for _, g := range append(f.subjects(), f.others(d)...) {
		whos = append(whos, g...)
	}
	slices.SortFunc(whos, func(a, b Who) int { return a.order - b.order })
	return whos
}

// Account returns the Who of a local account of d, or false.
func (f Forecaster) Account(d *site.Device, name string) (Who, bool) {
	for _, w := range f.Whos(d) {
		if w.Kind == Local && w.typed == name {
			return w, true
		}
	}
	return Who{}, false
}

// InTeams returns the Who of somebody whom only a directory knows, by a name and the
// teams that it gives.
func InTeams(name string, teams []string) Who {
	return Who{Kind: Known, Name: name, typed: name, member: true,
		person: &site.Person{Ref: site.Ref{Name: name}, Teams: teams, FromDirectory: true}}
}

// What follows the name of a person who has a local account of the same name, and
// that of the account: which password is typed decides.
const (
	serversPassword = " (the servers' password)"
	devicesPassword = " (the device's password)"
)

// samePassword reports whether an account has the password of the person whose name
// it bears.
func (w Who) samePassword() bool {
	return w.account != nil && w.person != nil && w.person.Password.Same(w.account.Password)
}

// right reports whether the password that is typed is that of the person whom the
// servers know.
func (w Who) right() bool { return w.Kind == Known || w.samePassword() }

// Called reports whether somebody goes by a name. Two may: a person, and the local
// account of the same name. A member goes by its title, by
// its person, and by its team as grants name it: "team NAME".
func (w Who) Called(name string) bool {
	return w.Name == name || w.typed == name && (w.Kind == Known || w.Kind == Local) ||
		w.member && w.team != "" && name == "team "+w.team
}

// Find returns the Who of a name on d, or false.
func (f Forecaster) Find(d *site.Device, name string) (Who, bool) {
	for _, w := range f.Whos(d) {
		if w.Called(name) {
			return w, true
		}
	}
	for _, p := range f.Site.Lab.People { // whose teams a lab's directory has
		if p.Name == name && len(f.Site.Books()) > 0 {
			return Who{Kind: Known, Name: name, person: p, member: true, typed: name}, true
		}
	}
	return Who{}, false
}
