package site

import (
	"slices"
	"strings"
)

func (l *linker) server(s *Server) {
	if s.Protocol == "" { // said already
		return
	}
	if s.Protocol == LDAP {
		l.ldap(s)
		return
	}
	if d := s.Directory; d.Base != "" || d.BindAs != "" || d.TeamsFrom != "" || d.Security != "" {
		l.wrong(s.Place, "base, bind, filter, team-attribute and tls: start, ldaps or none are for protocol: ldap; "+
			"%s is %s",
			s.Name, s.Protocol)
	}
	switch {
	case s.Secured() && s.KeyRef.Name != "":
		l.wrong(s.KeyRef.Place, "the server %s needs no key: over TLS certificates take its place; take key out",
			s.Name)
	case s.Secured():
	case s.KeyRef.Name == "":
		l.wrong(s.Place, "the server %s needs the key \"key\"", s.Name)
	default:
		s.Key = find(l, "key", l.keys, s.KeyRef)
		if s.NextKeyRef.Name != "" {
			s.NextKey = find(l, "key", l.keys, s.NextKeyRef)
		}
	}
	if !s.Secured() && s.Certificates.Place.Known() {
		l.wrong(s.Certificates.Place, "the server %s has tls and not transport: tls; add the one or take out the other",
			s.Name)
	}
	if !s.Over().Carries(s.Protocol) {
		l.wrong(s.transport.Place, "%s does not run over %s; leave transport out, or write tls", s.Protocol,
			s.transport.Name)
	}
	switch s.Protocol {
	case RADIUS:
		l.radius(s)
	case TACACS:
		if s.AuthenticationPort != 0 || s.AccountingPort != 0 {
			l.wrong(s.Place, "the TACACS+ server %s has one port for everything: write port: 49", s.Name)
		}
		orDefault(&s.Port, s.UsualPort())
		l.once(s, "TACACS+")
	}
}

// ldap checks a directory: it has no key of its own, and one port.
func (l *linker) ldap(s *Server) {
	d := &s.Directory
	if s.KeyRef.Name != "" {
		l.wrong(s.KeyRef.Place,
			"the directory %s has no shared secret; the password of who searches goes into bind: {dn: DN, key: NAME}",
			s.Name)
	}
	if s.transport.Name != "" || s.Certificates.Place.Known() || s.PortsSaid {
		l.wrong(s.Place, "the directory %s says how it is reached with port and tls: start, ldaps or none", s.Name)
	}
	if d.Base == "" {
		l.wrong(s.Place, "the directory %s needs the key \"base\": where the search begins, such as "+
			"ou=people,dc=example,dc=com", s.Name)
	}
	if !strings.Contains(d.Find, "%u") {
		l.wrong(s.Place, "filter of the directory %s must hold %%u, which stands for the name", s.Name)
	}
	if d.KeyRef.Name != "" {
		d.Key = find(l, "key", l.keys, d.KeyRef)
	}
	if d.Security == "" {
		d.Security = "start"
	}
	if d.Security == "ldaps" {
		orDefault(&s.Port, 636)
	}
	orDefault(&s.Port, 389)
	if s.Run {
		l.wrong(s.Place, "the directory %s cannot have run: true; only RADIUS and TACACS+ servers are run here", s.Name)
	}
	l.once(s, "LDAP")
}

// directories leads the directories to LDAP servers.
func (l *linker) directories() {
	for _, ref := range l.site.directories {
		s := find(l, "server", l.site.servers, ref)
		if s == nil {
			continue
		}
		if s.Protocol != LDAP {
			l.wrong(ref.Place, "the server %s speaks %s; a directory is a server with protocol: ldap", s.Name,
				s.Protocol.Title())
			continue
		}
		l.site.Directories = append(l.site.Directories, s)
	}
}

func (l *linker) clients() {
	for _, c := range l.site.Clients {
		c.Key = find(l, "key", l.keys, c.KeyRef)
		for _, ref := range c.ServerRefs {
			s := find(l, "server", l.site.servers, ref)
			if s == nil {
				continue
			}
			if s.Secured() || s.Protocol == LDAP {
				l.wrong(ref.Place, "the server %s has no shared secret, so a client of it needs no entry", s.Name)
				continue
			}
			c.Servers = append(c.Servers, s)
		}
	}
}

func (l *linker) radius(s *Server) {
	if !s.TwoPorts() {
		if s.AuthenticationPort != 0 || s.AccountingPort != 0 {
			l.wrong(s.Place, "the RADIUS server %s has one port over TLS: write port: %d", s.Name, s.UsualPort())
		}
		orDefault(&s.Port, s.UsualPort())
		s.AuthenticationPort, s.AccountingPort = s.Port, s.Port
		l.once(s, s.Spoken())
		return
	}
	if s.Port != 0 {
		l.wrong(s.Place, "the RADIUS server %s has two ports: write ports: {authentication: %d, accounting: %d}",
			s.Name,
			s.Port, s.Port+1)
	}
	orDefault(&s.AuthenticationPort, 1812)
	orDefault(&s.AccountingPort, 1813)
	orDefault(&s.Attempts, 2)
}

const askedOnce = "the %s server %s is asked once: TCP repeats what is lost by itself; take attempts out or make it 1"

// once holds a server over TCP to one try.
func (l *linker) once(s *Server, what string) {
	if s.Attempts > 1 {
		l.wrong(s.Place, askedOnce, what, s.Name)
	}
	orDefault(&s.Attempts, 1)
}

func orDefault[T uint16 | int](v *T, d T) {
	if *v == 0 {
		*v = d
	}
}

func (l *linker) group(g *Group) {
	for _, ref := range g.ServerRefs {
		s := find(l, "server", l.site.servers, ref)
		if s == nil {
			continue
		}
		if slices.Contains(g.Servers, s) {
			l.wrong(ref.Place, "the server %q stands twice in the group %s", ref.Name, g.Name)
			continue
		}
		if len(g.Servers) > 0 && s.Protocol != g.Protocol() {
			l.wrong(ref.Place, "the group %s mixes %s and %s; the servers of a group speak one protocol: make two "+
				"groups",
				g.Name, g.Protocol(), s.Protocol)
		}
		g.Servers = append(g.Servers, s)
	}
	if len(g.ServerRefs) == 0 && g.Place.Known() {
		l.wrong(g.Place, "the group %s has no server", g.Name)
	}
}
