package inventory

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

// Secrets gives the values that stand for secrets in what a device is told.
type Secrets struct {
	// Key returns the value of a key, "" where it is not known.
	Key func(name string) string
	// Password returns the password of an account or an elevation in clear, "" where it is
	// not known, such as one of which the site has a hash.
	Password func(name string) string
}

// inPlaceOfKey and inPlaceOfPassword are what stands in a text in the place of a key or of a password.
func inPlaceOfKey(name string) string      { return "the-value-of-the-key-" + name }
func inPlaceOfPassword(name string) string { return "the-password-of-" + name }

// secretValue is a secret as it is typed: what is not known stands there by what is in its
// place.
func secretValue(value, stands string) []phrase.Value {
	return []phrase.Value{{Text: cmp.Or(value, stands), Secret: phrase.Clear, Stands: stands}}
}

// Unknown reports whether a word stands for a secret that the site does not have in clear.
func Unknown(text string) bool {
	return strings.HasPrefix(text, inPlaceOfKey("")) || strings.HasPrefix(text, inPlaceOfPassword(""))
}

// Wanted returns the records that say the design of a device in the words of a make, and what
// of the design cannot be said in them. Servers that have no name but a number keep the one
// that they have in what is held, where there is such a text.
func Wanted(plan blueprint.Blueprint, design *site.Device, book *phrase.Book, secrets Secrets,
	held *phrase.Text) (records []*phrase.Record,
	left []string) {
	w := &wanting{plan: plan, design: design, book: book, secrets: secrets, groups: map[string]string{},
		unnamed: map[string]bool{},
		lists:   map[string]string{}, marks: map[string]int{}, highest: map[string]int{}, speaks: map[string]bool{}}
	if held != nil {
		w.held = true
		for _, r := range held.Records {
			if r.About == phrase.Way && (r.Line > 0 || first(r, "state") == "on") {
				w.speaks[cmp.Or(first(r, "access"), r.ID)] = true
			}
			if (r.About == phrase.Device || r.About == phrase.Server) &&
				first(r, "source")+first(r, "interface") != "" {
				w.sourced = true
			}
			if n, err := strconv.Atoi(first(r, "mark")); err == nil && r.About == phrase.Server {
				w.marks[first(r, "protocol")+" "+first(r, "address")] = n
				w.highest[first(r, "protocol")] = max(w.highest[first(r, "protocol")], n)
			}
		}
	}
	w.chooseGroups()
	w.chooseLists()
	w.device()
	w.servers()
	w.groupRecords()
	w.listRecords()
	w.ways()
	w.accounts()
	return w.records, append(NotCarried(design, book.Limits()), w.left...)
}

type wanting struct {
	plan    blueprint.Blueprint
	design  *site.Device
	book    *phrase.Book
	secrets Secrets
	records []*phrase.Record
	left    []string
	groups  map[string]string // what the make calls a group
	lists   map[string]string // and a list, "" where it has no name
	unnamed map[string]bool   // groups that no line names
	order   []string          // of servers, where they are asked by number
	marks   map[string]int    // the numbers that servers have, by protocol and address
	highest map[string]int    // the highest of a protocol
	speaks  map[string]bool   // ways in of which what is held speaks
	held    bool              // what is held is known
	sourced bool              // and of the address that requests come from
	shared  map[string]bool   // fields of servers that the device has for all of them
}

func (w *wanting) leave(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(w.left, text) {
		w.left = append(w.left, text)
	}
}

type fields map[string][]phrase.Value

func (f fields) say(field, text string) {
	if text != "" {
		f[field] = []phrase.Value{{Text: text}}
	}
}

func (w *wanting) add(about phrase.About, f fields) {
	w.records = append(w.records, phrase.NewRecord(about, f))
}

// says reports whether a phrase has a field, and not only what is unsaid.
func (w *wanting) says(about phrase.About, field string) bool { return w.book.Writes(about, field, "") }

// chooseGroups gives groups the names that the make has for them: those of its own, where it
// has one group for all servers of a protocol.
func (w *wanting) chooseGroups() {
	for _, g := range w.plan.Groups {
		w.groups[g.Name] = g.Name
		if name := w.book.EveryServer(g.Protocol); name != "" && !w.says(phrase.Group, "name") {
			w.groups[g.Name] = name
			w.unnamed[g.Name], w.order = true, append(w.order, g.Servers...)
		}
	}
}

// chooseLists finds what the make calls each list: its name, or the default of its purpose.
func (w *wanting) chooseLists() {
	for _, l := range w.plan.Lists {
		switch {
		case w.book.Writes(phrase.Way, "methods", l.Purpose):
			w.lists[l.Name] = "" // it stands in the section of each way
		case w.book.Writes(phrase.List, "name", "", l.Purpose):
			w.lists[l.Name] = l.Name
		case w.book.Writes(phrase.List, "name", everywhere, l.Purpose):
			w.lists[l.Name] = everywhere
		default:
			w.leave("%s lists: the phrasebook has no words for them", l.Purpose)
		}
	}
}

// lifted are the fields that a make may have for the device in place of each server.
var lifted = []string{"timeout", "attempts", "dead-time", "source", "network", "interface", "key"}

func (w *wanting) serverValues(s blueprint.Server) fields {
	f := fields{}
	f.say("timeout", span(&s.Timeout))
	f.say("dead-time", span(&s.DeadTime))
	if s.Protocol == string(site.RADIUS) {
		f.say("attempts", strconv.Itoa(s.Attempts))
	}
	if w.design.SourceSet || s.Interface != "" || w.sourced {
		f.say("source", s.Source)
	}
	f.say("network", s.Network)
	f.say("interface", s.Interface)
	if s.Interface != "" && !w.says(phrase.Server, "source") && !w.says(phrase.Device, "source") {
		delete(f, "source") // the interface says it
	}
	f["key"] = secretValue(w.secrets.Key(s.Key), inPlaceOfKey(s.Key))
	return f
}

// device says what the device has for all its servers, where the make says it so.
func (w *wanting) device() {
	w.shared = map[string]bool{}
	for _, protocol := range []string{"", string(site.RADIUS), string(site.TACACS)} {
		f := fields{}
		if protocol != "" {
			f.say("protocol", protocol)
		}
		for _, field := range lifted {
			if w.says(phrase.Server, field) || !w.book.Writes(phrase.Device, field, "", protocol) {
				continue
			}
			if protocol == "" {
				w.shared[field] = true
			}
			for i, s := range w.plan.Servers {
				v := w.serverValues(s)[field]
				switch {
				case v == nil || protocol != "" && s.Protocol != protocol:
				case f[field] == nil:
					f[field] = v
				case f[field][0] != v[0]:
					w.leave("the %s of server %s: the make has one for all servers", field, w.plan.Servers[i].Name)
				}
			}
		}
		if protocol == "" && w.says(phrase.Device, "active") {
			f.say("active", "on")
		}
		if len(f) > 1 || protocol == "" {
			w.add(phrase.Device, f)
		}
	}
}

func (w *wanting) servers() {
	last := map[string]int{}
	names := slices.Clone(w.order)
	for _, s := range w.plan.Servers {
		names = append(names, s.Name)
	}
	seen := map[string]bool{}
	for _, name := range names {
		i := slices.IndexFunc(w.plan.Servers, func(s blueprint.Server) bool { return s.Name == name })
		if i < 0 || seen[name] {
			continue
		}
		seen[name] = true
		s := w.plan.Servers[i]
		if s.Protocol == string(site.LDAP) || s.TLS {
			w.leave("server %s: a phrasebook has no words for servers over LDAP and TLS", s.Name)
			continue
		}
		f := w.serverValues(s)
		for _, field := range lifted {
			sayable := w.says(phrase.Server, field)
			if zero := len(f[field]) > 0 && f[field][0].Text == never; !sayable && (w.shared[field] || zero) {
				delete(f, field)
			}
		}
		f.say("name", s.Name)
		f.say("protocol", s.Protocol)
		f.say("address", s.Address)
		if w.says(phrase.Server, "mark") {
			mark := w.marks[s.Protocol+" "+s.Address]
			if mark <= last[s.Protocol] { // a new one, or one that is asked later now
				w.highest[s.Protocol]++
				mark = w.highest[s.Protocol]
			}
			last[s.Protocol] = mark
			f.say("mark", strconv.Itoa(mark))
		}
		named := w.says(phrase.Server, "name")
		if !named {
			delete(f, "name")
		}
		if s.Protocol == string(site.RADIUS) {
			f.say("authentication-port", strconv.Itoa(s.AuthenticationPort))
			f.say("accounting-port", strconv.Itoa(s.AccountingPort))
			authenticator := "if-present"
			if s.MessageAuthenticator {
				authenticator = "required"
			}
			if w.book.Supports(phrase.Server, "message-authenticator", "") || s.MessageAuthenticator {
				f.say("message-authenticator", authenticator)
			}
		} else {
			f.say("port", strconv.Itoa(s.Port))
		}
		w.add(phrase.Server, f)
		w.records[len(w.records)-1].Called = "server " + s.Name
	}
}

func (w *wanting) groupRecords() {
	for _, g := range w.plan.Groups {
		if w.unnamed[g.Name] {
			continue
		}
		f := fields{}
		f.say("name", g.Name)
		f.say("protocol", g.Protocol)
		for _, s := range g.Servers {
			f["servers"] = append(f["servers"], phrase.Value{Text: s})
		}
		if !w.book.Writes(phrase.Group, "protocol", "") {
			delete(f, "protocol") // it is that of its servers
		}
		w.add(phrase.Group, f)
	}
}

// methods says the methods of a list in the make's names.
func (w *wanting) methods(l blueprint.List) (values []phrase.Value) {
	for _, m := range l.Methods {
		if name, ok := strings.CutPrefix(m, "group "); ok {
			m = "group " + w.groups[name]
		}
		values = append(values, phrase.Value{Text: m})
	}
	return values
}

func (w *wanting) listRecords() {
	said := map[string]string{}
	for _, l := range w.plan.Lists {
		name, known := w.lists[l.Name]
		if !known || name == "" {
			continue
		}
		f := fields{}
		f.say("name", name)
		f.say("purpose", l.Purpose)
		f.say("levels", l.Levels)
		// what a record is for wherever none is said
		if w.book.Writes(phrase.List, "when", "", l.Purpose) || l.When != "stop" {
			f.say("when", l.When)
		}
		f["methods"] = w.methods(l)
		for _, o := range l.Only {
			f["only"] = append(f["only"], phrase.Value{Text: o})
		}
		if before, twice := said[name+" "+l.Purpose]; twice {
			w.leave("list %s: the make has one %s list, and that is %s", l.Name, l.Purpose, before)
			continue
		}
		said[name+" "+l.Purpose] = l.Name
		w.add(phrase.List, f)
		w.records[len(w.records)-1].Called = "list " + l.Name
	}
}

func (w *wanting) ways() {
	here := map[string]bool{}
	for _, x := range w.plan.Ways {
		here[x.Access] = true
		if !w.book.Supports(phrase.Way, "access", x.Access) {
			w.leave("the way in %s: the phrasebook has no words for it", x.Name)
			continue
		}
		f := fields{}
		f.say("access", x.Access)
		f.say("lines", x.Lines)
		if w.book.Writes(phrase.Way, "state", "on") { // else it is on where a line speaks of it
			f.say("state", "on")
		}
		for _, purpose := range purposesOf(x) {
			list := x.Lists[purpose]
			l := w.plan.List(list)
			if name, known := w.lists[list]; known && name == "" {
				f[phrase.Inline(purpose)] = w.methods(*l)
			} else if known && name != everywhere {
				f.say(purpose, name)
			}
		}
		w.add(phrase.Way, f)
	}
	w.missing()
	for _, access := range site.Accesses() {
		named := w.speaks[access]
		if !w.held {
			named = w.book.Names(phrase.Way, "access", access)
		}
		if !here[access] && named && w.book.Writes(phrase.Way, "state", "off") {
			f := fields{}
			f.say("access", access)
			f.say("state", "off")
			w.add(phrase.Way, f)
		}
	}
}

func purposesOf(x blueprint.Way) (purposes []string) {
	for p := range site.PurposeCount {
		if x.Lists[p.String()] != "" {
			purposes = append(purposes, p.String())
		}
	}
	return purposes
}

// missing says where a default list would hold on a way in for which the design has none.
func (w *wanting) missing() {
	for _, l := range w.plan.Lists {
		if w.lists[l.Name] != everywhere {
			continue
		}
		for _, x := range w.plan.Ways {
			if x.Lists[l.Purpose] != l.Name {
				w.leave("%s on the way in %s: the make has one list for all ways in, and that is %s", l.Purpose, x.Name,
					l.Name)
			}
		}
	}
}

func (w *wanting) accounts() {
	for _, a := range w.plan.Accounts {
		f := fields{}
		f.say("name", a.Name)
		f.say("level", strconv.Itoa(a.Level))
		f.say("login", w.lists[a.Login])
		f["password"] = secretValue(w.secrets.Password(a.Name), inPlaceOfPassword(a.Name))
		w.add(phrase.Account, f)
	}
	for _, s := range w.plan.Secrets {
		f := fields{}
		f.say("name", s.Name)
		f.say("level", strconv.Itoa(s.Level))
		f["password"] = secretValue(w.secrets.Password(s.Name), inPlaceOfPassword(s.Name))
		w.add(phrase.Secret, f)
	}
}
