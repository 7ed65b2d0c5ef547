package yang

import (
	"encoding/xml"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/site"
)

// OpenSystem is the part of OpenConfig's system model that carries AAA: the
// container aaa below system.
type OpenSystem struct {
	XMLName xml.Name `xml:"http://openconfig.net/yang/system system" json:"-"`
	AAA     OpenAAA  `xml:"aaa" json:"aaa"`
}

// OpenAAA is the container aaa.
type OpenAAA struct {
	Authentication OpenAuthentication `xml:"authentication" json:"authentication"`
	Authorization  *OpenAuthorization `xml:"authorization" json:"authorization,omitempty"`
	Accounting     *OpenAccounting    `xml:"accounting" json:"accounting,omitempty"`
	Groups         OpenGroups         `xml:"server-groups" json:"server-groups"`
}

// OpenAuthentication is the order of methods and the local users.
type OpenAuthentication struct {
	Config struct {
		Methods []Identity `xml:"authentication-method" json:"authentication-method"`
	} `xml:"config" json:"config"`
	Users *OpenUsers `xml:"users" json:"users,omitempty"`
}

// OpenUsers are the local users.
type OpenUsers struct {
	User []OpenUser `xml:"user" json:"user"`
}

// OpenUser is one local user.
type OpenUser struct {
	Username string         `xml:"username" json:"username"`
	Config   OpenUserConfig `xml:"config" json:"config"`
}

// OpenUserConfig holds a hash, or a password where the site keeps one.
type OpenUserConfig struct {
	Username string    `xml:"username" json:"username"`
	Password string    `xml:"password,omitempty" json:"password,omitempty"`
	Hashed   string    `xml:"password-hashed,omitempty" json:"password-hashed,omitempty"`
	Role     *Identity `xml:"role" json:"role,omitempty"`
}

// OpenAuthorization is the order of methods for commands.
type OpenAuthorization struct {
	Config struct {
		Methods []Identity `xml:"authorization-method" json:"authorization-method"`
	} `xml:"config" json:"config"`
	Events OpenEvents `xml:"events" json:"events"`
}

// OpenAccounting is the order of methods for records.
type OpenAccounting struct {
	Config struct {
		Methods []Identity `xml:"accounting-method" json:"accounting-method"`
	} `xml:"config" json:"config"`
	Events OpenEvents `xml:"events" json:"events"`
}

// OpenEvents are what is authorized or recorded.
type OpenEvents struct {
	Event []OpenEvent `xml:"event" json:"event"`
}

// OpenEvent is one kind of event; Record is START_STOP or STOP, for records.
type OpenEvent struct {
	Type   Identity `xml:"event-type" json:"event-type"`
	Config struct {
		Type   Identity `xml:"event-type" json:"event-type"`
		Record string   `xml:"record,omitempty" json:"record,omitempty"`
	} `xml:"config" json:"config"`
}

// OpenGroups are the server groups.
type OpenGroups struct {
	Group []OpenGroup `xml:"server-group" json:"server-group"`
}

// OpenGroup is one server group.
type OpenGroup struct {
	Name   string `xml:"name" json:"name"`
	Config struct {
		Name string   `xml:"name" json:"name"`
		Type Identity `xml:"type" json:"type"`
	} `xml:"config" json:"config"`
	Servers struct {
		Server []OpenServer `xml:"server" json:"server"`
	} `xml:"servers" json:"servers"`
}

// OpenServer is one server of a group.
type OpenServer struct {
	Address string `xml:"address" json:"address"`
	Config  struct {
		Name    string `xml:"name" json:"name"`
		Address string `xml:"address" json:"address"`
		Timeout int    `xml:"timeout" json:"timeout"`
	} `xml:"config" json:"config"`
	TACACS *OpenTACACS `xml:"tacacs" json:"tacacs,omitempty"`
	RADIUS *OpenRADIUS `xml:"radius" json:"radius,omitempty"`
}

// OpenTACACS is how a TACACS+ server is asked.
type OpenTACACS struct {
	Config struct {
		Port   int    `xml:"port" json:"port"`
		Secret string `xml:"secret-key" json:"secret-key"`
		Source string `xml:"source-address,omitempty" json:"source-address,omitempty"`
	} `xml:"config" json:"config"`
}

// OpenRADIUS is how a RADIUS server is asked.
type OpenRADIUS struct {
	Config struct {
		AuthPort int    `xml:"auth-port" json:"auth-port"`
		AcctPort int    `xml:"acct-port" json:"acct-port"`
		Secret   string `xml:"secret-key" json:"secret-key"`
		Source   string `xml:"source-address,omitempty" json:"source-address,omitempty"`
		Attempts int    `xml:"retransmit-attempts" json:"retransmit-attempts"`
	} `xml:"config" json:"config"`
}

func kind(name string) Identity { return Identity{Module: "openconfig-aaa-types", Name: name} }

// OpenSystemOf returns the part of a blueprint that OpenConfig's system model
// carries, and names the parts that it does not.
func OpenSystemOf(b blueprint.Blueprint, secrets Secrets) (OpenSystem, []string) {
	var s OpenSystem
	var left notes
	left.common(b)
	if l, others := b.Main("login"); l != nil {
		s.AAA.Authentication.Config.Methods = left.methods(l)
		left.others("login", others)
	}
	if l, others := b.Main("commands"); l != nil {
		s.AAA.Authorization = &OpenAuthorization{}
		s.AAA.Authorization.Config.Methods = left.methods(l)
		s.AAA.Authorization.Events.Event = []OpenEvent{event("AAA_AUTHORIZATION_EVENT_COMMAND", "")}
		left.others("command", others)
		if l.Levels != "0-15" {
			left.say("%s: the model has no command levels (%s)", l.Name, l.Levels)
		}
	}
	s.records(b, &left)
	for _, purpose := range []string{site.Session.String(), site.Elevation.String(), site.RecordSystem.String()} {
		if l, _ := b.Main(purpose); l != nil {
			left.say("%s: the model has no %s list (%s)", l.Name, purpose, strings.Join(l.Methods, ", "))
		}
	}
	for _, v := range b.Servers {
		if v.Network != "" {
			left.say("%s: the model has no routing instance for servers (%s)", v.Name, v.Network)
		}
	}
	for _, g := range b.Groups {
		s.group(b, g, secrets, &left)
	}
	for _, a := range b.Accounts {
		s.user(a, secrets, &left)
	}
	return s, left
}

func (n *notes) others(what string, others []string) {
	if len(others) > 0 {
		n.say("one %s list holds for the whole device; others: %s", what, strings.Join(others, ", "))
	}
}

// methods returns the methods of a list: LOCAL, or the name of a group.
func (n *notes) methods(l *blueprint.List) []Identity {
	var identities []Identity
	for _, m := range l.Methods {
		word, name, _ := strings.Cut(m, " ")
		switch word {
		case "local":
			identities = append(identities, kind("LOCAL"))
		case "group":
			identities = append(identities, Identity{Name: name})
		default:
			n.say("%s: the model has no method %q", l.Name, m)
		}
	}
	return identities
}

func event(name, record string) OpenEvent {
	e := OpenEvent{Type: kind(name)}
	e.Config.Type, e.Config.Record = e.Type, record
	return e
}

func (s *OpenSystem) records(b blueprint.Blueprint, left *notes) {
	for _, r := range []struct{ purpose, event string }{{site.RecordSessions.String(), "AAA_ACCOUNTING_EVENT_LOGIN"},
		{site.RecordCommands.String(), "AAA_ACCOUNTING_EVENT_COMMAND"}} {
		l, others := b.Main(r.purpose)
		if l == nil {
			continue
		}
		left.others(r.purpose, others)
		methods := left.methods(l)
		if s.AAA.Accounting == nil {
			s.AAA.Accounting = &OpenAccounting{}
			s.AAA.Accounting.Config.Methods = methods
		} else if !sameMethods(methods, s.AAA.Accounting.Config.Methods) {
			left.say("%s: the model has one order of methods for all records", l.Name)
		}
		record := map[string]string{"start and stop": "START_STOP", "stop": "STOP"}[l.When]
		if record == "" {
			left.say("%s: the model has no records of starts alone; written as START_STOP", l.Name)
			record = "START_STOP"
		}
		if l.Levels != "" && l.Levels != "0-15" {
			left.say("%s: the model has no command levels (%s)", l.Name, l.Levels)
		}
		s.AAA.Accounting.Events.Event = append(s.AAA.Accounting.Events.Event, event(r.event, record))
	}
}

func sameMethods(a, b []Identity) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

func (s *OpenSystem) group(b blueprint.Blueprint, g blueprint.Group, secrets Secrets, left *notes) {
	var group OpenGroup
	group.Name, group.Config.Name = g.Name, g.Name
	group.Config.Type = Identity{Module: "openconfig-aaa", Name: strings.ToUpper(g.Protocol)}
	for _, v := range b.Servers {
		in := false
		for _, name := range g.Servers {
			in = in || name == v.Name
		}
		if !in || v.TLS || v.Protocol == "ldap" {
			continue
		}
		var o OpenServer
		o.Address = v.Address
		o.Config.Name = v.Name
		o.Config.Address = v.Address
		o.Config.Timeout = seconds(v.Timeout)
		if v.Protocol == "tacacs" {
			o.TACACS = &OpenTACACS{}
			o.TACACS.Config.Port = v.Port
			o.TACACS.Config.Secret = secrets(v.Key)
			o.TACACS.Config.Source = v.Source
		} else {
			o.RADIUS = &OpenRADIUS{}
			c := &o.RADIUS.Config
			c.AuthPort = v.AuthenticationPort
			c.AcctPort = v.AccountingPort
			c.Secret = secrets(v.Key)
			c.Source = v.Source
			c.Attempts = v.Attempts
		}
		if !v.Authentication || !v.Authorization || !v.Accounting {
			left.say("%s: the model does not say what a server is for (%s)", v.Name, bits(v))
		}
		group.Servers.Server = append(group.Servers.Server, o)
	}
	if len(group.Servers.Server) > 0 {
		s.AAA.Groups.Group = append(s.AAA.Groups.Group, group)
	}
}

func (s *OpenSystem) user(a blueprint.Account, secrets Secrets, left *notes) {
	u := OpenUser{Username: a.Name, Config: OpenUserConfig{Username: a.Name, Hashed: a.Hash}}
	if a.Key != "" {
		u.Config.Password = secrets(a.Key)
	}
	if a.Level == 15 {
		role := kind("SYSTEM_ROLE_ADMIN")
		u.Config.Role = &role
	} else {
		left.say("%s: the model has no level %d of a local account", a.Name, a.Level)
	}
	if s.AAA.Authentication.Users == nil {
		s.AAA.Authentication.Users = &OpenUsers{}
	}
	s.AAA.Authentication.Users.User = append(s.AAA.Authentication.Users.User, u)
}
