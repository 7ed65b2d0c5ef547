package diagnose

import (
	"fmt"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// lookDesign adds what the site knows of why a device cannot hear a server: the
// key, the port and the address that the device holds.
func (j *assessment) lookDesign(p *failurePoint) {
	s := j.evidence.Site
	if s == nil || s.Device(j.story.Device) == nil || s.Server(p.server) == nil {
		return
	}
	d, server := s.Device(j.story.Device), s.Server(p.server)
	say := func(what Shows, format string, args ...any) {
		p.signs = append(p.signs,
			Sign{What: what, From: evidence.FromSite, Server: p.server, Text: fmt.Sprintf(format, args...)})
	}
	switch (foresee.Forecaster{Site: s, Keys: j.evidence.Keys}).Unheard(d, server, purposeOf(p.asked)) {
	case "":
		say(asDesignedSign, "the site has the same key and ports on both sides, and knows the address of %s", d.Name)
	case reason.KeyDiffers:
		if how, place := j.heldKey(p.server); how != "" {
			say(heldKeySign, "the site says that %s holds another key (%s): %s", d.Name, place, how)
		}
	case reason.WrongPort:
		authentication, accounting, place := d.Ports(server)
		say(heldPortSign, "the site says that %s asks %s at the ports %d and %d (%s), and it listens on %d and %d",
			d.Name,
			server.Name, authentication, accounting, s.Where(place), server.AuthenticationPort, server.AccountingPort)
	case reason.ClientUnknown:
		say(heldSourceSign, "the site says that %s asks from %s (%s), an address that no device has", d.Name, d.Asks(),
			s.Where(d.Found.Place))
	case reason.NotForThis:
		say(notForThisSign, "the site says that %s is not for this kind of question (%s)", server.Name,
			s.Where(server.Place))
	}
}

// purposeOf returns the purpose of a question; what is none counts as a login.
func purposeOf(q site.Question) site.Purpose {
	for p := site.Login; p < site.PurposeCount; p++ {
		if p.Question() == q {
			return p
		}
	}
	return site.Login
}

// heldKey says how the key that the site knows to be on the device differs from
// the server's, "" when it knows of none.
func (j *assessment) heldKey(server string) (how, place string) {
	s := j.evidence.Site
	held, ok := s.Device(j.story.Device).Found.Keys[s.Server(server)]
	if !ok || j.evidence.Keys.Same(held.Key, s.Device(j.story.Device).Shares(s.Server(server))) {
		return "", ""
	}
	if _, known := j.evidence.Keys[held.Key.Name]; !known {
		return "its value is not known here", s.Where(held.KeyRef.Place)
	}
	return j.evidence.Keys[held.Key.Name].Difference(
			j.evidence.Keys[s.Device(j.story.Device).Shares(s.Server(server)).Name]),
		s.Where(held.KeyRef.Place)
}

// detail adds to a cause what only this site or this event can say.
func (j *assessment) detail(c *Cause, p failurePoint, w weighed, strongest Sign) {
	s := j.evidence.Site
	switch {
	case w.cause == KeyDiffers && s != nil && s.Server(p.server) != nil && s.Server(p.server).KeyRef.Place.Known():
		c.Repair += " (" + s.Where(s.Server(p.server).KeyRef.Place) + ")"
	case w.cause == CommandRefused && strongest.Rule != "":
		c.Repair = "if the command is to be allowed: add an allow rule before this one"
	case w.cause == CommandRefused && len(c.Evidence) == 1 && strongest.From != evidence.FromEvents:
		c.Against = appendNew(c.Against, "the server's events, which name the rule, are not at hand")
	}
}
