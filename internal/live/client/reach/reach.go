// Package reach is the one answer to how a server is reached: at which address
// and ports, from which address, with which key. Everybody who asks servers or
// runs them goes by it: a device of a lab, a question of this program, a service
// that listens. What is asked is left to aaa.
package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
)

// At returns where a server is asked on an address: for TACACS+, LDAP and RADIUS
// over TLS the one port twice, for RADIUS over UDP its two.
func At(s *site.Server, address netip.Addr) (authentication, accounting netip.AddrPort) {
	if !s.TwoPorts() {
		endpoint := netip.AddrPortFrom(address, s.Port)
		return endpoint, endpoint
	}
	return netip.AddrPortFrom(address, s.AuthenticationPort), netip.AddrPortFrom(address, s.AccountingPort)
}

// Resolve returns the address of a server, which the site may give as a host name.
func Resolve(ctx context.Context, s *site.Server) (netip.Addr, error) {
	addresses, err := Addresses(ctx, s)
	if err != nil {
		return netip.Addr{}, err
	}
	return addresses[0], nil
}

// Addresses returns the addresses of a server, at least one: several where its host
// name has several.
func Addresses(ctx context.Context, s *site.Server) ([]netip.Addr, error) {
	if address, err := netip.ParseAddr(s.Address); err == nil {
		return []netip.Addr{address}, nil
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", s.Address)
	if err != nil || len(found) == 0 {
		return nil, fmt.Errorf("the server %s: its address %s cannot be found: %w", s.Name, s.Address, err)
	}
	for i := range found {
		found[i] = found[i].Unmap()
	}
	return found, nil
}

// Key returns the value of the key with which a device asks a server: for a
// directory that of who searches, over TLS none.
func Key(d *site.Device, s *site.Server, keys site.Keys) site.Secret {
	switch {
	case s.Protocol == site.LDAP && s.Directory.Key != nil:
		return keys[s.Directory.Key.Name]
	case s.Protocol != site.LDAP && !s.Secured():
		return keys[d.Key(s).Name]
	}
	return site.Secret{}
}

// ErrNotThere is a server that a state folder does not name.
var ErrNotThere = errors.New("does not run there: the state folder does not name it")

// Map is a site and where its servers and devices are: on its own addresses, or
// where a state folder says that they run.
type Map struct {
	Site   *site.Site
	Keys   site.Keys
	Places evidence.Places // of a state folder; without servers: the site's own addresses
	// Asked is told of each question that is put from a device's address, so that
	// nobody takes it for one of the device. It may be nil.
	Asked func(evidence.OwnQuestion)
}

// noting dials, and says from where.
type noting struct{ asked func(evidence.OwnQuestion) }

func (n noting) Dial(ctx context.Context, network string, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	began := time.Now()
	conn, err := aaa.Net{}.Dial(ctx, network, from, to)
	if err == nil {
		n.asked(evidence.OwnQuestion{Time: began, From: conn.LocalAddr().String()})
	}
	return conn, err
}

// dialer is how targets are dialled; nil for the usual way.
func (m Map) dialer() aaa.Dialer {
	if m.Asked == nil {
		return nil
	}
	return noting{asked: m.Asked}
}

// Server returns how a device reaches a server. The address that it asks from is
// the device's where a lab has it or own says that this host is the device; else
// the system chooses. The TLS of the target is left to the caller.
func (m Map) Server(ctx context.Context, d *site.Device, s *site.Server, own bool) (aaa.Target, error) {
	t := aaa.Target{Server: s, Patience: d.Patience(s), HeedsICMP: d.Platform.Behaviour.HeedsICMP,
		Words:  attributes.Of(m.Site),
		Key:    Key(d, s, m.Keys),
		Dialer: m.dialer()}
	if len(m.Places.Servers) == 0 {
		address, err := Resolve(ctx, s)
		if err != nil {
			return t, err
		}
		t.Authentication, t.Accounting = At(s, address)
		if own {
			t.From = d.Path(s).Source
		}
		return t, nil
	}
	where, err := m.place(s.Name)
	if err != nil {
		return t, fmt.Errorf("the server %s %w", s.Name, err)
	}
	address, err := netip.ParseAddr(where.Address)
	if err != nil {
		return t, fmt.Errorf("the server %s: the state folder gives it the address %q: %w", s.Name, where.Address, err)
	}
	t.Authentication = netip.AddrPortFrom(address, where.Authentication+where.Port) // one of the two is 0
	t.Accounting = netip.AddrPortFrom(address, where.Accounting+where.Port)
	if place, ok := m.Places.Device(d.Name); ok {
		t.From, _ = netip.ParseAddr(place.Source)
	} else if own {
		t.From = d.Path(s).Source
	}
	return t, nil
}

func (m Map) place(server string) (evidence.ServerPlace, error) {
	i := slices.IndexFunc(m.Places.Servers, func(where evidence.ServerPlace) bool { return where.Name == server })
	if i < 0 {
		return evidence.ServerPlace{}, ErrNotThere
	}
	return m.Places.Servers[i], nil
}

// Designed returns how a device of another design would reach a server of it in
// this lab: at the address of the lab's server that has the design's one, at the
// port and with the key of the design, from the address of the lab that has the
// design's source. Where nobody has that address, nobody answers.
func (m Map) Designed(design *site.Site, keys site.Keys, d *site.Device, s *site.Server) aaa.Target {
	t := aaa.Target{Server: s, Patience: d.Patience(s), HeedsICMP: true, Key: Key(d, s, keys),
		Words: attributes.Of(design),
		From:  m.source(d), Dialer: nobody{}}
	i := slices.IndexFunc(m.Site.Servers,
		func(v *site.Server) bool { return v.Address == s.Address && v.Protocol == s.Protocol })
	if i < 0 {
		return t
	}
	has := m.Site.Servers[i]
	p, err := m.place(has.Name)
	if err != nil {
		return t
	}
	ip, err := netip.ParseAddr(p.Address)
	if err != nil {
		return t
	}
	t.Dialer = m.dialer()
	t.Authentication, t.Accounting = Moved(s, has, netip.AddrPortFrom(ip, p.Authentication+p.Port),
		netip.AddrPortFrom(ip, p.Accounting+p.Port))
	return t
}

// Moved returns where a server is asked at the ports that a device has for it:
// where that is a port of the server as it is known, at the port in use for it;
// else at that port itself, where nobody may be.
func Moved(asked, known *site.Server, authentication, accounting netip.AddrPort) (a, b netip.AddrPort) {
	port := func(open netip.AddrPort, asked, own uint16) netip.AddrPort {
		if asked == own {
			return open
		}
		return netip.AddrPortFrom(open.Addr(), asked)
	}
	if !asked.TwoPorts() {
		return port(authentication, asked.Port, known.Port), port(accounting, asked.Port, known.Port)
	}
	return port(authentication, asked.AuthenticationPort, known.AuthenticationPort),
		port(accounting, asked.AccountingPort, known.AccountingPort)
}

// source returns the lab's address for the source of a design's device; one that
// no device has where no device has that source.
func (m Map) source(device *site.Device) netip.Addr {
	for _, d := range m.Site.Devices {
		if slices.Contains(d.Sources(), device.Source) {
			if place, ok := m.Places.Device(d.Name); ok {
				a, _ := netip.ParseAddr(place.Source)
				return a
			}
		}
	}
	if m.Places.Control == nil {
		return netip.Addr{}
	}
	host, _, _ := net.SplitHostPort(m.Places.Control.Address)
	a, _ := netip.ParseAddr(host)
	return a
}

// nobody is a network in which nobody is at any address.
type nobody struct{}

func (nobody) Dial(context.Context, string, netip.Addr, netip.AddrPort) (net.Conn, error) {
	return nil, errNobody
}

var errNobody = &net.OpError{Op: "dial", Err: errors.New("nobody is at that address in this lab")}
