// Package blueprint is what one device should have, in plain values: the servers
// it asks, its groups, lists, ways in and accounts. The change sheet, the
// data models and a user's own templates are made from it.
package blueprint

import (
	"slices"
	"time"

	"mellowgate/internal/core/site"
)

// Blueprint is the design of one device. Names of keys stand for their values.
type Blueprint struct {
	Name      string
	Kind      string
	Network   string // the routing instance, "" for the default one
	Source    string // the address that requests come from
	Addresses []string
	Servers   []Server // every server that a list may ask, in the order of the lists
	Groups    []Group
	Lists     []List
	Ways      []Way
	Accounts  []Account
	Secrets   []Secret
}

// Platform returns the name of the device's platform, for templates; Kind is its name of before, which stays in JSON.
func (b Blueprint) Platform() string { return b.Kind }

// Server is one server as the device asks it.
type Server struct {
	Name                 string
	Protocol             string // radius, tacacs or ldap
	Address              string
	Port                 int // TACACS+, LDAP, and RADIUS over TLS
	AuthenticationPort   int // RADIUS
	AccountingPort       int // RADIUS
	TLS                  bool
	Key                  string // the name of its key, "" over TLS
	Timeout              time.Duration
	Attempts             int
	DeadTime             time.Duration
	Authentication       bool // what it is for
	Authorization        bool
	Accounting           bool
	MessageAuthenticator bool   // RADIUS: required
	PasswordAs           string // how a password is sent: pap, chap, mschapv2 or ascii
	Directory            *Directory
	Source               string // the address that requests to it come from, "" where the device has none
	Network              string // the routing instance of those, "" for the default one
	Interface            string // the interface that has the source, "" where none is said
}

// Directory is how people are found in a server of LDAP: search, then bind. The
// password of who searches is the key of the server.
type Directory struct {
	Base      string
	BindAs    string // "" searches as nobody
	Find      string // the filter; %u is the name
	TeamsFrom string
	Security  string // start, ldaps or none
}

// Group is a server group.
type Group struct {
	Name     string
	Protocol string
	Servers  []string
}

// List is a method list.
type List struct {
	Name    string
	Purpose string // login, elevation, session, commands, record-sessions, record-commands, record-system
	Levels  string // such as 1-15, for commands
	When    string // start and stop, stop or start, for records
	Methods []string
	Only    []string // the names that it is for; none: everybody
}

// Way is one way in with the lists that hold on it, by purpose.
type Way struct {
	Name   string // such as "ssh 0-15"
	Access string
	Lines  string
	Lists  map[string]string
}

// Account is a local account.
type Account struct {
	Name  string
	Level int
	Hash  string // "" where the password is the key Key
	Key   string
	Login string // the login list that decides for this name alone, "" for that of the way in
}

// Secret is an elevation secret.
type Secret struct {
	Name  string
	Level int
	Hash  string
	Key   string
}

// Of returns the blueprint of a device.
func Of(d *site.Device) Blueprint {
	b := Blueprint{Name: d.Name, Kind: d.Platform.Name, Network: d.Network, Source: d.Source.String()}
	for _, a := range d.Addresses {
		b.Addresses = append(b.Addresses, a.String())
	}
	for _, w := range d.Ways {
		way := Way{Name: w.Name(), Access: w.Access, Lists: map[string]string{}}
		if w.HasLines {
			way.Lines = w.Lines.String()
		}
		for p, l := range w.Lists {
			if l != nil {
				way.Lists[site.Purpose(p).String()] = l.Name
				b.list(l)
			}
		}
		b.Ways = append(b.Ways, way)
	}
	for _, a := range d.Accounts {
		account := Account{Name: a.Name, Level: a.Level, Hash: a.Password.Hash, Key: keyName(a.Password.Key)}
		if own, has := d.OwnList(a); has {
			account.Login = own.Name
			b.list(own)
		}
		b.Accounts = append(b.Accounts, account)
	}
	asked := d.Servers()
	for i := range b.Servers {
		v := &b.Servers[i]
		v.PasswordAs = d.Platform.Behaviour.PasswordAs.Of(site.Protocol(v.Protocol))
		index := slices.IndexFunc(asked, func(s *site.Server) bool { return s.Name == v.Name })
		path, patience := d.Path(asked[index]), d.Patience(asked[index])
		v.Timeout = patience.Timeout
		v.Attempts = patience.Attempts
		v.DeadTime = patience.DeadTime
		v.Network, v.Interface = path.Network, path.Interface
		if path.Source.IsValid() {
			v.Source = path.Source.String()
		}
	}
	for s, own := range d.OwnKeys() {
		if v := b.server(s.Name); v != nil {
			v.Key = keyName(own)
		}
	}
	return b
}

// Now returns what a device is known to hold now, where the site says that this
// differs from the design: its lists, groups and accounts are those anyway.
func Now(d *site.Device) Blueprint {
	b := Of(d)
	b.Source = d.Asks().String()
	for i := range b.Servers {
		if d.Found.Source.IsValid() {
			b.Servers[i].Source = b.Source
		}
	}
	for s := range d.Found.Keys {
		if v := b.server(s.Name); v != nil {
			v.Key = keyName(d.Key(s))
		}
	}
	for s := range d.Found.Ports {
		if v := b.server(s.Name); v != nil {
			authentication, accounting, _ := d.Ports(s)
			v.AuthenticationPort, v.AccountingPort = int(authentication), int(accounting)
		}
	}
	return b
}

func (b *Blueprint) server(name string) *Server {
	i := slices.IndexFunc(b.Servers, func(v Server) bool { return v.Name == name })
	if i < 0 {
		return nil
	}
	return &b.Servers[i]
}

func keyName(k *site.Key) string {
	if k == nil {
		return ""
	}
	return k.Name
}

func (b *Blueprint) list(l *site.List) {
	if slices.ContainsFunc(b.Lists, func(have List) bool { return have.Name == l.Name }) {
		return
	}
	list := List{Name: l.Name, Purpose: l.Purpose.String()}
	if l.Purpose == site.Commands || l.Purpose == site.RecordCommands {
		list.Levels = l.Levels.String()
	}
	if l.Purpose.Records() {
		list.When = "stop"
		switch {
		case l.NoStop:
			list.When = "start"
		case l.Start:
			list.When = "start and stop"
		}
	}
	for _, m := range l.Methods {
		list.Methods = append(list.Methods, m.String())
		if g, ok := m.Group(); ok {
			b.group(g)
		}
		if e, ok := m.Secret(); ok && !slices.ContainsFunc(b.Secrets, func(s Secret) bool { return s.Name == e.Name }) {
			b.Secrets = append(b.Secrets,
				Secret{Name: e.Name, Level: e.Level, Hash: e.Password.Hash, Key: keyName(e.Password.Key)})
		}
	}
	for _, r := range l.Only {
		list.Only = append(list.Only, r.Name)
	}
	b.Lists = append(b.Lists, list)
}

func (b *Blueprint) group(g *site.Group) {
	if slices.ContainsFunc(b.Groups, func(have Group) bool { return have.Name == g.Name }) {
		return
	}
	group := Group{Name: g.Name, Protocol: string(g.Protocol())}
	for _, s := range g.Servers {
		group.Servers = append(group.Servers, s.Name)
		if !slices.ContainsFunc(b.Servers, func(have Server) bool { return have.Name == s.Name }) {
			b.Servers = append(b.Servers, server(s))
		}
	}
	b.Groups = append(b.Groups, group)
}

func server(s *site.Server) Server {
	all := s.For == site.Uses{}
	var directory *Directory
	key := s.Key
	if d := s.Directory; s.Protocol == site.LDAP {
		key, directory = d.Key, &Directory{Base: d.Base, BindAs: d.BindAs, Find: d.Find, TeamsFrom: d.TeamsFrom,
			Security: d.Security}
	}
	return Server{Directory: directory, Name: s.Name, Protocol: string(s.Protocol), Address: s.Address,
		Port:               int(s.Port),
		AuthenticationPort: int(s.AuthenticationPort), AccountingPort: int(s.AccountingPort), TLS: s.Secured(),
		Key:     keyName(key),
		Timeout: s.Timeout, Attempts: s.Attempts, DeadTime: s.DeadTime,
		MessageAuthenticator: s.RequireMessageAuthenticator,
		Authentication:       all || s.For.Authentication, Authorization: all || s.For.Authorization,
		Accounting: all || s.For.Accounting}
}

// List returns a list by name, or nil.
func (b Blueprint) List(name string) *List {
	for i := range b.Lists {
		if b.Lists[i].Name == name {
			return &b.Lists[i]
		}
	}
	return nil
}

// Group returns a group by name, or nil.
func (b Blueprint) Group(name string) *Group {
	for i := range b.Groups {
		if b.Groups[i].Name == name {
			return &b.Groups[i]
		}
	}
	return nil
}

// Main returns the list of a purpose that a model with one list for the whole
// device takes: that of the first way in that is not the console, else of the
// console. The others differ from it, by name.
func (b Blueprint) Main(purpose string) (list *List, others []string) {
	order := slices.Clone(b.Ways)
	slices.SortStableFunc(order,
		func(x, y Way) int { return boolToInt(x.Access == site.Console) - boolToInt(y.Access == site.Console) })
	for _, w := range order {
		name := w.Lists[purpose]
		switch {
		case name == "":
		case list == nil:
			list = b.List(name)
		case name != list.Name:
			others = append(others, w.Name+" ("+name+")")
		}
	}
	return list, others
}

func boolToInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
