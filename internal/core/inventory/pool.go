package inventory

import (
	"cmp"
	"fmt"
	"strings"

	"mellowgate/internal/core/site"
)

// Base is a site that devices are read into: what it has already keeps its name, and is not
// written again.
type Base struct {
	Site *site.Site
	Keys site.Keys
}

// sharedServer is a server that devices ask. Each asker's own values that differ are written
// with the asker.
type sharedServer struct {
	name                       string
	known                      *site.Server // of the base, nil for a new one
	protocol                   site.Protocol
	address                    string
	port                       int
	authentication, accounting int
	patience                   patience
	authenticator              string
	key                        string // its name
	value                      string // "" where it is not known
	askers                     []*server
}

type sharedGroup struct {
	name  string
	known bool
	is    *group
	all   []*group
}

type sharedList struct {
	name  string
	known bool
	is    *list
	all   []*list
}

type sharedAccount struct {
	name     string
	known    bool
	level    int
	password string // as the site writes it
	all      []owned[*account]
}

type sharedSecret struct {
	name     string
	known    bool
	level    int
	password string
	is       *secret
}

// owned is something of a device.
type owned[T any] struct {
	device *Device
	is     T
}

// pools are what devices share.
type pools struct {
	base     Base
	names    names
	servers  []*sharedServer
	groups   []*sharedGroup
	lists    []*sharedList
	accounts []*sharedAccount
	secrets  []*sharedSecret
	keys     map[string]site.Secret // new keys by name; an empty one has no value yet
	byValue  map[string]string      // names of keys by their values
	notes    []Note
	hash     func(string) bool // whether a site can keep a hash
}

// names are those that are taken, by what they are of.
type names map[string]bool

// free returns a name that nothing of its sort has yet, as near to the wanted one as can be.
func (n names) free(of, wanted string) string {
	wanted = cmp.Or(siteName(wanted), of)
	name := wanted
	for i := 2; n[of+" "+strings.ToLower(name)]; i++ {
		end := fmt.Sprintf("-%d", i)
		name = wanted[:min(len(wanted), 64-len(end))] + end
	}
	n.take(of, name)
	return name
}

func (n names) take(of, name string) { n[of+" "+strings.ToLower(name)] = true }

func (p *pools) note(file string, line int, format string, args ...any) {
	p.notes = append(p.notes, Note{File: file, Line: line, What: fmt.Sprintf(format, args...)})
}

// want notes a value that is to be put in by hand.
func (p *pools) want(file string, line int, format string, args ...any) {
	p.note(file, line, format, args...)
	p.notes[len(p.notes)-1].Wants = true
}

// most returns the value that most of them have, the first of those that as many have.
func most[T comparable](values []T) (top T) {
	counts := map[T]int{}
	for _, v := range values {
		counts[v]++
	}
	for _, v := range values {
		if counts[v] > counts[top] {
			top = v
		}
	}
	return top
}

// mostSaid is most of what is said, nil where nothing is.
func mostSaid[T comparable](askers []*server, at func(*server) *T) *T {
	var values []T
	for _, s := range askers {
		if v := at(s); v != nil {
			values = append(values, *v)
		}
	}
	if len(values) == 0 {
		return nil
	}
	v := most(values)
	return &v
}

// share finds what devices share, in the order in which the names are needed.
func (p *pools) share(devices []*Device) {
	p.seed()
	p.shareServers(devices)
	p.shareGroups(devices)
	p.shareSecrets(devices)
	p.shareLists(devices)
	p.shareAccounts(devices)
}

// seed takes the names of the base.
func (p *pools) seed() {
	s := p.base.Site
	if s == nil {
		return
	}
	for _, k := range s.Keys {
		p.names.take("key", k.Name)
		if v, known := p.base.Keys[k.Name]; known {
			if _, named := p.byValue[v.Reveal()]; !named {
				p.byValue[v.Reveal()] = k.Name
			}
		}
	}
	for _, v := range s.Servers {
		p.names.take("server", v.Name)
		rest := v.DeadTime
		one := &sharedServer{name: v.Name, known: v, protocol: v.Protocol, address: v.Address, port: int(v.Port),
			authentication: int(v.AuthenticationPort), accounting: int(v.AccountingPort),
			patience: patience{timeout: &v.Timeout, attempts: &v.Attempts, dead: &rest}}
		if v.Key != nil {
			one.key = v.Key.Name
			if value, known := p.base.Keys[one.key]; known {
				one.value = value.Reveal()
			}
		}
		p.servers = append(p.servers, one)
	}
	for _, g := range s.Groups {
		p.names.take("group", g.Name)
	}
	for _, l := range s.Lists {
		p.names.take("list", l.Name)
	}
	for _, a := range s.Accounts {
		p.names.take("account", a.Name)
		p.accounts = append(p.accounts, &sharedAccount{name: a.Name, known: true, level: a.Level})
	}
	for _, e := range s.Elevations {
		p.names.take("secret", e.Name)
	}
}
