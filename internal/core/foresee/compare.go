package foresee

import (
	"slices"
	"strings"

	"mellowgate/internal/core/site"
)

// Change is what differs between two versions of a site for some people at one
// way in of some devices, in some states of the servers.
type Change struct {
	Devices       []string
	Way           string
	People        []string
	When          []Named
	Before, After *Case // nil: the device, the way in or the person is not there
	Loses         bool  // full rights before, and not after
}

// Named is a server in a state, by name: the two versions have servers of
// their own.
type Named struct {
	Server string
	State  State
}

// Compare returns what changes from one version of a site to another, devices
// that change alike together.
func Compare(before, after Forecaster) []Change {
	type pair struct{ a, b int }
	olds, news := before.Shapes(before.Site.Devices), after.Shapes(after.Site.Devices)
	at := map[string]pair{}
	var order []string
	for i, sh := range olds {
		for _, d := range sh.Devices {
			at[d.Name] = pair{a: i, b: -1}
			order = append(order, d.Name)
		}
	}
	for i, sh := range news {
		for _, d := range sh.Devices {
			p, known := at[d.Name]
			if !known {
				p.a = -1
				order = append(order, d.Name)
			}
			p.b = i
			at[d.Name] = p
		}
	}
	var pairs []pair
	devices := map[pair][]string{}
	for _, name := range order {
		p := at[name]
		if devices[p] == nil {
			pairs = append(pairs, p)
		}
		devices[p] = append(devices[p], name)
	}
	var changes []Change
	for _, p := range pairs {
		for _, c := range compareShapes(shapeAt(olds, p.a), shapeAt(news, p.b)) {
			c.Devices = devices[p]
			changes = append(changes, c)
		}
	}
	return joinChanges(changes)
}

func shapeAt(shapes []Shape, i int) Shape {
	if i < 0 {
		return Shape{}
	}
	return shapes[i]
}

// compareShapes compares the cases of each way in and group of people alike.
func compareShapes(a, b Shape) []Change {
	type place struct{ way, who string }
	index := func(sh Shape) (map[place][]Case, []place) {
		cases, order := map[place][]Case{}, []place{}
		for _, c := range sh.Cases {
			for _, who := range c.SameOutcome {
				p := place{way: c.Way.Name(), who: who.Name}
				if cases[p] == nil {
					order = append(order, p)
				}
				cases[p] = append(cases[p], c)
			}
		}
		return cases, order
	}
	old, places := index(a)
	fresh, more := index(b)
	for _, p := range more {
		if old[p] == nil {
			places = append(places, p)
		}
	}
	var changes []Change
	for _, p := range places {
		for _, c := range compareCases(old[p], fresh[p]) {
			c.Way, c.People = p.way, []string{p.who}
			changes = append(changes, c)
		}
	}
	return changes
}

// compareCases compares the logins of one person at one way in, in every state
// that either version tells apart.
func compareCases(old, fresh []Case) []Change {
	var changes []Change
	switch {
	case len(old) == 0:
		for i := range fresh {
			changes = append(changes, Change{When: named(fresh[i].When), After: &fresh[i]})
		}
		return changes
	case len(fresh) == 0:
		for i := range old {
			changes = append(changes, Change{When: named(old[i].When), Before: &old[i], Loses: old[i].earned()})
		}
		return changes
	}
	for i := range old {
		for j := range fresh {
			when, possible := both(named(old[i].When), named(fresh[j].When))
			a, b := &old[i], &fresh[j]
			if possible && (a.Outcome != b.Outcome || a.Level != b.Level || a.By != b.By || a.Wait != b.Wait ||
				a.Stuck != b.Stuck || a.Raised != b.Raised) {
				changes = append(changes, Change{When: when, Before: a, After: b, Loses: a.earned() && !b.Full()})
			}
		}
	}
	return changes
}

// earned reports whether somebody has full rights by showing who they are: what
// none gives to anyone is no loss.
func (c Case) earned() bool { return c.Full() && c.By != string(site.ByNone) }

// WaitOnly reports whether a change is in the waiting alone.
func (c Change) WaitOnly() bool {
	a, b := c.Before, c.After
	return a != nil && b != nil && a.Outcome == b.Outcome && a.Level == b.Level && a.By == b.By && a.Stuck == b.Stuck &&
		a.Raised == b.Raised
}

func named(when []Condition) []Named {
	states := make([]Named, len(when))
	for i, c := range when {
		states[i] = Named{Server: c.Server.Name, State: c.State}
	}
	return states
}

// both joins the conditions of two cases. It is false when they exclude each
// other.
func both(a, b []Named) ([]Named, bool) {
	states := slices.Clone(a)
	for _, n := range b {
		i := slices.IndexFunc(states, func(m Named) bool { return m.Server == n.Server })
		if i >= 0 && states[i].State != n.State {
			return nil, false
		}
		if i < 0 {
			states = append(states, n)
		}
	}
	return states, true
}

// joinChanges puts people together who change alike.
func joinChanges(changes []Change) []Change {
	var joined []Change
	places := map[string]int{}
	for _, c := range changes {
		key := strings.Join(c.Devices, ",") + "|" + c.Way + "|" + changeKey(c)
		if i, known := places[key]; known {
			joined[i].People = append(joined[i].People, c.People...)
			continue
		}
		places[key] = len(joined)
		joined = append(joined, c)
	}
	return joined
}

func changeKey(c Change) string {
	var b strings.Builder
	for _, n := range c.When {
		b.WriteString(n.Server + " " + string(n.State) + ",")
	}
	for _, x := range []*Case{c.Before, c.After} {
		if x == nil {
			b.WriteString("|-")
			continue
		}
		b.WriteString("|" + x.Summary())
	}
	return b.String()
}
