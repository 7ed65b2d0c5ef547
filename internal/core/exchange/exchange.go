// Package exchange turns captured packets into exchanges: one question with its
// answer, decoded, paired, timed and judged. It needs no site; with one it knows
// devices, servers and keys. It never shows a password.
package exchange

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/radius"
)

// Exchange is one question and what became of it.
type Exchange = evidence.Exchange

// NameValue is an attribute or an argument in readable form.
type NameValue = evidence.NameValue

// Words for Exchange.Key.
const (
	KeyFits    = evidence.KeyFits
	KeyDiffers = evidence.KeyUnfit
	KeyUnknown = evidence.KeyUnknown
)

// Directory knows who is where, and the keys. The zero value knows only the
// ports that the standards give.
type Directory struct {
	site    *site.Site
	hosts   map[netip.Addr]*site.Server // servers by address alone
	servers map[netip.AddrPort]port
	devices map[netip.Addr]*site.Device
	keys    site.Keys
	words   radius.Dictionary
	other   site.Secret // the key of servers that the site does not know
}

// Site returns the site whose directory it is, nil for none.
func (d Directory) Site() *site.Site { return d.site }

// WithKey returns the directory with a key for the servers whose key it does not
// know.
func (d Directory) WithKey(key site.Secret) Directory {
	d.other = key
	return d
}

// port is what one port of a server is for.
type port struct {
	server   *site.Server
	protocol site.Protocol
	tls      bool
	strange  bool // the server has the address, and not the port
}

// Designed is the directory of a site on its own addresses.
func Designed(s *site.Site, keys site.Keys) Directory {
	d := Directory{site: s, hosts: map[netip.Addr]*site.Server{}, servers: map[netip.AddrPort]port{},
		devices: map[netip.Addr]*site.Device{}, keys: keys, words: attributes.Of(s)}
	for _, v := range s.Servers {
		if a, err := netip.ParseAddr(v.Address); err == nil {
			d.server(v, a, v.Port, v.AuthenticationPort, v.AccountingPort)
		}
	}
	for _, v := range s.Devices {
		for _, a := range v.Addresses {
			d.devices[a] = v
		}
		for _, from := range v.Sources() {
			d.devices[from] = v
		}
	}
	return d
}

// InPlaces is the directory of a site where a state folder says that it runs.
func InPlaces(s *site.Site, keys site.Keys, p evidence.Places) Directory {
	d := Designed(s, keys)
	for _, place := range p.Servers {
		if a, err := netip.ParseAddr(place.Address); err == nil && s.Server(place.Name) != nil {
			d.server(s.Server(place.Name), a, place.Port, place.Authentication, place.Accounting)
		}
	}
	for _, where := range p.Devices {
		if a, err := netip.ParseAddr(where.Source); err == nil && s.Device(where.Name) != nil {
			d.devices[a] = s.Device(where.Name)
		}
	}
	return d
}

func (d Directory) server(s *site.Server, a netip.Addr, ports ...uint16) {
	d.hosts[a] = s
	for _, p := range ports {
		if p != 0 {
			d.servers[netip.AddrPortFrom(a, p)] = port{server: s, protocol: s.Protocol, tls: s.Secured()}
		}
	}
}

// standard are the ports that the standards give.
var standard = map[uint16]port{
	1812: {protocol: site.RADIUS}, 1813: {protocol: site.RADIUS}, 1645: {protocol: site.RADIUS},
	1646: {protocol: site.RADIUS},
	389:  {protocol: site.LDAP},
	49:   {protocol: site.TACACS}, 300: {protocol: site.TACACS, tls: true}, 2083: {protocol: site.RADIUS, tls: true},
}

// at tells what is at a place, by the site or else by the port alone.
func (d Directory) at(p netip.AddrPort) (port, bool) {
	if known, ok := d.servers[p]; ok {
		return known, true
	}
	found, ok := standard[p.Port()]
	if s := d.hosts[p.Addr()]; ok && s != nil {
		found.server, found.strange = s, true
	}
	return found, ok
}

// host tells what server has an address, whatever the port.
func (d Directory) host(p netip.AddrPort) (port, bool) {
	s := d.hosts[p.Addr()]
	if s == nil {
		return port{}, false
	}
	return port{server: s, protocol: s.Protocol, strange: true}, true
}

// key returns the key that a server shares with a client, false when it is not
// known.
func (d Directory) key(p port, client netip.Addr) ([]byte, bool) {
	if p.server != nil && p.server.Key != nil {
		key := p.server.Key
		if device := d.devices[client.Unmap()]; device != nil {
			key = device.Shares(p.server)
		}
		if v, ok := d.keys[key.Name]; ok {
			return []byte(v.Reveal()), true
		}
	}
	return []byte(d.other.Reveal()), !d.other.Empty()
}

// exchange begins an exchange between two places.
func (d Directory) exchange(moment time.Time, client, server netip.AddrPort, p port) *Exchange {
	e := &Exchange{Time: moment.UTC(), Protocol: string(p.protocol), Client: client.String(),
		ServerAddress: server.String(),
		Answer:        evidence.None, Key: KeyUnknown, AnswerKey: KeyUnknown, Says: map[evidence.Mark]string{},
		Remarks: []string{}, Marks: []evidence.Mark{}, Request: []NameValue{}, Response: []NameValue{}}
	if p.tls {
		e.Protocol = "tls"
	}
	if p.server != nil {
		e.Server = p.server.Name
	}
	if v := d.devices[client.Addr()]; v != nil {
		e.Device = v.Name
	}
	return e
}

// stranger marks an exchange whose asker or port the site does not know.
func (d Directory) stranger(e *Exchange, client netip.AddrPort, p port) {
	if d.site == nil || p.server == nil {
		return
	}
	if p.strange {
		at := netip.MustParseAddrPort(e.ServerAddress).Port()
		mark(e, evidence.MarkNoServer, fmt.Sprintf("%s does not listen on port %d", p.server.Name, at))
		if at == 1645 || at == 1646 {
			mark(e, evidence.MarkLegacyPort, "this is a port of the older pair, 1645 and 1646")
		}
	}
	if e.Device == "" && !p.tls &&
		!slices.ContainsFunc(d.site.Clients, func(c *site.Client) bool { return c.Covers(client.Addr(), p.server) }) {
		mark(e, evidence.MarkClientUnknown, "no device of the site has this address")
	}
}

func remark(e *Exchange, text string) {
	if !slices.Contains(e.Remarks, text) {
		e.Remarks = append(e.Remarks, text)
	}
}

// mark remarks something in words for people and in one for programs.
func mark(e *Exchange, word evidence.Mark, text string) {
	remark(e, text)
	if !slices.Contains(e.Marks, word) {
		e.Marks = append(e.Marks, word)
		e.Says[word] = text
	}
}
