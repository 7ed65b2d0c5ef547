package inventory

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

func (p *pools) shareGroups(devices []*Device) {
	index := map[string]*sharedGroup{}
	if s := p.base.Site; s != nil {
		for _, g := range s.Groups {
			var servers []string
			for _, v := range g.Servers {
				servers = append(servers, v.Name)
			}
			index[strings.Join(servers, " ")] = &sharedGroup{name: g.Name, known: true}
		}
	}
	for _, d := range devices {
		for _, g := range d.groups {
			if len(g.servers) == 0 {
				continue
			}
			of := strings.Join(g.serverNames(), " ")
			if index[of] == nil {
				index[of] = &sharedGroup{is: g}
				p.groups = append(p.groups, index[of])
			}
			g.is = index[of]
			g.is.all = append(g.is.all, g)
		}
	}
	for _, g := range p.groups {
		var said []string
		for _, one := range g.all {
			if one.line > 0 { // a line names it
				said = append(said, one.name)
			}
		}
		g.name = p.names.free("group", cmp.Or(most(said), g.is.name))
	}
}

// serverNames are the servers of a group as the site names them, each once.
func (g *group) serverNames() (all []string) {
	for _, s := range g.servers {
		if !slices.Contains(all, s.is.name) {
			all = append(all, s.is.name)
		}
	}
	return all
}

func (p *pools) shareSecrets(devices []*Device) {
	index := map[string]*sharedSecret{}
	for _, d := range devices {
		for _, s := range d.secrets {
			of := fmt.Sprint(s.name, " ", s.level)
			if s.password != nil {
				of += " " + s.password.Text
			}
			if known := p.knownSecret(s); index[of] == nil && known != nil {
				index[of] = &sharedSecret{name: known.Name, known: true, level: known.Level, is: s}
			}
			if index[of] == nil {
				one := &sharedSecret{name: p.names.free("secret", s.name), level: s.level, is: s}
				one.password = p.password(s.password, d.File, s.line, "the secret "+one.name, one.name)
				index[of] = one
				p.secrets = append(p.secrets, one)
			}
			s.is = index[of]
		}
	}
}

// knownSecret returns the elevation secret of the base that one of a text is, as far as can be
// known: one of its level, unless both passwords are known and differ.
func (p *pools) knownSecret(s *secret) *site.ElevationSecret {
	if p.base.Site == nil {
		return nil
	}
	for _, e := range p.base.Site.Elevations {
		value, known := p.base.Keys[keyNameOf(e.Password)]
		clear := s.password != nil && s.password.Secret == phrase.Clear
		if e.Level == s.level && (!known || !clear || value.Reveal() == s.password.Text) {
			return e
		}
	}
	return nil
}

// password returns a password as a site writes it: a hash that it can keep, or a key.
func (p *pools) password(v *phrase.Value, file string, line int, what, name string) string {
	switch {
	case v != nil && v.Secret == phrase.Hash && p.hash(v.Text):
		return quoted(v.Text)
	case v != nil && v.Secret == phrase.Clear:
		return "key " + p.keyOf(v.Text, name+"-password")
	}
	key := p.names.free("key", name+"-password")
	p.keys[key] = site.Secret{}
	p.want(file, line, "%s: the device does not show its password in a form that a site keeps: put the password "+
		"into %s",
		what, KeyFile(key))
	return "key " + key
}

func (p *pools) shareLists(devices []*Device) {
	index := map[string]*sharedList{}
	if s := p.base.Site; s != nil {
		for _, l := range s.Lists {
			index[knownList(l)] = &sharedList{name: l.Name, known: true}
		}
	}
	for _, d := range devices {
		for _, l := range d.lists {
			of := l.text()
			if index[of] == nil {
				index[of] = &sharedList{is: l}
				p.lists = append(p.lists, index[of])
			}
			l.is = index[of]
			l.is.all = append(l.is.all, l)
		}
	}
	of := map[string]string{} // purposes of names
	for _, l := range p.lists {
		var said []string
		for _, one := range l.all {
			if one.name != "" {
				said = append(said, one.name)
			}
		}
		wanted := most(said)
		taken, ok := of[strings.ToLower(wanted)]
		if wanted == "" || wanted == everywhere || ok && taken != l.is.purpose {
			wanted = strings.TrimPrefix(wanted+"-"+l.is.purpose, "-")
		}
		l.name = p.names.free("list", wanted)
		of[strings.ToLower(l.name)] = l.is.purpose
	}
}

// text tells lists apart by what matters of them.
func (l *list) text() string {
	levels, when := l.bounds()
	return fmt.Sprint(l.purpose, levels, when, l.methodNames(), l.only)
}

// bounds are the levels that a list is for and when it records, as they hold.
func (l *list) bounds() (levels, when string) {
	if l.purpose == site.Commands.String() || l.purpose == site.RecordCommands.String() {
		levels = cmp.Or(l.levels, "0-15")
	}
	if strings.HasPrefix(l.purpose, "record") {
		when = cmp.Or(l.when, "stop")
	}
	return levels, when
}

// knownList is text for a list of the base.
func knownList(l *site.List) string {
	levels, when := knownBounds(l)
	var methods, only []string
	for _, m := range l.Methods {
		methods = append(methods, m.String())
	}
	for _, r := range l.Only {
		only = append(only, r.Name)
	}
	return fmt.Sprint(l.Purpose.String(), levels, when, methods, only)
}

// knownBounds is bounds for a list of the base.
func knownBounds(l *site.List) (levels, when string) {
	if l.Purpose == site.Commands || l.Purpose == site.RecordCommands {
		levels = l.Levels.String()
	}
	if l.Purpose.Records() {
		when = "stop"
		switch {
		case l.NoStop:
			when = "start"
		case l.Start:
			when = "start and stop"
		}
	}
	return levels, when
}

// methodNames are the methods of a list as the site writes them.
func (l *list) methodNames() (all []string) {
	for _, m := range l.methods {
		switch {
		case m.group != nil:
			all = append(all, "group "+m.group.is.name)
		case m.secret != nil:
			all = append(all, "secret "+m.secret.is.name)
		default:
			all = append(all, m.word)
		}
	}
	return all
}

func (p *pools) shareAccounts(devices []*Device) {
	index := map[string]*sharedAccount{}
	for _, a := range p.accounts {
		index[a.name] = a
	}
	for _, d := range devices {
		for _, a := range d.accounts {
			if index[a.name] == nil {
				index[a.name] = &sharedAccount{name: a.name}
				p.accounts = append(p.accounts, index[a.name])
			}
			a.is = index[a.name]
			a.is.all = append(a.is.all, owned[*account]{d, a})
		}
	}
	for _, a := range p.accounts {
		p.settleAccount(a)
	}
}

// settleAccount gives an account what most devices say of it: a site has one of a name.
func (p *pools) settleAccount(a *sharedAccount) {
	if len(a.all) == 0 {
		return
	}
	if !a.known {
		var levels []int
		var passwords []phrase.Value
		for _, o := range a.all {
			levels = append(levels, o.is.level)
			if o.is.password != nil {
				passwords = append(passwords, *o.is.password)
			}
		}
		a.level = most(levels)
		first := a.all[0]
		var value *phrase.Value
		if len(passwords) > 0 {
			v := most(passwords)
			value = &v
			first = a.all[slices.IndexFunc(a.all, func(o owned[*account]) bool {
				return o.is.password != nil && *o.is.password == v
			})]
		}
		a.password = p.password(value, first.device.File, first.is.line, "the account "+a.name, a.name)
		for _, o := range a.all {
			shown := value != nil && value.Secret == phrase.Clear && o.is.password != nil &&
				o.is.password.Secret == phrase.Clear // two hashes of one password differ
			if shown && *o.is.password != *value {
				p.note(o.device.File, o.is.line, "the account %s has another password on %s than on most devices; "+
					"a site has one",
					a.name, o.device.Name)
			}
		}
	}
	for _, o := range a.all {
		if o.is.level != a.level {
			p.note(o.device.File, o.is.line,
				"the account %s has level %d on %s, and the site has it with %d: a site has one of a name", a.name,
				o.is.level, o.device.Name, a.level)
		}
	}
}
