package gate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// source is where a login comes from, as the device says, else the device.
func (s *server) source(q *question) string {
	if q.From.IsValid() {
		return q.From.String()
	}
	return q.client.Addr().String()
}

// spelling settles by which name the person of a claim counts. The decision refuses a name that is another
// spelling of one of the site, unless the site says that it stands for that; else it is nil.
func (s *server) spelling(c claim) (claim, *rights.Decision) {
	p := s.Site.Spelled(c.Person)
	if p == nil || p.Name == c.Person {
		return c, nil
	}
	if s.Site.Service.FoldNames && strings.TrimSpace(c.Person) == c.Person {
		c.spelled, c.Person = c.Person, p.Name
		return c, nil
	}
	return c, &rights.Decision{Reason: reason.NameSpelling, Place: p.Place,
		Text: fmt.Sprintf("the name is a spelling of %s, and names count as they are written here", p.Name)}
}

// arrives notes the port by which a person comes, as the device names it, and the
// way in that it is; else is the way in where the name says none. A name that
// says nothing, and would shut people out of grants, is told once for each platform.
func (s *server) arrives(q *question, port, otherwise string) {
	var names site.PortNames
	if q.Device != nil {
		names = q.Device.Platform.Behaviour.PortNames
	}
	q.Port = printable(port)
	if q.Access = names.Access(port); q.Access == "" {
		q.Access = otherwise
	}
	if q.Access != "" || port == "" || q.Device == nil || s.gate.config.Say == nil ||
		!slices.ContainsFunc(s.Site.Grants, func(g *site.Grant) bool { return len(g.Through) > 0 }) {
		return
	}
	stem := strings.Map(func(c rune) rune {
		if c >= '0' && c <= '9' {
			return -1
		}
		return c
	}, q.Port)
	stem = strings.TrimRight(stem, " /.:-")
	if kind := q.Device.Platform.Name; s.gate.unnamed.First(kind + " " + stem) {
		s.gate.config.Say(fmt.Sprintf("%s names the port of a login %q, which says no way in: grants with through "+
			"hold for it nowhere; say which way in it is: port-names: {ssh: [%q]} in the behaviour of the platform %s",
			q.Device.Name,
			q.Port, stem,
			kind))
	}
}

// source reads where a person comes from, as a device says it.
func source(text string) netip.Addr {
	a, _ := netip.ParseAddr(text)
	return a.Unmap().WithZone("")
}
