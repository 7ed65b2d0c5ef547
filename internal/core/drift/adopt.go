package drift

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"mellowgate/internal/core/site"
)

// Found is what a device is found to hold, in the words of the site's key found.
type Found struct {
	Keys     map[string]string // by server, the name of a key
	Ports    map[string]Ports  // by server
	Source   string
	Accounts []string // all of them, where they differ; nil: as designed
	Lists    map[string][]string
	Groups   map[string][]string
	// New are accounts that the site does not have yet.
	New []NewAccount
}

// Ports are the ports of a RADIUS server; 0 is as designed.
type Ports struct{ Authentication, Accounting int }

// NewAccount is an account that was found on a device.
type NewAccount struct {
	Name  string
	Level int
	Hash  string
}

// Pseudo-groups of models without groups: all servers of a protocol.
const (
	AllRADIUS = "RADIUS"
	AllTACACS = "TACACS+"
)

var pseudo = map[string]site.Protocol{AllRADIUS: site.RADIUS, AllTACACS: site.TACACS}

// Adopt says in the words of holds what a device is found to hold otherwise than
// its design, as far as holds has words for it. It is given the design, what the
// device holds, and a function that names the key with a value.
func Adopt(s *site.Site, d *site.Device, differences []Difference, held Facts,
	keyOf func(server string, value site.Secret) string) Found {
	a := adoption{site: s, device: d, held: held,
		Found: Found{Keys: map[string]string{}, Ports: map[string]Ports{}, Lists: map[string][]string{},
			Groups: map[string][]string{}}}
	for _, x := range differences {
		value := held[Key{About: x.About, Name: x.Name, What: x.What}]
		switch x.About {
		case Server:
			a.server(x, value, keyOf)
		case Group:
			a.group(x.Name)
		case List:
			if x.What == "methods" && x.Kind == Differs {
				a.list(x.Name, value.Text)
			}
		case Way:
			if x.Kind == Differs {
				a.way(x, value.Text)
			}
		case Account:
			if x.What == "" {
				a.account(x)
			}
		}
	}
	return a.Found
}

type adoption struct {
	site   *site.Site
	device *site.Device
	held   Facts
	Found
}

func (a *adoption) server(x Difference, value Value, keyOf func(string, site.Secret) string) {
	port, _ := strconv.Atoi(value.Text)
	p := a.Ports[x.Name]
	switch {
	case x.Kind != Differs || a.site.Server(x.Name) == nil:
		return
	case x.What == "key":
		if name := keyOf(x.Name, value.Secret); name != "" {
			a.Keys[x.Name] = name
		}
		return
	case x.What == "source":
		a.Source = value.Text
		return
	case x.What == "authentication port":
		p.Authentication = port
	case x.What == "accounting port":
		p.Accounting = port
	default:
		return
	}
	a.Ports[x.Name] = p
}

// group notes the servers of a group, as the device has them; of all groups of a
// protocol, where the model has none.
func (a *adoption) group(name string) {
	order := strings.Split(a.held[Key{About: Group, Name: name, What: "servers in order"}].Text, ", ")
	for _, g := range a.groups() {
		if g.Name != name && g.Protocol() != pseudo[name] {
			continue
		}
		var has, wants []string
		for _, v := range g.Servers {
			wants = append(wants, v.Name)
		}
		for _, v := range order {
			if g.Name == name && a.site.Server(v) != nil || slices.Contains(wants, v) {
				has = append(has, v)
			}
		}
		if len(has) > 0 && !slices.Equal(has, wants) {
			a.Groups[g.Name] = has
		}
	}
}

// groups are those that the device's design asks.
func (a *adoption) groups() []*site.Group {
	var all []*site.Group
	a.lists(func(_ site.Purpose, l *site.List) {
		for _, m := range l.Methods {
			if g, ok := m.Group(); ok && len(g.Servers) > 0 && !slices.Contains(all, g) {
				all = append(all, g)
			}
		}
	})
	return all
}

func (a *adoption) lists(do func(site.Purpose, *site.List)) {
	for _, w := range a.device.Ways {
		for p, l := range w.Lists {
			if l != nil {
				do(site.Purpose(p), l)
			}
		}
	}
}

// list notes the methods of the lists of a purpose.
func (a *adoption) list(purpose, methods string) {
	a.lists(func(p site.Purpose, l *site.List) {
		if p.String() != purpose && !(purpose == "records" && (p == site.RecordSessions || p == site.RecordCommands)) {
			return
		}
		var all []string
		for _, word := range strings.Split(methods, ", ") {
			m := a.method(l, word)
			if m == nil {
				return // it has no name in the site
			}
			all = append(all, m...)
		}
		a.Lists[l.Name] = all
	})
}

// way notes the methods of a list that holds otherwise on each way in that has it.
func (a *adoption) way(x Difference, held string) {
	purpose, known := site.PurposeOf(x.What)
	if !known {
		return
	}
	var list *site.List
	for _, w := range a.device.Ways {
		if w.Name() == x.Name {
			list = w.Lists[purpose]
		}
	}
	if list == nil {
		return
	}
	for _, w := range a.device.Ways {
		if w.Lists[purpose] == list && a.held[Key{About: Way, Name: w.Name(), What: x.What}].Text != held {
			return // it is not the list that differs
		}
	}
	if index := strings.LastIndex(held, ": "); index >= 0 { // the levels and times that it is for
		held = held[index+2:]
	}
	all := strings.Split(held, ", ")
	for _, text := range all {
		group, ok := strings.CutPrefix(text, "group ")
		if ok && !slices.ContainsFunc(a.site.Groups, func(g *site.Group) bool { return g.Name == group }) ||
			strings.HasPrefix(text, string(site.BySecret)) {
			return // it has no name in the site
		}
	}
	a.Lists[list.Name] = all
}

// method returns what a model's method is in a list, nil where it has no name.
func (a *adoption) method(l *site.List, word string) []string {
	if word == "local" || word == "local-users" {
		return []string{"local"}
	}
	protocol := map[string]site.Protocol{"radius": site.RADIUS, "tacacs-plus": site.TACACS}[word]
	var all []string
	for _, m := range l.Methods { // the groups of the protocol that the list has anyway
		if protocol != "" && m.Protocol() == protocol {
			all = append(all, "group "+m.Ref.Name)
		}
	}
	for _, g := range a.groups() {
		if strings.EqualFold(strings.ReplaceAll(g.Name, "_", "-"), word) || len(all) == 0 && protocol != "" &&
			g.Protocol() == protocol {
			return []string{"group " + g.Name}
		}
	}
	return all
}

func (a *adoption) account(x Difference) {
	known := slices.ContainsFunc(a.site.Accounts, func(have *site.Account) bool { return have.Name == x.Name })
	if x.Kind != Missing && !known {
		fresh, kept := a.fresh(x.Name)
		if !kept {
			return
		}
		a.New = append(a.New, fresh)
	}
	if a.Accounts == nil {
		a.Accounts = []string{}
		for _, have := range a.device.Accounts {
			a.Accounts = append(a.Accounts, have.Name)
		}
	}
	if x.Kind == Missing {
		a.Accounts = slices.DeleteFunc(a.Accounts, func(name string) bool { return name == x.Name })
		return
	}
	a.Accounts = append(a.Accounts, x.Name)
}

// fresh returns an account that the site does not have yet. It is false where the
// device shows no hash that a site could keep: a password in clear ($0$, RFC 7317)
// is none.
func (a *adoption) fresh(name string) (NewAccount, bool) {
	password := a.held[Key{About: Account, Name: name, What: "password"}].Secret.Reveal()
	if !strings.HasPrefix(password, "$") || strings.HasPrefix(password, "$0$") {
		return NewAccount{}, false
	}
	role, said := a.held[Key{About: Account, Name: name, What: "role"}]
	level := 15 // a model without roles: the worst is taken
	if said && role.Text != "SYSTEM_ROLE_ADMIN" {
		level = 1
	}
	return NewAccount{Name: name, Level: level, Hash: password}, true
}

// Empty reports whether there is nothing to write.
func (h Found) Empty() bool {
	return len(h.Keys)+len(h.Ports)+len(h.Lists)+len(h.Groups) == 0 && h.Source == "" && h.Accounts == nil
}

// YAML returns the holding as the value of holds, in one line.
func (h Found) YAML() string {
	var parts []string
	add := func(name string, inner []string) {
		if len(inner) > 0 {
			parts = append(parts, name+": {"+strings.Join(inner, ", ")+"}")
		}
	}
	list := func(all []string) string { return "[" + strings.Join(all, ", ") + "]" }
	add("keys", lines(h.Keys, func(key string) string { return key }))
	add("ports", lines(h.Ports, func(p Ports) string {
		var some []string
		if p.Authentication != 0 {
			some = append(some, fmt.Sprintf("authentication: %d", p.Authentication))
		}
		if p.Accounting != 0 {
			some = append(some, fmt.Sprintf("accounting: %d", p.Accounting))
		}
		return "{" + strings.Join(some, ", ") + "}"
	}))
	if h.Source != "" {
		parts = append(parts, "source: "+quoted(h.Source))
	}
	if h.Accounts != nil {
		parts = append(parts, "accounts: "+list(h.Accounts))
	}
	add("lists", lines(h.Lists, list))
	add("groups", lines(h.Groups, list))
	return "{" + strings.Join(parts, ", ") + "}"
}

// quoted quotes an address that YAML could take for something else.
func quoted(text string) string {
	if strings.Contains(text, ":") {
		return `"` + text + `"`
	}
	return text
}

func lines[T any](m map[string]T, value func(T) string) []string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(m)) {
		all = append(all, name+": "+value(m[name]))
	}
	return all
}
