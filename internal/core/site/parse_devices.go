package site

import (
	"encoding/hex"
	"net/netip"
	"strings"

	"go.yaml.in/yaml/v4"
)

// bindFields reads the list that each purpose uses.
func bindFields[T any](at func(*T) *Binds) map[string]field[T] {
	fields := map[string]field[T]{}
	for p := Login; p < PurposeCount; p++ {
		fields[p.String()] = nameField("the "+p.String()+" list", func(v *T) *Ref { return &at(v)[p] })
	}
	return fields
}

var defaultsShape = shape[Profile]{
	what:   "defaults",
	fields: bindFields(func(p *Profile) *Binds { return &p.Defaults }),
}

var entryShape = func() shape[Entry] {
	fields := bindFields(func(e *Entry) *Binds { return &e.Binds })
	fields["lines"] = field[Entry]{read: func(r *reader, n *yaml.Node, e *Entry) {
		e.Lines, e.HasLines = r.span(n, "lines", mostLine)
		if e.HasLines && e.Access != SSH && e.Access != Telnet {
			r.wrong(n, "lines are for ssh and telnet; %s has none", e.Access)
		}
	}, form: rangeForm()}
	from := prefixesField("from", func(e *Entry) *[]netip.Prefix { return &e.From })
	fields["from"] = field[Entry]{read: func(r *reader, n *yaml.Node, e *Entry) {
		if e.Access == Console {
			r.wrong(n, "from is for ways in over a network; whoever is at the console is there")
		}
		from.read(r, n, e)
	}, form: from.form}
	ofSSH := func(name string, f field[Entry]) {
		fields[name] = field[Entry]{read: func(r *reader, n *yaml.Node, e *Entry) {
			if e.Access != SSH {
				r.wrong(n, "%s is for ssh; %s has none", name, e.Access)
			}
			f.read(r, n, e)
		}, form: f.form}
	}
	ofSSH("host-key", wordField("host-key", []string{"ed25519", "ecdsa", "rsa"},
		func(e *Entry, w string) { e.SSH.HostKey = w }))
	ofSSH("versions", wordField("versions", []string{"2", "1 and 2"},
		func(e *Entry, w string) { e.SSH.Version1 = w != "2" }))
	return shape[Entry]{what: "a way in", fields: fields}
}()

// accessShape reads the ways in of a profile or a device into at.
var accessShape = func() shape[Profile] {
	fields := map[string]field[Profile]{}
	for _, access := range accesses {
		fields[access] = field[Profile]{read: func(r *reader, n *yaml.Node, p *Profile) {
			if p.Access == nil {
				p.Access = map[string][]Entry{}
			}
			p.Access[access] = r.entries(n, access)
		}, form: orNothing(form{"anyOf": []any{offForm(), entryShape.form(), listForm(entryShape.form())}})}
	}
	return shape[Profile]{what: "access", fields: fields}
}()

// offForm is a way in that is closed.
func offForm() form { return form{"enum": []any{"off", "no", false}} }

// entries reads one way in: off, one mapping, or a list of line ranges.
func (r *reader) entries(n *yaml.Node, access string) []Entry {
	on, isTruth := truth[strings.ToLower(n.Value)]
	switch {
	case n.Kind == yaml.ScalarNode && isTruth && !on:
		if access == Console {
			r.wrong(n, "the console cannot be off: every device has one")
		}
		return []Entry{{Access: access, Off: true, Place: r.place(n)}}
	case n.Kind == yaml.ScalarNode && n.Tag != "!!null":
		r.wrong(n, "%s is %q; off, {login: LIST, ...} or a list of line ranges is wanted", access, shorten(n.Value))
		return nil
	case n.Kind == yaml.SequenceNode:
		var all []Entry
		for _, item := range n.Content {
			e := Entry{Access: access, Place: r.place(item)}
			entryShape.read(r, item, &e)
			if !e.HasLines && len(n.Content) > 1 {
				r.wrong(item, "where %s has several entries, each needs its lines", access)
			}
			for _, other := range all {
				if e.HasLines && other.HasLines && e.Lines.Low <= other.Lines.High && other.Lines.Low <= e.Lines.High {
					r.wrong(item, "lines %s of %s overlap lines %s in line %d", e.Lines, access, other.Lines,
						other.Place.Line)
				}
			}
			all = append(all, e)
		}
		return all
	}
	e := Entry{Access: access, Place: r.place(n)}
	if n.Tag != "!!null" {
		entryShape.read(r, n, &e)
	}
	return []Entry{e}
}

// sharedFields are the keys that a profile and a device have in common.
func sharedFields[T any](at func(*T) *Profile) map[string]field[T] {
	return map[string]field[T]{
		"defaults": inner(&defaultsShape, at),
		"access":   inner(&accessShape, at),
		"keys": {read: func(r *reader, n *yaml.Node, v *T) {
			r.pairs(n, "keys", "servers and the keys shared with them", func(server, key *yaml.Node) {
				of, ok := r.name(server, "a server")
				with, good := r.name(key, "a key")
				if ok && good {
					at(v).keys = append(at(v).keys, FoundKey{Server: of, KeyRef: with})
				}
			})
		}, form: mapForm(nameForm())},
		"requests-to": asksField(at),
		"accounts": {read: func(r *reader, n *yaml.Node, v *T) {
			at(v).HasAccounts = true
			refsField("accounts", func(p *Profile) *[]Ref { return &p.AccountRefs }).read(r, n, at(v))
		}, form: oneOrMore(nameForm())},
	}
}

func freshProfile(r *reader, n *yaml.Node) Profile { return Profile{place: r.place(n)} }

var profileShape = func() shape[Profile] {
	fields := sharedFields(func(p *Profile) *Profile { return p })
	fields["name"] = nameField("a profile's name", func(p *Profile) *Ref { return &p.Ref })
	return shape[Profile]{what: "a profile", fields: fields, must: []string{"name"}, renamed: renamedInShared}
}()

func freshDevice(r *reader, n *yaml.Node) Device { return Device{Own: Profile{place: r.place(n)}} }

var shownShape = shape[Shown]{
	what: "certificate",
	fields: map[string]field[Shown]{
		"name": textOf("name", func(v *Shown) *string { return &v.Name }),
		"fingerprint": {read: func(r *reader, n *yaml.Node, v *Shown) {
			text, ok := r.scalar(n, "fingerprint")
			plain := strings.ToLower(strings.ReplaceAll(text, ":", ""))
			if b, err := hex.DecodeString(plain); ok && (err != nil || len(b) != 32) {
				r.wrong(n, "fingerprint must be the SHA-256 of the certificate, 64 hexadecimal digits")
				return
			}
			v.Fingerprint = plain
		}, form: textForm()},
	},
}

var deviceShape = func() shape[Device] {
	fields := sharedFields(func(d *Device) *Profile { return &d.Own })
	fields["name"] = nameField("a device's name", func(d *Device) *Ref { return &d.Ref })
	fields["platform"] = refField("platform", func(d *Device) *Ref { return &d.PlatformRef })
	fields["profile"] = refField("profile", func(d *Device) *Ref { return &d.ProfileRef })
	fields["addresses"] = itemsField("addresses", textForm(), func(r *reader, n *yaml.Node, _ string, d *Device) {
		if a, ok := r.address(n, "an address"); ok {
			d.Addresses = append(d.Addresses, a)
		}
	})
	fields["source"] = field[Device]{read: func(r *reader, n *yaml.Node, d *Device) {
		if d.sources = r.addresses(n, "source"); len(d.sources) > 0 {
			d.Source, d.SourceSet = d.sources[0], true
		}
	}, form: oneOrMore(textForm())}
	fields["interfaces"] = interfacesField
	fields["network"] = textOf("network", func(d *Device) *string { return &d.Network })
	fields["certificate"] = inner(&shownShape, func(d *Device) *Shown { return &d.Shows })
	fields["labels"] = field[Device]{read: func(r *reader, n *yaml.Node, d *Device) { d.Labels = r.labels(n) },
		form: mapForm(textForm())}
	fields["found"] = field[Device]{read: func(r *reader, n *yaml.Node, d *Device) {
		d.Found.Place = r.place(n)
		holdsShape.read(r, n, &d.Found)
	}, form: holdsShape.form()}
	return shape[Device]{what: "a device", fields: fields, must: []string{"name", "addresses"},
		renamed: renamedInDevice}
}()

func (r *reader) labels(n *yaml.Node) map[string]string {
	labels := make(map[string]string, len(n.Content)/2)
	r.pairs(n, "labels", "keys and values", func(key, value *yaml.Node) {
		k, okK := r.name(key, "a label")
		v, okV := r.scalar(value, "the label "+k.Name)
		if okK && okV {
			labels[k.Name] = v
		}
	})
	return labels
}

// mostLine is the highest number of a line.
const mostLine = 4095

// holdsShape reads what is known to be on a device where it differs.
var holdsShape = shape[Found]{
	what: "found",
	fields: map[string]field[Found]{
		"keys": {read: func(r *reader, n *yaml.Node, h *Found) {
			r.pairs(n, "keys", "SERVER: KEY for each server", func(key, value *yaml.Node) {
				server, ok1 := r.name(key, "a server")
				name, ok2 := r.name(value, "a key")
				if ok1 && ok2 {
					h.keys = append(h.keys, FoundKey{Server: server, KeyRef: name})
				}
			})
		}, form: mapForm(nameForm())},
		"ports": {read: func(r *reader, n *yaml.Node, h *Found) {
			r.pairs(n, "ports", "SERVER: {authentication: PORT, accounting: PORT}", func(key, value *yaml.Node) {
				server, ok := r.name(key, "a server")
				ports := FoundPorts{Server: server, Place: r.place(key)}
				heldPortsShape.read(r, value, &ports)
				if ok {
					h.ports = append(h.ports, ports)
				}
			})
		}, form: mapForm(heldPortsShape.form())},
		"source": {read: func(r *reader, n *yaml.Node, h *Found) { h.Source, _ = r.address(n, "source") },
			form: textForm()},
		"accounts": {read: func(r *reader, n *yaml.Node, h *Found) {
			h.differs = true
			refsField("accounts", func(h *Found) *[]Ref { return &h.accounts }).read(r, n, h)
		}, form: oneOrMore(nameForm())},
		"lists": {read: func(r *reader, n *yaml.Node, h *Found) {
			r.pairs(n, "lists", "LIST: [methods]", func(key, value *yaml.Node) {
				if ref, ok := r.name(key, "a list"); ok {
					h.lists = append(h.lists, heldList{Ref: ref, methods: r.methods(value)})
				}
			})
		}, form: mapForm(oneOrMore(textForm()))},
		"groups": {read: func(r *reader, n *yaml.Node, h *Found) {
			r.pairs(n, "groups", "GROUP: [servers]", func(key, value *yaml.Node) {
				g := heldGroup{Ref: r.ref(key)}
				refsField("servers", func(g *heldGroup) *[]Ref { return &g.servers }).read(r, value, &g)
				h.groups = append(h.groups, g)
			})
		}, form: mapForm(oneOrMore(nameForm()))},
	},
}

var heldPortsShape = shape[FoundPorts]{
	what: "ports",
	fields: map[string]field[FoundPorts]{
		"authentication": {read: func(r *reader, n *yaml.Node,
			h *FoundPorts) {
			r.port(n, "the authentication port", &h.Authentication)
		}, form: intForm(1, 65535)},
		"accounting": {read: func(r *reader, n *yaml.Node,
			h *FoundPorts) {
			r.port(n, "the accounting port", &h.Accounting)
		}, form: intForm(1, 65535)},
	},
}

func (r *reader) address(n *yaml.Node, what string) (netip.Addr, bool) {
	text, ok := r.scalar(n, what)
	if !ok {
		return netip.Addr{}, false
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		r.wrong(n, "%s is %q; an IPv4 or IPv6 address is wanted", what, shorten(text))
		return netip.Addr{}, false
	}
	return a, true
}
