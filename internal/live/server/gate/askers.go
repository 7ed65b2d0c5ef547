package gate

import (
	"fmt"
	"net/netip"

	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/radius"
)

// asker is who a question comes from: a device of the site, or another client
// with a key of its own.
type asker struct {
	device *site.Device // nil: another client
	keys   [][]byte
}

// asker gives who asks from an address. It is false for nobody known.
func (s *server) asker(a netip.Addr) (asker, bool) {
	a = a.Unmap()
	if s.fault(a).Unknown {
		return asker{}, false
	}
	if d, ok := s.Clients[a]; ok {
		return asker{d, s.keys}, true
	}
	for _, c := range s.Site.Clients {
		if !c.Covers(a, s.site) {
			continue
		}
		if value, known := s.Keys[c.Key.Name]; known {
			return asker{nil, [][]byte{[]byte(value.Reveal())}}, true
		}
	}
	return asker{}, false
}

// question begins a question of somebody who asks with the first of their keys.
func (s *server) question(p site.Purpose, client netip.AddrPort, who asker) question {
	q := question{client: client, at: s.gate.config.Now()}
	q.Purpose, q.Device = p, who.device
	if who.device != nil {
		q.key = s.keyName(who.keys[0])
	}
	return q
}

// keyName names the key that was used, while it is being changed; else "".
func (s *server) keyName(used []byte) string {
	switch {
	case len(s.keys) < 2:
		return ""
	case string(s.keys[1]) == string(used):
		return s.site.NextKey.Name
	}
	return s.site.Key.Name
}

func (s *server) nobody(a netip.Addr) string {
	return fmt.Sprintf("no device or client of the site has the address %s", a)
}

// granted is what the attributes of an answer depend on.
type granted struct {
	role *site.Role
	kind *site.Kind
}

// grants makes what RADIUS returns with each role to each kind of device.
func grants(s *site.Site) map[granted][]radius.Attribute {
	kinds := map[*site.Kind]bool{nil: true}
	for _, d := range s.Devices {
		kinds[d.Kind] = true
	}
	dictionary, all := attributes.Of(s), map[granted][]radius.Attribute{}
	for _, r := range s.Roles {
		for k := range kinds {
			for _, a := range rights.Attributes(site.RADIUS, site.Login, rights.Decision{Allow: true, Role: r}, k) {
				if made, err := dictionary.Make(a.Name, a.Value); err == nil {
					all[granted{r, k}] = append(all[granted{r, k}], made)
				}
			}
		}
	}
	return all
}

func kindOf(d *site.Device) *site.Kind {
	if d == nil {
		return nil
	}
	return d.Kind
}
