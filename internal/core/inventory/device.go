// Package inventory makes a site of what devices say of themselves: servers, groups, lists
// and accounts that many share, profiles for devices that are alike, and for each device
// what is its own. What a text does not say, or what a site has no word for, is a note; a
// secret is never part of one.
//
// device.go reads one text into values of a site, pool.go finds what devices share, write.go
// writes it down, with ways.go for ways in and text.go for names and YAML; facts.go compares a
// text with a design.
package inventory

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

// Saved is the text that one device has saved, as it was read.
type Saved struct {
	File     string // where it stands
	Device   string // its name; "" takes the one that the text says, or that of the file
	Platform string // of the site
	Text     *phrase.Text
}

// Note is something that whoever takes over a site should know: of a line of a text, or of
// all of it where the line is 0.
type Note struct {
	File string
	Line int
	What string
	// Wants says that a value is to be put in by hand: it is wanted to work with the site, and
	// no fault of the text.
	Wants bool
}

// Device is one device in the values of a site.
type Device struct {
	Name, File, Platform string
	Whole                bool // all of it was read, so that what no line says holds as the phrasebook says
	cut                  bool
	addresses            []netip.Addr
	source               netip.Addr
	network              string
	active               bool
	interfaces           map[string][]netip.Addr
	servers              []*server
	groups               []*group
	lists                []*list
	ways                 []*way
	accounts             []*account
	secrets              []*secret
	notes                []Note
}

type server struct {
	id, name                        string
	protocol                        site.Protocol
	address                         string
	port                            int // TACACS+
	authentication, accounting      int // RADIUS
	key                             *phrase.Value
	patience                        patience
	authenticator                   string // required, if-present or ""
	source, network, interfaceNamed string
	file                            string
	line                            int
	is                              *sharedServer
}

// patience is how long a device waits; what is nil is not said.
type patience struct {
	timeout, dead *time.Duration
	attempts      *int
}

type group struct {
	id, name string
	servers  []*server
	line     int
	is       *sharedGroup
}

type list struct {
	id, name, levels, when string
	purpose                string
	methods                []method
	only                   []string
	line                   int
	is                     *sharedList
}

type method struct {
	word   string // local, signed-in or none; "" for a group or a secret
	group  *group
	secret *secret
}

type way struct {
	id, access, lines string
	off               bool
	lists             map[string]*list // by purpose
	from              []string
	line              int
}

type account struct {
	name     string
	level    int
	password *phrase.Value
	line     int
	is       *sharedAccount
}

type secret struct {
	id, name string
	level    int
	password *phrase.Value
	line     int
	is       *sharedSecret
}

// Of returns what a text says in the values of a site, with notes on what has no word there.
func Of(s Saved) *Device {
	d := &Device{Name: s.Device, File: s.File, Platform: s.Platform, Whole: s.Text.Whole, cut: s.Text.Cut, active: true,
		interfaces: map[string][]netip.Addr{}}
	for _, n := range s.Text.Notes {
		d.note(n.Line, "%s", n.What)
	}
	of := map[phrase.About][]*phrase.Record{}
	for _, r := range s.Text.Records {
		of[r.About] = append(of[r.About], r)
	}
	d.itself(of[phrase.Device], of[phrase.Interface])
	for _, r := range of[phrase.Server] {
		d.server(r)
	}
	for _, r := range of[phrase.Group] {
		d.group(r)
	}
	d.protocols()
	for _, r := range of[phrase.Secret] {
		d.secret(r)
	}
	for _, r := range of[phrase.List] {
		d.list(r)
	}
	for _, r := range of[phrase.Way] {
		d.way(r)
	}
	d.wayOfConsole()
	for _, r := range of[phrase.Account] {
		d.account(r)
	}
	return d
}

func (d *Device) note(line int, format string, args ...any) {
	d.notes = append(d.notes, Note{File: d.File, Line: line, What: fmt.Sprintf(format, args...)})
}

// first returns the text of the first value of a field, "" for none.
func first(r *phrase.Record, field string) string {
	if v := one(r, field); v != nil {
		return v.Text
	}
	return ""
}

// one returns the first value of a field, nil for none.
func one(r *phrase.Record, field string) *phrase.Value {
	if values := r.Get(field); len(values) > 0 {
		return &values[0]
	}
	return nil
}

func texts(r *phrase.Record, field string) (all []string) {
	for _, v := range r.Get(field) {
		all = append(all, v.Text)
	}
	return all
}

// itself reads what the text says of the device as a whole.
func (d *Device) itself(devices, interfaces []*phrase.Record) {
	for _, r := range interfaces {
		name := siteName(first(r, "name"))
		for _, text := range texts(r, "address") {
			if a, ok := d.addressOf(r.Line, text, "an address of the interface "+name); ok {
				d.interfaces[name] = append(d.interfaces[name], a)
				d.addresses = append(d.addresses, a)
			}
		}
	}
	for _, r := range devices {
		if name := siteName(first(r, "name")); d.Name == "" {
			d.Name = name
		} else if name != "" && !strings.EqualFold(name, d.Name) {
			d.note(r.Line, "the text says that its device is called %s, and it is taken for %s", name, d.Name)
		}
		d.network, d.active = cmp.Or(d.network, first(r, "network")), d.active && first(r, "active") != "off"
		if text := first(r, "source"); text != "" && !d.source.IsValid() {
			d.source, _ = d.addressOf(r.Line, text, "its source")
		}
		if name := first(r, "interface"); name != "" && !d.source.IsValid() {
			if of := d.interfaces[siteName(name)]; len(of) > 0 {
				d.source = of[0]
			} else {
				d.note(r.Line, "requests come from the interface %s, and no phrase says which address that has", name)
			}
		}
		if text := first(r, "address"); text != "" {
			if a, ok := d.addressOf(r.Line, text, "its address"); ok {
				d.addresses = append([]netip.Addr{a}, d.addresses...)
			}
		}
	}
	if d.source.IsValid() && !slices.Contains(d.addresses, d.source) {
		d.addresses = append([]netip.Addr{d.source}, d.addresses...)
	}
	if d.Name == "" {
		d.Name = nameOfFile(d.File)
	}
	if !d.active {
		d.note(0, "what its lists are for is switched off on it: every way in takes the platform's built-in login")
	}
}

// addressOf reads an address, with or without the length of its network.
func (d *Device) addressOf(line int, text, what string) (netip.Addr, bool) {
	a, err := netip.ParseAddr(text)
	if p, prefix := netip.ParsePrefix(text); prefix == nil {
		return p.Addr(), true
	}
	if err != nil {
		d.note(line, "%s is no IP address, and a site wants one", what)
	}
	return a, err == nil
}

func (d *Device) server(r *phrase.Record) {
	s := &server{id: r.ID, name: first(r, "name"), protocol: site.Protocol(first(r, "protocol")),
		address: first(r, "address"), key: one(r, "key"), authenticator: first(r, "message-authenticator"),
		source: first(r, "source"), network: first(r, "network"), interfaceNamed: first(r, "interface"),
		file: d.File, line: r.Line}
	s.port = d.number(r, "port", 1, 65535)
	s.authentication = d.number(r, "authentication-port", 1, 65535)
	s.accounting = d.number(r, "accounting-port", 1, 65535)
	s.patience.timeout = d.duration(r, "timeout", time.Millisecond, 5*time.Minute)
	s.patience.dead = d.duration(r, "dead-time", 0, 24*time.Hour)
	if n := d.number(r, "attempts", 1, 20); n > 0 {
		s.patience.attempts = &n
	}
	switch s.authenticator {
	case "", "required", "if-present":
	default:
		d.note(r.Line, "%s: message-authenticator is %q; required or if-present is what a site has", r, s.authenticator)
		s.authenticator = ""
	}
	if _, err := netip.ParseAddr(s.address); err != nil && !site.IsHost(s.address) {
		d.note(r.Line, "%s has no address, nor the name of a host, so it is left out", r)
		return
	}
	d.servers = append(d.servers, s)
}

// number reads a number; 0 where it is not said, or out of bounds.
func (d *Device) number(r *phrase.Record, field string, low, high int) int {
	text := first(r, field)
	if text == "" {
		return 0
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < low || n > high {
		d.note(r.Line, "%s: %s is %s; a site takes %d to %d, so it is left out", r, field, text, low, high)
		return 0
	}
	return n
}

// duration reads a time; nil where it is not said, or out of bounds.
func (d *Device) duration(r *phrase.Record, field string, low, high time.Duration) *time.Duration {
	text := first(r, field)
	if text == "" {
		return nil
	}
	span, err := time.ParseDuration(text)
	if err != nil || span < low || span > high {
		d.note(r.Line, "%s: %s is %s; a site takes %s to %s, so it is left out", r, field, text, low, high)
		return nil
	}
	return &span
}

func (d *Device) group(r *phrase.Record) {
	g := &group{id: r.ID, name: r.ID, line: r.Line}
	for _, id := range texts(r, "servers") {
		i := slices.IndexFunc(d.servers, func(s *server) bool { return s.id == id })
		if i < 0 { // the text has a note of it already
			continue
		}
		if p := site.Protocol(first(r, "protocol")); d.servers[i].protocol == "" {
			d.servers[i].protocol = p
		}
		g.servers = append(g.servers, d.servers[i])
	}
	d.groups = append(d.groups, g)
}

func (d *Device) secret(r *phrase.Record) {
	s := &secret{id: r.ID, name: first(r, "name"), level: 15, password: one(r, "password"), line: r.Line}
	if first(r, "level") != "" {
		if s.level = d.number(r, "level", 1, 15); s.level == 0 {
			return
		}
	}
	if s.name == "" {
		s.name = fmt.Sprintf("raise-%d", s.level)
	}
	d.secrets = append(d.secrets, s)
}

func (d *Device) list(r *phrase.Record) {
	l := &list{id: r.ID, name: first(r, "name"), purpose: first(r, "purpose"), only: texts(r, "only"), line: r.Line}
	if levels := first(r, "levels"); levels != "" {
		l.levels = levels
		if low, high, found := strings.Cut(levels, "-"); !levelIs(low) || found && !levelIs(high) {
			d.note(r.Line, "%s: its levels are %s; a site takes a level, or a range such as 1-15", r, levels)
			l.levels = ""
		}
	}
	if strings.HasPrefix(l.purpose, "record") {
		switch l.when = first(r, "when"); l.when {
		case "", "start and stop", "stop", "start":
		default:
			d.note(r.Line, "%s: it records when %s; a site has start and stop, stop, and start", r, l.when)
			l.when = ""
		}
	}
	purpose, known := site.PurposeOf(l.purpose)
	if !known {
		d.note(r.Line, "%s is for %q, which a site does not have: it is left out", r, l.purpose)
		return
	}
	for _, text := range texts(r, "methods") {
		kind, name, _ := strings.Cut(text, " ")
		alone := kind != string(site.ByGroup) && kind != string(site.BySecret)
		if !purpose.Takes(site.MethodKind(kind)) || alone && name != "" {
			d.note(r.Line, "%s has the method %q, which a site does not have for %s: it is left out", r, text,
				l.purpose)
			continue
		}
		if m, ok := d.method(r, text); ok {
			l.methods = append(l.methods, m)
		}
	}
	if len(l.methods) == 0 {
		d.note(r.Line, "%s has no method that leads anywhere, so no way in takes it here", r)
		return
	}
	d.lists = append(d.lists, l)
}

func levelIs(text string) bool {
	n, err := strconv.Atoi(text)
	return err == nil && n >= 0 && n <= 15
}

// method reads a method of a list; false for one that leads nowhere.
func (d *Device) method(r *phrase.Record, text string) (m method, ok bool) {
	kind, name, _ := strings.Cut(text, " ")
	switch {
	case kind == "group" && name != "":
		i := slices.IndexFunc(d.groups, func(g *group) bool { return g.id == name })
		if i < 0 { // the text has a note of it already
			return m, false
		}
		if len(d.groups[i].servers) == 0 {
			d.note(r.Line, "%s asks the group %s, which has no server: it is left out", r, name)
			return m, false
		}
		return method{group: d.groups[i]}, true
	case kind == "secret":
		i := slices.IndexFunc(d.secrets, func(s *secret) bool { return s.id == name || name == "" })
		if i < 0 {
			d.note(r.Line, "%s asks for the secret %s, and the text has none", r, name)
			return m, false
		}
		return method{secret: d.secrets[i]}, true
	}
	return method{word: text}, true
}

// everywhere is the name of lists that hold on every way in that names none of their purpose.
const everywhere = "default"

func (d *Device) way(r *phrase.Record) {
	w := &way{id: r.ID, access: first(r, "access"), lines: strings.ReplaceAll(first(r, "lines"), " ", "-"),
		lists: map[string]*list{}, line: r.Line}
	if w.access == "" {
		w.access = r.ID
	}
	if !slices.Contains(site.Accesses(), w.access) {
		d.note(r.Line, "%s: a site has the ways in %s", r, strings.Join(site.Accesses(), ", "))
		return
	}
	switch state := first(r, "state"); {
	case state == "off" && w.access == site.Console:
		d.note(r.Line, "the console is off, which a site has no word for: every device has one")
	case state == "off":
		w.off = true
	}
	if w.lines != "" && w.access != site.SSH && w.access != site.Telnet {
		d.note(r.Line, "%s: a site has lines for ssh and telnet only", r)
		w.lines = ""
	}
	for p := range site.PurposeCount {
		purpose := p.String()
		named := first(r, purpose)
		if named == "" {
			continue
		}
		id := named + " " + purpose
		if named == phrase.OwnList {
			id = "of " + r.ID + " " + purpose
		}
		if i := slices.IndexFunc(d.lists, func(l *list) bool { return l.id == id }); i >= 0 {
			w.lists[purpose] = d.lists[i]
		}
	}
	for _, text := range texts(r, "from") {
		p, err := netip.ParsePrefix(text)
		if a, single := netip.ParseAddr(text); single == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			d.note(r.Line, "%s: it takes people from %s, which is no network", r, text)
			continue
		}
		w.from = append(w.from, p.Masked().String())
	}
	d.ways = append(d.ways, w)
}

// wayOfConsole adds the console where no line speaks of it: every device has one.
func (d *Device) wayOfConsole() {
	if !slices.ContainsFunc(d.ways, func(w *way) bool { return w.access == site.Console }) {
		d.ways = append([]*way{{id: site.Console, access: site.Console, lists: map[string]*list{}}}, d.ways...)
		d.note(0, "no line speaks of the console: it is taken to be there, with the lists that hold on every way in")
	}
}

func (d *Device) account(r *phrase.Record) {
	a := &account{name: first(r, "name"), level: 15, password: one(r, "password"), line: r.Line}
	switch {
	case siteName(a.name) != a.name:
		d.note(r.Line, "%s: a site cannot have a name with such signs, so the account is left out", r)
		return
	case first(r, "level") == "":
		d.note(r.Line, "%s: no level is said, and 15, the most, is taken", r)
	default:
		a.level = d.number(r, "level", 0, 15)
	}
	if login := first(r, "login"); login != "" {
		d.note(r.Line, "%s has a login list of its own, %s: write login: at the account", r, login)
	}
	d.accounts = append(d.accounts, a)
}

// protocols leaves out what a site cannot have: a server without a protocol, and of a
// group with two those of the other one.
func (d *Device) protocols() {
	d.servers = slices.DeleteFunc(d.servers, func(s *server) bool {
		known := s.protocol == site.RADIUS || s.protocol == site.TACACS
		if !known {
			d.note(s.line, "server %s: no line says its protocol, so it is left out", s.id)
		}
		return !known
	})
	for _, g := range d.groups {
		g.servers = slices.DeleteFunc(g.servers, func(s *server) bool {
			return !slices.Contains(d.servers, s) || s.protocol != g.servers[0].protocol
		})
	}
}
