// Package yang writes and reads the AAA configuration of a device as data of
// open models: ietf-system (RFC 7317) with ietf-system-tacacs-plus (RFC 9105),
// and OpenConfig's system model; as JSON (RFC 7951) or as XML.
package yang

import (
	"encoding/xml"
	"fmt"
	"regexp"
	"strings"
	"time"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/site"
)

// Namespaces of the models.
const (
	SystemNS = "urn:ietf:params:xml:ns:yang:ietf-system"
	TACACSNS = "urn:ietf:params:xml:ns:yang:ietf-system-tacacs-plus"
	OpenNS   = "http://openconfig.net/yang/system"
)

// Module is a model that is written here, by the revision of its standard.
type Module struct {
	Name, Namespace, Revision string
	// Drafts tells that older revisions are drafts of another form.
	Drafts bool
	// YANG11 is a module of YANG 1.1, which no hello may announce (RFC 7950,
	// section 5.6.4).
	YANG11 bool
}

// Modules are all of them.
var Modules = []Module{
	{Name: "ietf-system", Namespace: SystemNS, Revision: "2014-08-06", Drafts: true},
	{Name: "ietf-system-tacacs-plus", Namespace: TACACSNS, Revision: "2021-08-05", Drafts: true, YANG11: true},
	{Name: "openconfig-system", Namespace: OpenNS, Revision: "2023-12-20"},
}

// Secrets gives the value of a key by its name.
type Secrets func(key string) string

// Placeholders stand for values: "the-value-of-the-key-NAME", which has the
// length that RFC 9105 wants.
func Placeholders(key string) string { return placeholder + key }

const placeholder = "the-value-of-the-key-"

// System is what ietf-system and its augmentation carry.
type System struct {
	XMLName        xml.Name       `xml:"urn:ietf:params:xml:ns:yang:ietf-system system" json:"-"`
	RADIUS         *RADIUS        `xml:"radius" json:"radius,omitempty"`
	Authentication Authentication `xml:"authentication" json:"authentication"`
	TACACS         *TACACS        `xml:"urn:ietf:params:xml:ns:yang:ietf-system-tacacs-plus tacacs-plus" json:"ietf-system-tacacs-plus:tacacs-plus,omitempty"`
}

// RADIUS is the container radius, RFC 7317 section 3.4.
type RADIUS struct {
	Servers []RADIUSServer `xml:"server" json:"server"`
	Options RADIUSOptions  `xml:"options" json:"options"`
}

// RADIUSServer is one server. Its type is radius-pap or radius-chap.
type RADIUSServer struct {
	Name string    `xml:"name" json:"name"`
	UDP  RADIUSUDP `xml:"udp" json:"udp"`
	Type Identity  `xml:"authentication-type" json:"authentication-type"`
}

// RADIUSUDP is where it is asked.
type RADIUSUDP struct {
	Address string `xml:"address" json:"address"`
	Port    int    `xml:"authentication-port" json:"authentication-port"`
	Secret  string `xml:"shared-secret" json:"shared-secret"`
}

// RADIUSOptions hold for every RADIUS server: 1 to 255 seconds and attempts.
type RADIUSOptions struct {
	Timeout  int `xml:"timeout" json:"timeout"`
	Attempts int `xml:"attempts" json:"attempts"`
}

// Authentication is the container authentication, RFC 7317 section 3.5.
type Authentication struct {
	Order []Identity `xml:"user-authentication-order" json:"user-authentication-order"`
	Users []User     `xml:"user" json:"user,omitempty"`
}

// User is a local account; its password is of the type crypt-hash.
type User struct {
	Name     string `xml:"name" json:"name"`
	Password string `xml:"password,omitempty" json:"password,omitempty"`
}

// TACACS is the container tacacs-plus, RFC 9105.
type TACACS struct {
	Servers []TACACSServer `xml:"server" json:"server"`
}

// TACACSServer is one server; Type is bits, such as "authentication accounting".
type TACACSServer struct {
	Name    string `xml:"name" json:"name"`
	Type    string `xml:"server-type" json:"server-type"`
	Address string `xml:"address" json:"address"`
	Port    int    `xml:"port" json:"port"`
	Secret  string `xml:"shared-secret" json:"shared-secret"`
	Source  string `xml:"source-ip,omitempty" json:"source-ip,omitempty"`
	Network string `xml:"vrf-instance,omitempty" json:"vrf-instance,omitempty"`
	Timeout int    `xml:"timeout" json:"timeout"`
}

// Identity is a value of the type identityref: a module and a name in it.
type Identity struct{ Module, Name string }

// identitySpaces are the namespaces of modules with identities.
var identitySpaces = map[string]string{"ietf-system": SystemNS, "ietf-system-tacacs-plus": TACACSNS,
	"openconfig-aaa": "http://openconfig.net/yang/aaa", "openconfig-aaa-types": "http://openconfig.net/yang/aaa/types"}

// MarshalText returns module:name, RFC 7951 section 6.8; without a module, plain
// text.
func (i Identity) MarshalText() ([]byte, error) {
	if i.Module == "" {
		return []byte(i.Name), nil
	}
	return []byte(i.Module + ":" + i.Name), nil
}

// UnmarshalText reads module:name.
func (i *Identity) UnmarshalText(text []byte) error {
	module, name, ok := strings.Cut(string(text), ":")
	if !ok {
		module, name = "", module
	}
	*i = Identity{Module: module, Name: name}
	return nil
}

// MarshalXML returns a qualified name with its prefix declared, RFC 7950 section
// 9.10.3.
func (i Identity) MarshalXML(e *xml.Encoder, start xml.StartElement) error {
	text := i.Name
	if i.Module != "" {
		start.Attr = append(start.Attr, xml.Attr{Name: xml.Name{Local: "xmlns:x"}, Value: identitySpaces[i.Module]})
		text = "x:" + i.Name
	}
	return e.EncodeElement(text, start)
}

// UnmarshalXML reads a qualified name.
func (i *Identity) UnmarshalXML(d *xml.Decoder, start xml.StartElement) error {
	var text string
	if err := d.DecodeElement(&text, &start); err != nil {
		return err
	}
	prefix, name, qualified := strings.Cut(strings.TrimSpace(text), ":")
	if !qualified {
		*i = Identity{Name: prefix}
		return nil
	}
	for _, a := range start.Attr {
		if a.Name.Space == "xmlns" && a.Name.Local == prefix {
			for module, space := range identitySpaces {
				if space == a.Value {
					*i = Identity{Module: module, Name: name}
				}
			}
		}
	}
	if i.Name == "" {
		return fmt.Errorf("the prefix of %q is not declared in its element", text)
	}
	return nil
}

// The identities of the order of authentication.
var (
	byRADIUS = Identity{Module: "ietf-system", Name: "radius"}
	byTACACS = Identity{Module: "ietf-system-tacacs-plus", Name: "tacacs-plus"}
	byLocal  = Identity{Module: "ietf-system", Name: "local-users"}
)

// cryptHash is the type crypt-hash of RFC 7317 section 5.
var cryptHash = regexp.MustCompile(`^(\$1\$[a-zA-Z0-9./]{1,8}\$[a-zA-Z0-9./]{22}` +
	`|\$5\$(rounds=\d+\$)?[a-zA-Z0-9./]{1,16}\$[a-zA-Z0-9./]{43}` +
	`|\$6\$(rounds=\d+\$)?[a-zA-Z0-9./]{1,16}\$[a-zA-Z0-9./]{86})$`)

// notes are the parts of a design that a model cannot carry.
type notes []string

func (n *notes) say(format string, args ...any) { *n = append(*n, fmt.Sprintf(format, args...)) }

// SystemOf returns the part of a blueprint that ietf-system and its augmentation
// carry, and names the parts that they do not.
func SystemOf(b blueprint.Blueprint, secrets Secrets) (System, []string) {
	var s System
	var left notes
	left.common(b)
	list, others := b.Main("login")
	if list != nil {
		s.order(b, list, &left)
	}
	if len(others) > 0 {
		left.say("one order of authentication holds for the whole device; other login lists: %s",
			strings.Join(others, ", "))
	}
	for _, purpose := range []string{site.Session.String(), site.Commands.String(), site.Elevation.String(),
		site.RecordSessions.String(), site.RecordCommands.String(), site.RecordSystem.String()} {
		if l, _ := b.Main(purpose); l != nil {
			left.say("%s: the model has no %s list (%s)", l.Name, purpose, strings.Join(l.Methods, ", "))
		}
	}
	for _, v := range b.Servers {
		s.server(b, v, secrets, &left)
	}
	for _, a := range b.Accounts {
		s.user(a, secrets, &left)
	}
	return s, left
}

// common names what neither model carries.
func (n *notes) common(b blueprint.Blueprint) {
	for _, v := range b.Servers {
		if v.Interface != "" {
			n.say("%s: the model has no interface that requests come from (%s); its address is written", v.Name,
				v.Interface)
		}
	}
	for _, a := range b.Accounts {
		if a.Login != "" {
			n.say("the account %s: the model has no login list for one account (%s)", a.Name, a.Login)
		}
	}
	for _, l := range b.Lists {
		if len(l.Only) > 0 {
			n.say("%s: the model has no list that is for some names only (%s)", l.Name, strings.Join(l.Only, ", "))
		}
	}
	for _, v := range b.Servers {
		if v.DeadTime > 0 {
			n.say("%s: the model has no dead-time (%s)", v.Name, v.DeadTime)
		}
		if v.TLS {
			n.say("%s: the model has no TLS for this server; it is left out", v.Name)
		}
		if v.Protocol == "ldap" {
			n.say("%s: the model has no directories; it is left out", v.Name)
		}
		if v.Timeout%time.Second != 0 {
			n.say("%s: the model counts whole seconds; the timeout of %s is written as %d", v.Name, v.Timeout,
				seconds(v.Timeout))
		}
		if v.Protocol == "radius" && v.MessageAuthenticator && !v.TLS {
			n.say("%s: the model does not say that Message-Authenticator is required", v.Name)
		}
	}
	for _, e := range b.Secrets {
		n.say("the elevation secret %s: the model has none", e.Name)
	}
}

// seconds rounds a wait up to whole seconds.
func seconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

// order writes the order of methods, each once.
func (s *System) order(b blueprint.Blueprint, list *blueprint.List, left *notes) {
	seen := map[Identity]string{}
	for _, m := range list.Methods {
		word, name, _ := strings.Cut(m, " ")
		by := Identity{}
		switch word {
		case "local":
			by = byLocal
		case "group":
			if g := b.Group(name); g != nil {
				by = map[string]Identity{"radius": byRADIUS, "tacacs": byTACACS}[g.Protocol]
			}
		}
		switch {
		case by == Identity{}:
			left.say("%s: the model has no method %q", list.Name, m)
		case seen[by] != "":
			left.say("%s: the model asks all servers of a protocol as one; %s is one with %s", list.Name, m, seen[by])
		default:
			seen[by] = m
			s.Authentication.Order = append(s.Authentication.Order, by)
		}
	}
}

func (s *System) server(b blueprint.Blueprint, v blueprint.Server, secrets Secrets, left *notes) {
	switch {
	case v.TLS:
	case v.Protocol == "radius":
		if s.RADIUS == nil {
			s.RADIUS = &RADIUS{Options: RADIUSOptions{Timeout: seconds(v.Timeout), Attempts: v.Attempts}}
		}
		if o := s.RADIUS.Options; o.Timeout != seconds(v.Timeout) || o.Attempts != v.Attempts {
			left.say("%s: the model has one timeout and one number of attempts for all RADIUS servers, %d s and %d",
				v.Name,
				o.Timeout, o.Attempts)
		}
		if v.AccountingPort != 1813 {
			left.say("%s: the model has no accounting port (%d)", v.Name, v.AccountingPort)
		}
		if v.Source != "" {
			left.say("%s: the model has no source address for RADIUS (%s)", v.Name, v.Source)
		}
		s.RADIUS.Servers = append(s.RADIUS.Servers, RADIUSServer{Name: v.Name,
			UDP:  RADIUSUDP{Address: v.Address, Port: v.AuthenticationPort, Secret: secrets(v.Key)},
			Type: Identity{Module: "ietf-system", Name: radiusType(v, left)}})
	case v.Protocol == "tacacs":
		if s.TACACS == nil {
			s.TACACS = &TACACS{}
		}
		s.TACACS.Servers = append(s.TACACS.Servers, TACACSServer{Name: v.Name, Type: bits(v), Address: v.Address,
			Port: v.Port, Secret: secrets(v.Key), Source: v.Source, Network: v.Network, Timeout: seconds(v.Timeout)})
	}
}

// radiusType names how a password is sent, RFC 7317 section 4: radius-pap or
// radius-chap.
func radiusType(v blueprint.Server, left *notes) string {
	switch v.PasswordAs {
	case site.CHAP:
		return "radius-chap"
	case site.MSCHAPv2:
		left.say("%s: the model has no MS-CHAPv2, only PAP and CHAP; it is written as radius-pap", v.Name)
	}
	return "radius-pap"
}

// bits are the kinds of question that a server is for, RFC 9105.
func bits(v blueprint.Server) string {
	var all []string
	for _, u := range []struct {
		yes  bool
		name string
	}{{v.Authentication, "authentication"}, {v.Authorization, "authorization"}, {v.Accounting, "accounting"}} {
		if u.yes {
			all = append(all, u.name)
		}
	}
	return strings.Join(all, " ")
}

func (s *System) user(a blueprint.Account, secrets Secrets, left *notes) {
	left.say("%s: the model has no level of a local account (%d)", a.Name, a.Level)
	switch {
	case a.Hash == "" && a.Key == "": // without the leaf nobody can log in (RFC 7317, section 3.5.4)
		s.Authentication.Users = append(s.Authentication.Users, User{Name: a.Name})
	case a.Key != "":
		s.Authentication.Users = append(s.Authentication.Users, User{Name: a.Name, Password: "$0$" + secrets(a.Key)})
	case cryptHash.MatchString(a.Hash):
		s.Authentication.Users = append(s.Authentication.Users, User{Name: a.Name, Password: a.Hash})
	default:
		left.say("%s: the model takes MD5, SHA-256 and SHA-512 crypt hashes only, and the hash in the site is "+
			"another; it is left out (make one with: mellowgate keys hash -form sha512-crypt)", a.Name)
	}
}
