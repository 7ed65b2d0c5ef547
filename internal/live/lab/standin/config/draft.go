package config

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/reach"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/wire/netconf"
)

// Draft is a device's design while it is changed: a copy of the one in use, of
// which no part is shared with it, and how each server of it is reached.
type Draft struct {
	Device  *site.Device
	Targets map[*site.Server]aaa.Target
	servers []*site.Server
	groups  []*site.Group
	around  Surroundings
}

// Surroundings are what a device finds around it, however it is configured.
type Surroundings struct {
	Known []aaa.Target // every server, by the address that the site gives it
	// From gives the address from which the device asks where it is configured to
	// ask from another source; nil: that source itself.
	From func(source netip.Addr) netip.Addr
}

// Copy copies a design.
func Copy(old *site.Device, targets map[*site.Server]aaa.Target, around Surroundings) *Draft {
	fresh := *old
	w := &Draft{Device: &fresh, Targets: map[*site.Server]aaa.Target{}, around: around}
	servers := map[*site.Server]*site.Server{}
	groups := map[*site.Group]*site.Group{}
	lists := map[*site.List]*site.List{}
	server := func(s *site.Server) *site.Server {
		if servers[s] == nil {
			c := *s
			servers[s] = &c
			w.servers = append(w.servers, &c)
			if t, reached := targets[s]; reached {
				t.Server = &c
				w.Targets[&c] = t
			}
		}
		return servers[s]
	}
	group := func(g *site.Group) *site.Group {
		if groups[g] == nil {
			c := *g
			c.Servers = nil
			for _, s := range g.Servers {
				c.Servers = append(c.Servers, server(s))
			}
			groups[g] = &c
			w.groups = append(w.groups, &c)
		}
		return groups[g]
	}
	list := func(l *site.List) *site.List {
		if l != nil && lists[l] == nil {
			c := *l
			c.Methods = slices.Clone(l.Methods)
			for i, m := range c.Methods {
				if g, ok := m.Group(); ok {
					c.Methods[i] = m.Among(group(g))
				}
			}
			lists[l] = &c
		}
		return lists[l]
	}
	fresh.Ways = nil
	for _, way := range old.Ways {
		c := *way
		for p, l := range way.Lists {
			c.Lists[p] = list(l)
		}
		fresh.Ways = append(fresh.Ways, &c)
	}
	fresh.Accounts = nil
	for _, a := range old.Accounts {
		c := *a
		if own, has := old.OwnList(a); has {
			c.Login = list(own)
		}
		fresh.Accounts = append(fresh.Accounts, &c)
	}
	fresh.Found.Keys, fresh.Found.Ports = nil, nil
	return w
}

// secretOf returns what a blueprint names as keys: the secrets of servers, and
// the kept passwords of accounts.
func (w *Draft) secretOf(keys site.Keys) yang.Secrets {
	return func(name string) string {
		if server, ok := strings.CutPrefix(name, "server "); ok {
			for s, t := range w.Targets {
				if s.Name == server {
					return t.Key.Reveal()
				}
			}
			return ""
		}
		return keys[name].Reveal()
	}
}

// data returns the design of a draft as data of a model.
func (w *Draft) data(m yang.Model, keys site.Keys) yang.Data {
	b := blueprint.Of(w.Device)
	for i := range b.Servers {
		b.Servers[i].Key = "server " + b.Servers[i].Name
	}
	data, _ := m.Of(b, w.secretOf(keys))
	return data
}

func (w *Draft) server(name string) *site.Server {
	i := slices.IndexFunc(w.servers, func(s *site.Server) bool { return s.Name == name })
	if i < 0 {
		return nil
	}
	return w.servers[i]
}

// requested is a server as a model describes it.
type requested struct {
	name, address, secret      string
	source                     string
	protocol                   site.Protocol
	port, accounting           int
	wait, tries                int
	authenticates, autho, acct bool
	saysUses                   bool
}

// put makes a server be as it is described, a new one where there is none of
// the name.
func (w *Draft) put(a requested, path string) (*site.Server, error) {
	if a.address == "" || strings.ContainsAny(a.address, " \t\n/") {
		return nil, netconf.Fail("invalid-value", path+"/address", "%q is no address", a.address)
	}
	if a.port < 1 || a.port > 65535 || a.accounting < 0 || a.accounting > 65535 {
		return nil, netconf.Fail("invalid-value", path+"/port", "a port is from 1 to 65535")
	}
	if a.wait < 1 || a.wait > 255 {
		return nil, netconf.Fail("invalid-value", path+"/timeout", "a timeout is from 1 to 255 seconds")
	}
	if a.secret == "" {
		return nil, netconf.Fail("missing-element", path+"/shared-secret", "a server has a shared secret")
	}
	s := w.server(a.name)
	if s == nil || s.Protocol != a.protocol {
		s = &site.Server{Ref: site.Ref{Name: a.name}, Protocol: a.protocol, Attempts: 1}
		w.servers = append(w.servers, s)
	}
	s.Address = a.address
	// a wait of the site may be finer than the model
	if seconds := int((s.Timeout + time.Second - 1) / time.Second); seconds != a.wait {
		s.Timeout = time.Duration(a.wait) * time.Second
	}
	if a.tries > 0 {
		s.Attempts = a.tries
	}
	if a.protocol == site.RADIUS {
		s.AuthenticationPort = uint16(a.port)
		if a.accounting > 0 {
			s.AccountingPort = uint16(a.accounting)
		} else if s.AccountingPort == 0 {
			s.AccountingPort = 1813
		}
	} else {
		s.Port = uint16(a.port)
	}
	if a.saysUses {
		s.For = site.Uses{Authentication: a.authenticates, Authorization: a.autho, Accounting: a.acct}
	}
	t := w.reach(s, a.secret)
	if source, err := netip.ParseAddr(a.source); err == nil && !slices.Contains(w.Device.Sources(), source) {
		w.Device.Source, w.Device.Found.Source = source, netip.Addr{} // one source holds for all: the others follow
	}
	if t.From.IsValid() && w.around.From != nil && a.source != "" {
		t.From = w.around.From(w.Device.Source)
	}
	w.Targets[s] = t
	return s, nil
}

// reach returns how a server is reached: as the surroundings have the one of that
// address, at the port that is asked for.
func (w *Draft) reach(s *site.Server, secret string) aaa.Target {
	t := aaa.Target{Dialer: nowhereDialer{}}
	for _, k := range w.around.Known {
		if k.Server.Address == s.Address && k.Server.Protocol == s.Protocol {
			t = k
			t.Authentication, t.Accounting = reach.Moved(s, k.Server, k.Authentication, k.Accounting)
		}
	}
	t.Server = s
	t.Patience = w.Device.Patience(s)
	t.Key = site.NewSecret(secret)
	return t
}

// group returns the group of a name, a new one where there is none.
func (w *Draft) group(name string) *site.Group {
	for _, g := range w.groups {
		if g.Name == name {
			return g
		}
	}
	g := &site.Group{Ref: site.Ref{Name: name}}
	w.groups = append(w.groups, g)
	return g
}

// bind makes a list of methods hold for a purpose at every way in that has one,
// or at all. Records is how a list that is new records: START_STOP or STOP.
func (w *Draft) bind(p site.Purpose, methods []site.Method, everywhere bool, records string) {
	for _, way := range w.Device.Ways {
		old := way.Lists[p]
		if old == nil && !everywhere {
			continue
		}
		list := &site.List{Ref: site.Ref{Name: "configured-" + p.String()}, Purpose: p, Methods: methods,
			Levels: site.Range{High: 15}, Start: records == "START_STOP"}
		if old != nil {
			list.Ref = old.Ref // a model has no names of lists: the device's own stays
			list.Levels = old.Levels
			list.Start = old.Start
			list.NoStop = old.NoStop
			if records != "" && !(old.Start && old.NoStop) { // starts alone are written as START_STOP too
				list.Start = records == "START_STOP"
			}
		}
		way.Lists[p] = list
	}
}

// accounts puts local accounts in place of those there are. Those that stay
// keep their level where the model has none.
func (w *Draft) accounts(users []yang.User, level func(name string) int) error {
	var all []*site.Account
	for _, u := range users {
		a := &site.Account{Ref: site.Ref{Name: u.Name}, Level: level(u.Name)}
		if clear, ok := strings.CutPrefix(u.Password, "$0$"); ok {
			hash, err := secrets.Hash(clear, 64, 1)
			if err != nil {
				return netconf.Fail("operation-failed", "", "%v", err)
			}
			u.Password = hash
		}
		a.Password.Hash, a.Password.None = u.Password, u.Password == ""
		if old := w.Device.Account(u.Name); old != nil {
			a.Login = old.Login // no model has it
		}
		all = append(all, a)
	}
	w.Device.Accounts = all
	return nil
}

// nowhereDialer reaches nothing: nobody is at the address.
type nowhereDialer struct{}

func (nowhereDialer) Dial(ctx context.Context, _ string, _ netip.Addr, _ netip.AddrPort) (net.Conn, error) {
	<-ctx.Done()
	return nil, context.DeadlineExceeded
}
