package site

import (
	"net/netip"
	"time"

	"go.yaml.in/yaml/v4"
)

func freshServer(*reader, *yaml.Node) Server {
	return Server{Timeout: 3 * time.Second, RequireMessageAuthenticator: true,
		For: Uses{Authentication: true, Authorization: true, Accounting: true}, Directory: Directory{Find: "(uid=%u)"}}
}

var serverShape = shape[Server]{
	what: "a server", renamed: renamedInServer,
	fields: map[string]field[Server]{
		"name": nameField("a server's name", func(s *Server) *Ref { return &s.Ref }),
		"protocol": wordField("protocol", []string{"radius", "tacacs", "ldap"},
			func(s *Server, w string) { s.Protocol = Protocol(w) }),
		"address": {read: func(r *reader, n *yaml.Node, s *Server) {
			if text, ok := r.scalar(n, "address"); ok {
				if _, err := netip.ParseAddr(text); err != nil && !IsHost(text) {
					r.wrong(n, "address is %q; an IP address or a host name is wanted", shorten(text))
				}
				s.Address = text
			}
		}, form: form{"type": "string"}},
		"port": {read: func(r *reader, n *yaml.Node, s *Server) { r.port(n, "port", &s.Port) },
			form: intForm(1, 65535)},
		"ports": {read: func(r *reader, n *yaml.Node, s *Server) {
			s.PortsSaid = true
			portsShape.read(r, n, s)
		}, form: portsShape.form()},
		"key": {read: func(r *reader, n *yaml.Node, s *Server) {
			if n.Kind == yaml.MappingNode {
				changeShape.read(r, n, s)
				return
			}
			s.KeyRef, _ = r.name(n, "key")
		}, form: form{"anyOf": []any{nameForm(), changeShape.form()}}},
		"timeout": durationField("timeout", time.Millisecond, 5*time.Minute,
			func(s *Server) *time.Duration { return &s.Timeout }),
		"attempts":  intField("attempts", 1, 20, func(s *Server) *int { return &s.Attempts }),
		"dead-time": durationField("dead-time", 0, 24*time.Hour, func(s *Server) *time.Duration { return &s.DeadTime }),
		"run":       boolField("run", func(s *Server) *bool { return &s.Run }),
		"transport": {read: func(r *reader, n *yaml.Node, s *Server) {
			s.transport = r.ref(n)
			s.Transport = Transport(r.oneOf(n, "transport", transports()...))
		}, form: wordsForm(transports()...)},
		"tls": {read: func(r *reader, n *yaml.Node, s *Server) {
			if n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
				s.Directory.Security = r.oneOf(n, "tls", "start", "ldaps", "none")
				return
			}
			s.Certificates.Place = r.place(n)
			certificatesShape.read(r, n, &s.Certificates)
		}, form: form{"anyOf": []any{wordsForm("start", "ldaps", "none"), certificatesShape.form()}}},
		"message-authenticator": wordField("message-authenticator", []string{"required", "if-present"},
			func(s *Server, w string) {
				s.RequireMessageAuthenticator = w == "required"
			}),
		"for": {read: func(r *reader, n *yaml.Node, s *Server) {
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
		}, form: oneOrMore(wordsForm("authentication", "authorization", "accounting"))},
		"password-forms": {read: func(r *reader, n *yaml.Node, s *Server) {
			r.each(n, "password-forms", func(item *yaml.Node) {
				if w := r.oneOf(item, "password-forms", FormsOf(TACACS)...); w != "" {
					s.Forms = append(s.Forms, w)
				}
			})
		}, form: oneOrMore(wordsForm(FormsOf(TACACS)...))},
		"behind": itemsField("behind", nameForm(), func(r *reader, n *yaml.Node, text string, s *Server) {
			s.Behind = append(s.Behind, Ref{Name: text, Place: r.place(n)})
		}),
		"labels": {read: func(r *reader, n *yaml.Node, s *Server) { s.Labels = r.labels(n) },
			form: mapForm(textForm())},
		"base":           textOf("base", func(s *Server) *string { return &s.Directory.Base }),
		"bind":           inner(&bindShape, func(s *Server) *Directory { return &s.Directory }),
		"filter":         textOf("filter", func(s *Server) *string { return &s.Directory.Find }),
		"team-attribute": textOf("team-attribute", func(s *Server) *string { return &s.Directory.TeamsFrom }),
	},
	must: []string{"name", "protocol", "address"},
}

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
		"dn":  textOf("dn", func(d *Directory) *string { return &d.BindAs }),
		"key": nameField("key", func(d *Directory) *Ref { return &d.KeyRef }),
	},
	must: []string{"dn", "key"}, renamed: renamedInBind,
}

var certificatesShape = shape[Certificates]{
	what: "tls",
	fields: map[string]field[Certificates]{
		"certificate": textOf("certificate", func(c *Certificates) *string { return &c.Certificate }),
		"key":         textOf("key", func(c *Certificates) *string { return &c.Key }),
		"authorities": textOf("authorities", func(c *Certificates) *string { return &c.Authorities }),
		"revoked":     textOf("revoked", func(c *Certificates) *string { return &c.Revoked }),
	},
	must: []string{"certificate", "key", "authorities"},
}

var portsShape = shape[Server]{
	what: "ports",
	fields: map[string]field[Server]{
		"authentication": {read: func(r *reader, n *yaml.Node,
			s *Server) {
			r.port(n, "the authentication port", &s.AuthenticationPort)
		}, form: intForm(1, 65535)},
		"accounting": {read: func(r *reader, n *yaml.Node,
			s *Server) {
			r.port(n, "the accounting port", &s.AccountingPort)
		}, form: intForm(1, 65535)},
	},
}

// IsHost reports whether a text is a DNS host name that a server can have.
func IsHost(s string) bool {
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
		"name":      nameField("a group's name", func(g *Group) *Ref { return &g.Ref }),
		"servers":   refsField("servers", func(g *Group) *[]Ref { return &g.ServerRefs }),
		"network":   textOf("network", func(g *Group) *string { return &g.leaves.Network }),
		"interface": nameField("interface", func(g *Group) *Ref { return &g.leaves.Interface }),
	},
	must: []string{"name", "servers"},
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
