package yang

import (
	"fmt"
	"strings"

	"mellowgate/internal/core/drift"
)

func names(identities []Identity) string {
	var some []string
	for _, i := range identities {
		some = append(some, strings.ToLower(strings.ReplaceAll(i.Name, "_", "-")))
	}
	return strings.Join(some, ", ")
}

// Facts returns the data as facts that can be compared.
func (s System) Facts() drift.Facts {
	f := drift.Facts{}
	if len(s.Authentication.Order) > 0 {
		f.Say(drift.List, "login", "methods", names(s.Authentication.Order))
	}
	for _, u := range s.Authentication.Users {
		f.Note(drift.Account, u.Name)
		f.Hide(drift.Account, u.Name, "password", u.Password)
	}
	if s.RADIUS != nil {
		for _, v := range s.RADIUS.Servers {
			f.Say(drift.Server, v.Name, "protocol", "radius")
			f.Say(drift.Server, v.Name, "address", v.UDP.Address)
			f.Say(drift.Server, v.Name, "authentication port", or(v.UDP.Port, 1812))
			secret(f, v.Name, v.UDP.Secret)
			f.Say(drift.Server, v.Name, "timeout", or(s.RADIUS.Options.Timeout, 5)+" s")
			f.Say(drift.Server, v.Name, "attempts", or(s.RADIUS.Options.Attempts, 2))
		}
	}
	if s.TACACS != nil {
		for _, v := range s.TACACS.Servers {
			f.Say(drift.Server, v.Name, "protocol", "tacacs")
			f.Say(drift.Server, v.Name, "address", v.Address)
			f.Say(drift.Server, v.Name, "port", or(v.Port, 49))
			secret(f, v.Name, v.Secret)
			f.Say(drift.Server, v.Name, "for", v.Type)
			f.Say(drift.Server, v.Name, "source", v.Source)
			f.Say(drift.Server, v.Name, "timeout", or(v.Timeout, 5)+" s")
		}
		var order []string
		for _, v := range s.TACACS.Servers {
			order = append(order, v.Name)
		}
		f.Say(drift.Group, drift.AllTACACS, "servers in order", strings.Join(order, ", "))
	}
	if s.RADIUS != nil {
		var order []string
		for _, v := range s.RADIUS.Servers {
			order = append(order, v.Name)
		}
		f.Say(drift.Group, drift.AllRADIUS, "servers in order", strings.Join(order, ", "))
	}
	return f
}

// secret notes the shared secret of a server. The models want one of each server:
// where none is read, the device does not show it (RFC 8341, default-deny-all).
func secret(f drift.Facts, server, value string) {
	if value == "" {
		f.Unread(drift.Server, server, "key")
		return
	}
	f.Hide(drift.Server, server, "key", value)
}

// or returns a number, or the default of the model.
func or(n, usual int) string {
	if n == 0 {
		n = usual
	}
	return fmt.Sprint(n)
}

// Facts returns the data as facts that can be compared.
func (s OpenSystem) Facts() drift.Facts {
	f := drift.Facts{}
	a := s.AAA
	if m := a.Authentication.Config.Methods; len(m) > 0 {
		f.Say(drift.List, "login", "methods", names(m))
	}
	if a.Authentication.Users != nil {
		for _, u := range a.Authentication.Users.User {
			f.Note(drift.Account, u.Username)
			f.Hide(drift.Account, u.Username, "password", u.Config.Hashed+u.Config.Password)
			role := "none"
			if u.Config.Role != nil {
				role = u.Config.Role.Name
			}
			f.Say(drift.Account, u.Username, "role", role)
		}
	}
	if a.Authorization != nil {
		f.Say(drift.List, "commands", "methods", names(a.Authorization.Config.Methods))
	}
	if a.Accounting != nil {
		f.Say(drift.List, "records", "methods", names(a.Accounting.Config.Methods))
		for _, e := range a.Accounting.Events.Event {
			f.Say(drift.List, "records", "of "+strings.ToLower(
				strings.TrimPrefix(e.Type.Name, "AAA_ACCOUNTING_EVENT_")),
				e.Config.Record)
		}
	}
	for _, g := range a.Groups.Group {
		var order []string
		for _, v := range g.Servers.Server {
			name := v.Config.Name
			if name == "" {
				name = v.Address
			}
			order = append(order, name)
			f.Say(drift.Server, name, "address", v.Address)
			f.Say(drift.Server, name, "timeout", fmt.Sprintf("%d s", v.Config.Timeout))
			if t := v.TACACS; t != nil {
				f.Say(drift.Server, name, "protocol", "tacacs")
				f.Say(drift.Server, name, "port", or(t.Config.Port, 49))
				f.Say(drift.Server, name, "source", t.Config.Source)
				secret(f, name, t.Config.Secret)
			}
			if r := v.RADIUS; r != nil {
				f.Say(drift.Server, name, "protocol", "radius")
				f.Say(drift.Server, name, "authentication port", or(r.Config.AuthPort, 1812))
				f.Say(drift.Server, name, "accounting port", or(r.Config.AcctPort, 1813))
				f.Say(drift.Server, name, "source", r.Config.Source)
				f.Say(drift.Server, name, "attempts", or(r.Config.Attempts, 1))
				secret(f, name, r.Config.Secret)
			}
		}
		f.Say(drift.Group, g.Name, "servers in order", strings.Join(order, ", "))
	}
	return f
}
