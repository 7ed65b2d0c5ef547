package site

import (
	"net/netip"
	"slices"
	"strings"
)

// Access names a way in.
const (
	Console = "console"
	SSH     = "ssh"
	Telnet  = "telnet"
	Web     = "web"
	API     = "api"
	NETCONF = "netconf"
)

// HasShell reports whether a way in leads to a shell, at which a level can be
// raised: the others are pages and programs.
func HasShell(access string) bool { return access == Console || access == SSH || access == Telnet }

// accesses are the ways in, in the order in which they are shown.
var accesses = []string{Console, SSH, Telnet, Web, API, NETCONF}

// Accesses returns the names of all ways in, in the order in which they are shown.
func Accesses() []string { return accesses }

// Binds says which list each purpose uses; an empty name is none.
type Binds [PurposeCount]Ref

// Entry is what the site file says of one way in, or of one range of its lines.
type Entry struct {
	Access   string
	Lines    Range
	HasLines bool
	Off      bool
	Binds    Binds
	From     []netip.Prefix // who may open it; empty: anybody
	SSH      SSHWay
	Place    Place
}

// SSHWay is how ssh is set up. The zero value says nothing.
type SSHWay struct {
	HostKey  string // the algorithm of the device's key, such as ed25519
	Version1 bool   // it takes the old version 1 too, which RFC 4251 replaced
}

// Origin tells how a way in came by its list.
type Origin int

const (
	Nowhere  Origin = iota // no list
	Own                    // named by the way in itself
	Default                // the device-wide list
	BuiltIn                // the platform's built-in login
	Unobeyed               // a list is named, and the console does not obey it
)

// Way is one way in to a device, with the lists that hold on it.
type Way struct {
	Access   string
	Lines    Range
	HasLines bool
	Lists    [PurposeCount]*List
	Origins  [PurposeCount]Origin
	From     []netip.Prefix // who may open it; empty: anybody
	SSH      SSHWay
	Place    Place // where the way in is described

	// unobeyed are the lists that are named and that the console does not obey.
	unobeyed [PurposeCount]*List
}

// Takes reports whether a way in may be opened from an address. Where it is not known
// where somebody comes from, that is taken as met.
func (w *Way) Takes(from netip.Addr) bool {
	return !from.IsValid() || len(w.From) == 0 ||
		slices.ContainsFunc(w.From, func(p netip.Prefix) bool { return p.Contains(from) })
}

// OverNetwork reports whether a way in is opened over a network: all but the console.
func (w *Way) OverNetwork() bool { return w.Access != Console }

// Name is the way in as it is shown: "console", "ssh", "ssh 0-15".
func (w *Way) Name() string {
	if w.HasLines {
		return w.Access + " " + w.Lines.String()
	}
	return w.Access
}

// Profile is what many devices share.
type Profile struct {
	Ref
	Defaults    Binds
	Access      map[string][]Entry
	AccountRefs []Ref
	HasAccounts bool
	keys        []FoundKey // shared with servers by these devices alone
	asks        []Leaves   // how questions leave, for servers and groups
	place       Place
}

// Device is one device with everything that holds on it: its own keys, its
// profile's, and the behaviour of its platform.
type Device struct {
	Ref
	Platform    *Platform
	PlatformRef Ref
	Profile     *Profile
	ProfileRef  Ref
	Addresses   []netip.Addr
	// Source is where its requests come from; the first address unless said. Path
	// says it for each server.
	Source      netip.Addr
	SourceSet   bool
	Interfaces  map[string][]netip.Addr // the addresses of interfaces that questions come from
	sources     []netip.Addr            // as said, the usual one first: one for a family
	asked       []*Server               // the servers of its lists, as they were read
	leavesApart bool                    // for some of them questions leave another way, or it is patient otherwise
	Shows       Shown                   // its certificate, where that bears neither its name nor its address
	Network     string                  // the routing instance of its management, "" for the default one
	Labels      map[string]string
	Own         Profile // the device's own keys, which win over its profile's
	Ways        []*Way
	Accounts    []*Account
	Found       Found
	shares      map[*Server]*Key // its own shared secrets
	held        map[*List]*List  // what it is known to have in place of lists of the design
}

// LoginList returns the list that decides about a name at a way in: that of the
// device's account of that name where it has one, else that of the way in. It is false for
// the platform's built-in login, which has no list.
func (d *Device) LoginList(w *Way, name string) (*List, bool) {
	if a := d.Account(name); a != nil {
		if own, has := d.OwnList(a); has {
			return own, true
		}
	}
	return w.Lists[Login], w.Lists[Login] != nil
}

// OwnList returns the login list of an account's own, as the device has it, and whether it has one.
func (d *Device) OwnList(a *Account) (*List, bool) {
	if a.Login == nil {
		return nil, false
	}
	if held := d.held[a.Login]; held != nil {
		return held, true
	}
	return a.Login, true
}

// lists returns every list of the device: those of its ways in, and those of its
// accounts.
func (d *Device) lists() []*List {
	var all []*List
	for _, w := range d.Ways {
		all = append(all, w.Lists[:]...)
	}
	for _, a := range d.Accounts {
		if own, has := d.OwnList(a); has {
			all = append(all, own)
		}
	}
	return all
}

// Shown is how a device's certificate is told from others.
type Shown struct {
	Name        string // a DNS name in it
	Fingerprint string // its SHA-256, in hexadecimal digits
}

// Found is what is known to be on a device now where it differs from the
// design. Zero fields do not differ.
type Found struct {
	Place    Place
	Keys     map[*Server]FoundKey
	Ports    map[*Server]FoundPorts
	Source   netip.Addr
	accounts []Ref
	keys     []FoundKey
	ports    []FoundPorts
	lists    []heldList
	groups   []heldGroup
	differs  bool // in accounts, though there are none
}

// FoundKey is a key that a device holds for a server, and where that is said.
type FoundKey struct {
	Server Ref
	KeyRef Ref
	Key    *Key
}

// FoundPorts are the ports at which a device asks a server. 0 is as designed.
type FoundPorts struct {
	Server                     Ref
	Authentication, Accounting uint16
	Place                      Place
}

type heldList struct {
	Ref
	methods []Method
}

type heldGroup struct {
	Ref
	servers []Ref
}

// Key returns the key that the device holds for s now.
func (d *Device) Key(s *Server) *Key {
	if h, ok := d.Found.Keys[s]; ok {
		return h.Key
	}
	return d.Shares(s)
}

// OwnKeys returns the keys that the device shares with servers by itself.
func (d *Device) OwnKeys() map[*Server]*Key { return d.shares }

// Shares returns the key that the device and s should share: its own, or the
// server's.
func (d *Device) Shares(s *Server) *Key {
	if own, ok := d.shares[s]; ok {
		return own
	}
	return s.Key
}

// Asks returns the address that the device's requests come from now.
func (d *Device) Asks() netip.Addr {
	if d.Found.Source.IsValid() {
		return d.Found.Source
	}
	return d.Source
}

// Ports returns the ports at which the device asks a RADIUS server now, and
// where that is said. Ports that the site file does not say are the platform's own.
func (d *Device) Ports(s *Server) (authentication, accounting uint16, place Place) {
	authentication = s.AuthenticationPort
	accounting = s.AccountingPort
	place = s.Place
	if !s.PortsSaid && d.Platform.Behaviour.LegacyPorts && s.TwoPorts() {
		authentication, accounting = 1645, 1646
	}
	if h, ok := d.Found.Ports[s]; ok {
		place = h.Place
		if h.Authentication != 0 {
			authentication = h.Authentication
		}
		if h.Accounting != 0 {
			accounting = h.Accounting
		}
	}
	return authentication, accounting, place
}

// Logins returns the local accounts by which somebody can log in: those with a
// password.
func (d *Device) Logins() []*Account {
	return slices.DeleteFunc(slices.Clone(d.Accounts), func(a *Account) bool { return a.Password.None })
}

// Servers returns the servers that the lists of the device name, by their names.
func (d *Device) Servers() []*Server {
	var servers []*Server
	for _, l := range d.lists() {
		for _, s := range l.Servers() {
			if !slices.Contains(servers, s) {
				servers = append(servers, s)
			}
		}
	}
	slices.SortFunc(servers, func(a, b *Server) int { return strings.Compare(a.Name, b.Name) })
	return servers
}

// Account returns the device's local account of that name, or nil.
func (d *Device) Account(name string) *Account {
	for _, a := range d.Accounts {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// Way returns the first way in of that name: "ssh" or, with lines, "ssh 0-15".
func (d *Device) Way(name string) *Way {
	for _, w := range d.Ways {
		if w.Name() == name {
			return w
		}
	}
	for _, w := range d.Ways {
		if w.Access == name {
			return w
		}
	}
	return nil
}

// Managed returns the way in by which the device's configuration is managed: netconf, or
// api where its platform has RESTCONF there; nil for neither.
func (d *Device) Managed() *Way {
	if w := d.Way(NETCONF); w != nil {
		return w
	}
	if d.Platform.Behaviour.RESTCONF {
		return d.Way(API)
	}
	return nil
}

// WayOfLine returns the way in of an access that has the given line, or nil.
func (d *Device) WayOfLine(access string, line int) *Way {
	for _, w := range d.Ways {
		if w.Access == access && (!w.HasLines || w.Lines.Has(line)) {
			return w
		}
	}
	return nil
}
