// Package foresee works out, from a site alone, who gets in where: for each
// device, way in and person, and for every combination of servers up and
// silent. It runs the walker of package walk over imagined answers.
//
// A server's state is chosen when the walk first asks it, once for each state.
// So states that lead to the same steps are one case by construction, and the
// cases grow with the servers that are really asked, not with all of them.
package foresee

import (
	"cmp"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// State is whether a server answers.
type State string

const (
	Up            State = "up"
	Down          State = State(reason.Silent)
	Closed        State = State(reason.Closed)        // its port refuses
	KeyDiffers    State = State(reason.KeyDiffers)    // it has another key than the device
	ClientUnknown State = State(reason.ClientUnknown) // it does not know the device
	InError       State = State(reason.ServerError)   // it says that it cannot answer
	// It answers logins and keeps no records: the commonest half of an outage.
	NoRecords State = "no-accounting"
)

// faults are the states that count only when they are asked for.
var faults = []State{Closed, KeyDiffers, ClientUnknown, InError}

// reasons are why a server in a state gives no answer.
var reasons = map[State]reason.Reason{Down: reason.Silent, Closed: reason.Closed, KeyDiffers: reason.KeyDiffers,
	ClientUnknown: reason.ClientUnknown, InError: reason.ServerError}

// States returns the states that a server can be in: up and silent, and with
// faults those that its protocol has besides.
func States(s *site.Server, withFaults bool) []State {
	states := []State{Up, Down}
	for _, f := range faults {
		radius := s.Protocol == site.RADIUS
		switch {
		case !withFaults,
			f == InError && radius,
			f == KeyDiffers && s.Secured(),
			f == ClientUnknown && s.Protocol == site.LDAP:
			continue
		}
		states = append(states, f)
	}
	return states
}

// Shape is devices that are equal in all that matters here, with their cases,
// worked out once on the first of them.
type Shape struct {
	Devices []*site.Device
	Cases   []Case
}

// For returns the cases of the shape for one of its devices, one for each person,
// by way in and then by person.
func (sh Shape) For(d *site.Device) []Case {
	var cases []Case
	for _, w := range d.Ways {
		from := len(cases)
		for _, c := range sh.Cases {
			if c.Way != w {
				continue
			}
			for _, who := range c.SameOutcome {
				c.Device = d
				c.Who = who
				c.SameOutcome = nil
				cases = append(cases, c)
			}
		}
		slices.SortStableFunc(cases[from:], func(a, b Case) int { return a.Who.order - b.Who.order })
	}
	return cases
}

// Servers returns the servers whose state matters to the shape, in the order of
// the site file.
func (sh Shape) Servers() []*site.Server {
	var servers []*site.Server
	for _, c := range sh.Cases {
		for _, w := range c.When {
			if !slices.Contains(servers, w.Server) {
				servers = append(servers, w.Server)
			}
		}
	}
	slices.SortFunc(servers, func(a, b *site.Server) int {
		if a.Place.Before(b.Place) {
			return -1
		}
		return 1
	})
	return servers
}

// Forecaster foresees the logins of one site.
type Forecaster struct {
	Site *site.Site
	Keys site.Keys // to tell whether a key that a device holds is the server's
	Now  time.Time // for people whose time is over
	// At is when people log in, and From where they come from. Where they are not
	// said, what grants ask of hours and addresses is taken as met.
	At   time.Time
	From netip.Addr
	// Faults works out every state of a server, not only up and silent.
	Faults bool
	// Briefly leaves out second logins.
	SkipSecond bool
	// Soon is how long after the first login a second one is tried; 0: the usual time.
	Soon time.Duration
	// Assume takes aspects that the site does not say for what the open standards give:
	// Suppose and Depending then find nothing.
	Assume bool
	// Records works out, beside up and silent, the state in which a server answers
	// logins and keeps no records. Faults does too.
	Records bool
}

// states returns the states in which a server is worked out where a way in asks it.
func (f Forecaster) states(s *site.Server, w *site.Way) []State {
	all := States(s, f.Faults)
	if (f.Faults || f.Records) && keepsRecords(s, w) {
		all = append(all, NoRecords)
	}
	return all
}

// keepsRecords reports whether a way in asks a server to keep records of sessions or
// commands.
func keepsRecords(s *site.Server, w *site.Way) bool {
	return s.Serves(site.RecordSessions) && (slices.Contains(w.Lists[site.RecordSessions].Servers(), s) ||
		slices.Contains(w.Lists[site.RecordCommands].Servers(), s))
}

// Shapes foresees the logins of all the given devices, equal devices once.
func (f Forecaster) Shapes(devices []*site.Device) []Shape {
	return slices.Collect(f.Each(devices))
}

// Each is Shapes, one at a time: the logins of a shape are worked out when it is
// its turn, and nothing is kept of it afterwards.
func (f Forecaster) Each(devices []*site.Device) iter.Seq[Shape] {
	return func(yield func(Shape) bool) {
		var alike [][]*site.Device
		places := map[string]int{}
		wheres, crowd := f.wheres(), f.subjects()
		for _, d := range devices {
			key := shapeKey(d, wheres)
			i, known := places[key]
			if !known {
				i = len(alike)
				places[key] = i
				alike = append(alike, nil)
			}
			alike[i] = append(alike[i], d)
		}
		for _, some := range alike {
			if !yield(Shape{Devices: some, Cases: f.device(some[0], crowd)}) {
				return
			}
		}
	}
}

// where is one thing that a grant asks of a device: a label with one of some
// values.
type where struct {
	label  string
	values []string
	grant  *site.Grant // that names devices, in place of a label
}

// wheres are all that grants ask of devices.
func (f Forecaster) wheres() []where {
	var all []where
	for _, g := range f.Site.Grants {
		if len(g.Devices) > 0 {
			all = append(all, where{grant: g})
		}
		for l, values := range g.Where {
			all = append(all, where{label: l, values: values})
		}
	}
	return all
}

// shapeKey is equal for devices for which every login goes the same.
func shapeKey(d *site.Device, wheres []where) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%p", d.Platform)
	for _, w := range d.Ways {
		fmt.Fprintf(&b, " %p", w)
	}
	for _, a := range d.Accounts {
		b.WriteString(" " + a.Name)
	}
	b.WriteString(" | " + d.AsksAlike())
	if d.Found.Place.Known() { // ways, lists and accounts are held in what is written above
		held := make([]string, 0, len(d.Found.Keys)+len(d.Found.Ports)+1)
		for s, h := range d.Found.Keys {
			held = append(held, s.Name+"="+h.Key.Name)
		}
		for s, h := range d.Found.Ports {
			held = append(held, fmt.Sprint(s.Name, h.Authentication, h.Accounting))
		}
		if d.Found.Source.IsValid() {
			held = append(held, d.Name)
		}
		slices.Sort(held)
		b.WriteString(" | " + strings.Join(held, " "))
	}
	for _, w := range wheres {
		v, bears := d.Labels[w.label]
		if w.grant != nil && w.grant.Names(d) || bears && slices.Contains(w.values, v) {
			b.WriteByte('1')
		} else {
			b.WriteByte('0')
		}
	}
	return b.String()
}

// Device foresees every login of one device, for each person, by way in and
// then by person.
func (f Forecaster) Device(d *site.Device) []Case {
	return Shape{Cases: f.device(d, f.subjects())}.For(d)
}

// device foresees every login of one device, for each group of people alike.
func (f Forecaster) device(d *site.Device, crowd [][]Who) []Case {
	groups := append(slices.Clone(crowd), f.others(d)...)
	var cases []Case
	for _, w := range d.Ways {
		at := map[classKey]int{}
		var alike [][]Who
		for _, g := range groups {
			key := f.class(d, w, g[0])
			n, known := at[key]
			if !known {
				n = len(alike)
				at[key] = n
				alike = append(alike, nil)
			}
			alike[n] = append(alike[n], g...)
		}
		for _, whos := range alike {
			for _, c := range f.Cases(d, w, whos[0]) {
				c.SameOutcome = whos
				cases = append(cases, c)
			}
		}
	}
	return cases
}

// classKey is equal for people whose logins on one way in go the same.
type classKey struct {
	kind   WhoKind
	reason reason.Reason
	role   *site.Role
	local  *site.Account
	reads  bool // the password can be read, and so checked in every form
	listed bool // the login list is for the name
	closed bool // a directory that is asked by the device lets nobody in by the name
}

func (f Forecaster) class(d *site.Device, w *site.Way, who Who) classKey {
	decision := f.decide(d, w, who, site.Session)
	list, named := d.LoginList(w, who.typed)
	return classKey{listed: !named || list.For(who.typed),
		kind: who.Kind, reason: decision.Reason, role: decision.Role, local: d.Account(who.typed),
		reads:  who.person != nil && who.person.Password.Key != nil,
		closed: who.person != nil && !rights.AtDirectory(who.person, f.at()).Allow}
}

// Cases foresees one person at one way in, in every state that matters.
func (f Forecaster) Cases(d *site.Device, w *site.Way, who Who) []Case {
	return f.casesOf(d, w, who, d)
}

// casesOf is Cases for a device that behaves as another one of equal ways in.
func (f Forecaster) casesOf(d *site.Device, w *site.Way, who Who, as *site.Device) []Case {
	var cases []Case
	pending := [][]Condition{nil}
	for len(pending) > 0 {
		chosen := pending[len(pending)-1]
		pending = pending[:len(pending)-1]
		c := f.behaving(d, w, who, chosen, as)
		cases = append(cases, c)
		for i := len(c.When) - 1; i >= len(chosen); i-- {
			for _, state := range f.states(c.When[i].Server, w)[1:] {
				pending = append(pending, append(slices.Clone(c.When[:i]),
					Condition{Server: c.When[i].Server, State: state}))
			}
		}
	}
	// Depth first: the case in which all answer comes first, the darkest last.
	slices.SortStableFunc(cases, func(a, b Case) int { return notUp(a) - notUp(b) })
	return cases
}

func notUp(c Case) int {
	n := 0
	for _, w := range c.When {
		if w.State != Up {
			n++
		}
	}
	return n
}

// Soon is how long after the first login a second one is tried: within most rests.
const Soon = time.Second

// one walks one login with the given states; servers beyond them are up.
func (f Forecaster) one(d *site.Device, w *site.Way, who Who, chosen []Condition) Case {
	return f.behaving(d, w, who, chosen, d)
}

// behaving is one for a device that behaves as another one of equal ways in, while the
// servers take it for what the site says.
func (f Forecaster) behaving(d *site.Device, w *site.Way, who Who, chosen []Condition, as *site.Device) Case {
	world := &imagined{reckoner: f, device: d, as: as, way: w, who: who, when: slices.Clone(chosen)}
	rests := new(walk.Rests)
	at := as.Ways[slices.Index(d.Ways, w)]
	visit := &walk.Visit{Device: as, Way: at, World: world, Rests: rests, From: f.From}
	world.visit = visit
	entry := visit.Enter(who.typed)
	session := f.decide(d, w, who, site.Session)
	c := Case{Device: d, Way: w, Who: who, SameOutcome: []Who{who}, Level: entry.Level, By: entry.By,
		Reason: entry.Reason,
		Wait:   entry.Wait, Needs: entry.Needs}
	switch {
	case who.Kind == Known && session.Allow:
		c.Promised = session.Role.Level
	case who.Kind == Local:
		c.Promised = who.account.Level
	}
	c.Outcome = outcome(entry, who, session, c.Promised)
	c.Raised = c.Level
	left := visit.Now
	if entry.In {
		if rules, limited := visit.Rules(); limited {
			c.Rules = rules
		}
		verdict := visit.Command(visit.Now, f.command(c, session), entry.Level)
		c.Stuck, c.StuckWhy = !verdict.Allowed, verdict.Reason
		if c.Level < 15 && at.Lists[site.Elevation] != nil && site.HasShell(w.Access) {
			raised := visit.Elevate(visit.Now, 15)
			c.RaiseWhy, c.RaiseTried = raised.Reason, true
			if raised.Allowed {
				c.Raised = 15
			}
		}
	}
	c.Steps = visit.Steps
	c.consulted = visit.Consulted()
	c.Rests = rests.Some()
	if c.Rests && !f.SkipSecond {
		second := &walk.Visit{Device: as, Way: at, World: world, Rests: rests, From: f.From,
			Now: left + cmp.Or(f.Soon, Soon)}
		world.visit = second
		e := second.Enter(who.typed)
		c.Again = &Again{Outcome: outcome(e, who, session, c.Promised), Level: e.Level, By: e.By, Reason: e.Reason,
			Wait: e.Wait, Secret: secretOf(second.Steps, site.Login)}
		c.consulted = union(c.consulted, second.Consulted())
	}
	c.When = world.when
	return c
}

// command returns a command that the role of somebody allows, as far as one is known.
func (f Forecaster) command(c Case, session rights.Decision) string {
	if c.Rules == nil || session.Role == nil {
		return anyCommand
	}
	return cmp.Or(rights.Allowed(session.Role), anyCommand)
}

// anyCommand stands for a command that the person's role allows.
const anyCommand = "(an allowed command)"

func outcome(e walk.Entry, who Who, session rights.Decision, promised int) walk.Outcome {
	switch {
	case !e.In:
		return walk.OutcomeRefused
	case who.Kind == Unknown || who.Kind == Anyone || e.Open && who.Kind == Known && !session.Allow:
		return walk.OutcomeOpen
	case e.Level < promised:
		return walk.OutcomeLow
	}
	return walk.OutcomeIn
}
