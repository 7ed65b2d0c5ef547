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
	"slices"
	"strconv"
	"time"
)

// Site is a whole site, checked: every name in it leads to a value.
// It is never changed after Parse.
type Site struct {
	Name, About string
	Renamed     []Renamed // words of a version before, which were read for those of now
	Keys        []*Key
	Servers     []*Server
	Groups      []*Group
	Lists       []*List
	Platforms   []*Platform
	Profiles    []*Profile
	Devices     []*Device
	Accounts    []*Account
	People      []*Person
	Teams       []*Team
	Roles       []*Role
	Grants      []*Grant
	Vendors     []*Vendor
	Lab         Lab
	Service     Service
	Rates       Rates
	Elevations  []*ElevationSecret
	Clients     []*Client
	Accepted    []*Acceptance
	LabelValues []*LabelValue
	Directories []*Server // LDAP servers that are asked for names that people does not have
	Inventories []Ref     // the files of devices-from; Parse's caller reads them
	Exports     []Export  // the programs that write such files; Parse's caller runs them
	directories []Ref
	Files       []string // the names of the files read; Place.File counts in it

	people  map[string]*Person
	normal  map[string]*Person // by the normal form of their names
	devices map[string]*Device
	servers map[string]*Server
	lines   map[int32][]int // of files that were made of other text: the lines of that
}

// Where returns a place as file:line:column, or "" for nowhere.
func (s *Site) Where(p Place) string {
	if !p.Known() || int(p.File) >= len(s.Files) {
		return ""
	}
	if lines, made := s.lines[p.File]; made {
		if position := int(p.Line) - 1; position < len(lines) && lines[position] > 0 {
			return s.Files[p.File] + ":" + strconv.Itoa(lines[position])
		}
		return s.Files[p.File]
	}
	return s.Files[p.File] + ":" + strconv.Itoa(int(p.Line)) + ":" + strconv.Itoa(int(p.Column))
}

// Person returns the person of that name, or nil.
func (s *Site) Person(name string) *Person { return s.people[name] }

// Device returns the device of that name, or nil.
func (s *Site) Device(name string) *Device { return s.devices[name] }

// Server returns the server of that name, or nil.
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

// Same reports whether a and b have the same value. Where a value is not known
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

// Title returns the name of the protocol as people write it, such as TACACS+.
func (p Protocol) Title() string {
	return map[Protocol]string{RADIUS: "RADIUS", TACACS: "TACACS+", LDAP: "LDAP"}[p]
}

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
	Transport    Transport // "" for the usual one of the protocol; see Over
	Certificates Certificates
	transport    Ref
	Timeout      time.Duration // for one try; above 0
	Attempts     int           // transmissions, the first included; at least 1
	DeadTime     time.Duration // after no answer; 0: never rests
	Run          bool          // `serve` and `lab` run it
	// RequireMessageAuthenticator drops RADIUS requests and answers without
	// a Message-Authenticator (RFC 3579, section 3.2).
	RequireMessageAuthenticator bool
	For                         Uses
	Forms                       []string // the password forms that the server takes; none: every form
	Labels                      map[string]string
	Behind                      []Ref     // devices through which its only path leads
	Directory                   Directory // for LDAP
	groups                      []*Group  // that have it
	leaves                      Leaves    // how it is asked, as its groups say
}

// Uses are the kinds of question that a server is for.
type Uses struct{ Authentication, Authorization, Accounting bool }

// Serves reports whether a server is for questions of a purpose. One that says
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
	Revoked          string // PEM or DER: certificates that are taken no more (RFC 5280, section 5); "" for no list
	Place            Place
}

// Group is servers that are asked in order. All speak one protocol.
type Group struct {
	Ref
	ServerRefs []Ref
	Servers    []*Server
	leaves     Leaves
}

// Protocol is the one protocol of the group's servers.
func (g *Group) Protocol() Protocol {
	if len(g.Servers) == 0 {
		return "" // a group that a device lost all servers of
	}
	return g.Servers[0].Protocol
}

// MethodKind is one way to get an answer.
type MethodKind string

const (
	ByGroup  MethodKind = "group"
	ByLocal  MethodKind = "local"
	BySecret MethodKind = "secret" // a secret that many share, for an elevation or a login
	SignedIn MethodKind = "signed-in"
	ByNone   MethodKind = "none"
	// LinePassword is a platform's built-in login by a password of the line, which
	// has no names; no list can name it.
	LinePassword MethodKind = "line-password"
	// ByOnly is the refusal of a name that a list is not for: no list can name it.
	ByOnly MethodKind = "only"
	// ByRules is a decision about a command by rules that came with a login.
	ByRules MethodKind = "rules"
)

// Method is one step of a list. What only some kinds of method have is asked for, with
// whether there is one: a method of another platform stands wherever one may stand.
type Method struct {
	Kind   MethodKind
	Ref    Ref // the name of the group or the secret
	Place  Place
	group  *Group           // for ByGroup
	secret *ElevationSecret // for BySecret
}

// AskGroup returns the method that asks the servers of a group.
func AskGroup(g *Group) Method { return Method{Kind: ByGroup, Ref: g.Ref, group: g} }

// Group returns the group that the method asks, and whether it asks one.
func (m Method) Group() (*Group, bool) { return m.group, m.group != nil }

// Secret returns the shared secret that the method wants, and whether it wants one.
func (m Method) Secret() (*ElevationSecret, bool) { return m.secret, m.secret != nil }

// Servers returns the servers that the method asks, in order; none where it asks no group.
func (m Method) Servers() []*Server {
	if m.group == nil {
		return nil
	}
	return m.group.Servers
}

// Protocol returns the protocol of the servers that the method asks, "" where it asks none.
func (m Method) Protocol() Protocol {
	if m.group == nil {
		return ""
	}
	return m.group.Protocol()
}

// Among returns the method with another group in place of its own.
func (m Method) Among(g *Group) Method {
	m.group = g
	return m
}

func (m Method) String() string {
	if m.Ref.Name != "" {
		return string(m.Kind) + " " + m.Ref.Name
	}
	return string(m.Kind)
}

// Range is a closed range of small numbers: levels 0-15 or lines 0-9.
type Range struct{ Low, High int }

// Has reports whether n lies in the range.
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
	// Only names those for whom a login list works; the device refuses others itself.
	// Empty: it works for everybody.
	Only []Ref
}

// For reports whether the list works for a name.
func (l *List) For(name string) bool {
	return len(l.Only) == 0 || slices.ContainsFunc(l.Only, func(r Ref) bool { return r.Name == name })
}

// Servers returns every server that the list may ask, in order, each once.
func (l *List) Servers() []*Server {
	if l == nil {
		return nil
	}
	var servers []*Server
	seen := map[*Server]bool{}
	for _, m := range l.Methods {
		for _, s := range m.Servers() {
			if !seen[s] {
				seen[s] = true
				servers = append(servers, s)
			}
		}
	}
	return servers
}

// Vendor is a make's own RADIUS attributes, by its IANA private enterprise
// number.
type Vendor struct {
	Ref
	Number     int
	Attributes []VendorAttribute
	Commands   *CommandRights // how it carries the commands of a role; nil: it does not
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
	People  []*Person    // whom the lab's directories know, beside the site's people
	Place   Place
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
