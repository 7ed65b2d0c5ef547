package inventory

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

func (p *pools) shareServers(devices []*Device) {
	index := map[string]*sharedServer{}
	place := func(protocol site.Protocol, address string, port int) string {
		if protocol == site.RADIUS { // it has two, and a device may have others: those are said with the device
			port = 0
		}
		return fmt.Sprintf("%s %s %d", protocol, strings.ToLower(address), port)
	}
	for _, s := range p.servers {
		index[place(s.protocol, s.address, s.port)] = s
	}
	for _, d := range devices {
		for _, s := range d.servers {
			s.port = cmp.Or(s.port, 49)
			at := place(s.protocol, s.address, s.port)
			if index[at] == nil {
				index[at] = &sharedServer{protocol: s.protocol, address: s.address, port: s.port}
				p.servers = append(p.servers, index[at])
				if p.base.Site != nil {
					p.note(d.File, s.line, "it asks a server at %s (%s) that the site does not have", s.address,
						s.protocol.Title())
				}
			}
			if n := s.patience.attempts; n != nil && *n > 1 && s.protocol == site.TACACS {
				p.note(d.File, s.line, "%s is asked %d times; over TCP a site asks once", s.id, *n)
				s.patience.attempts = nil
			}
			s.is = index[at]
			s.is.askers = append(s.is.askers, s)
		}
	}
	for _, s := range p.servers {
		if s.known == nil {
			s.settle(p)
		}
	}
	held := map[string]int{}
	for _, s := range p.servers {
		if s.known == nil {
			s.value = most(s.shown())
			held[s.value]++
		}
	}
	for _, s := range p.servers {
		if s.known == nil {
			wanted := s.name + "-key"
			if held[s.value] > 1 {
				wanted = "shared-key"
			}
			p.shareKey(s, wanted)
		}
	}
}

// shown are the values of the keys that the askers of a server show.
func (s *sharedServer) shown() (values []string) {
	for _, a := range s.askers {
		if a.key != nil && a.key.Secret == phrase.Clear {
			values = append(values, a.key.Text)
		}
	}
	return values
}

// settle gives a server what most of its askers say of it.
func (s *sharedServer) settle(p *pools) {
	var said []string
	var authentication, accounting []int
	for _, a := range s.askers {
		if a.name != "" {
			said = append(said, a.name)
		}
		if a.authentication != 0 {
			authentication = append(authentication, a.authentication)
		}
		if a.accounting != 0 {
			accounting = append(accounting, a.accounting)
		}
		s.authenticator = cmp.Or(s.authenticator, a.authenticator)
	}
	wanted := most(said)
	if wanted == "" {
		wanted = string(s.protocol) + "-" + strings.ReplaceAll(s.address, ":", "-")
	}
	s.name = p.names.free("server", wanted)
	s.authentication, s.accounting = most(authentication), most(accounting)
	s.patience = patience{
		timeout:  mostSaid(s.askers, func(a *server) *time.Duration { return a.patience.timeout }),
		dead:     mostSaid(s.askers, func(a *server) *time.Duration { return a.patience.dead }),
		attempts: mostSaid(s.askers, func(a *server) *int { return a.patience.attempts }),
	}
}

// shareKey gives a new server the key that most of its askers hold.
func (p *pools) shareKey(s *sharedServer, wanted string) {
	if s.value != "" {
		s.key = p.keyOf(s.value, wanted)
		hidden := 0
		for _, a := range s.askers {
			if a.key != nil && a.key.Secret != phrase.Clear {
				hidden++
			}
		}
		if hidden > 0 {
			p.note("", 0, "%s: %d of the devices that ask it do not show their key: they are taken to hold the one "+
				"that the others show", s.name, hidden)
		}
		return
	}
	p.markedKeys(s)
	s.key = p.names.free("key", s.name+"-key")
	p.keys[s.key] = site.Secret{}
	p.want("", 0, "%s: no device shows its key: put the key into %s", s.name, KeyFile(s.key))
}

// markedKeys notes the askers that hold another key than most of those that show a mark of it.
func (p *pools) markedKeys(s *sharedServer) {
	var marks []string
	for _, a := range s.askers {
		if a.key != nil && a.key.Secret == phrase.Mark {
			marks = append(marks, a.key.Text)
		}
	}
	usual := most(marks)
	for _, a := range s.askers {
		if a.key != nil && a.key.Secret == phrase.Mark && a.key.Text != usual {
			p.note(a.file, a.line, "it holds another key for %s than most devices: the marks that they show differ",
				s.name)
		}
	}
}

// KeyFile is where the value of a key is kept, beside the site.
func KeyFile(name string) string { return "keys/" + name + ".key" }

// keyOf returns the name of the key with a value, a new one where there is none.
func (p *pools) keyOf(value, wanted string) string {
	if name, known := p.byValue[value]; known {
		return name
	}
	name := p.names.free("key", wanted)
	p.byValue[value], p.keys[name] = name, site.NewSecret(value)
	return name
}
