// Package site holds the design of a site as typed values: servers, groups,
// method lists, devices, accounts, people, roles and grants. Each value keeps
// its place in the file it came from, so that a finding can point at it.
//
// Parse reads the site file language and reports every mistake with
// file:line:column. The package opens no file and asks nobody: it is given
// text, and the values of keys live elsewhere.
package site

import (
	"fmt"
	"net/netip"
	"strconv"
	"time"
)

// Site is a whole site, checked: every name in it leads to a value.
// It is never changed after Parse.
type Site struct {
	Name, About string
	Keys        []*Key
	Servers     []*Server
	Groups      []*Group
	Lists       []*List
	Kinds       []*Kind
	Profiles    []*Profile
	Devices     []*Device
	Accounts    []*Account
	People      []*Person
	Roles       []*Role
	Grants      []*Grant
	Vendors     []*Vendor
	Lab         Lab
	Service     Service
	Elevations  []*ElevationSecret
	Clients     []*Client
	Accepted    []*Acceptance
	LabelValues []*LabelValue
	Directories []*Server // LDAP servers that are asked for names that people does not have
	Inventories []Ref     // the files of devices-from; Parse's caller reads them
	directories []Ref
	Files       []string // the names of the files read; Place.File counts in it

	people  map[string]*Person
	devices map[string]*Device
	servers map[string]*Server
}

// Where gives a place as file:line:column, or "" for nowhere.
func (s *Site) Where(p Place) string {
	if !p.Known() || int(p.File) >= len(s.Files) {
		return ""
	}
	return s.Files[p.File] + ":" + strconv.Itoa(int(p.Line)) + ":" + strconv.Itoa(int(p.Column))
}

// Person gives the person of that name, or nil.
func (s *Site) Person(name string) *Person { return s.people[name] }

// Device gives the device of that name, or nil.
func (s *Site) Device(name string) *Device { return s.devices[name] }

// Server gives the server of that name, or nil.
func (s *Site) Server(name string) *Server { return s.servers[name] }

// KeySource tells where the value of a key is kept.
type KeySource string

const (
	KeyEnv    KeySource = "env"    // an environment variable
	KeyFile   KeySource = "file"   // a file beside the site
	KeySealed KeySource = "sealed" // the sealed file beside the site, under the key's name
	KeyClear  KeySource = "clear"  // the site file itself
)

// Key is a shared secret by name. From is the variable or the path; Clear is
// the value itself, for KeyClear only.
type Key struct {
	Ref
	Source KeySource
	From   string
	Clear  Secret
}

// Keys holds the values of keys by name. A name without an entry is a key
// whose value could not be read here.
type Keys map[string]Secret

// Same tells whether a and b have the same value. Where a value is not known
// here, two names count as two values.
func (ks Keys) Same(a, b *Key) bool {
	if a == b || a == nil || b == nil {
		return a == b
	}
	va, okA := ks[a.Name]
	vb, okB := ks[b.Name]
	return okA && okB && va.Equal(vb)
}

// Protocol is how a server is asked.
type Protocol string

const (
	RADIUS Protocol = "radius" // RFC 2865, 2866
	TACACS Protocol = "tacacs" // RFC 8907
	LDAP   Protocol = "ldap"   // RFC 4511
)

// Server is one AAA server and how it is asked.
type Server struct {
	Ref
	Protocol Protocol
	Address  string // an address or a host name
	// Port is the TACACS+ port, default 49, or the LDAP port, default 389 or 636.
	Port uint16
	// AuthenticationPort and AccountingPort are the RADIUS ports, default 1812 and 1813.
	AuthenticationPort, AccountingPort uint16
	PortsSaid                          bool // the site file says the ports of a RADIUS server
	KeyRef                             Ref
	Key                                *Key // nil over TLS, where certificates take its place
	// NextKey is the key that takes Key's place, while it is being changed:
	// the server then accepts both.
	NextKeyRef   Ref
	NextKey      *Key
	TLS          bool // RADIUS over TLS (RFC 6614), TACACS+ over TLS (RFC 9887)
	Certificates Certificates
	transport    Ref
	Wait         time.Duration // for one try; above 0
	Tries        int           // transmissions, the first included; at least 1
	Rest         time.Duration // after no answer; 0: never rests
	Run          bool          // `serve` and `lab` run it
	// RequireMessageAuthenticator drops RADIUS requests and answers without
	// a Message-Authenticator (RFC 3579, section 3.2).
	RequireMessageAuthenticator bool
	For                         Uses
	Forms                       []string // the password forms that the server takes; none: every form
	Labels                      map[string]string
	Directory                   Directory // for LDAP
}

// Uses are the kinds of question that a server is for.
type Uses struct{ Authentication, Authorization, Accounting bool }

// Serves tells whether a server is for questions of a purpose. One that says
// nothing is for all.
func (s *Server) Serves(p Purpose) bool {
	switch {
	case s.For == Uses{}:
		return true
	case p == Login || p == Elevation:
		return s.For.Authentication
	case p.Records():
		return s.For.Accounting
	case s.Protocol == RADIUS: // a session's rights come with the login
		return true
	}
	return s.For.Authorization
}

// Directory is how people are found in an LDAP server: search, then bind.
type Directory struct {
	Base      string // where the search begins
	BindAs    string // who searches; "" searches as nobody
	KeyRef    Ref
	Key       *Key   // the password of BindAs
	Find      string // the filter of RFC 4515; %u stands for the escaped name
	TeamsFrom string // the attribute whose values are teams, or names of groups
	Security  string // start, ldaps or none
}

// Certificates are files of a server over TLS, from the site's folder. `serve`
// needs them; a lab makes its own.
type Certificates struct {
	Certificate, Key string // PEM
	Authorities      string // PEM: who signs the certificates of devices
	Place            Place
}

// Group is servers that are asked in order. All speak one protocol.
type Group struct {
	Ref
	ServerRefs []Ref
	Servers    []*Server
}

// Protocol is the one protocol of the group's servers.
func (g *Group) Protocol() Protocol { return g.Servers[0].Protocol }

// Purpose is what a method list is for.
type Purpose int

const (
	Login Purpose = iota
	Elevation
	Session
	Commands
	RecordSessions
	RecordCommands
	RecordSystem
	PurposeCount
)

var purposeNames = [PurposeCount]string{"login", "elevation", "session", "commands", "record-sessions", "record-commands", "record-system"}

// String gives the name of a purpose, "" for what is none.
func (p Purpose) String() string {
	if p < 0 || p >= PurposeCount {
		return ""
	}
	return purposeNames[p]
}

// Records tells whether lists of this purpose keep records rather than decide.
func (p Purpose) Records() bool {
	return p == RecordSessions || p == RecordCommands || p == RecordSystem
}

// MethodKind is one way to get an answer.
type MethodKind string

const (
	ByGroup  MethodKind = "group"
	ByLocal  MethodKind = "local"
	BySecret MethodKind = "secret" // for an elevation
	SignedIn MethodKind = "signed-in"
	ByNone   MethodKind = "none"
	// LinePassword is a kind's built-in login by a password of the line, which
	// has no names; no list can name it.
	LinePassword MethodKind = "line-password"
)

// Method is one step of a list.
type Method struct {
	Kind   MethodKind
	Group  *Group           // for ByGroup
	Secret *ElevationSecret // for BySecret
	Ref    Ref              // the name of the group or the secret
	Place  Place
}

func (m Method) String() string {
	if m.Ref.Name != "" {
		return string(m.Kind) + " " + m.Ref.Name
	}
	return string(m.Kind)
}

// Range is a closed range of small numbers: levels 0-15 or lines 0-97.
type Range struct{ Low, High int }

// Has tells whether n lies in the range.
func (r Range) Has(n int) bool { return n >= r.Low && n <= r.High }

func (r Range) String() string {
	if r.Low == r.High {
		return fmt.Sprint(r.Low)
	}
	return fmt.Sprintf("%d-%d", r.Low, r.High)
}

// List is a method list.
type List struct {
	Ref
	Purpose Purpose
	Levels  Range // for Commands and RecordCommands: the command levels it governs
	Start   bool  // for records: a start record too, not only the stop
	NoStop  bool  // for records: the start alone
	Methods []Method
}

// Servers gives every server that the list may ask, in order, each once.
func (l *List) Servers() []*Server {
	if l == nil {
		return nil
	}
	var all []*Server
	seen := map[*Server]bool{}
	for _, m := range l.Methods {
		if m.Kind != ByGroup {
			continue
		}
		for _, s := range m.Group.Servers {
			if !seen[s] {
				seen[s] = true
				all = append(all, s)
			}
		}
	}
	return all
}

// Access names a way in.
const (
	Console = "console"
	SSH     = "ssh"
	Telnet  = "telnet"
	Web     = "web"
	API     = "api"
	NETCONF = "netconf"
)

// Accesses are the ways in, in the order in which they are shown.
var accesses = []string{Console, SSH, Telnet, Web, API, NETCONF}

// Accesses gives the names of all ways in, in the order in which they are shown.
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
	Place    Place
}

// Origin tells how a way in came by its list.
type Origin int

const (
	Nowhere  Origin = iota // no list
	Own                    // named by the way in itself
	Default                // the device-wide list
	BuiltIn                // the kind's built-in login
	Unobeyed               // a list is named, and the console does not obey it
)

// Way is one way in to a device, with the lists that hold on it.
type Way struct {
	Access   string
	Lines    Range
	HasLines bool
	Lists    [PurposeCount]*List
	Origins  [PurposeCount]Origin
	Place    Place // where the way in is described
}

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
	place       Place
}

// Device is one device with everything that holds on it: its own keys, its
// profile's, and the traits of its kind.
type Device struct {
	Ref
	Kind       *Kind
	KindRef    Ref
	Profile    *Profile
	ProfileRef Ref
	Addresses  []netip.Addr
	Source     netip.Addr // where its requests come from; the first address unless said
	SourceSet  bool
	Network    string // the routing instance of its management, "" for the default one
	Labels     map[string]string
	Own        Profile // the device's own keys, which win over its profile's
	Ways       []*Way
	Accounts   []*Account
	Holds      Holds
}

// Holds is what is known to be on a device now where it differs from the
// design. Zero fields do not differ.
type Holds struct {
	Place    Place
	Keys     map[*Server]HeldKey
	Ports    map[*Server]HeldPorts
	Source   netip.Addr
	accounts []Ref
	keys     []HeldKey
	ports    []HeldPorts
	lists    []heldList
	groups   []heldGroup
	differs  bool // in accounts, though there are none
}

// HeldKey is a key that a device holds for a server, and where that is said.
type HeldKey struct {
	Server Ref
	KeyRef Ref
	Key    *Key
}

// HeldPorts are the ports at which a device asks a server. 0 is as designed.
type HeldPorts struct {
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

// Key gives the key that the device holds for s now.
func (d *Device) Key(s *Server) *Key {
	if h, ok := d.Holds.Keys[s]; ok {
		return h.Key
	}
	return s.Key
}

// Asks gives the address that the device's requests come from now.
func (d *Device) Asks() netip.Addr {
	if d.Holds.Source.IsValid() {
		return d.Holds.Source
	}
	return d.Source
}

// Ports gives the ports at which the device asks a RADIUS server now, and
// where that is said. Ports that the site file does not say are the kind's own.
func (d *Device) Ports(s *Server) (authentication, accounting uint16, at Place) {
	authentication, accounting, at = s.AuthenticationPort, s.AccountingPort, s.Place
	if !s.PortsSaid && d.Kind.Traits.LegacyPorts && s.Protocol == RADIUS && !s.TLS {
		authentication, accounting = 1645, 1646
	}
	if h, ok := d.Holds.Ports[s]; ok {
		at = h.Place
		if h.Authentication != 0 {
			authentication = h.Authentication
		}
		if h.Accounting != 0 {
			accounting = h.Accounting
		}
	}
	return authentication, accounting, at
}

// Account gives the device's local account of that name, or nil.
func (d *Device) Account(name string) *Account {
	for _, a := range d.Accounts {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// Way gives the first way in of that name: "ssh" or, with lines, "ssh 0-15".
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

// WayOfLine gives the way in of an access that has the given line, or nil.
func (d *Device) WayOfLine(access string, line int) *Way {
	for _, w := range d.Ways {
		if w.Access == access && (!w.HasLines || w.Lines.Has(line)) {
			return w
		}
	}
	return nil
}

// Password is a one-way hash in PHC or crypt form, or the name of a key.
type Password struct {
	Hash  string
	Key   *Key
	ref   Ref
	Place Place
}

// Account is a local account on devices: a way back in.
type Account struct {
	Ref
	Level    int
	Password Password
}

// Person is someone whom the servers know.
type Person struct {
	Ref
	Teams    []string
	Password Password
	OneTime  *Key // the seed of one-time codes (RFC 6238), the second factor; nil: none
	oneTime  Ref
	Disabled bool
	Until    time.Time // the last day, as the end of that day in UTC; zero: no end
}

// Rule is one command rule: the words as typed, * for one word, ** for the
// rest of the line.
type Rule struct {
	Allow bool
	Words []string
	Text  string
	Place Place
}

// Role is what someone may do once in.
type Role struct {
	Ref
	Level    int
	Commands []Rule
	// Send are attributes returned beyond those that the level implies.
	SendRADIUS []SentAttribute
	SendTACACS []SentAttribute
	Template   Ref // the device's own account whose rights the person takes on, "" for none
}

// SentAttribute is one attribute that a role returns.
type SentAttribute struct {
	Ref
	Value    string
	Optional bool // TACACS+: the device may ignore it (RFC 8907, section 6.1)
}

// Who is one entry of a grant's who: a team, or one person by name.
type Who struct {
	Team, Person string
	Place        Place
}

// Grant gives a role to someone somewhere. Grants are tried in order.
type Grant struct {
	Place   Place
	Who     []Who
	Where   map[string][]string // label to its allowed values
	Through []string            // ways in; empty: every way
	From    []netip.Prefix      // where the person comes from; empty: anywhere
	Hours   []Hours             // when; empty: at any time
	RoleRef Ref
	Role    *Role
}

// Vendor is a make's own RADIUS attributes, by its IANA private enterprise
// number.
type Vendor struct {
	Ref
	Number     int
	Attributes []VendorAttribute
}

// VendorAttribute is one of them. Type is text, integer, octets, address or
// address6.
type VendorAttribute struct {
	Ref
	Number int
	Type   string
}

// Lab is how a laboratory of the site is laid out.
type Lab struct {
	Network netip.Prefix // loopback addresses to use, default 127.77.0.0/16
	Only    bool         // the site is for a lab and nothing else
	Place   Place
}

// ElevationSecret is a secret on devices with which a person reaches a higher
// level.
type ElevationSecret struct {
	Ref
	Level    int
	Password Password
}

// Client is an asker that is no device of the site.
type Client struct {
	From       []netip.Prefix
	ServerRefs []Ref
	Servers    []*Server
	KeyRef     Ref
	Key        *Key
	Place      Place
}

// Covers tells whether a client entry lets an address ask a server.
func (c *Client) Covers(a netip.Addr, s *Server) bool {
	for _, p := range c.From {
		if p.Contains(a) {
			for _, of := range c.Servers {
				if of == s {
					return true
				}
			}
		}
	}
	return false
}

// Acceptance silences a finding, for a reason.
type Acceptance struct {
	Code   string
	Device Ref // "" for every device
	Why    string
	Until  time.Time // the end of the last day, in UTC; zero: no end
	Place  Place
}

// LabelValue says something of everything that bears a label with a value.
type LabelValue struct {
	Label, Value string
	Trusted      bool // what is inside is one trusted network with the rest
	Place        Place
}

// Service is how `serve` runs.
type Service struct {
	Ledger string // "sqlite FILE", default "sqlite ledger.db"
	Place  Place
}
