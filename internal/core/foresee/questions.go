package foresee

import (
	"slices"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Asked is how many questions servers get, by server.
type Asked map[*site.Server]Questions

// Questions are how many of each sort: what is decided, and what is recorded.
type Questions struct{ Logins, Decisions, Records float64 }

// All returns how many there are.
func (q Questions) All() float64 { return q.Logins + q.Decisions + q.Records }

// Plus returns the sum of two, the second so many times.
func (q Questions) Plus(o Questions, times float64) Questions {
	return Questions{Logins: q.Logins + times*o.Logins, Decisions: q.Decisions + times*o.Decisions,
		Records: q.Records + times*o.Records}
}

// Questions returns what servers are asked by a login of somebody at a way in, its end
// included, and by each command in it, while some servers are silent.
func (f Forecaster) Questions(d *site.Device, w *site.Way, who Who, silent []*site.Server) (login, command Asked) {
	world := &imagined{reckoner: f, device: d, as: d, way: w, who: who}
	for _, s := range silent {
		world.when = append(world.when, Condition{Server: s, State: Down})
	}
	visit := &walk.Visit{Device: d, Way: w, World: world, Rests: new(walk.Rests)}
	world.visit = visit
	entry := visit.Enter(who.typed)
	login, command = Asked{}, Asked{}
	count(login, visit.Steps, silent)
	if !entry.In {
		return login, command
	}
	before := len(visit.Steps)
	visit.Command(visit.Now, anyCommand, entry.Level)
	count(command, visit.Steps[before:], silent)
	before = len(visit.Steps)
	visit.Leave(visit.Now, 0)
	count(login, visit.Steps[before:], silent)
	return login, command
}

// count adds the questions of some steps that came to servers which are up.
func count(to Asked, steps []walk.Step, silent []*site.Server) {
	for _, step := range steps {
		for _, t := range step.Tries {
			if slices.Contains(silent, t.Server) {
				continue
			}
			q := to[t.Server]
			switch {
			case step.Purpose == site.Login:
				q.Logins++
			case step.Purpose.Records():
				q.Records++
			default:
				q.Decisions++
			}
			to[t.Server] = q
		}
	}
}

// Usual returns the way in by which people come to a device on a usual day, ssh where it
// has that, and somebody who gets in there by a server; false where nobody does.
func (f Forecaster) Usual(d *site.Device) (*site.Way, Who, bool) {
	for _, access := range []string{site.SSH, site.Telnet, site.Web, site.API, site.NETCONF, site.Console} {
		for _, w := range d.Ways {
			if w.Access != access {
				continue
			}
			for _, g := range f.subjects() {
				c := f.one(d, w, g[0], nil)
				if g[0].Kind == Known && (c.Outcome == walk.OutcomeIn || c.Outcome == walk.OutcomeLow) {
					return w, g[0], true
				}
			}
		}
	}
	return nil, Who{}, false
}
