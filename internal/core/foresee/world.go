package foresee

import (
	"slices"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// decide imagines what a server that is up decides.
func (f Forecaster) decide(d *site.Device, w *site.Way, who Who, p site.Purpose) rights.Decision {
	return f.decideOn(d, w, who, p, site.ByGroup)
}

// decideOn is decide for somebody who has got in by a method: none, and a secret that
// many share, prove to nobody who that is.
func (f Forecaster) decideOn(d *site.Device, w *site.Way, who Who, p site.Purpose, by site.MethodKind) rights.Decision {
	q := rights.Question{Purpose: p, Device: d, Access: w.Access, Person: who.typed, Known: who.known(),
		Credential: rights.Wrong, From: f.From, AssumeFrom: !f.From.IsValid(), AssumeHours: f.At.IsZero()}
	if len(f.Site.Directories) == 0 { // a directory that devices ask tells the servers of nobody
		q.Known = nil
	}
	if who.right() {
		q.Credential = rights.Right
	}
	q.Unproven = by == site.ByNone || by == site.BySecret
	switch p {
	case site.Commands:
		q.Purpose = site.Session // no line is known: what matters is whether any command is allowed
	case site.Elevation:
		q.Purpose, q.Wants = site.Login, 15
	}
	decision := rights.Decide(f.Site, q, f.at())
	if p == site.Commands && decision.Allow && !rights.MayDoSomething(decision.Role) {
		decision.Allow, decision.Reason = false, reason.CommandRefused
	}
	return decision
}

// at returns the time at which logins happen.
func (f Forecaster) at() time.Time {
	if !f.At.IsZero() {
		return f.At
	}
	return f.Now
}

// login imagines what a server decides of a login or an elevation: it may not
// be able to check the password in the form in which the device sends it, and
// a directory knows nobody's grants.
func (f Forecaster) login(s *site.Server, d *site.Device, w *site.Way, who Who, p site.Purpose) rights.Decision {
	form := d.Platform.Behaviour.PasswordAs.Of(s.Protocol)
	switch {
	case len(s.Forms) > 0 && !slices.Contains(s.Forms, form):
		return rights.Decision{Reason: reason.PasswordForm, Text: s.Name + " does not take passwords as " + form}
	case who.right() && who.person.Password.Key == nil && !site.OneWay(form):
		return rights.Decision{Reason: reason.PasswordForm, Text: "the password of " + who.Name + " cannot be read"}
	case s.Protocol == site.LDAP && who.right():
		return rights.AtDirectory(who.person, f.at())
	}
	return f.decide(d, w, who, p)
}

// imagined is the world of one foreseen login.
type imagined struct {
	reckoner Forecaster
	device   *site.Device // as the servers know it
	as       *site.Device // as it behaves
	visit    *walk.Visit
	way      *site.Way
	who      Who
	when     []Condition
}

// PasswordIs reports whether it is right: the password given is the right one of a local account in that
// account's own case, and in that of a person who has the same name and password.
func (w *imagined) PasswordIs(a *site.Account) bool {
	return w.who.Kind == Local && w.who.account == a ||
		w.who.Kind == Known && w.who.typed == a.Name && w.who.person.Password.Same(a.Password)
}

// SecretIs reports whether it is right: those whose right password opens level 15 are taken to know the
// secrets of elevation, and those of local accounts.
func (w *imagined) SecretIs(e *site.ElevationSecret) bool {
	session := w.reckoner.decide(w.device, w.way, w.who, site.Session)
	return w.who.Kind == Local || w.who.Kind == Known && session.Allow && session.Role.Level >= e.Level
}

// Begin chooses the state of a server when it is first asked.
func (w *imagined) Begin(s *site.Server, q walk.Question) walk.Exchange {
	state := Up
	if i := slices.IndexFunc(w.when, func(c Condition) bool { return c.Server == s }); i >= 0 {
		state = w.when[i].State
	} else {
		w.when = append(w.when, Condition{Server: s, State: Up})
	}
	return imaginedExchange{world: w, server: s, q: q, state: state}
}

type imaginedExchange struct {
	world  *imagined
	server *site.Server
	q      walk.Question
	state  State
}

func (e imaginedExchange) Close() {}

// Try returns the answer that a server in this state gives.
func (e imaginedExchange) Try(int) walk.Reply {
	w := e.world
	why, none := reasons[e.state]
	if e.state == NoRecords && e.q.Purpose.Records() {
		why, none = reason.Silent, true
		if e.server.Protocol == site.TACACS {
			why = reason.ServerError // it says so
		}
	}
	if e.server.TwoPorts() && !e.server.PortsSaid {
		w.visit.Consult(site.AspectDefaultPorts)
	}
	unheard := w.reckoner.Unheard(w.as, e.server, e.q.Purpose)
	closed := e.server.Protocol == site.RADIUS && (unheard == reason.NotForThis || unheard == reason.WrongPort)
	// Where nothing is sent, or nothing listens, what the server would do does not matter.
	if !none || closed && e.state != Down || unheard == reason.NoSource {
		why = unheard
	}
	if why != "" {
		return walk.Reply{Result: walk.Unavailable, Reason: why, Took: walk.Lost(w.as, e.server, why)}
	}
	if e.q.Purpose.Records() {
		return walk.Reply{Result: walk.Accepted}
	}
	var decision rights.Decision
	if e.q.Purpose == site.Login || e.q.Purpose == site.Elevation {
		switch e.server.Protocol {
		case site.RADIUS:
			w.visit.Consult(site.AspectPasswordRADIUS)
		case site.TACACS:
			w.visit.Consult(site.AspectPasswordTACACS)
		}
		decision = w.reckoner.login(e.server, w.as, w.way, w.who, e.q.Purpose)
	} else {
		decision = w.reckoner.decideOn(w.device, w.way, w.who, e.q.Purpose, e.q.Method)
	}
	if !decision.Allow {
		return walk.Reply{Result: walk.Refused, Reason: reason.RefusedByServer, Message: decision.Text}
	}
	return walk.Reply{Result: walk.Accepted,
		Attributes: rights.Attributes(e.server.Protocol, e.q.Purpose, decision, w.device.Platform)}
}

// Unheard tells why a device gets no answer from a server that is up: "" when
// it does.
func (f Forecaster) Unheard(d *site.Device, s *site.Server, p site.Purpose) reason.Reason {
	switch {
	case !d.Found.Source.IsValid() && !d.Path(s).Source.IsValid(): // nothing is sent, whatever it is for
		return reason.NoSource
	case !s.Serves(p):
		return reason.NotForThis
	case s.Protocol == site.LDAP:
		return ""
	case s.TwoPorts() && f.atOtherPort(d, s, p):
		return reason.WrongPort
	case !f.known(d, s):
		return reason.ClientUnknown
	case s.Secured():
		return ""
	}
	held := d.Key(s)
	if f.Keys.Same(held, d.Shares(s)) || s.NextKey != nil && f.Keys.Same(held, s.NextKey) || f.coveredWith(d, s, held) {
		return ""
	}
	return reason.KeyDiffers
}

func (f Forecaster) atOtherPort(d *site.Device, s *site.Server, p site.Purpose) bool {
	authentication, accounting, _ := d.Ports(s)
	if p.Records() {
		return accounting != s.AccountingPort
	}
	return authentication != s.AuthenticationPort
}

// known reports whether a server knows the address that a device asks from: that
// of a device of the site, or of another client.
func (f Forecaster) known(d *site.Device, s *site.Server) bool {
	from := d.Asks()
	if !from.IsValid() || from == d.Source {
		return true
	}
	for _, other := range f.Site.Devices {
		if other.Source == from {
			return true
		}
	}
	return slices.ContainsFunc(f.Site.Clients, func(c *site.Client) bool { return c.Covers(from, s) })
}

// coveredWith reports whether a device asks from an address that another client
// entry covers, with the key of that entry.
func (f Forecaster) coveredWith(d *site.Device, s *site.Server, held *site.Key) bool {
	if d.Asks() == d.Source {
		return false
	}
	return slices.ContainsFunc(f.Site.Clients,
		func(c *site.Client) bool { return c.Covers(d.Asks(), s) && f.Keys.Same(held, c.Key) })
}

// RoleOf returns the role that a person has where a case happens, nil for none.
func (f Forecaster) RoleOf(c Case) *site.Role {
	d := f.decide(c.Device, c.Way, c.Who, site.Session)
	if !d.Allow {
		return nil
	}
	return d.Role
}
