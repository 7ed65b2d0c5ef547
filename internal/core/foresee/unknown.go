package foresee

import (
	"slices"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Depend is one value of an aspect that the site does not say, with which a case comes
// out otherwise.
type Depend struct {
	Aspect site.Aspect
	Value  string
	// When are the states of servers that it takes beyond those of the case: the device
	// then asks servers that it does not ask otherwise.
	When []Condition
	Case *Case // the login with that value
}

// Supposed is a shape as it is with one value of an aspect that the site does not say. Its
// one device stands for all, behaves so, and has ways in of its own of the same names.
type Supposed struct {
	Aspect site.Aspect
	Value  string
	Shape  Shape
}

// Unknown returns the aspects that the kind of a shape does not say and that some of its
// cases hang on.
func (sh Shape) Unknown() []site.Aspect {
	var behaviour []site.Aspect
	for _, c := range sh.Cases {
		for _, t := range c.consulted {
			if !c.Device.Platform.Says(t) && !slices.Contains(behaviour, t) {
				behaviour = append(behaviour, t)
			}
		}
	}
	slices.Sort(behaviour)
	return behaviour
}

// Suppose works a shape out with each other value of each aspect that its platform does not
// say, one aspect at a time. Cases that do not hang on the aspect are taken as they are.
func (f Forecaster) Suppose(sh Shape) []Supposed {
	var suppositions []Supposed
	if f.Assume || len(sh.Cases) == 0 {
		return nil
	}
	d := sh.Cases[0].Device
	for _, t := range sh.Unknown() {
		usual := d.Platform.Behaviour.Value(t)
		alike := sh.formsAlike(t)
		first := len(suppositions)
		for _, value := range t.Values() {
			behaviour, ok := d.Platform.Behaviour.With(t, value)
			switch {
			case !ok, value == usual, !d.Platform.May(t, value), alike && site.OneWay(value) == site.OneWay(usual):
				continue
			case alike && len(suppositions) > first: // there are two sorts of forms, and the other one is worked out
				suppositions = append(suppositions, Supposed{Aspect: t, Value: value, Shape: suppositions[first].Shape})
				continue
			}
			as := d.Behaving(behaviour)
			suppositions = append(suppositions, Supposed{Aspect: t, Value: value,
				Shape: Shape{Devices: []*site.Device{as}, Cases: f.supposed(sh, t, as)}})
		}
	}
	return suppositions
}

// Behaving returns every login of a device that behaves as another one of equal ways in,
// while the servers take it for what the site says.
func (f Forecaster) Behaving(d, as *site.Device) Shape {
	sh := Shape{Devices: []*site.Device{d}}
	for _, some := range (Shape{Cases: f.device(d, f.subjects())}).logins() {
		for _, c := range f.casesOf(d, some[0].Way, some[0].Who, as) {
			c.SameOutcome = some[0].SameOutcome
			sh.Cases = append(sh.Cases, c)
		}
	}
	return sh
}

// formsAlike reports whether an aspect is a form of passwords, and every server that is asked
// takes every form: then all that matters of a form is whether the password must be readable.
func (sh Shape) formsAlike(t site.Aspect) bool {
	return (t == site.AspectPasswordRADIUS || t == site.AspectPasswordTACACS) &&
		!slices.ContainsFunc(sh.Servers(), func(s *site.Server) bool { return len(s.Forms) > 0 })
}

// supposed works out again, for a device that behaves as another, the logins that hang
// on an aspect.
func (f Forecaster) supposed(sh Shape, t site.Aspect, as *site.Device) []Case {
	var cases []Case
	for _, some := range sh.logins() {
		first := some[0]
		if slices.ContainsFunc(some, func(c Case) bool { return slices.Contains(c.consulted, t) }) {
			some = f.casesOf(first.Device, first.Way, first.Who, as)
		}
		way := as.Ways[slices.Index(first.Device.Ways, first.Way)]
		for _, c := range some {
			c.Device = as
			c.Way = way
			c.SameOutcome = first.SameOutcome
			cases = append(cases, c)
		}
	}
	return cases
}

// logins returns the cases of each person at each way in, which stand together.
func (sh Shape) logins() [][]Case {
	var logins [][]Case
	from := 0
	for i := range sh.Cases {
		if i+1 == len(sh.Cases) || sh.Cases[i+1].Way != sh.Cases[from].Way || sh.Cases[i+1].Who != sh.Cases[from].Who {
			logins = append(logins, sh.Cases[from:i+1])
			from = i + 1
		}
	}
	return logins
}

// Depending returns a shape whose cases say on which aspects they depend that the site
// does not say.
func (f Forecaster) Depending(sh Shape) Shape {
	supposed := f.Suppose(sh)
	if len(supposed) == 0 {
		return sh
	}
	type login struct{ way, who string }
	sh.Cases = slices.Clone(sh.Cases)
	for _, s := range supposed {
		others := map[login][]Case{}
		for _, some := range s.Shape.logins() {
			others[login{way: some[0].Way.Name(), who: some[0].Who.Name}] = some
		}
		for i := range sh.Cases {
			c := &sh.Cases[i]
			if !slices.Contains(c.consulted, s.Aspect) {
				continue
			}
			for _, o := range others[login{way: c.Way.Name(), who: c.Who.Name}] {
				more, possible := beyond(c.When, o.When)
				if possible && !c.alike(o) {
					c.Depends = append(c.Depends, Depend{Aspect: s.Aspect, Value: s.Value, When: more, Case: &o})
					break // the case in which the fewest servers are silent
				}
			}
		}
	}
	return sh
}

// beyond returns the conditions of b that a does not have, and false where the two
// exclude each other.
func beyond(a, b []Condition) ([]Condition, bool) {
	var more []Condition
	for _, c := range b {
		i := slices.IndexFunc(a, func(x Condition) bool { return x.Server == c.Server })
		switch {
		case i < 0 && c.State != Up:
			more = append(more, c)
		case i >= 0 && a[i].State != c.State:
			return nil, false
		}
	}
	return more, true
}

// end is what matters of how a login comes out: of one that is refused, nothing else.
type end struct {
	outcome       walk.Outcome
	level, raised int
	by            string
	stuck         bool
}

func (c Case) end() end {
	if c.Outcome == walk.OutcomeRefused {
		return end{outcome: c.Outcome}
	}
	return end{outcome: c.Outcome, level: c.Level, raised: c.Raised, by: c.By, stuck: c.Stuck}
}

func (a Again) end() end {
	if a.Outcome == walk.OutcomeRefused {
		return end{outcome: a.Outcome}
	}
	return end{outcome: a.Outcome, level: a.Level, by: a.By}
}

// SameAtFirst reports whether two logins come out the same the first time.
func (c Case) SameAtFirst(o Case) bool { return c.end() == o.end() }

// alike reports whether two logins come out the same, the second ones too where both
// have one.
func (c Case) alike(o Case) bool {
	return c.end() == o.end() && (c.Again == nil || o.Again == nil || c.Again.end() == o.Again.end())
}
