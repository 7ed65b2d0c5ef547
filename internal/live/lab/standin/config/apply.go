package config

import (
	"reflect"
	"slices"
	"strings"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

// apply makes the design be as data of a model says, as far as it differs from
// before. Both are of one model.
func (w *Draft) apply(before, after yang.Data) error {
	switch after := after.(type) {
	case yang.System:
		return w.applySystem(before.(yang.System), after)
	case yang.OpenSystem:
		return w.applyOpen(before.(yang.OpenSystem), after)
	}
	return netconf.Fail("operation-not-supported", "", "there is no such model here")
}

// applySystem makes the design be as ietf-system and its augmentation say, as
// far as they differ from before.
func (w *Draft) applySystem(before, after yang.System) error {
	names := map[site.Protocol][]string{}
	if r := after.RADIUS; r != nil {
		same := before.RADIUS != nil && before.RADIUS.Options == r.Options
		for _, v := range r.Servers {
			names[site.RADIUS] = append(names[site.RADIUS], v.Name)
			if same && slices.Contains(before.RADIUS.Servers, v) {
				continue
			}
			path := "/system/radius/server[name='" + v.Name + "']"
			_, err := w.put(requested{name: v.Name, protocol: site.RADIUS, address: v.UDP.Address, port: v.UDP.Port,
				secret: v.UDP.Secret, wait: r.Options.Timeout, tries: r.Options.Attempts}, path)
			if err != nil {
				return err
			}
		}
	}
	if t := after.TACACS; t != nil {
		for _, v := range t.Servers {
			names[site.TACACS] = append(names[site.TACACS], v.Name)
			if before.TACACS != nil && slices.Contains(before.TACACS.Servers, v) {
				continue
			}
			path := "/system/tacacs-plus/server[name='" + v.Name + "']"
			a := requested{name: v.Name, protocol: site.TACACS, address: v.Address, port: v.Port, secret: v.Secret,
				wait:   v.Timeout,
				source: v.Source, saysUses: true,
				authenticates: strings.Contains(v.Type, "authentication"),
				autho:         strings.Contains(v.Type, "authorization"),
				acct:          strings.Contains(v.Type, "accounting")}
			if _, err := w.put(a, path); err != nil {
				return err
			}
		}
	}
	for p, old := range systemServers(before) {
		if !slices.Equal(old, names[p]) {
			w.regroup(p, names[p])
		}
	}
	if !slices.Equal(before.Authentication.Order, after.Authentication.Order) {
		var methods []site.Method
		for _, by := range after.Authentication.Order {
			switch by.Name {
			case "local-users":
				methods = append(methods, site.Method{Kind: site.ByLocal})
			case "radius", "tacacs-plus":
				p := map[string]site.Protocol{"radius": site.RADIUS, "tacacs-plus": site.TACACS}[by.Name]
				if len(names[p]) == 0 {
					return netconf.Fail("invalid-value", "/system/authentication/user-authentication-order",
						"%s is asked, and there is no server of that kind", by.Name)
				}
				methods = append(methods, site.AskGroup(w.groupOf(p, names[p])))
			default:
				return netconf.Fail("invalid-value", "/system/authentication/user-authentication-order",
					"%q is no way to authenticate here", by.Name)
			}
		}
		w.bind(site.Login, methods, true, "")
	}
	if !slices.Equal(before.Authentication.Users, after.Authentication.Users) {
		return w.accounts(after.Authentication.Users, func(name string) int {
			if a := w.Device.Account(name); a != nil {
				return a.Level
			}
			return 15
		})
	}
	return nil
}

// systemServers returns the names of the servers of a model, by protocol.
func systemServers(s yang.System) map[site.Protocol][]string {
	serverNames := map[site.Protocol][]string{site.RADIUS: nil, site.TACACS: nil}
	if s.RADIUS != nil {
		for _, v := range s.RADIUS.Servers {
			serverNames[site.RADIUS] = append(serverNames[site.RADIUS], v.Name)
		}
	}
	if s.TACACS != nil {
		for _, v := range s.TACACS.Servers {
			serverNames[site.TACACS] = append(serverNames[site.TACACS], v.Name)
		}
	}
	return serverNames
}

// regroup leaves in the groups of a protocol the servers that are named, and
// adds the new ones to the first of them.
func (w *Draft) regroup(p site.Protocol, names []string) {
	first := (*site.Group)(nil)
	has := map[string]bool{}
	for _, g := range w.groups {
		if len(g.Servers) == 0 || g.Protocol() != p {
			continue
		}
		g.Servers = slices.DeleteFunc(slices.Clone(g.Servers),
			func(s *site.Server) bool { return !s.Secured() && !slices.Contains(names, s.Name) })
		for _, s := range g.Servers {
			has[s.Name] = true
		}
		if first == nil {
			first = g
		}
	}
	if first == nil {
		return
	}
	for _, name := range names {
		if !has[name] {
			first.Servers = append(first.Servers, w.server(name))
		}
	}
	slices.SortStableFunc(first.Servers,
		func(a, b *site.Server) int { return slices.Index(names, a.Name) - slices.Index(names, b.Name) })
}

// groupOf returns a group of a protocol, with all its servers where there is none.
func (w *Draft) groupOf(p site.Protocol, names []string) *site.Group {
	for _, g := range w.groups {
		if len(g.Servers) > 0 && g.Protocol() == p {
			return g
		}
	}
	g := w.group("configured-" + string(p))
	for _, name := range names {
		g.Servers = append(g.Servers, w.server(name))
	}
	return g
}

// applyOpen makes the design be as OpenConfig's model says, as far as it
// differs from before.
func (w *Draft) applyOpen(before, after yang.OpenSystem) error {
	for _, g := range after.AAA.Groups.Group {
		if slices.ContainsFunc(before.AAA.Groups.Group,
			func(old yang.OpenGroup) bool { return reflect.DeepEqual(old, g) }) {
			continue
		}
		group := w.group(g.Name)
		// the model has none over TLS
		group.Servers = slices.DeleteFunc(slices.Clone(group.Servers),
			func(s *site.Server) bool { return !s.Secured() })
		for _, v := range g.Servers.Server {
			path := "/system/aaa/server-groups/server-group[name='" + g.Name + "']/servers/server[address='" +
				v.Address + "']"
			a := requested{name: v.Config.Name, address: v.Address, wait: v.Config.Timeout, protocol: site.TACACS}
			if a.name == "" {
				a.name = v.Address
			}
			switch {
			case v.TACACS != nil:
				a.port = v.TACACS.Config.Port
				a.secret = v.TACACS.Config.Secret
				a.source = v.TACACS.Config.Source
			case v.RADIUS != nil:
				c := v.RADIUS.Config
				a.protocol = site.RADIUS
				a.port = c.AuthPort
				a.accounting = c.AcctPort
				a.secret = c.Secret
				a.tries = c.Attempts
				a.source = c.Source
			default:
				return netconf.Fail("missing-element", path, "a server is asked by tacacs or by radius")
			}
			s, err := w.put(a, path)
			if err != nil {
				return err
			}
			group.Servers = append(group.Servers, s)
		}
	}
	for _, l := range []struct {
		purpose       site.Purpose
		before, after []yang.Identity
		path          string
		event         string // of which there are records, where it is a list of them
	}{{site.Login, before.AAA.Authentication.Config.Methods, after.AAA.Authentication.Config.Methods, "authentication",
		""},
		{site.Commands, openAuthorization(before), openAuthorization(after), "authorization", ""},
		{site.RecordSessions, openAccounting(before, sessionEvent), openAccounting(after, sessionEvent), "accounting",
			sessionEvent},
		{site.RecordCommands, openAccounting(before, commandEvent), openAccounting(after, commandEvent), "accounting",
			commandEvent}} {
		records := openRecord(after, l.event)
		if slices.Equal(l.before, l.after) && records == openRecord(before, l.event) {
			continue
		}
		var methods []site.Method
		for _, m := range l.after {
			if m.Name == "LOCAL" {
				methods = append(methods, site.Method{Kind: site.ByLocal})
				continue
			}
			i := slices.IndexFunc(w.groups, func(g *site.Group) bool { return g.Name == m.Name && len(g.Servers) > 0 })
			if i < 0 {
				return netconf.Fail("invalid-value", "/system/aaa/"+l.path, "there is no server group %q with a server",
					m.Name)
			}
			methods = append(methods, site.AskGroup(w.groups[i]))
		}
		if len(methods) == 0 {
			for _, way := range w.Device.Ways {
				way.Lists[l.purpose] = nil
			}
			continue
		}
		w.bind(l.purpose, methods, true, records)
	}
	return w.openUsers(before, after)
}

func (w *Draft) openUsers(before, after yang.OpenSystem) error {
	users := func(s yang.OpenSystem) (all []yang.OpenUser) {
		if s.AAA.Authentication.Users != nil {
			all = s.AAA.Authentication.Users.User
		}
		return all
	}
	if reflect.DeepEqual(users(before), users(after)) {
		return nil
	}
	var some []yang.User
	admin := map[string]bool{}
	for _, u := range users(after) {
		password := u.Config.Hashed
		if u.Config.Password != "" {
			password = "$0$" + u.Config.Password
		}
		some = append(some, yang.User{Name: u.Username, Password: password})
		admin[u.Username] = u.Config.Role != nil && u.Config.Role.Name == "SYSTEM_ROLE_ADMIN"
	}
	return w.accounts(some, func(name string) int {
		if a := w.Device.Account(name); a != nil && (a.Level == 15) == admin[name] {
			return a.Level
		}
		if admin[name] {
			return 15
		}
		return 1
	})
}

func openAuthorization(s yang.OpenSystem) []yang.Identity {
	if s.AAA.Authorization == nil {
		return nil
	}
	return s.AAA.Authorization.Config.Methods
}

// The events of OpenConfig's model of which there are records.
const (
	sessionEvent = "AAA_ACCOUNTING_EVENT_LOGIN"
	commandEvent = "AAA_ACCOUNTING_EVENT_COMMAND"
)

// openRecord returns how an event is recorded, "" where it is not.
func openRecord(s yang.OpenSystem, event string) string {
	if s.AAA.Accounting != nil {
		for _, e := range s.AAA.Accounting.Events.Event {
			if e.Type.Name == event {
				return e.Config.Record
			}
		}
	}
	return ""
}

// openAccounting returns the methods that record an event, none where it is not
// recorded.
func openAccounting(s yang.OpenSystem, event string) []yang.Identity {
	if openRecord(s, event) == "" {
		return nil
	}
	return s.AAA.Accounting.Config.Methods
}
