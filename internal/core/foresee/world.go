package foresee

import (
	"slices"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// decide imagines what a server that is up decides.
func (f Reckoner) decide(d *site.Device, w *site.Way, who Who, p site.Purpose) rights.Decision {
	credential := rights.Wrong
	if who.Kind == Known {
		credential = rights.Right
	}
	q := rights.Question{Purpose: p, Device: d, Access: w.Access, Person: who.typed, Credential: credential}
	if p == site.Commands {
		q.Purpose = site.Session // no line is known: what matters is whether any command is allowed
	}
	decision := rights.Decide(f.Site, q, f.Now)
	if p == site.Commands && decision.Allow && !rights.MayDoSomething(decision.Role) {
		decision.Allow, decision.Reason = false, rights.CommandRefused
	}
	return decision
}

// imagined is the world of one foreseen login.
type imagined struct {
	reckoner Reckoner
	device   *site.Device
	way      *site.Way
	who      Who
	when     []Condition
}

// PasswordIs: the password given is the right one of a local account only for
// that account's own case.
func (w *imagined) PasswordIs(a *site.Account) bool { return w.who.Kind == Local && w.who.account == a }

// Begin chooses the state of a server when it is first asked.
func (w *imagined) Begin(s *site.Server, q walk.Question) walk.Exchange {
	state := Up
	if i := slices.IndexFunc(w.when, func(c Condition) bool { return c.Server == s }); i >= 0 {
		state = w.when[i].State
	} else {
		w.when = append(w.when, Condition{s, Up})
	}
	return imaginedExchange{w, s, q, state}
}

type imaginedExchange struct {
	world  *imagined
	server *site.Server
	q      walk.Question
	state  State
}

func (e imaginedExchange) Close() {}

// Try gives the answer that a server in this state gives.
func (e imaginedExchange) Try(int) walk.Reply {
	w := e.world
	traits := w.device.Kind.Traits
	switch {
	case e.state == Down:
		return walk.Reply{Result: walk.Unavailable, Reason: walk.Silent, Took: walk.Lost(e.server, walk.Silent, traits)}
	case !w.reckoner.Keys.Same(w.device.Key(e.server), e.server.Key):
		return walk.Reply{Result: walk.Unavailable, Reason: walk.KeyDiffers, Took: walk.Lost(e.server, walk.KeyDiffers, traits)}
	case e.q.Purpose.Records():
		return walk.Reply{Result: walk.Accepted}
	}
	decision := w.reckoner.decide(w.device, w.way, w.who, e.q.Purpose)
	if !decision.Allow {
		return walk.Reply{Result: walk.Refused, Reason: walk.RefusedByServer, Message: decision.Text}
	}
	return walk.Reply{Result: walk.Accepted, Attributes: rights.Attributes(e.server.Protocol, e.q.Purpose, decision)}
}
