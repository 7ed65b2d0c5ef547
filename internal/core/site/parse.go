package site

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

// Parse reads the files of a site, joined in the order given, and checks that
// every name leads somewhere. The error, if any, is Problems: all that is
// wrong, ordered by place. A site that takes devices from other files needs
// ParseWith.
func Parse(sources ...Source) (*Site, error) { return ParseWith(nil, sources...) }

// ParseWith is Parse with a function that reads a file that devices-from names.
func ParseWith(read func(path string) (Source, error), sources ...Source) (*Site, error) {
	s := &Site{Lab: Lab{Network: netip.MustParsePrefix("127.77.0.0/16")}, Service: Service{Ledger: "ledger.db"}}
	var problems Problems
	readers := make([]*reader, 0, len(sources))
	add := func(source Source) *reader {
		s.Files = append(s.Files, source.Name)
		readers = append(readers, &reader{file: int32(len(readers)), source: source, problems: &problems})
		return readers[len(readers)-1]
	}
	empty := true
	for _, source := range sources {
		r, before := add(source), len(problems)
		if top := r.document(); top != nil {
			siteShape().read(r, top, s)
			empty = false
		} else if len(problems) > before {
			empty = false
		}
	}
	for _, ref := range s.Inventories {
		where := readers[ref.Place.File]
		if read == nil {
			where.wrongAt(ref.Place, "the file of devices cannot be read here")
			continue
		}
		source, err := read(ref.Name)
		if err != nil {
			where.wrongAt(ref.Place, err.Error())
			continue
		}
		add(source).inventory(s)
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

func topText(what string, at func(*Site) *string) field[Site] {
	return field[Site]{form: textForm(), read: func(r *reader, n *yaml.Node, s *Site) {
		if text, ok := r.scalar(n, what); ok {
			if *at(s) != "" {
				r.wrong(n, "%q is said already in another file of this site; keep one", what)
			}
			*at(s) = text
		}
	}}
}

// siteShape is the top of a site file.
var siteShape = sync.OnceValue(func() *shape[Site] {
	return &shape[Site]{
		what: "the site file",
		fields: map[string]field[Site]{
			"site":              topText("site", func(s *Site) *string { return &s.Name }),
			"about":             topText("about", func(s *Site) *string { return &s.About }),
			"keys":              {readKeys, mapForm(patternForm("^(sealed|env .+|file .+|clear .+)$"))},
			"servers":           list(&serverShape, func(s *Site) *[]*Server { return &s.Servers }, freshServer),
			"groups":            list(&groupShape, func(s *Site) *[]*Group { return &s.Groups }, blank[Group]),
			"lists":             list(&listShape, func(s *Site) *[]*List { return &s.Lists }, freshList),
			"kinds":             list(&kindShape, func(s *Site) *[]*Kind { return &s.Kinds }, freshKind),
			"profiles":          list(&profileShape, func(s *Site) *[]*Profile { return &s.Profiles }, freshProfile),
			"devices":           list(&deviceShape, func(s *Site) *[]*Device { return &s.Devices }, freshDevice),
			"devices-from":      {readInventories, oneOrMore(textForm())},
			"accounts":          list(&accountShape, func(s *Site) *[]*Account { return &s.Accounts }, freshAccount),
			"elevation-secrets": list(&elevationShape, func(s *Site) *[]*ElevationSecret { return &s.Elevations }, freshElevation),
			"people":            list(&personShape, func(s *Site) *[]*Person { return &s.People }, blank[Person]),
			"directories":       refsField("directories", func(s *Site) *[]Ref { return &s.directories }),
			"roles":             list(&roleShape, func(s *Site) *[]*Role { return &s.Roles }, blank[Role]),
			"grants":            list(&grantShape, func(s *Site) *[]*Grant { return &s.Grants }, freshGrant),
			"clients":           list(&clientShape, func(s *Site) *[]*Client { return &s.Clients }, freshClient),
			"vendors":           list(&vendorShape, func(s *Site) *[]*Vendor { return &s.Vendors }, blank[Vendor]),
			"accept":            list(&acceptanceShape, func(s *Site) *[]*Acceptance { return &s.Accepted }, freshAcceptance),
			"labels":            list(&labelShape, func(s *Site) *[]*LabelValue { return &s.LabelValues }, freshLabel),
			"service":           {readService, serviceShape.form()},
			"lab":               {readLab, labShape.form()},
		},
	}
})

// readKeys reads the keys: NAME: sealed | env VARIABLE | file PATH | clear VALUE.
func readKeys(r *reader, n *yaml.Node, s *Site) {
	if n.Tag == "!!null" {
		return
	}
	r.secrets = true
	defer func() { r.secrets = false }()
	r.pairs(n, "keys", "one line for each key", func(name, value *yaml.Node) {
		ref, ok := r.name(name, "a key")
		if !ok {
			return
		}
		text, ok := r.scalar(value, "the key "+ref.Name)
		if !ok {
			return
		}
		how, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
		rest = strings.TrimSpace(rest)
		k := &Key{Ref: ref, Source: KeySource(how), From: rest}
		switch {
		case how == "sealed" && rest == "":
		case how == "clear" && rest != "":
			k.From, k.Clear = "", NewSecret(rest)
		case (how == "env" || how == "file") && rest != "":
		default:
			r.wrong(value, "the key %s must be written as \"sealed\", \"env VARIABLE\", \"file PATH\" or \"clear VALUE\"", ref.Name)
			return
		}
		s.Keys = append(s.Keys, k)
	})
}

func readInventories(r *reader, n *yaml.Node, s *Site) {
	r.each(n, "devices-from", func(item *yaml.Node) {
		if text, ok := r.scalar(item, "devices-from"); ok {
			s.Inventories = append(s.Inventories, Ref{text, r.place(item)})
		}
	})
}

func freshServer(*reader, *yaml.Node) Server {
	return Server{Wait: 3 * time.Second, RequireMessageAuthenticator: true, For: Uses{true, true, true}, Directory: Directory{Find: "(uid=%u)"}}
}

var serverShape = shape[Server]{
	what: "a server",
	fields: map[string]field[Server]{
		"name":     nameField("a server's name", func(s *Server) *Ref { return &s.Ref }),
		"protocol": wordField("protocol", []string{"radius", "tacacs", "ldap"}, func(s *Server, w string) { s.Protocol = Protocol(w) }),
		"address": {func(r *reader, n *yaml.Node, s *Server) {
			if text, ok := r.scalar(n, "address"); ok {
				if _, err := netip.ParseAddr(text); err != nil && !isHost(text) {
					r.wrong(n, "address is %q; an IP address or a host name is wanted", shorten(text))
				}
				s.Address = text
			}
		}, form{"type": "string"}},
		"port": {func(r *reader, n *yaml.Node, s *Server) { r.port(n, "port", &s.Port) }, intForm(1, 65535)},
		"ports": {func(r *reader, n *yaml.Node, s *Server) {
			s.PortsSaid = true
			portsShape.read(r, n, s)
		}, portsShape.form()},
		"key": {func(r *reader, n *yaml.Node, s *Server) {
			if n.Kind == yaml.MappingNode {
				changeShape.read(r, n, s)
				return
			}
			s.KeyRef, _ = r.name(n, "key")
		}, form{"anyOf": []any{nameForm(), changeShape.form()}}},
		"wait":  durationField("wait", time.Millisecond, 5*time.Minute, func(s *Server) *time.Duration { return &s.Wait }),
		"tries": intField("tries", 1, 20, func(s *Server) *int { return &s.Tries }),
		"rest":  durationField("rest", 0, 24*time.Hour, func(s *Server) *time.Duration { return &s.Rest }),
		"run":   boolField("run", func(s *Server) *bool { return &s.Run }),
		"transport": {func(r *reader, n *yaml.Node, s *Server) {
			s.transport = r.ref(n)
			s.TLS = r.oneOf(n, "transport", "udp", "tcp", "tls") == "tls"
		}, wordsForm("udp", "tcp", "tls")},
		"tls": {func(r *reader, n *yaml.Node, s *Server) {
			if n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
				s.Directory.Security = r.oneOf(n, "tls", "start", "ldaps", "none")
				return
			}
			s.Certificates.Place = r.place(n)
			certificatesShape.read(r, n, &s.Certificates)
		}, form{"anyOf": []any{wordsForm("start", "ldaps", "none"), certificatesShape.form()}}},
		"message-authenticator": wordField("message-authenticator", []string{"required", "if-present"}, func(s *Server, w string) {
			s.RequireMessageAuthenticator = w == "required"
		}),
		"for": {func(r *reader, n *yaml.Node, s *Server) {
			s.For = Uses{}
			r.each(n, "for", func(item *yaml.Node) {
				switch r.oneOf(item, "for", "authentication", "authorization", "accounting") {
				case "authentication":
					s.For.Authentication = true
				case "authorization":
					s.For.Authorization = true
				case "accounting":
					s.For.Accounting = true
				}
			})
		}, oneOrMore(wordsForm("authentication", "authorization", "accounting"))},
		"password-forms": {func(r *reader, n *yaml.Node, s *Server) {
			r.each(n, "password-forms", func(item *yaml.Node) {
				if w := r.oneOf(item, "password-forms", passwordForms...); w != "" {
					s.Forms = append(s.Forms, w)
				}
			})
		}, oneOrMore(wordsForm(passwordForms...))},
		"labels":     {func(r *reader, n *yaml.Node, s *Server) { s.Labels = r.labels(n) }, mapForm(textForm())},
		"base":       textOf("base", func(s *Server) *string { return &s.Directory.Base }),
		"bind":       inner(&bindShape, func(s *Server) *Directory { return &s.Directory }),
		"find":       textOf("find", func(s *Server) *string { return &s.Directory.Find }),
		"teams-from": textOf("teams-from", func(s *Server) *string { return &s.Directory.TeamsFrom }),
	},
	must: []string{"name", "protocol", "address"},
}

// passwordForms are the forms in which a password reaches a server.
var passwordForms = []string{"ascii", "pap", "chap", "mschapv2"}

var changeShape = shape[Server]{
	what: "key",
	fields: map[string]field[Server]{
		"now":  nameField("now", func(s *Server) *Ref { return &s.KeyRef }),
		"next": nameField("next", func(s *Server) *Ref { return &s.NextKeyRef }),
	},
	must: []string{"now", "next"},
}

var bindShape = shape[Directory]{
	what: "bind",
	fields: map[string]field[Directory]{
		"as":  textOf("as", func(d *Directory) *string { return &d.BindAs }),
		"key": nameField("key", func(d *Directory) *Ref { return &d.KeyRef }),
	},
	must: []string{"as", "key"},
}

var certificatesShape = shape[Certificates]{
	what: "tls",
	fields: map[string]field[Certificates]{
		"certificate": textOf("certificate", func(c *Certificates) *string { return &c.Certificate }),
		"key":         textOf("key", func(c *Certificates) *string { return &c.Key }),
		"authorities": textOf("authorities", func(c *Certificates) *string { return &c.Authorities }),
	},
	must: []string{"certificate", "key", "authorities"},
}

var portsShape = shape[Server]{
	what: "ports",
	fields: map[string]field[Server]{
		"authentication": {func(r *reader, n *yaml.Node, s *Server) { r.port(n, "the authentication port", &s.AuthenticationPort) }, intForm(1, 65535)},
		"accounting":     {func(r *reader, n *yaml.Node, s *Server) { r.port(n, "the accounting port", &s.AccountingPort) }, intForm(1, 65535)},
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
func purposeField(verb string, words []string, purposes ...Purpose) field[List] {
	return field[List]{form: wordsForm(words...), read: func(r *reader, n *yaml.Node, l *List) {
		word := r.oneOf(n, verb, words...)
		if word == "" {
			l.Purpose = Login // the problem is said; do not report a missing purpose too
			return
		}
		if l.Purpose != PurposeCount {
			r.wrong(n, "a list has one purpose; keep one of authenticate, authorize and account")
		}
		l.Purpose = purposes[slices.Index(words, word)]
	}}
}

var listShape = shape[List]{
	what: "a list",
	fields: map[string]field[List]{
		"name":         nameField("a list's name", func(l *List) *Ref { return &l.Ref }),
		"authenticate": purposeField("authenticate", []string{"login", "elevation"}, Login, Elevation),
		"authorize":    purposeField("authorize", []string{"session", "commands"}, Session, Commands),
		"account":      purposeField("account", []string{"sessions", "commands", "system"}, RecordSessions, RecordCommands, RecordSystem),
		"levels": {func(r *reader, n *yaml.Node, l *List) {
			if span, ok := r.span(n, "levels", 15); ok {
				l.Levels = span
			}
		}, rangeForm()},
		"when": wordField("when", []string{"start-stop", "stop", "start"}, func(l *List, w string) { l.Start, l.NoStop = w != "stop", w == "start" }),
		"methods": {func(r *reader, n *yaml.Node, l *List) { l.Methods = r.methods(n) },
			oneOrMore(patternForm("^(group .+|secret .+|local|signed-in|none)$"))},
	},
	must: []string{"name", "methods"},
}

func (r *reader) methods(n *yaml.Node) []Method {
	var all []Method
	r.each(n, "methods", func(item *yaml.Node) {
		if m, ok := r.method(item); ok {
			all = append(all, m)
		}
	})
	return all
}

// method reads one method of a list: "group NAME", "secret NAME", "local",
// "signed-in", "none".
func (r *reader) method(n *yaml.Node) (Method, bool) {
	text, ok := r.scalar(n, "a method")
	if !ok {
		return Method{}, false
	}
	word, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	m := Method{Kind: MethodKind(word), Place: r.place(n)}
	switch {
	case (m.Kind == ByGroup || m.Kind == BySecret) && isName(rest):
		m.Ref = Ref{rest, m.Place}
	case (m.Kind == ByLocal || m.Kind == SignedIn || m.Kind == ByNone) && rest == "":
	default:
		r.wrong(n, "%q is no method; group NAME, local, signed-in, none or, for an elevation, secret NAME is wanted%s", shorten(text),
			nearest.Suggest(word, []string{"group", "local", "signed-in", "none", "secret"}))
		return m, false
	}
	return m, true
}

func freshKind(*reader, *yaml.Node) Kind { return Kind{Traits: DefaultTraits()} }

var kindShape = shape[Kind]{
	what: "a kind",
	fields: map[string]field[Kind]{
		"name": nameField("a kind's name", func(k *Kind) *Ref { return &k.Ref }),
		"traits": {func(r *reader, n *yaml.Node, k *Kind) {
			if n.Tag != "!!null" {
				traitShape().read(r, n, k)
			}
		}, orNothing(traitShape().form())},
	},
	must: []string{"name"},
}

var traitShape = sync.OnceValue(func() *shape[Kind] {
	fields := make(map[string]field[Kind], len(traits)+2)
	for name, t := range traits {
		fields[name] = field[Kind]{func(r *reader, n *yaml.Node, k *Kind) {
			if text, ok := r.scalar(n, name); ok && !t.set(&k.Traits, text) {
				r.wrong(n, "%s is %q; %s is wanted", name, shorten(text), t.takes)
			}
		}, traitForm(t)}
	}
	fields["speaks"] = field[Kind]{func(r *reader, n *yaml.Node, k *Kind) {
		k.Traits.Unspoken = []Protocol{RADIUS, TACACS, LDAP}
		r.each(n, "speaks", func(item *yaml.Node) {
			spoken := Protocol(r.oneOf(item, "speaks", "radius", "tacacs", "ldap"))
			k.Traits.Unspoken = slices.DeleteFunc(k.Traits.Unspoken, func(p Protocol) bool { return p == spoken })
		})
	}, oneOrMore(wordsForm("radius", "tacacs", "ldap"))}
	fields["password-as"] = inner(&passwordAsShape, func(k *Kind) *PasswordForms { return &k.Traits.PasswordAs })
	return &shape[Kind]{what: "traits", fields: fields}
})

var passwordAsShape = shape[PasswordForms]{
	what: "password-as",
	fields: map[string]field[PasswordForms]{
		"radius": wordField("radius", []string{"pap", "chap", "mschapv2"}, func(f *PasswordForms, w string) { f.RADIUS = w }),
		"tacacs": wordField("tacacs", passwordForms, func(f *PasswordForms, w string) { f.TACACS = w }),
	},
}

func freshClient(r *reader, n *yaml.Node) Client { return Client{Place: r.place(n)} }

var clientShape = shape[Client]{
	what: "a client",
	fields: map[string]field[Client]{
		"from":    prefixesField("from", func(c *Client) *[]netip.Prefix { return &c.From }),
		"servers": refsField("servers", func(c *Client) *[]Ref { return &c.ServerRefs }),
		"key":     nameField("key", func(c *Client) *Ref { return &c.KeyRef }),
	},
	must: []string{"from", "servers", "key"},
}

// prefixesField reads networks such as 192.0.2.0/24, or single addresses.
func prefixesField[T any](what string, at func(*T) *[]netip.Prefix) field[T] {
	return itemsField(what, textForm(), func(r *reader, n *yaml.Node, text string, v *T) {
		p, err := netip.ParsePrefix(text)
		if a, single := netip.ParseAddr(text); single == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			r.wrong(n, "%s is %q; a network such as 192.0.2.0/24, or an address, is wanted", what, shorten(text))
			return
		}
		if p != p.Masked() {
			r.wrong(n, "%s is %s, which is an address within %s; write the network", what, p, p.Masked())
			return
		}
		*at(v) = append(*at(v), p)
	})
}

func freshAcceptance(r *reader, n *yaml.Node) Acceptance { return Acceptance{Place: r.place(n)} }

var acceptanceShape = shape[Acceptance]{
	what: "an accepted finding",
	fields: map[string]field[Acceptance]{
		"code":   textOf("code", func(a *Acceptance) *string { return &a.Code }),
		"device": nameField("device", func(a *Acceptance) *Ref { return &a.Device }),
		"why":    textOf("why", func(a *Acceptance) *string { return &a.Why }),
		"until":  {func(r *reader, n *yaml.Node, a *Acceptance) { r.day(n, &a.Until) }, dayForm()},
	},
	must: []string{"code", "why"},
}

func freshLabel(r *reader, n *yaml.Node) LabelValue {
	return LabelValue{Trusted: true, Place: r.place(n)}
}

var labelShape = shape[LabelValue]{
	what: "a label value",
	fields: map[string]field[LabelValue]{
		"label":   textOf("label", func(l *LabelValue) *string { return &l.Label }),
		"value":   textOf("value", func(l *LabelValue) *string { return &l.Value }),
		"trusted": boolField("trusted", func(l *LabelValue) *bool { return &l.Trusted }),
	},
	must: []string{"label", "value", "trusted"},
}

func readService(r *reader, n *yaml.Node, s *Site) {
	s.Service.Place = r.place(n)
	serviceShape.read(r, n, &s.Service)
}

var serviceShape = shape[Service]{
	what: "service",
	fields: map[string]field[Service]{
		"ledger": {func(r *reader, n *yaml.Node, v *Service) {
			text, ok := r.scalar(n, "ledger")
			how, rest, _ := strings.Cut(text, " ")
			if ok && (how != "sqlite" || strings.TrimSpace(rest) == "") {
				r.wrong(n, "ledger is %q; \"sqlite FILE\" is wanted", shorten(how))
			}
			v.Ledger = strings.TrimSpace(rest)
		}, patternForm("^sqlite .+$")},
	},
}

func rangeForm() form {
	return form{"type": []string{"string", "integer"}, "pattern": "^[0-9]+(-[0-9]+)?$"}
}
func dayForm() form { return form{"type": "string", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"} }

// readLab reads where a lab puts the site's addresses.
func readLab(r *reader, n *yaml.Node, s *Site) {
	s.Lab.Place = r.place(n)
	labShape.read(r, n, &s.Lab)
}

var labShape = shape[Lab]{
	what: "lab",
	fields: map[string]field[Lab]{
		"network": {func(r *reader, n *yaml.Node, l *Lab) {
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
		}, textForm()},
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
