package inventory

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

// Estate is a site that was made of what devices say of themselves.
type Estate struct {
	Site    string                 // the site file
	Lines   []int                  // for each line of it the line of the text that says so, 0 for none
	Keys    map[string]site.Secret // the values of its keys by their names; KeyFile says where they belong
	Notes   []Note
	Devices []*Device
}

// Options are how an estate is made.
type Options struct {
	Name  string            // of the site
	Books map[string]string // the files of the phrasebooks of platforms, beside the site
	Base  Base              // a site that has what is not written again
	Hash  func(string) bool // whether a site can keep a hash
	Parts bool              // devices of texts that are cut off are taken too
}

// Make makes a site of devices. Devices without an address, or with the name of another
// one, are left out, and noted.
func Make(devices []*Device, o Options) Estate {
	p := &pools{base: o.Base, names: names{}, keys: map[string]site.Secret{}, byValue: map[string]string{},
		hash: o.Hash}
	devices = p.fit(devices, o.Parts)
	p.share(devices)
	w := &writing{pools: p, options: o}
	w.site(devices)
	e := Estate{Site: w.text.String(), Lines: w.lines, Keys: map[string]site.Secret{}, Devices: devices}
	for name, value := range p.keys {
		if value != (site.Secret{}) {
			e.Keys[name] = value
		}
	}
	for _, d := range devices {
		e.Notes = append(e.Notes, d.notes...)
	}
	e.Notes = append(e.Notes, p.notes...)
	slices.SortStableFunc(e.Notes, func(a, b Note) int { return cmp.Or(cmp.Compare(a.File, b.File), a.Line-b.Line) })
	return e
}

// fit leaves out the devices that a site cannot have, and those of texts that are cut off:
// what the rest of them says is not known.
func (p *pools) fit(devices []*Device, parts bool) (all []*Device) {
	files, addresses := map[string]string{}, map[netip.Addr]string{}
	for _, d := range devices {
		name := strings.ToLower(d.Name)
		switch {
		case d.cut && !parts:
			p.note(d.File, 0, "%s is left out: what the rest of the text says is not known; save it again", d.Name)
			continue
		case files[name] != "":
			p.note(d.File, 0, "%s is the device of %s too: it is left out", d.Name, files[name])
			continue
		case len(d.addresses) == 0 && p.base.Site == nil:
			p.note(d.File, 0, "no line says an address of %s, so it is left out: a phrase about: device with "+
				"<address>, or about: interface with <name> and <address>, reads one", d.Name)
			continue
		}
		if from := d.asksFrom(); from.IsValid() && addresses[from] != "" {
			p.note(d.File, 0, "%s asks from %s, as %s does: it is left out", d.Name, from, addresses[from])
			continue
		}
		files[name], addresses[d.asksFrom()] = d.File, d.Name
		all = append(all, d)
	}
	return all
}

// asksFrom is the address that most of its questions come from.
func (d *Device) asksFrom() netip.Addr {
	if d.source.IsValid() || len(d.addresses) == 0 {
		return d.source
	}
	return d.addresses[0]
}

type writing struct {
	*pools
	options Options
	text    strings.Builder
	lines   []int
}

// put writes one line, which a line of a text says.
func (w *writing) put(from int, format string, args ...any) {
	fmt.Fprintf(&w.text, format+"\n", args...)
	w.lines = append(w.lines, from)
}

// item is one thing of a list of the site file, and the line of a text that says it.
type item struct {
	pairs
	line int
}

// section writes a list of the site file.
func (w *writing) section(name string, items []item) {
	for i, one := range items {
		if i == 0 {
			w.put(0, "\n%s:", name)
			w.lines = append(w.lines, 0) // the empty line
		}
		w.put(one.line, "  - %s", one.pairs)
	}
}

// site writes the site.
func (w *writing) site(devices []*Device) {
	bodies, owns := make([]body, len(devices)), make([]own, len(devices))
	for i, d := range devices { // before the keys: a device may have keys of its own
		bodies[i] = d.shared(w)
		owns[i] = d.own(w)
	}
	if w.options.Name != "" {
		w.put(0, "site: %s", scalar(w.options.Name))
	}
	if len(w.keys) > 0 {
		w.put(0, "keys:")
		for _, name := range slices.Sorted(maps.Keys(w.keys)) {
			w.put(0, "  %s: file %s", name, KeyFile(name))
		}
	}
	w.section("servers", each(w.servers, (*sharedServer).item))
	w.section("groups", each(w.groups, func(g *sharedGroup) item {
		return item{pairs{"name: " + scalar(g.name), "servers: " + sequence(g.is.serverNames())}, g.is.line}
	}))
	w.section("lists", each(w.lists, (*sharedList).item))
	w.section("accounts", each(w.accounts, func(a *sharedAccount) item {
		if a.known {
			return item{}
		}
		return item{pairs{"name: " + scalar(a.name), fmt.Sprint("level: ", a.level), "password: " + a.password},
			a.all[0].is.line}
	}))
	w.section("elevation-secrets", each(w.secrets, func(s *sharedSecret) item {
		return item{pairs{"name: " + scalar(s.name), fmt.Sprint("level: ", s.level), "password: " + s.password},
			s.is.line}
	}))
	if w.base.Site == nil {
		w.kinds(devices)
	}
	w.devices(devices, bodies, owns)
}

func (w *writing) kinds(devices []*Device) {
	var kinds []string
	for _, d := range devices {
		if !slices.Contains(kinds, d.Platform) && d.Platform != "" {
			kinds = append(kinds, d.Platform)
		}
	}
	w.section("platforms", each(kinds, func(kind string) item {
		one := pairs{"name: " + scalar(kind)}
		one.text("phrasebook", w.options.Books[kind])
		return item{one, 0}
	}))
}

func each[T any](values []T, of func(T) item) (items []item) {
	for _, v := range values {
		if one := of(v); len(one.pairs) > 0 {
			items = append(items, one)
		}
	}
	return items
}

func span(d *time.Duration) string {
	if d == nil {
		return ""
	}
	return site.ShortTime(*d)
}

func count(n *int) string {
	if n == nil {
		return ""
	}
	return strconv.Itoa(*n)
}

// ports writes the ports of a RADIUS server, those that are not 0.
func ports(authentication, accounting int) string {
	var p pairs
	if authentication != 0 {
		p.add("authentication", strconv.Itoa(authentication))
	}
	if accounting != 0 {
		p.add("accounting", strconv.Itoa(accounting))
	}
	return p.whole()
}

func (s *sharedServer) item() item {
	if s.known != nil {
		return item{}
	}
	p := pairs{"name: " + scalar(s.name), "protocol: " + string(s.protocol), "address: " + scalar(s.address)}
	if s.protocol == site.RADIUS {
		p.add("ports", ports(s.authentication, s.accounting))
		p.text("message-authenticator", cmp.Or(s.authenticator, "if-present"))
	} else if s.port != 49 {
		p.add("port", strconv.Itoa(s.port))
	}
	p.add("key", s.key)
	p.add("timeout", span(s.patience.timeout))
	p.add("attempts", count(s.patience.attempts))
	p.add("dead-time", span(s.patience.dead))
	return item{p, s.askers[0].line}
}

// purposeKeys are how the site file says what a list is for.
var purposeKeys = map[string][2]string{
	site.Login.String(): {"authenticate", "login"}, site.Elevation.String(): {"authenticate", "elevation"},
	site.Session.String(): {"authorize", "session"}, site.Commands.String(): {"authorize", "commands"},
	site.RecordSessions.String(): {"account", "sessions"}, site.RecordCommands.String(): {"account", "commands"},
	site.RecordSystem.String(): {"account", "system"},
}

func (l *sharedList) item() item {
	key := purposeKeys[l.is.purpose]
	p := pairs{"name: " + scalar(l.name), key[0] + ": " + key[1]}
	if l.is.purpose == site.Commands.String() || l.is.purpose == site.RecordCommands.String() {
		p.text("levels", l.is.levels)
	}
	p.text("when", l.is.when)
	if len(l.is.only) > 0 {
		p.add("only", sequence(l.is.only))
	}
	p.add("methods", sequence(l.is.methodNames()))
	return item{p, l.is.line}
}

// binds writes the lists of purposes.
func binds(lists map[string]*list) (p pairs) {
	for purpose := range site.PurposeCount {
		if l := lists[purpose.String()]; l != nil {
			p.add(purpose.String(), l.is.name)
		}
	}
	return p
}

// shared writes what devices that are alike share.
func (d *Device) shared(w *writing) (b body) {
	defaults := map[string]*list{}
	for _, l := range d.lists {
		if l.name == everywhere && d.active {
			defaults[l.purpose] = l
		}
	}
	b.defaults = binds(defaults)
	for _, name := range site.Accesses() {
		if text, line := d.access(w, name); text != "" {
			b.access = append(b.access, item{pairs{name + ": " + text}, line})
		}
	}
	var accounts []string
	for _, a := range d.accounts {
		accounts = append(accounts, a.name)
	}
	b.accounts = sequence(accounts)
	for _, s := range d.askedOnce() {
		differs := s.patience.less(s.is.patience)
		var one pairs
		one.add("timeout", span(differs.timeout))
		one.add("attempts", count(differs.attempts))
		one.add("dead-time", span(differs.dead))
		if s.network != d.network {
			one.text("network", s.network)
		}
		b.asks.add(s.is.name, one)
	}
	return b
}

// less leaves of a patience what another one does not have.
func (p patience) less(other patience) patience {
	if other.timeout != nil && p.timeout != nil && *other.timeout == *p.timeout {
		p.timeout = nil
	}
	if other.attempts != nil && p.attempts != nil && *other.attempts == *p.attempts {
		p.attempts = nil
	}
	if other.dead != nil && p.dead != nil && *other.dead == *p.dead {
		p.dead = nil
	}
	return p
}

// askedOnce are the servers of a device, each of the site once.
func (d *Device) askedOnce() (all []*server) {
	for _, s := range d.servers {
		if !slices.ContainsFunc(all, func(o *server) bool { return o.is == s.is }) {
			all = append(all, s)
		}
	}
	return all
}

// own writes what is a device's alone.
func (d *Device) own(w *writing) own {
	var p pairs
	var asks asking
	known := w.base.Site != nil && w.base.Site.Device(d.Name) != nil
	if known { // the site has them
		p.add("addresses", "[]")
	} else {
		p.add("addresses", addressesText(d.addresses))
	}
	if d.source.IsValid() {
		p.add("source", scalar(d.source.String()))
	}
	p.text("network", d.network)
	var interfaces, keys, found, foundKeys, foundPorts pairs
	for _, s := range d.askedOnce() {
		var one pairs
		if s.source != "" && s.source != d.asksFrom().String() {
			one.text("source", s.source)
		}
		if s.interfaceNamed != "" {
			if at := d.interfaces[siteName(s.interfaceNamed)]; len(at) > 0 {
				one.text("interface", siteName(s.interfaceNamed))
				interfaces.add(siteName(s.interfaceNamed), addressesText(at))
			} else {
				w.note(d.File, s.line, "%s is asked from the interface %s, and no phrase says which address that has",
					s.is.name,
					s.interfaceNamed)
			}
		}
		asks.add(s.is.name, one)
		if k := s.key; k != nil && k.Text != s.is.value && k.Text != "" && k.Secret == phrase.Clear {
			name := w.keyOf(k.Text, d.Name+"-key")
			if s.is.known != nil {
				foundKeys.add(s.is.name, name)
			} else {
				keys.add(s.is.name, name)
			}
		}
		if s.protocol == site.RADIUS {
			foundPorts.add(s.is.name, ports(other(s.authentication, s.is.authentication),
				other(s.accounting, s.is.accounting)))
		}
	}
	p.add("interfaces", unique(interfaces).whole())
	p.add("keys", keys.whole())
	found.add("keys", foundKeys.whole())
	found.add("ports", foundPorts.whole())
	p.add("found", found.whole())
	return own{says: p, asks: asks}
}

// other returns what is not as it is elsewhere, 0 for nothing.
func other(n, elsewhere int) int {
	if n == elsewhere {
		return 0
	}
	return n
}

func unique(p pairs) (all pairs) {
	for _, text := range p {
		if !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	return all
}

func addressesText(addresses []netip.Addr) string {
	var texts []string
	for _, a := range addresses {
		if text := a.String(); !slices.Contains(texts, text) {
			texts = append(texts, text)
		}
	}
	return sequence(texts)
}

// devices writes profiles for devices that are alike, and the devices.
func (w *writing) devices(devices []*Device, bodies []body, owns []own) {
	counts, named := map[string]int{}, map[string]string{}
	alike := make([]string, len(devices))
	for i, d := range devices {
		alike[i] = d.Platform + "\n" + bodies[i].String()
		counts[alike[i]]++
	}
	for i, d := range devices {
		if id := alike[i]; counts[id] > 1 && named[id] == "" {
			if len(named) == 0 {
				w.put(0, "profiles:")
			}
			named[id] = w.names.free("profile", d.Platform)
			w.put(0, "  - name: %s", scalar(named[id]))
			bodies[i].write(w, bodies[i].asks)
		}
	}
	for i, d := range devices {
		if i == 0 {
			w.put(0, "devices:")
		}
		profile, asks := named[alike[i]], owns[i].asks
		w.put(0, "  - name: %s", scalar(d.Name))
		if d.Platform != "" {
			w.put(0, "    platform: %s", scalar(d.Platform))
		}
		if profile != "" {
			w.put(0, "    profile: %s", scalar(profile))
		}
		for _, says := range owns[i].says {
			w.put(0, "    %s", says)
		}
		if profile == "" {
			bodies[i].write(w, bodies[i].asks.with(asks))
		} else if text := asks.String(); text != "" {
			w.put(0, "    asks: %s", text)
		}
	}
}

// own is what is one device's alone.
type own struct {
	says pairs
	asks asking
}

// body is what devices that are alike share.
type body struct {
	defaults pairs
	access   []item
	accounts string
	asks     asking
}

// String tells bodies apart.
func (b body) String() string {
	var access pairs
	for _, one := range b.access {
		access = append(access, one.pairs...)
	}
	return strings.Join([]string{b.defaults.String(), access.String(), b.accounts, b.asks.String()}, "\n")
}

// write writes it below a profile or a device.
func (b body) write(w *writing, asks asking) {
	if len(b.defaults) > 0 {
		w.put(0, "    defaults: %s", b.defaults)
	}
	for i, one := range b.access {
		if i == 0 {
			w.put(0, "    access:")
		}
		w.put(one.line, "      %s", one.pairs[0])
	}
	w.put(0, "    accounts: %s", b.accounts)
	if text := asks.String(); text != "" {
		w.put(0, "    asks: %s", text)
	}
}
