package site

import (
	"net/netip"
	"slices"
	"time"
)

// Password is a one-way hash in PHC or crypt form, or the name of a key.
type Password struct {
	Hash  string
	Key   *Key
	None  bool // nobody logs in with it: of an account that gives rights only
	ref   Ref
	Place Place
}

// Same reports whether two passwords are known to be one: the same hash, or the
// same key. Two hashes of one password look different.
func (p Password) Same(o Password) bool {
	if p.Key != nil || o.Key != nil {
		return p.Key == o.Key
	}
	return p.Hash != "" && p.Hash == o.Hash
}

// Account is a local account on devices: a way back in.
type Account struct {
	Ref
	Level    int
	Password Password
	// Login is the list that decides for this name on every way in, nil for that of
	// the way in; the account's level is then the person's, whoever proved the password.
	Login    *List
	loginRef Ref
}

// Person is someone whom the servers know.
type Person struct {
	Ref
	Teams    []string
	Password Password
	// FromDirectory says that a directory has the password, and that the rest here
	// limits what it says.
	FromDirectory bool
	OneTime       *Key // the seed of one-time codes (RFC 6238), the second factor; nil: none
	oneTime       Ref
	Disabled      bool
	Until         time.Time // the last day, as the end of that day in UTC; zero: no end
}

// Team is what a site says of a team.
type Team struct {
	Ref
	NeedsCode bool // its people need a one-time code
}

// Names reports whether a grant names a device.
func (g *Grant) Names(d *Device) bool {
	return slices.ContainsFunc(g.Devices, func(r Ref) bool { return r.Name == d.Name })
}

// On reports whether a grant is for a device: by its name and by its labels.
func (g *Grant) On(d *Device) bool {
	if len(g.Devices) > 0 && !g.Names(d) {
		return false
	}
	for label, values := range g.Where {
		if has, bears := d.Labels[label]; !bears || !slices.Contains(values, has) {
			return false
		}
	}
	return true
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
	Exact    bool // in commands upper and lower case differ
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
	Unproven bool // holds too for somebody who, as the device says, has proven nothing
	Place    Place
	Who      []Who
	Devices  []Ref               // by name; empty: every device that the labels fit
	Where    map[string][]string // label to its allowed values
	Through  []string            // ways in; empty: every way
	From     []netip.Prefix      // where the person comes from; empty: anywhere
	Hours    []Hours             // when; empty: at any time
	RoleRef  Ref
	Role     *Role
}

// ElevationSecret is a secret on devices with which a person reaches a higher
// level.
type ElevationSecret struct {
	Ref
	Level    int
	Password Password
}

// Client is a client that is no device of the site.
type Client struct {
	From       []netip.Prefix
	ServerRefs []Ref
	Servers    []*Server
	KeyRef     Ref
	Key        *Key
	Place      Place
}

// Covers reports whether a client entry lets an address ask a server.
func (c *Client) Covers(a netip.Addr, s *Server) bool {
	for _, p := range c.From {
		if p.Contains(a) {
			for _, server := range c.Servers {
				if server == s {
					return true
				}
			}
		}
	}
	return false
}

// Expired reports whether a person's last day is over at t.
func (p *Person) Expired(t time.Time) bool { return !p.Until.IsZero() && !t.Before(p.Until) }

// Populate puts other people, roles and grants in the place of those of a site that
// nobody else uses: nobody else is known to its servers, no directory and no other client.
func (s *Site) Populate(people []*Person, roles []*Role, grants []*Grant) {
	s.People = people
	s.Roles = roles
	s.Grants = grants
	s.Directories = nil
	s.Clients = nil
	s.Teams = nil
	s.Lab.People = nil
	s.people, s.normal = make(map[string]*Person, len(people)), make(map[string]*Person, len(people))
	for _, p := range people {
		s.people[p.Name] = p
		if normal, ok := NormalName(p.Name); ok {
			s.normal[normal] = p
		}
	}
}
