package lab

import (
	"crypto/tls"
	"net"
	"net/netip"
	"slices"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/lab/directory"
	"mellowgate/internal/live/store/secrets"
)

// play starts a directory that knows the site's people and those of lab.people.
func (l *Lab) play(s *site.Server, endpoint netip.AddrPort) (netip.AddrPort, error) {
	identity, err := l.identity(s.Name, endpoint.Addr())
	if err != nil {
		return endpoint, err
	}
	config := directory.Config{Server: s, People: slices.Concat(l.config.Site.People, l.config.Site.Lab.People),
		PasswordIs: l.inDirectory,
		TLS:        &tls.Config{Certificates: []tls.Certificate{identity.Certificate}, MinVersion: tls.VersionTLS12}}
	other, err := l.identity("another-name", endpoint.Addr())
	if err != nil {
		return endpoint, err
	}
	config.OtherTLS = &tls.Config{Certificates: []tls.Certificate{other.Certificate}, MinVersion: tls.VersionTLS12}
	if s.Directory.Key != nil {
		config.Searcher = l.config.Keys[s.Directory.Key.Name]
	}
	listener, err := open(endpoint, listenTCP)
	if err != nil {
		return endpoint, err
	}
	if err := l.authority.WriteAuthority(l.config.State.Certificates()); err != nil {
		return endpoint, err
	}
	d := directory.New(config)
	d.Serve(listener)
	l.directories[s] = d
	return listener.Addr().(*net.TCPAddr).AddrPort(), nil
}

// inDirectory reports whether a directory takes a password: who is disabled, or
// whose time is over, has none there.
func (l *Lab) inDirectory(p *site.Person, password string) bool {
	if p.Disabled || p.Expired(l.now()) {
		return false
	}
	ok, err := secrets.PasswordIs(p.Password, password, l.config.Keys)
	return err == nil && ok
}

// directory returns how everybody in the lab reaches a directory.
func (l *Lab) directory(s *site.Server) ldap.Reach {
	identity, err := l.identity(s.Name, l.at.servers[s])
	if err != nil {
		return ldap.Reach{} // the lab then does not start: play needs it too
	}
	return ldap.Reach{
		TLS:  &tls.Config{RootCAs: identity.Trusted, ServerName: s.Name, MinVersion: tls.VersionTLS12},
		Dial: l.links.directory(func() netip.AddrPort { return l.targets[s].Authentication }),
	}
}
