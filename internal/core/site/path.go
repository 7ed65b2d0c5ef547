package site

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"go.yaml.in/yaml/v4"
)

// Path is how a device's questions leave for one server.
type Path struct {
	// Source is the address that they come from; the zero Addr where the device has none
	// of the server's family, and so can ask nothing.
	Source    netip.Addr
	Network   string // the routing instance, "" for the default one
	Interface string // the interface whose address the source is, "" where none is said
}

// Leaves is what the site says of questions to a server or to the servers of a
// group. Empty fields say nothing.
type Leaves struct {
	To        Ref // a server or a group; of a group's own entry ""
	Network   string
	Interface Ref
	Source    netip.Addr
	Timeout   time.Duration  // 0: as the server says
	Attempts  int            // 0: as the server says
	DeadTime  *time.Duration // nil: as the server says
}

// over lays what is said nearer to the device over what is said further away.
func (l Leaves) over(far Leaves) Leaves {
	l.Network = cmp.Or(l.Network, far.Network)
	l.Timeout, l.Attempts = cmp.Or(l.Timeout, far.Timeout), cmp.Or(l.Attempts, far.Attempts)
	l.DeadTime = cmp.Or(l.DeadTime, far.DeadTime)
	if l.Source.IsValid() || l.Interface.Name != "" {
		return l
	}
	l.Source, l.Interface = far.Source, far.Interface
	return l
}

// Path returns how the device's questions leave for a server, by the design.
func (d *Device) Path(s *Server) Path {
	says := d.says(s)
	p := Path{Source: says.Source, Network: cmp.Or(says.Network, d.Network), Interface: says.Interface.Name}
	switch {
	case says.Source.IsValid():
	case says.Interface.Name != "":
		p.Source = ofFamily(s, d.Interfaces[says.Interface.Name])
	case d.SourceSet:
		p.Source = ofFamily(s, d.sources)
	default:
		p.Source = ofFamily(s, d.Addresses)
	}
	return p
}

// Patience is how long a device waits for a server, how often it asks, and how long it
// leaves it alone after no answer.
type Patience struct {
	Timeout  time.Duration // for one try
	Attempts int           // the first included
	DeadTime time.Duration // 0: it never rests
}

// Patience returns how patient the device is with a server: as the site says for the
// device or its profile, else for the server. Of a server that is not of the site it is the
// server's own.
func (d *Device) Patience(s *Server) Patience {
	p := Patience{Timeout: s.Timeout, Attempts: s.Attempts, DeadTime: s.DeadTime}
	if !d.leavesApart || !slices.Contains(d.asked, s) {
		return p
	}
	says := d.says(s)
	p.Timeout, p.Attempts = cmp.Or(says.Timeout, p.Timeout), cmp.Or(says.Attempts, p.Attempts)
	if says.DeadTime != nil {
		p.DeadTime = *says.DeadTime
	}
	return p
}

// Hasten makes everything that the site says of waiting for servers so many times shorter,
// for trials that would take long.
func (s *Site) Hasten(factor int) {
	for _, v := range s.Servers {
		v.Timeout /= time.Duration(factor)
		v.DeadTime /= time.Duration(factor)
	}
	hasten := func(asks []Leaves) {
		for i := range asks {
			asks[i].Timeout /= time.Duration(factor)
			if rest := asks[i].DeadTime; rest != nil {
				*rest /= time.Duration(factor)
			}
		}
	}
	for _, p := range s.Profiles {
		hasten(p.asks)
	}
	for _, d := range s.Devices {
		hasten(d.Own.asks)
	}
}

// says returns what the site says of how questions leave for a server.
func (d *Device) says(s *Server) Leaves {
	var says Leaves
	for _, of := range [][]Leaves{d.Own.asks, d.Profile.asks} {
		says = says.over(leavesFor(of, s))
	}
	return says.over(s.leaves)
}

// AnySource reports whether nothing says which of several addresses of its family
// questions to a server come from.
func (d *Device) AnySource(s *Server) bool {
	says := d.says(s)
	if says.Source.IsValid() || says.Interface.Name != "" || d.SourceSet {
		return false
	}
	first := ofFamily(s, d.Addresses)
	others := slices.DeleteFunc(slices.Clone(d.Addresses), func(a netip.Addr) bool { return a == first })
	return ofFamily(s, others).IsValid()
}

// leavesFor returns what is said of a server: by its name, else by that of a group of
// it.
func leavesFor(leaves []Leaves, s *Server) Leaves {
	var says Leaves
	for _, l := range leaves {
		if l.To.Name == s.Name {
			says = l.over(says)
		}
	}
	for _, l := range leaves {
		if slices.ContainsFunc(s.groups, func(g *Group) bool { return g.Name == l.To.Name }) {
			says = says.over(l)
		}
	}
	return says
}

// ofFamily returns the first address from which a server can be asked. A server with
// a name in place of an address is taken for one of any family.
func ofFamily(s *Server, addresses []netip.Addr) netip.Addr {
	address, err := netip.ParseAddr(s.Address)
	for _, a := range addresses {
		if err != nil || a.Unmap().Is4() == address.Unmap().Is4() {
			return a
		}
	}
	return netip.Addr{}
}

// Sources returns every address from which the device asks by the design, its usual
// one first.
func (d *Device) Sources() []netip.Addr {
	addresses := []netip.Addr{d.Source}
	if !d.leavesApart {
		return addresses
	}
	for _, s := range d.asked {
		if from := d.Path(s).Source; from.IsValid() && !slices.Contains(addresses, from) {
			addresses = append(addresses, from)
		}
	}
	return addresses
}

// Asked returns the servers of the device's lists, as they were read.
func (d *Device) Asked() []*Server { return d.asked }

// AsksAlike tells devices apart by what matters of how their questions leave: two with
// the same text have a source for the same servers, in the same networks.
func (d *Device) AsksAlike() string {
	if !d.leavesApart {
		return d.Network
	}
	text := d.Network
	for _, s := range d.asked {
		p := d.Path(s)
		text += fmt.Sprint(" ", s.Name, d.Patience(s))
		if !p.Source.IsValid() {
			text += " nowhere"
		}
		text += " " + p.Network
	}
	return text
}

// leavesFields are what can be said of how servers are asked.
var leavesFields = map[string]field[Leaves]{
	"network":   textOf("network", func(l *Leaves) *string { return &l.Network }),
	"interface": nameField("interface", func(l *Leaves) *Ref { return &l.Interface }),
	"source": {read: func(r *reader, n *yaml.Node, l *Leaves) { l.Source, _ = r.address(n, "source") },
		form: textForm()},
	"timeout": durationField("timeout", time.Millisecond, 5*time.Minute,
		func(l *Leaves) *time.Duration { return &l.Timeout }),
	"attempts": intField("attempts", 1, 20, func(l *Leaves) *int { return &l.Attempts }),
	"dead-time": durationField("dead-time", 0, 24*time.Hour, func(l *Leaves) *time.Duration {
		l.DeadTime = new(time.Duration)
		return l.DeadTime
	}),
}

var leavesShape = shape[Leaves]{what: "requests-to", fields: leavesFields}

// asksField reads how questions leave for servers and groups, by their names.
func asksField[T any](at func(*T) *Profile) field[T] {
	return field[T]{read: func(r *reader, n *yaml.Node, v *T) {
		r.pairs(n, "requests-to", "servers or groups and how they are asked: {SERVER: {source: ADDRESS}}",
			func(to, how *yaml.Node) {
				name, ok := r.name(to, "a server or a group")
				leaves := Leaves{To: name}
				leavesShape.read(r, how, &leaves)
				if ok {
					at(v).asks = append(at(v).asks, leaves)
				}
			})
	}, form: mapForm(leavesShape.form())}
}

// addresses reads one address, or several.
func (r *reader) addresses(n *yaml.Node, what string) (addrs []netip.Addr) {
	r.each(n, what, func(item *yaml.Node) {
		if a, ok := r.address(item, what); ok {
			addrs = append(addrs, a)
		}
	})
	return addrs
}

// interfacesField reads the addresses of a device's interfaces.
var interfacesField = field[Device]{read: func(r *reader, n *yaml.Node, d *Device) {
	d.Interfaces = map[string][]netip.Addr{}
	r.pairs(n, "interfaces", "interfaces and their addresses: {NAME: ADDRESS}", func(key, value *yaml.Node) {
		if name, ok := r.name(key, "an interface"); ok {
			d.Interfaces[name.Name] = r.addresses(value, "an address of "+name.Name)
		}
	})
}, form: mapForm(oneOrMore(textForm()))}

// askedBy works out the servers of a device once for all devices with the same ways in
// and no account with a list of its own.
func (l *linker) askedBy(d *Device) []*Server {
	if len(d.Ways) == 0 || slices.ContainsFunc(d.Accounts, func(a *Account) bool { return a.Login != nil }) {
		return d.Servers()
	}
	servers, known := l.asked[d.Ways[0]]
	if !known {
		servers = d.Servers()
		l.asked[d.Ways[0]] = servers
	}
	return servers
}

// leaves checks what is said of how questions leave: servers and groups that exist,
// interfaces that the device has.
func (l *linker) leaves(d *Device) {
	has := func(place Place, i Ref, of string) {
		if i.Name == "" || d.Interfaces[i.Name] != nil {
			return
		}
		if !i.Place.Known() {
			i.Place = place
		}
		l.wrong(d.Place, "%s asks %s from its interface %s, and the site does not say the address of that; write "+
			"interfaces: {%s: ADDRESS}", d.Name, of, i.Name, i.Name)
	}
	for _, of := range [][]Leaves{d.Own.asks, d.Profile.asks} {
		for _, says := range of {
			if l.groups[says.To.Name] == nil {
				find(l, "server or group", l.site.servers, says.To)
			}
		}
	}
	for _, s := range d.asked {
		p := d.Path(s)
		says := d.says(s)
		d.leavesApart = d.leavesApart || p.Source != d.Source || p.Network != d.Network || says.Timeout != 0 ||
			says.Attempts != 0 || says.DeadTime != nil
		if says.Attempts > 1 && !s.Datagrams() {
			l.wrong(cmp.Or(says.To.Place, d.Place), askedOnce, s.Protocol.Title(), s.Name)
		}
		has(d.Place, Ref{Name: p.Interface}, s.Name)
	}
}

// groupLeaves gives servers what their groups say of how they are asked.
func (l *linker) groupLeaves(g *Group) {
	for _, s := range g.Servers {
		s.groups = append(s.groups, g)
		says := g.leaves
		if far := s.leaves; says.Network != "" && far.Network != "" && says.Network != far.Network ||
			says.Interface.Name != "" && far.Interface.Name != "" && says.Interface.Name != far.Interface.Name {
			l.wrong(g.Place, "the server %s is in another group too, which says another network or interface; say "+
				"it for the server alone, at the device or its profile: requests-to: {%s: {interface: NAME}}", s.Name,
				s.Name)
			continue
		}
		s.leaves = says.over(s.leaves)
	}
}
