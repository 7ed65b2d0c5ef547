package site

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

// Parse reads the files of a site, joined in the order given, and checks that
// every name leads somewhere. The error, if any, is Problems: all that is
// wrong, ordered by place.
func Parse(sources ...Source) (*Site, error) {
	s := &Site{Lab: Lab{Network: netip.MustParsePrefix("127.77.0.0/16")}}
	var problems Problems
	readers := make([]*reader, len(sources))
	empty := true
	for i, source := range sources {
		s.Files = append(s.Files, source.Name)
		readers[i] = &reader{file: int32(i), source: source, problems: &problems}
		before := len(problems)
		if top := readers[i].document(); top != nil {
			siteShape.read(readers[i], top, s)
			empty = false
		} else if len(problems) > before {
			empty = false
		}
	}
	if empty {
		name := "the site"
		if len(sources) > 0 {
			name = sources[0].Name
		}
		return nil, Problems{{Where: name, What: "there is no site in this file; start one with: mellowgate new DIR"}}
	}
	if len(problems) == 0 {
		(&linker{site: s, readers: readers}).link()
	}
	if len(problems) > 0 {
		return nil, problems.sorted()
	}
	return s, nil
}

func textField(at func(*Site) *string, what string) field[Site] {
	return func(r *reader, n *yaml.Node, s *Site) {
		if text, ok := r.scalar(n, what); ok {
			if *at(s) != "" {
				r.wrong(n, "%q is said already in another file of this site; keep one", what)
			}
			*at(s) = text
		}
	}
}

// siteShape is the top of a site file. It is filled in a function because
// Site's fields lead to the shapes below.
var siteShape = shape[Site]{
	what: "the site file",
	fields: map[string]field[Site]{
		"site":     textField(func(s *Site) *string { return &s.Name }, "site"),
		"about":    textField(func(s *Site) *string { return &s.About }, "about"),
		"keys":     readKeys,
		"servers":  list(&serverShape, func(s *Site) *[]*Server { return &s.Servers }, freshServer),
		"groups":   list(&groupShape, func(s *Site) *[]*Group { return &s.Groups }, blank[Group]),
		"lists":    list(&listShape, func(s *Site) *[]*List { return &s.Lists }, freshList),
		"kinds":    list(&kindShape, func(s *Site) *[]*Kind { return &s.Kinds }, freshKind),
		"profiles": list(&profileShape, func(s *Site) *[]*Profile { return &s.Profiles }, freshProfile),
		"devices":  list(&deviceShape, func(s *Site) *[]*Device { return &s.Devices }, freshDevice),
		"accounts": list(&accountShape, func(s *Site) *[]*Account { return &s.Accounts }, freshAccount),
		"people":   list(&personShape, func(s *Site) *[]*Person { return &s.People }, blank[Person]),
		"roles":    list(&roleShape, func(s *Site) *[]*Role { return &s.Roles }, blank[Role]),
		"grants":   list(&grantShape, func(s *Site) *[]*Grant { return &s.Grants }, freshGrant),
		"vendors":  list(&vendorShape, func(s *Site) *[]*Vendor { return &s.Vendors }, blank[Vendor]),
		"lab":      readLab,
	},
	later: []string{"elevation-secrets", "directories", "clients", "service", "devices-from", "accept"},
}

// readKeys reads the keys: NAME: env VARIABLE | file PATH | clear VALUE.
func readKeys(r *reader, n *yaml.Node, s *Site) {
	if n.Tag == "!!null" || !r.is(n, yaml.MappingNode, "keys", "one line for each key") {
		return
	}
	r.secrets = true
	defer func() { r.secrets = false }()
	for i := 0; i+1 < len(n.Content); i += 2 {
		ref, ok := r.name(n.Content[i], "a key")
		if !ok {
			continue
		}
		text, ok := r.scalar(n.Content[i+1], "the key "+ref.Name)
		if !ok {
			continue
		}
		how, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
		rest = strings.TrimSpace(rest)
		k := &Key{Ref: ref, Source: KeySource(how), From: rest}
		switch {
		case how == "sealed":
			r.wrong(n.Content[i+1], "sealed keys are not supported yet by this version; use \"env VARIABLE\" or \"file PATH\"")
			continue
		case how == "clear" && rest != "":
			k.From, k.Clear = "", NewSecret(rest)
		case (how == "env" || how == "file") && rest != "":
		default:
			r.wrong(n.Content[i+1], "the key %s must be written as \"env VARIABLE\", \"file PATH\" or \"clear VALUE\"", ref.Name)
			continue
		}
		s.Keys = append(s.Keys, k)
	}
}

func freshServer(*reader, *yaml.Node) Server {
	return Server{Wait: 3 * time.Second, RequireMessageAuthenticator: true}
}

var serverShape = shape[Server]{
	what: "a server",
	fields: map[string]field[Server]{
		"name": nameField("a server's name", func(s *Server) *Ref { return &s.Ref }),
		"protocol": func(r *reader, n *yaml.Node, s *Server) {
			if n.Value == "ldap" {
				r.wrong(n, "protocol ldap is not supported yet by this version; radius or tacacs is")
				return
			}
			s.Protocol = Protocol(r.oneOf(n, "protocol", "radius", "tacacs"))
		},
		"address": func(r *reader, n *yaml.Node, s *Server) {
			if text, ok := r.scalar(n, "address"); ok {
				if _, err := netip.ParseAddr(text); err != nil && !isHost(text) {
					r.wrong(n, "address is %q; an IP address or a host name is wanted", shorten(text))
				}
				s.Address = text
			}
		},
		"port": func(r *reader, n *yaml.Node, s *Server) { r.port(n, "port", &s.Port) },
		"ports": func(r *reader, n *yaml.Node, s *Server) {
			portsShape.read(r, n, s)
		},
		"key": func(r *reader, n *yaml.Node, s *Server) {
			if n.Kind == yaml.MappingNode {
				r.wrong(n, "a key with now and next is not supported yet by this version; name one key")
				return
			}
			s.KeyRef, _ = r.name(n, "key")
		},
		"wait":  durationField("wait", time.Millisecond, 5*time.Minute, func(s *Server) *time.Duration { return &s.Wait }),
		"tries": intField("tries", 1, 20, func(s *Server) *int { return &s.Tries }),
		"rest":  durationField("rest", 0, 24*time.Hour, func(s *Server) *time.Duration { return &s.Rest }),
		"run":   boolField("run", func(s *Server) *bool { return &s.Run }),
		"transport": func(r *reader, n *yaml.Node, s *Server) {
			s.transport = r.ref(n)
			s.TLS = r.oneOf(n, "transport", "udp", "tcp", "tls") == "tls"
		},
		"tls": func(r *reader, n *yaml.Node, s *Server) {
			s.Certificates.Place = r.place(n)
			certificatesShape.read(r, n, &s.Certificates)
		},
		"message-authenticator": func(r *reader, n *yaml.Node, s *Server) {
			s.RequireMessageAuthenticator = r.oneOf(n, "message-authenticator", "required", "if-present") != "if-present"
		},
	},
	later: []string{"base", "bind", "find", "teams-from", "for"},
	must:  []string{"name", "protocol", "address"},
}

var certificatesShape = shape[Certificates]{
	what: "tls",
	fields: map[string]field[Certificates]{
		"certificate": pathField("certificate", func(c *Certificates) *string { return &c.Certificate }),
		"key":         pathField("key", func(c *Certificates) *string { return &c.Key }),
		"authorities": pathField("authorities", func(c *Certificates) *string { return &c.Authorities }),
	},
	must: []string{"certificate", "key", "authorities"},
}

func pathField[T any](what string, at func(*T) *string) field[T] {
	return func(r *reader, n *yaml.Node, v *T) { *at(v), _ = r.scalar(n, what) }
}

var portsShape = shape[Server]{
	what: "ports",
	fields: map[string]field[Server]{
		"authentication": func(r *reader, n *yaml.Node, s *Server) { r.port(n, "the authentication port", &s.AuthenticationPort) },
		"accounting":     func(r *reader, n *yaml.Node, s *Server) { r.port(n, "the accounting port", &s.AccountingPort) },
	},
}

// isHost accepts a DNS host name.
func isHost(s string) bool {
	if s == "" || len(s) > 253 || s[0] == '-' || s[0] == '.' {
		return false
	}
	letter := false
	for _, c := range []byte(s) {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z':
			letter = true
		case c >= '0' && c <= '9', c == '-', c == '.':
		default:
			return false
		}
	}
	return letter
}

var groupShape = shape[Group]{
	what: "a group",
	fields: map[string]field[Group]{
		"name":    nameField("a group's name", func(g *Group) *Ref { return &g.Ref }),
		"servers": refsField("servers", func(g *Group) *[]Ref { return &g.ServerRefs }),
	},
	must: []string{"name", "servers"},
}

func freshList(*reader, *yaml.Node) List { return List{Purpose: PurposeCount, Levels: Range{0, 15}} }

// purposeField reads one of the three keys that say what a list is for.
func purposeField(verb string, words map[string]Purpose, later string) field[List] {
	return func(r *reader, n *yaml.Node, l *List) {
		if n.Value == later {
			r.wrong(n, "%s: %s is not supported yet by this version", verb, later)
			l.Purpose = Login // the problem is said; do not report a missing purpose too
			return
		}
		names := make([]string, 0, 2)
		for p := Login; p < PurposeCount; p++ {
			for w, q := range words {
				if q == p {
					names = append(names, w)
				}
			}
		}
		word := r.oneOf(n, verb, names...)
		if word == "" {
			l.Purpose = Login
			return
		}
		if l.Purpose != PurposeCount {
			r.wrong(n, "a list has one purpose; keep one of authenticate, authorize and account")
		}
		l.Purpose = words[word]
	}
}

var listShape = shape[List]{
	what: "a list",
	fields: map[string]field[List]{
		"name":         nameField("a list's name", func(l *List) *Ref { return &l.Ref }),
		"authenticate": purposeField("authenticate", map[string]Purpose{"login": Login}, "elevation"),
		"authorize":    purposeField("authorize", map[string]Purpose{"session": Session, "commands": Commands}, ""),
		"account":      purposeField("account", map[string]Purpose{"sessions": RecordSessions, "commands": RecordCommands}, "system"),
		"levels": func(r *reader, n *yaml.Node, l *List) {
			if span, ok := r.span(n, "levels", 15); ok {
				l.Levels = span
			}
		},
		"when": func(r *reader, n *yaml.Node, l *List) {
			l.Start = r.oneOf(n, "when", "start-stop", "stop") == "start-stop"
		},
		"methods": func(r *reader, n *yaml.Node, l *List) {
			r.each(n, "methods", func(item *yaml.Node) { r.method(item, l) })
		},
	},
	must: []string{"name", "methods"},
}

// method reads one method of a list: "group NAME", "local", "signed-in", "none".
func (r *reader) method(n *yaml.Node, l *List) {
	text, ok := r.scalar(n, "a method")
	if !ok {
		return
	}
	word, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	m := Method{Kind: MethodKind(word), Place: r.place(n)}
	switch {
	case word == "group" && isName(rest):
		m.Ref = Ref{rest, m.Place}
	case (m.Kind == ByLocal || m.Kind == SignedIn || m.Kind == ByNone) && rest == "":
	case word == "secret":
		r.wrong(n, "the method secret (for elevation) is not supported yet by this version")
		return
	default:
		r.wrong(n, "%q is no method; group NAME, local, signed-in or none is wanted%s", shorten(text),
			nearest.Suggest(word, []string{"group", "local", "signed-in", "none"}))
		return
	}
	l.Methods = append(l.Methods, m)
}

func freshKind(*reader, *yaml.Node) Kind { return Kind{Traits: DefaultTraits()} }

var kindShape = shape[Kind]{
	what: "a kind",
	fields: map[string]field[Kind]{
		"name": nameField("a kind's name", func(k *Kind) *Ref { return &k.Ref }),
		"traits": func(r *reader, n *yaml.Node, k *Kind) {
			if n.Tag == "!!null" {
				return
			}
			traitShape().read(r, n, k)
		},
	},
	must: []string{"name"},
}

func traitShape() shape[Kind] {
	fields := make(map[string]field[Kind], len(traits))
	for name, t := range traits {
		fields[name] = func(r *reader, n *yaml.Node, k *Kind) {
			if text, ok := r.scalar(n, name); ok && !t.set(&k.Traits, text) {
				r.wrong(n, "%s is %q; %s is wanted", name, shorten(text), t.takes)
			}
		}
	}
	return shape[Kind]{what: "traits", fields: fields, later: traitsLater}
}

// readLab reads where a lab puts the site's addresses.
func readLab(r *reader, n *yaml.Node, s *Site) {
	s.Lab.Place = r.place(n)
	labShape.read(r, n, &s.Lab)
}

var labShape = shape[Lab]{
	what: "lab",
	fields: map[string]field[Lab]{
		"network": func(r *reader, n *yaml.Node, l *Lab) {
			text, ok := r.scalar(n, "network")
			if !ok {
				return
			}
			p, err := ParseLabNetwork(text)
			if err != nil {
				r.wrong(n, "%s", err)
				return
			}
			l.Network = p
		},
		"only": boolField("only", func(l *Lab) *bool { return &l.Only }),
	},
}

// ParseLabNetwork reads a network of loopback addresses for a lab: an IPv4
// prefix within 127.0.0.0/8 of /8 to /24, not holding 127.0.0.1.
func ParseLabNetwork(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	loop := netip.MustParsePrefix("127.0.0.0/8")
	if err != nil || !p.Addr().Is4() || !loop.Contains(p.Addr()) || p.Bits() < 8 || p.Bits() > 24 ||
		p.Masked().Contains(netip.MustParseAddr("127.0.0.1")) {
		return p, fmt.Errorf("the lab's network is %q; a loopback network such as 127.77.0.0/16 is wanted, from /9 to /24 and without 127.0.0.1", shorten(text))
	}
	return p.Masked(), nil
}
