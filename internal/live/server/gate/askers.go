package gate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/reason"
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

// asker returns the client that an address belongs to, and whether the site knows one.
func (s *server) asker(a netip.Addr) (asker, bool) {
	a = a.Unmap().WithZone("")
	if !s.gate.config.Front.Meets(s.site.Name, a) {
		return asker{}, false
	}
	if d, ok := s.Clients[a]; ok {
		return asker{device: d, keys: s.keysOf(d)}, true
	}
	for _, c := range s.Site.Clients {
		if !c.Covers(a, s.site) {
			continue
		}
		if value, known := s.Keys[c.Key.Name]; known {
			return asker{keys: [][]byte{[]byte(value.Reveal())}}, true
		}
	}
	return asker{}, false
}

// keysOf returns the keys with which a device may ask: its own, where it has one,
// and no other.
func (s *server) keysOf(d *site.Device) [][]byte {
	own := d.Shares(s.site)
	if own == nil || own == s.site.Key {
		return s.keys
	}
	return [][]byte{[]byte(s.Keys[own.Name].Reveal())}
}

// openers returns the keys that may open what comes from an address: those of who asks
// from there, then every other of the site.
func (s *server) openers(a netip.Addr) [][]byte {
	who, _ := s.asker(a)
	keys := slices.Clone(who.keys)
	for _, value := range s.Keys {
		keys = append(keys, []byte(value.Reveal()))
	}
	return keys
}

// question begins a question of somebody who asks with the first of their keys.
func (s *server) question(p site.Purpose, client netip.AddrPort, who asker) question {
	q := question{asking: asking{client: client, at: s.gate.config.Now(), came: time.Now()}}
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
	a = a.Unmap().WithZone("")
	if d, has := s.others[a]; has {
		return fmt.Sprintf("%s is an address of %s, which is to ask from %s: let it ask from there, or write "+
			"source: %s", a,
			d.Name,
			d.Source, a)
	}
	return fmt.Sprintf("no device or client of the site has the address %s", a)
}

// granted is what the attributes of an answer depend on.
type granted struct {
	role     *site.Role
	platform *site.Platform
}

// grants makes what RADIUS returns with each role to each platform.
func grants(s *site.Site) map[granted][]radius.Attribute {
	platforms := map[*site.Platform]bool{nil: true}
	for _, d := range s.Devices {
		platforms[d.Platform] = true
	}
	dictionary, given := attributes.Of(s), map[granted][]radius.Attribute{}
	for _, r := range s.Roles {
		for k := range platforms {
			for _, a := range rights.Attributes(site.RADIUS, site.Login, rights.Decision{Allow: true, Role: r}, k) {
				if made, err := dictionary.Make(a.Name, a.Value); err == nil {
					given[granted{role: r, platform: k}] = append(given[granted{role: r, platform: k}], made)
				}
			}
		}
	}
	return given
}

// returning is which attributes go back: of a login by RADIUS, or of a session by
// TACACS+.
type returning struct {
	granted
	protocol site.Protocol
}

// returnsWith is the question whose answer has the attributes, by protocol.
var returnsWith = map[site.Protocol]site.Purpose{site.RADIUS: site.Login, site.TACACS: site.Session}

// returns words what goes back with each role to each platform, for those who read
// what was decided.
func returns(s *site.Site) map[returning]string {
	all := map[returning]string{}
	platforms := map[*site.Platform]bool{nil: true}
	for _, d := range s.Devices {
		platforms[d.Platform] = true
	}
	for _, r := range s.Roles {
		for k := range platforms {
			for protocol, purpose := range returnsWith {
				var words []string
				for _, a := range rights.Attributes(protocol, purpose, rights.Decision{Allow: true, Role: r}, k) {
					words = append(words, a.Name+"="+a.Value)
				}
				all[returning{granted: granted{role: r, platform: k}, protocol: protocol}] = strings.Join(words, ", ")
			}
		}
	}
	return all
}

// goesBack words the attributes of the answer to a question, "" where there are none.
func (s *server) goesBack(q *question, d rights.Decision) string {
	protocol := s.site.Protocol
	if !d.Allow || q.Purpose != returnsWith[protocol] {
		return ""
	}
	return s.returned[returning{granted: granted{role: d.Role, platform: platformOf(q.Device)}, protocol: protocol}]
}

func platformOf(d *site.Device) *site.Platform {
	if d == nil {
		return nil
	}
	return d.Platform
}

// notAnswered returns why a server does not answer a question at all, in a word and in a sentence, and whether it
// does not: the site says that it is not for this, or something stands in front of it.
func (s *server) notAnswered(q *question) (why reason.Reason, text string, stopped bool) {
	if !s.site.Serves(q.Purpose) {
		return reason.NotForThis, fmt.Sprintf("the site says that %s is not for %s", s.site.Name, q.Purpose.Service()),
			true
	}
	return s.gate.config.Front.Admit(s.gate.ctx, s.site.Name, q.client.Addr(), q.Purpose)
}
