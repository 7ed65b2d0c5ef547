package site

import (
	"fmt"
	"net/netip"
	"slices"

	"mellowgate/internal/core/nearest"
)

// linker leads every name of a parsed site to its value and reports the names
// that lead nowhere, the names given twice, and what does not fit together.
type linker struct {
	site    *Site
	readers []*reader
	design  bool            // what devices are known to hold is left out
	partial bool            // something could not be read: what may result from that is not said
	unnamed map[string]bool // in a partial site: what has an entry without a name

	keys      map[string]*Key
	groups    map[string]*Group
	lists     map[string]*List
	platforms map[string]*Platform
	profiles  map[string]*Profile
	accounts  map[string]*Account
	roles     map[string]*Role
	secrets   map[string]*ElevationSecret
	shared    map[wayKey][]*Way
	asked     map[*Way][]*Server // by the first way in of a device
}

func (l *linker) wrong(p Place, format string, args ...any) {
	for _, b := range l.readers[p.File].broken {
		if b.first <= p.Line && p.Line <= b.last {
			return
		}
	}
	l.readers[p.File].wrongAt(p, fmt.Sprintf(format, args...))
}

// index makes a map from names to values, reporting a name given twice.
func index[T any](l *linker, what string, values []*T, ref func(*T) *Ref) map[string]*T {
	m := make(map[string]*T, len(values))
	for _, v := range values {
		r := ref(v)
		if l.partial && r.Name == "" {
			l.unnamed[what] = true
			continue
		}
		if first, twice := m[r.Name]; twice {
			l.wrong(r.Place, "the %s %q stands already in %s; give one of them another name", what, r.Name,
				l.site.Where(ref(first).Place))
			continue
		}
		m[r.Name] = v
	}
	return m
}

// find leads one name to its value.
func find[T any](l *linker, what string, m map[string]*T, r Ref) *T {
	if v, ok := m[r.Name]; ok {
		return v
	}
	if l.partial && (len(m) == 0 || l.unnamed[what]) {
		return nil
	}
	if r.Place.Known() {
		names := make([]string, 0, len(m))
		for n := range m {
			names = append(names, n)
		}
		slices.Sort(names)
		l.wrong(r.Place, "there is no %s %q%s", what, r.Name, nearest.Suggest(r.Name, names))
	}
	return nil
}

func (l *linker) link() {
	s := l.site
	l.unnamed = map[string]bool{}
	l.keys = index(l, "key", s.Keys, func(v *Key) *Ref { return &v.Ref })
	s.servers = index(l, "server", s.Servers, func(v *Server) *Ref { return &v.Ref })
	l.groups = index(l, "group", s.Groups, func(v *Group) *Ref { return &v.Ref })
	l.lists = index(l, "list", s.Lists, func(v *List) *Ref { return &v.Ref })
	l.platforms = index(l, "platform", s.Platforms, func(v *Platform) *Ref { return &v.Ref })
	l.profiles = index(l, "profile", s.Profiles, func(v *Profile) *Ref { return &v.Ref })
	s.devices = index(l, "device", s.Devices, func(v *Device) *Ref { return &v.Ref })
	l.accounts = index(l, "account", s.Accounts, func(v *Account) *Ref { return &v.Ref })
	s.people = index(l, "person", s.People, func(v *Person) *Ref { return &v.Ref })
	l.roles = index(l, "role", s.Roles, func(v *Role) *Ref { return &v.Ref })

	l.secrets = index(l, "elevation secret", s.Elevations, func(v *ElevationSecret) *Ref { return &v.Ref })
	index(l, "vendor", s.Vendors, func(v *Vendor) *Ref { return &v.Ref })
	for _, v := range s.Servers {
		l.server(v)
	}
	for _, v := range s.Groups {
		l.group(v)
		l.groupLeaves(v)
	}
	for _, v := range s.Lists {
		l.list(v)
		l.only(v)
	}
	for _, v := range s.Accounts {
		l.password(&v.Password)
		l.ownList(v)
	}
	for _, v := range s.Elevations {
		l.password(&v.Password)
	}
	l.names()
	index(l, "team", s.Teams, func(v *Team) *Ref { return &v.Ref })
	for _, v := range s.People {
		l.password(&v.Password)
		if v.oneTime.Name != "" {
			v.OneTime = find(l, "key", l.keys, v.oneTime)
		}
	}
	index(l, "person of the lab's directories", s.Lab.People, func(v *Person) *Ref { return &v.Ref })
	for _, v := range s.Lab.People {
		if !v.Password.Place.Known() {
			l.wrong(v.Place, "%s stands in a directory of the lab, which needs a password for the name", v.Name)
		}
		l.password(&v.Password)
		if v.oneTime.Name != "" {
			l.wrong(v.oneTime.Place,
				"%s stands in a directory of the lab, and a directory asks for no one-time code; take this line out",
				v.Name)
		}
	}
	for _, at := range s.Service.DeviceLogs {
		if v := s.Server(at.Server.Name); at.Network == "tls" && (v == nil || !v.Secured()) {
			l.wrong(at.Server.Place, "device-logs shows the certificates of the server %q; a server with "+
				"transport: tls is wanted", at.Server.Name)
		}
	}
	if s.Service.Ledger.key.Name != "" {
		s.Service.Ledger.Key = find(l, "key", l.keys, s.Service.Ledger.key)
	}
	l.directories()
	l.clients()
	for _, a := range s.Accepted {
		if a.Device.Name != "" {
			find(l, "device", s.devices, a.Device)
		}
	}
	for _, v := range s.Servers {
		for _, d := range v.Behind {
			find(l, "device", s.devices, d)
		}
	}
	for _, g := range s.Grants {
		g.Role = find(l, "role", l.roles, g.RoleRef)
		for _, d := range g.Devices {
			find(l, "device", s.devices, d)
		}
		for _, w := range g.Who {
			if w.Person != "" {
				find(l, "person", s.people, Ref{Name: w.Person, Place: w.Place})
			}
		}
	}
	l.commandRights()
	l.shared, l.asked = map[wayKey][]*Way{}, map[*Way][]*Server{}
	l.devices()
}

// names finds names of people that are spellings of one, and people without a
// password.
func (l *linker) names() {
	s := l.site
	s.normal = make(map[string]*Person, len(s.People))
	for _, p := range s.People {
		switch said := p.Password.Place.Known(); {
		case p.FromDirectory && said:
			l.wrong(p.Password.Place, "%s is from a directory, which has the password; take this line out", p.Name)
		case !p.FromDirectory && !said:
			l.wrong(p.Place, "%s needs the key \"password\", or from: directory where a directory has it", p.Name)
		case p.FromDirectory && len(s.directories) == 0:
			l.wrong(p.Place, "%s is from a directory, and the site asks none; write directories: [NAME]", p.Name)
		}
		normal, ok := NormalName(p.Name)
		if !ok {
			continue
		}
		if first := s.normal[normal]; first != nil && first.Name != p.Name {
			l.wrong(p.Place, "%s is a spelling of %s in %s: servers take the two for one person; give one of them "+
				"another name",
				p.Name, first.Name, s.Where(first.Place))
			continue
		}
		s.normal[normal] = p
	}
}

func (l *linker) password(p *Password) {
	if p.ref.Name != "" {
		p.Key = find(l, "key", l.keys, p.ref)
	}
}

// ownList leads an account to the login list of its own.
func (l *linker) ownList(a *Account) {
	if a.loginRef.Name == "" {
		return
	}
	a.Login = find(l, "list", l.lists, a.loginRef)
	if a.Login != nil && a.Login.Purpose != Login && a.Login.Purpose != PurposeCount {
		l.wrong(a.loginRef.Place, "the list %q is for %s and is used here for login", a.Login.Name, a.Login.Purpose)
		a.Login = nil
	}
}

// only finds names in a list's only that nobody has.
func (l *linker) only(v *List) {
	if len(v.Only) > 0 && v.Purpose != Login && v.Purpose != PurposeCount {
		l.wrong(v.Only[0].Place, "only is for lists of logins, and the list %s is for %s", v.Name, v.Purpose)
	}
	names := make(map[string]*Ref, len(l.site.People)+len(l.site.Accounts))
	for _, p := range l.site.People {
		names[p.Name] = &p.Ref
	}
	for _, a := range l.site.Accounts {
		names[a.Name] = &a.Ref
	}
	for _, r := range v.Only {
		find(l, "person or account", names, r)
	}
}

// methodsFor are the methods that make sense for each purpose.
var methodsFor = [PurposeCount][]MethodKind{
	Login:          {ByGroup, ByLocal, BySecret, ByNone},
	Elevation:      {ByGroup, BySecret, ByLocal, ByNone},
	Session:        {ByGroup, ByLocal, SignedIn, ByNone},
	Commands:       {ByGroup, ByLocal, SignedIn, ByNone},
	RecordSessions: {ByGroup},
	RecordCommands: {ByGroup},
	RecordSystem:   {ByGroup},
}

// Takes reports whether a list of a purpose can have a method.
func (p Purpose) Takes(m MethodKind) bool { return slices.Contains(methodsFor[p], m) }

func (l *linker) list(v *List) {
	if v.Purpose == PurposeCount {
		l.wrong(v.Place, "the list %s does not say what it is for; write authenticate: login or elevation, "+
			"authorize: session or commands, or account: sessions, commands or system", v.Name)
		return
	}
	if len(v.Methods) == 0 {
		l.wrong(v.Place, "the list %s has no method", v.Name)
	}
	l.methods(v)
}

func (l *linker) methods(v *List) {
	for i := range v.Methods {
		m := &v.Methods[i]
		if !v.Purpose.Takes(m.Kind) {
			l.wrong(m.Place, "the method %s makes no sense in the list %s, which is for %s", m, v.Name, v.Purpose)
		}
		switch m.Kind {
		case ByGroup:
			m.group = find(l, "group", l.groups, m.Ref)
		case BySecret:
			m.secret = find(l, "elevation secret", l.secrets, m.Ref)
		}
	}
}

func (l *linker) devices() {
	plain := &Platform{Ref: Ref{Name: "plain"}, Behaviour: DefaultBehaviour()}
	none := &Profile{}
	sources := map[netip.Addr]*Device{}
	for _, d := range l.site.Devices {
		d.Platform, d.Profile = plain, none
		if d.PlatformRef.Name != "" {
			if k := find(l, "platform", l.platforms, d.PlatformRef); k != nil {
				d.Platform = k
			}
		}
		if d.ProfileRef.Name != "" {
			if p := find(l, "profile", l.profiles, d.ProfileRef); p != nil {
				d.Profile = p
			}
		}
		if !d.SourceSet && len(d.Addresses) > 0 {
			d.Source = d.Addresses[0]
		}
		if l.design {
			d.Found = Found{}
		}
		l.shares(d)
		l.holds(d)
		l.deviceAccounts(d)
		d.Ways = l.ways(d)
		d.asked = l.askedBy(d)
		l.leaves(d)
		for _, from := range d.Sources() {
			if first, twice := sources[from]; twice && from.IsValid() {
				l.wrong(d.Place, "requests of %s come from %s, as those of %s in %s do; a server could not tell "+
					"them apart",
					d.Name, from, first.Name, l.site.Where(first.Place))
			}
			sources[from] = d
		}
	}
}

func (l *linker) deviceAccounts(d *Device) {
	refs := d.Profile.AccountRefs
	if d.Own.HasAccounts {
		refs = d.Own.AccountRefs
	}
	if d.Found.differs {
		refs = d.Found.accounts
	}
	for _, ref := range refs {
		a := find(l, "account", l.accounts, ref)
		if a == nil || slices.Contains(d.Accounts, a) {
			continue
		}
		d.Accounts = append(d.Accounts, a)
	}
}

// wayKey tells devices apart whose ways in can differ.
type wayKey struct {
	profile  *Profile
	platform *Platform
	own      *Device // only for a device with keys of its own
}

// ways works out the ways in of a device, once for all devices alike.
func (l *linker) ways(d *Device) []*Way {
	key := wayKey{profile: d.Profile, platform: d.Platform}
	if d.Own.Access != nil || d.Own.Defaults != (Binds{}) || len(d.Found.lists) > 0 || len(d.Found.groups) > 0 {
		key.own = d
	}
	if ways, ok := l.shared[key]; ok {
		return ways
	}
	defaults := d.Profile.Defaults
	for p, ref := range d.Own.Defaults {
		if ref.Name != "" {
			defaults[p] = ref
		}
	}
	var ways []*Way
	for _, access := range accesses {
		entries, said := d.Own.Access[access]
		if !said {
			entries, said = d.Profile.Access[access]
		}
		if !said && access == Console { // every device has a console
			entries = []Entry{{Access: Console, Place: d.Place}}
		}
		for _, e := range entries {
			if !e.Off {
				ways = append(ways, l.way(e, defaults, d.Platform))
			}
		}
	}
	l.heldLists(d, ways)
	l.shared[key] = ways
	return ways
}

// way leads one way in to its lists: its own, else the device-wide one.
func (l *linker) way(e Entry, defaults Binds, platform *Platform) *Way {
	w := &Way{Access: e.Access, Lines: e.Lines, HasLines: e.HasLines, From: e.From, SSH: e.SSH, Place: e.Place}
	for p := Login; p < PurposeCount; p++ {
		ref, origin := e.Binds[p], Own
		if ref.Name == "" {
			ref, origin = defaults[p], Default
		}
		if ref.Name == "" {
			if p == Login {
				w.Origins[p] = BuiltIn
			}
			continue
		}
		found := find(l, "list", l.lists, ref)
		if found == nil {
			continue
		}
		if found.Purpose == PurposeCount { // said already
			continue
		}
		if found.Purpose != p {
			l.wrong(ref.Place, "the list %q is for %s and is used here for %s", ref.Name, found.Purpose, p)
			continue
		}
		if e.Access == Console && !platform.Behaviour.ConsoleObeys && (p == Session || p == Commands) {
			w.Origins[p], w.unobeyed[p] = Unobeyed, found
			continue
		}
		w.Lists[p], w.Origins[p] = found, origin
	}
	return w
}
