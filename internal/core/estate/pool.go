package estate

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/phrase"
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
func most[T comparable](all []T) (top T) {
	counts := map[T]int{}
	for _, v := range all {
		counts[v]++
	}
	for _, v := range all {
		if counts[v] > counts[top] {
			top = v
		}
	}
	return top
}

// mostSaid is most of what is said, nil where nothing is.
func mostSaid[T comparable](askers []*server, at func(*server) *T) *T {
	var all []T
	for _, s := range askers {
		if v := at(s); v != nil {
			all = append(all, *v)
		}
	}
	if len(all) == 0 {
		return nil
	}
	v := most(all)
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
					p.note(d.File, s.line, "it asks a server at %s (%s) that the site does not have", s.address, s.protocol.Title())
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
			p.note("", 0, "%s: %d of the devices that ask it do not show their key: they are taken to hold the one that the "+
				"others show", s.name, hidden)
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
			p.note(a.file, a.line, "it holds another key for %s than most devices: the marks that they show differ", s.name)
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
	p.want(file, line, "%s: the device does not show its password in a form that a site keeps: put the password into %s",
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
		taken, is := of[strings.ToLower(wanted)]
		if wanted == "" || wanted == everywhere || is && taken != l.is.purpose {
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
				p.note(o.device.File, o.is.line, "the account %s has another password on %s than on most devices; a site has one",
					a.name, o.device.Name)
			}
		}
	}
	for _, o := range a.all {
		if o.is.level != a.level {
			p.note(o.device.File, o.is.line,
				"the account %s has level %d on %s, and the site has it with %d: a site has one of a "+
					"name", a.name, o.is.level, o.device.Name, a.level)
		}
	}
}
