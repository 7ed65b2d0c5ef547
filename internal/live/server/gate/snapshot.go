package gate

import (
	"fmt"
	"net/netip"
	"slices"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/wire/radius"
)

// Design is what the service decides by.
type Design struct {
	Site    *site.Site
	Keys    site.Keys
	Clients map[netip.Addr]*site.Device // the devices, by the address their requests come from
	// Directory gives where a directory is asked, in place of the address that
	// the site says. Nil: there.
	Directory func(*site.Server) ldap.Reach
}

// snapshot is a design with what is made of it once. It is never changed; a new
// design is a new snapshot.
type snapshot struct {
	Design
	granted  map[granted][]radius.Attribute // what RADIUS returns
	returned map[returning]string           // the same, and what TACACS+ returns, in words
	dummy    site.Password                  // checked for unknown names, so that they take as long
	// codesUsed tells whether anybody here has a second factor.
	codesUsed   bool
	verified    *guard.Verified
	directories *directories
	// others are the addresses of devices from which they are not to ask.
	others map[netip.Addr]*site.Device
}

// snapshotOf makes a snapshot. Passwords that were right stay remembered: what is
// remembered holds the person's hash, so that a changed one is another.
func snapshotOf(d Design, verified *guard.Verified) *snapshot {
	s := &snapshot{Design: d, granted: grants(d.Site), returned: returns(d.Site), verified: verified,
		directories: newDirectories(d)}
	for _, p := range d.Site.People {
		if s.dummy.Hash == "" && p.Password.Hash != "" {
			s.dummy = p.Password
		}
		s.codesUsed = s.codesUsed || p.OneTime != nil
	}
	s.others = map[netip.Addr]*site.Device{}
	for _, device := range d.Site.Devices {
		for _, a := range device.Addresses {
			if !slices.Contains(device.Sources(), a) {
				s.others[a] = device
			}
		}
	}
	return s
}

// server is one server of a design. It is never changed.
type server struct {
	gate *Gate
	port *port
	*snapshot
	site *site.Server
	// keys are those that devices may use: the one in use now and, while it is
	// being changed, the next. One nil key where TACACS+ runs over TLS.
	keys [][]byte
}

// server makes a server of the design; over TLS it has the fixed key.
func (d *snapshot) server(g *Gate, of *site.Server) (*server, error) {
	s := &server{gate: g, snapshot: d, site: of}
	switch {
	case of.Secured() && of.Protocol == site.TACACS:
		s.keys = [][]byte{nil}
		return s, nil
	case of.Secured():
		s.keys = [][]byte{[]byte(pki.RADIUSKey)}
		return s, nil
	}
	for _, key := range []*site.Key{of.Key, of.NextKey} {
		if key == nil {
			continue
		}
		value, known := d.Keys[key.Name]
		if !known {
			return nil, fmt.Errorf("the server %s cannot run: its key %s has no value here", of.Name, key.Name)
		}
		s.keys = append(s.keys, []byte(value.Reveal()))
	}
	return s, nil
}
