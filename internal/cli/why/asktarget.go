package why

import (
	"crypto/tls"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/reach"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/state"
)

// servers returns the group to ask; one server is a group of its own.
func (f *askFlags) servers(l call.Loaded) (*site.Group, error) {
	if f.server != "" {
		some, err := l.ServersNamed(f.server)
		if err != nil {
			return nil, err
		}
		if len(some) != 1 {
			return nil, call.Usagef("-server takes one server; ask several as a group with -group")
		}
		s := l.Server(strings.TrimSpace(f.server))
		return &site.Group{Ref: s.Ref, Servers: []*site.Server{s}}, nil
	}
	var known []string
	for _, g := range l.Groups {
		if g.Name == f.group {
			return g, nil
		}
		known = append(known, g.Name)
	}
	return nil, call.Usagef("the site %s has no group %q%s", l.Path, f.group, nearest.Suggest(f.group, known))
}

// fits refuses what the server's protocol does not have.
func (f *askFlags) fits(s *site.Server) error {
	forms := site.FormsOf(s.Protocol)
	switch {
	case f.form != "" && !slices.Contains(forms, f.form):
		return call.Usagef("%s speaks %s, which has no form %q; it has %s", s.Name, s.Protocol.Title(), f.form,
			strings.Join(forms, ", "))
	case s.Protocol == site.LDAP && (f.question != "login" || len(f.attributes) > 0):
		return call.Usagef("%s is a directory: it can be asked for a login, and for nothing else", s.Name)
	case s.Protocol == site.RADIUS && (f.question == "session" || f.question == "commands"):
		return call.Usagef("%s speaks RADIUS, which has no question of its own about %s: the rights come with the "+
			"login", s.Name,
			f.question)
	case s.Protocol == site.RADIUS && f.command != "":
		return call.Usagef("%s speaks RADIUS, which has no records of commands", s.Name)
	case s.Protocol == site.RADIUS && f.question == "elevation":
		return call.Usagef("%s speaks RADIUS, which has no elevation of its own", s.Name)
	case s.Protocol == site.TACACS && f.question == "status":
		return call.Usagef("%s speaks TACACS+, which has no status question; ask for a login", s.Name)
	case s.Protocol == site.TACACS && len(f.attributes) > 0:
		return call.Usagef("-attribute is for RADIUS, and %s speaks TACACS+", s.Name)
	}
	return nil
}

// target returns a server as the asker reaches it: in a lab at its loopback
// address and from the device's, else at the site's addresses.
func (f *askFlags) target(c *call.Call, l call.Loaded, d *site.Device, s *site.Server, p evidence.Places,
	lab bool) (aaa.Target,
	error) {
	m := reach.Map{Site: l.Site, Keys: l.Keys}
	if lab {
		m.Places, m.Asked = p, call.OwnQuestions(f.folder())
	}
	t, err := m.Server(c.Context, d, s, f.as != "")
	switch {
	case errors.Is(err, reach.ErrNotThere):
		return t, call.UsageError(err)
	case err != nil:
		return t, call.TaskError(err)
	}
	if s.Protocol == site.LDAP && (lab || f.authorities != "") {
		if t.TLS, err = f.trusting(s); err != nil {
			return t, call.UsageError(err)
		}
	}
	if s.Secured() {
		identity, err := f.identity(lab)
		if err != nil {
			return t, err
		}
		name := s.Address
		if lab {
			name = t.Authentication.Addr().String()
		}
		t.TLS = identity.Client(s.Protocol, name)
	}
	return t, nil
}

// trusting returns the TLS with which a directory is asked: of the authorities
// named by a flag, else of those of a lab.
func (f *askFlags) trusting(s *site.Server) (*tls.Config, error) {
	file, name := f.authorities, s.Address
	if file == "" {
		file, name = filepath.Join((&state.Folder{Dir: f.folder()}).Certificates(), pki.AuthorityFile), s.Name
	}
	trusted, err := pki.Authorities(file)
	return &tls.Config{RootCAs: trusted, ServerName: name, MinVersion: tls.VersionTLS12}, err
}

// folder is the state folder that is meant.
func (f *askFlags) folder() string {
	if f.state == "" {
		return call.DefaultState
	}
	return f.state
}

// identity returns the certificate to ask with over TLS: the one named by flags,
// else the one that a lab made for the device.
func (f *askFlags) identity(lab bool) (pki.Identity, error) {
	switch {
	case f.certificate != "" && f.certificateKey != "" && f.authorities != "":
		i, err := pki.Load(f.certificate, f.certificateKey, f.authorities)
		if err != nil {
			return i, call.UsageError(err)
		}
		return i, nil
	case f.certificate+f.certificateKey+f.authorities != "":
		return pki.Identity{}, call.Usagef("-certificate, -certificate-key and -authorities go together")
	case !lab || f.as == "":
		return pki.Identity{},
			call.Usagef("this server speaks over TLS: give -certificate, -certificate-key and -authorities, or in " +
				"a lab the device with -as")
	}
	i, err := pki.Written((&state.Folder{Dir: f.folder()}).Certificates(), f.as)
	if err != nil {
		return i, call.UsageError(err)
	}
	return i, nil
}
