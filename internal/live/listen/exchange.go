// Package listen turns captured packets into exchanges: one question with its
// answer, decoded, paired, timed and judged. It needs no site; with one it knows
// devices, servers and keys. It never shows a password.
package listen

import (
	"net/netip"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/state"
	"mellowgate/internal/live/words"
	"mellowgate/internal/wire/radius"
)

// Exchange is one question and what became of it.
type Exchange struct {
	Time            time.Time   `json:"time"`
	Protocol        string      `json:"protocol"` // radius | tacacs | tls
	Client          string      `json:"client"`   // address:port
	ServerAddress   string      `json:"server_address"`
	Device          string      `json:"device"` // "" when the site does not know the address
	Server          string      `json:"server"`
	Person          string      `json:"person"`
	Question        string      `json:"question"` // login | session | commands | record-sessions | record-commands | status | connect
	Command         string      `json:"command"`
	Answer          string      `json:"answer"` // accept | refuse | challenge | error | recorded | alive | none | unreadable
	Seconds         float64     `json:"seconds"`
	Retransmissions int         `json:"retransmissions"`
	Key             string      `json:"key"` // fits | differs | unknown
	Remarks         []string    `json:"remarks"`
	Request         []NameValue `json:"request"`
	Response        []NameValue `json:"response"`
}

// NameValue is an attribute or an argument in readable form.
type NameValue struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Words for Exchange.Key.
const (
	KeyFits    = "fits"
	KeyDiffers = "differs"
	KeyUnknown = "unknown"
)

// Directory knows who is where, and the keys. The zero value knows only the
// ports that the standards give.
type Directory struct {
	servers map[netip.AddrPort]port
	devices map[netip.Addr]*site.Device
	keys    site.Keys
	words   radius.Dictionary
	other   site.Secret // the key of servers that the site does not know
}

// WithKey gives the directory with a key for the servers whose key it does not
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
}

// Designed is the directory of a site on its own addresses.
func Designed(s *site.Site, keys site.Keys) Directory {
	d := Directory{servers: map[netip.AddrPort]port{}, devices: map[netip.Addr]*site.Device{}, keys: keys, words: words.Of(s)}
	for _, v := range s.Servers {
		if a, err := netip.ParseAddr(v.Address); err == nil {
			d.server(v, a, v.Port, v.AuthenticationPort, v.AccountingPort)
		}
	}
	for _, v := range s.Devices {
		for _, a := range v.Addresses {
			d.devices[a] = v
		}
		d.devices[v.Source] = v
	}
	return d
}

// InPlaces is the directory of a site where a state folder says that it runs.
func InPlaces(s *site.Site, keys site.Keys, p state.Places) Directory {
	d := Designed(s, keys)
	for _, at := range p.Servers {
		if a, err := netip.ParseAddr(at.Address); err == nil && s.Server(at.Name) != nil {
			d.server(s.Server(at.Name), a, at.Port, at.Authentication, at.Accounting)
		}
	}
	for _, at := range p.Devices {
		if a, err := netip.ParseAddr(at.Source); err == nil && s.Device(at.Name) != nil {
			d.devices[a] = s.Device(at.Name)
		}
	}
	return d
}

func (d Directory) server(s *site.Server, a netip.Addr, ports ...uint16) {
	for _, p := range ports {
		if p != 0 {
			d.servers[netip.AddrPortFrom(a, p)] = port{server: s, protocol: s.Protocol, tls: s.TLS}
		}
	}
}

// standard are the ports that the standards give.
var standard = map[uint16]port{
	1812: {protocol: site.RADIUS}, 1813: {protocol: site.RADIUS}, 1645: {protocol: site.RADIUS}, 1646: {protocol: site.RADIUS},
	49: {protocol: site.TACACS}, 300: {protocol: site.TACACS, tls: true}, 2083: {protocol: site.RADIUS, tls: true},
}

// at tells what is at a place, by the site or else by the port alone.
func (d Directory) at(p netip.AddrPort) (port, bool) {
	if known, ok := d.servers[p]; ok {
		return known, true
	}
	found, ok := standard[p.Port()]
	return found, ok
}

// key gives the server's key, false when it is not known.
func (d Directory) key(p port) ([]byte, bool) {
	if p.server != nil && p.server.Key != nil {
		if v, ok := d.keys[p.server.Key.Name]; ok {
			return []byte(v.Reveal()), true
		}
	}
	return []byte(d.other.Reveal()), !d.other.Empty()
}

// exchange begins an exchange between two places.
func (d Directory) exchange(at time.Time, client, server netip.AddrPort, p port) *Exchange {
	e := &Exchange{Time: at.UTC(), Protocol: string(p.protocol), Client: client.String(), ServerAddress: server.String(), Answer: "none", Key: KeyUnknown,
		Remarks: []string{}, Request: []NameValue{}, Response: []NameValue{}}
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

func (e *Exchange) remark(text string) {
	for _, have := range e.Remarks {
		if have == text {
			return
		}
	}
	e.Remarks = append(e.Remarks, text)
}
