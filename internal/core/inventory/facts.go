package inventory

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

// Held is what a text says that its device holds, in facts that can be compared with a
// design: of its ways in the methods that hold there, whatever the lists are called.
type Held struct {
	drift.Facts
	Lines map[drift.Key]int // the lines that say so
}

// Passwords are compared by functions that know hashes.
type Passwords struct {
	Known func(hash string) bool        // a hash that can be checked
	Is    func(hash, clear string) bool // whether it is the hash of a password
}

// Compared returns what a device should hold by its design, as far as a phrasebook can say
// it, and what its text says. The device is one of Make, with the site of the design as its
// base; left are the sorts of things that the phrasebook cannot say. With now, what the site
// knows to be found on the device counts as wanted.
func Compared(d *Device, base Base, design *site.Device, book *phrase.Book, p Passwords, now bool) (want drift.Facts,
	held Held, left []string) {
	c := &comparing{device: d, base: base, design: design, book: book, passwords: p, want: drift.Facts{},
		held: Held{Facts: drift.Facts{}, Lines: map[drift.Key]int{}}, plan: blueprint.Of(design)}
	if now {
		c.plan = blueprint.Now(design)
	}
	c.servers()
	c.groups()
	c.ways()
	c.accounts()
	slices.Sort(c.left)
	return c.want, c.held, slices.Compact(c.left)
}

type comparing struct {
	device    *Device
	base      Base
	design    *site.Device
	plan      blueprint.Blueprint
	book      *phrase.Book
	passwords Passwords
	want      drift.Facts
	held      Held
	left      []string

	groupNames map[*group]string // of the text's groups, as the site has them
}

// says notes what the text says of a thing, in a line of it.
func (c *comparing) says(about drift.About, name, what, value string, line int) {
	c.held.Say(about, name, what, value)
	c.held.Lines[drift.Key{About: about, Name: name, What: what}] = line
}

func (c *comparing) there(about drift.About, name string, line int) {
	c.held.Note(about, name)
	c.held.Lines[drift.Key{About: about, Name: name, What: ""}] = line
}

// carries reports whether the phrasebook can say a field, and keeps what it cannot.
func (c *comparing) carries(about phrase.About, field, value, what string) bool {
	if c.book.Supports(about, field, value) {
		return true
	}
	c.left = append(c.left, what)
	return false
}

// serverName is the name of the site's server that the text's one is: the one at its
// address, else the one of its name.
func (c *comparing) serverName(s *server) string {
	if s.is.known == nil && s.name != "" && c.base.Site.Server(s.name) != nil &&
		!slices.ContainsFunc(c.device.servers, func(o *server) bool { return o.is.name == s.name }) {
		return s.name
	}
	return s.is.name
}

// never is a dead-time of 0: a server that is never left alone is one of which none is said.
const never = "0s"

func (c *comparing) servers() {
	for _, v := range c.plan.Servers {
		if v.Protocol == string(site.LDAP) || v.TLS {
			c.left = append(c.left, "servers over LDAP and TLS")
			continue
		}
		c.want.Note(drift.Server, v.Name)
		say := func(field, what, value string) {
			if value != never && c.carries(phrase.Server, field, "", what+" of servers") {
				c.want.Say(drift.Server, v.Name, what, value)
			}
		}
		say("address", "address", v.Address)
		if v.Protocol == string(site.RADIUS) {
			say("authentication-port", "authentication port", fmt.Sprint(v.AuthenticationPort))
			say("accounting-port", "accounting port", fmt.Sprint(v.AccountingPort))
			say("attempts", "attempts", fmt.Sprint(v.Attempts))
			authenticator := "if-present"
			if v.MessageAuthenticator {
				authenticator = "required"
			}
			say("message-authenticator", "message-authenticator", authenticator)
		} else {
			say("port", "port", fmt.Sprint(v.Port))
		}
		say("timeout", "timeout", span(&v.Timeout))
		say("dead-time", "dead-time", span(&v.DeadTime))
		if c.saysSource(v) {
			c.want.Say(drift.Server, v.Name, "source", v.Source)
		}
		if c.book.Supports(phrase.Server, "network", "") || c.book.Supports(phrase.Device, "network", "") {
			c.want.Say(drift.Server, v.Name, "network", cmp.Or(v.Network, "default"))
		}
		if value, known := c.base.Keys[v.Key]; known {
			c.want.Hide(drift.Server, v.Name, "key", value.Reveal())
		} else {
			c.want.Unread(drift.Server, v.Name, "key")
		}
	}
	for _, s := range c.device.servers {
		name := c.serverName(s)
		if _, asked := c.want[drift.Key{About: drift.Server, Name: name, What: ""}]; !asked && s.is.known != nil {
			continue // the site has it, and its lists on this device do not ask it: where a way does, that is said
		}
		c.there(drift.Server, name, s.line)
		say := func(what, value string) {
			if value != "" && value != "0" && value != never {
				c.says(drift.Server, name, what, value, s.line)
			}
		}
		say("address", s.address)
		if s.protocol == site.RADIUS {
			say("authentication port", fmt.Sprint(s.authentication))
			say("accounting port", fmt.Sprint(s.accounting))
			say("attempts", count(s.patience.attempts))
			say("message-authenticator", s.authenticator)
		} else {
			say("port", fmt.Sprint(s.port))
		}
		say("timeout", span(s.patience.timeout))
		say("dead-time", span(s.patience.dead))
		source := s.source
		if at := c.device.interfaces[siteName(s.interfaceNamed)]; len(at) > 0 {
			source = at[0].String()
		}
		if _, asked := c.want[drift.Key{About: drift.Server, Name: name, What: "source"}]; asked {
			if source == "" && c.device.source.IsValid() {
				source = c.device.source.String()
			}
			say("source", source)
		}
		if _, asked := c.want[drift.Key{About: drift.Server, Name: name, What: "network"}]; asked {
			say("network", cmp.Or(s.network, c.device.network, "default"))
		}
		switch {
		case s.key == nil:
		case s.key.Secret == phrase.Clear:
			c.held.Hide(drift.Server, name, "key", s.key.Text)
		default:
			c.held.Unread(drift.Server, name, "key")
		}
		c.held.Lines[drift.Key{About: drift.Server, Name: name, What: "key"}] = s.line
	}
}

// saysSource reports whether the design or the text says where questions to a server come
// from: a device that is not told takes an address of its own.
func (c *comparing) saysSource(v blueprint.Server) bool {
	if !c.book.Supports(phrase.Server, "source", "") && !c.book.Supports(phrase.Device, "source", "") {
		return false
	}
	return c.design.SourceSet || v.Interface != "" || c.device.source.IsValid() ||
		slices.ContainsFunc(c.device.servers, func(s *server) bool {
			return c.serverName(s) == v.Name && s.source+s.interfaceNamed != ""
		})
}

// nameGroups finds the site's group that each of the text's is: the one with its servers,
// else the one of its name, else one of the device that no other group of the text is, with
// the same servers in another order.
func (c *comparing) nameGroups() {
	c.groupNames = map[*group]string{}
	taken := map[string]bool{}
	var others []*group
	for _, g := range c.device.groups {
		switch {
		case g.is == nil:
		case g.is.known:
			c.groupNames[g] = g.is.name
		case slices.ContainsFunc(c.base.Site.Groups, func(o *site.Group) bool { return o.Name == g.name }):
			c.groupNames[g] = g.name
		default:
			others = append(others, g)
		}
		taken[c.groupNames[g]] = true
	}
	for _, g := range others {
		c.groupNames[g] = g.is.name
		servers := slices.Sorted(slices.Values(c.serversOf(g)))
		for _, o := range c.plan.Groups {
			if !taken[o.Name] && slices.Equal(servers, slices.Sorted(slices.Values(o.Servers))) {
				c.groupNames[g], taken[o.Name] = o.Name, true
				break
			}
		}
	}
}

// serversOf are the servers of a group of the text by their names in the site.
func (c *comparing) serversOf(g *group) []string {
	var names []string
	for _, s := range g.servers {
		names = append(names, c.serverName(s))
	}
	return names
}

func (c *comparing) groups() {
	c.nameGroups()
	for _, g := range c.plan.Groups {
		c.want.Note(drift.Group, g.Name)
		c.want.Say(drift.Group, g.Name, "servers in order", strings.Join(g.Servers, ", "))
	}
	for _, g := range c.device.groups {
		if g.is == nil {
			continue
		}
		name := c.groupNames[g]
		if c.plan.Group(name) == nil && g.is.known {
			continue
		}
		c.there(drift.Group, name, g.line)
		c.says(drift.Group, name, "servers in order", strings.Join(c.serversOf(g), ", "), g.line)
	}
}

// methods says the methods of a list of the text, with the levels and the times that it is
// for.
func (c *comparing) methods(l *list) string {
	var all []string
	for _, m := range l.methods {
		switch {
		case m.group != nil:
			all = append(all, "group "+c.groupNames[m.group])
		case m.secret != nil:
			all = append(all, fmt.Sprint("secret for level ", m.secret.level))
		default:
			all = append(all, m.word)
		}
	}
	levels, when := l.bounds()
	return boundsText(levels, when) + strings.Join(all, ", ")
}

// boundsText begins a text of methods with what they are for.
func boundsText(levels, when string) string {
	var parts []string
	if levels != "" {
		parts = append(parts, "levels "+levels)
	}
	if when != "" {
		parts = append(parts, when)
	}
	if len(parts) == 0 {
		return ""
	}
	return strings.Join(parts, ", ") + ": "
}

// designed says the methods of a list of the design.
func designed(l *site.List) string {
	var all []string
	for _, m := range l.Methods {
		if secret, ok := m.Secret(); ok {
			all = append(all, fmt.Sprint("secret for level ", secret.Level))
			continue
		}
		all = append(all, m.String())
	}
	levels, when := knownBounds(l)
	return boundsText(levels, when) + strings.Join(all, ", ")
}

// ways compares ways in by what holds on them. Where the device has other lines than the
// design, each range of its lines is compared with the way in that the design has there.
func (c *comparing) ways() {
	defaults := map[string]*list{}
	for _, l := range c.device.lists {
		if l.name == everywhere && c.device.active {
			defaults[l.purpose] = l
		}
	}
	met := map[*site.Way]bool{}
	for _, access := range site.Accesses() {
		var all []*way
		for _, x := range c.device.ways {
			if x.access == access {
				all = append(all, x)
			}
		}
		for _, s := range spans(all, func(*way, string) {}) {
			if s.of.off {
				continue
			}
			name := access
			if s.Low != 0 || s.High != mostLine {
				name += " " + s.Range.String()
			}
			w := c.wayAt(access, s.Range)
			if w != nil {
				met[w] = true
				c.wanted(name, w)
			}
			c.holds(name, s.of, defaults)
		}
	}
	for _, w := range c.design.Ways {
		if !met[w] && c.carries(phrase.Way, "access", w.Access, "ways in by "+w.Access) {
			c.wanted(w.Name(), w)
		}
	}
}

// wayAt returns the way in that the design has at the first of some lines.
func (c *comparing) wayAt(access string, r site.Range) *site.Way {
	for _, w := range c.design.Ways {
		if w.Access == access && (!w.HasLines || w.Lines.Has(r.Low)) {
			return w
		}
	}
	return nil
}

func (c *comparing) wanted(name string, w *site.Way) {
	c.want.Note(drift.Way, name)
	for p, l := range w.Lists {
		purpose := site.Purpose(p).String()
		if l != nil && (c.book.Supports(phrase.Way, "purpose", purpose) ||
			c.carries(phrase.List, "purpose", purpose, purpose+" lists")) {
			c.want.Say(drift.Way, name, purpose, designed(l))
		}
	}
	if len(w.From) > 0 && c.carries(phrase.Way, "from", "", "from where ways in are open") {
		var from []string
		for _, p := range w.From {
			from = append(from, p.String())
		}
		c.want.Say(drift.Way, name, "from", strings.Join(from, ", "))
	}
}

func (c *comparing) holds(name string, x *way, defaults map[string]*list) {
	c.there(drift.Way, name, x.line)
	for p := range site.PurposeCount {
		purpose := p.String()
		l := x.lists[purpose]
		line := x.line
		if l == nil {
			l = defaults[purpose]
		}
		if l == nil || !c.device.active {
			continue
		}
		if l.line > 0 {
			line = l.line
		}
		c.says(drift.Way, name, purpose, c.methods(l), line)
	}
	c.says(drift.Way, name, "from", strings.Join(x.from, ", "), x.line)
}

func (c *comparing) accounts() {
	levels := c.carries(phrase.Account, "level", "", "levels of accounts")
	for _, a := range c.design.Accounts {
		c.want.Note(drift.Account, a.Name)
		if levels {
			c.want.Say(drift.Account, a.Name, "level", fmt.Sprint(a.Level))
		}
		c.password(drift.Account, a.Name, a.Password)
	}
	for _, a := range c.device.accounts {
		c.there(drift.Account, a.name, a.line)
		if levels {
			c.says(drift.Account, a.name, "level", fmt.Sprint(a.level), a.line)
		}
		c.passwordHeld(drift.Account, a.name, a.password, a.line)
	}
}

// password notes the password that a thing should have.
func (c *comparing) password(about drift.About, name string, p site.Password) {
	switch value, known := c.base.Keys[keyNameOf(p)]; {
	case p.Hash != "":
		c.want.Hide(about, name, "password", p.Hash)
	case known:
		c.want.Hide(about, name, "password", value.Reveal())
	default:
		c.want.Unread(about, name, "password")
	}
}

func keyNameOf(p site.Password) string {
	if p.Key == nil {
		return ""
	}
	return p.Key.Name
}

// passwordHeld notes the password that a text shows, as the design has it where it is the
// same.
func (c *comparing) passwordHeld(about drift.About, name string, v *phrase.Value, line int) {
	key := drift.Key{About: about, Name: name, What: "password"}
	c.held.Lines[key] = line
	wanted := c.want[key].Secret.Reveal()
	is := func(hash, clear string) {
		if c.passwords.Is(hash, clear) {
			c.held.Hide(about, name, "password", wanted)
		} else {
			c.held.Other(about, name, "password")
		}
	}
	switch {
	case v == nil:
	case v.Secret == phrase.Clear && c.passwords.Known(wanted):
		is(wanted, v.Text)
	case v.Secret == phrase.Clear:
		c.held.Hide(about, name, "password", v.Text)
	case v.Secret == phrase.Hash && v.Text == wanted:
		c.held.Hide(about, name, "password", wanted)
	case v.Secret == phrase.Hash && c.passwords.Known(v.Text) && !c.passwords.Known(wanted) && wanted != "":
		is(v.Text, wanted)
	default: // a hash of the device's own, or two of which nobody can tell
		c.held.Unread(about, name, "password")
	}
}
