package sheet

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// elsewhere returns what must be true on servers that are not run from this site.
func (m *maker) elsewhere() Section {
	s := Section{Title: "On the servers of others",
		Why: "They are not run from this site: whoever runs them does this, or no login comes out as below."}
	for _, v := range m.servers {
		switch {
		case v.Run:
			continue
		case v.Protocol == site.LDAP:
			s.Items = append(s.Items,
				Item{Text: fmt.Sprintf("%s: let %s ask at port %d, below %s.", v.Name, m.device.Path(v).Source, v.Port,
					v.Directory.Base)})
			continue
		}
		at := fmt.Sprintf("port %d", v.Port)
		if v.TwoPorts() {
			at = fmt.Sprintf("ports %d and %d", v.AuthenticationPort, v.AccountingPort)
		}
		proof := "by its certificate"
		if key := m.device.Shares(v); key != nil && !v.Secured() {
			proof = "with the key " + key.Name
		}
		s.Items = append(s.Items,
			Item{Text: fmt.Sprintf("%s: take %s as a client, %s, at %s.", v.Name, m.device.Path(v).Source, proof, at)})
		s.Items = append(s.Items, m.returns(v)...)
	}
	return s
}

// returns says what a server answers to whom, for each role that people have on the
// device.
func (m *maker) returns(v *site.Server) (items []Item) {
	people, roles := map[*site.Role][]string{}, []*site.Role(nil)
	for _, c := range m.cases {
		role := m.reckoner.RoleOf(c)
		if c.Who.Kind != foresee.Known || role == nil {
			continue
		}
		if people[role] == nil {
			roles = append(roles, role)
		}
		if !slices.Contains(people[role], c.Who.Name) {
			people[role] = append(people[role], c.Who.Name)
		}
	}
	purpose, question := site.Session, "the session"
	if v.Protocol == site.RADIUS {
		purpose, question = site.Login, "the login"
	}
	for _, role := range roles {
		var carried []string
		for _, a := range rights.Attributes(v.Protocol, purpose, rights.Decision{Allow: true, Role: role},
			m.device.Platform) {
			carried = append(carried, a.Name+" = "+a.Value)
		}
		text := fmt.Sprintf("%s: accept %s, and answer %s with %s.", v.Name, strings.Join(people[role], ", "), question,
			strings.Join(carried, ", "))
		if len(carried) == 0 {
			text = fmt.Sprintf("%s: accept %s.", v.Name, strings.Join(people[role], ", "))
		}
		items = append(items, Item{Text: text})
		if m.authorizes(v) && len(role.Commands) > 0 {
			var rules []string
			for _, r := range role.Commands {
				rules = append(rules, r.Text)
			}
			items = append(items, Item{Text: fmt.Sprintf("%s: of their commands, the first that fits decides: %s; "+
				"refuse the rest.",
				v.Name, strings.Join(rules, ", "))})
		}
	}
	return append(items, Item{Text: v.Name + ": refuse everybody else, local accounts of devices too."})
}

// authorizes reports whether the device asks a server about commands.
func (m *maker) authorizes(v *site.Server) bool {
	return v.Protocol == site.TACACS && slices.ContainsFunc(m.device.Ways, func(w *site.Way) bool {
		return slices.Contains(w.Lists[site.Commands].Servers(), v)
	})
}
