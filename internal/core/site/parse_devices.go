package site

import (
	"net/netip"

	"go.yaml.in/yaml/v4"
)

var bindsLater = []string{"elevation", "record-system"}

// bindFields reads the list that each purpose uses.
func bindFields[T any](at func(*T) *Binds) map[string]field[T] {
	fields := map[string]field[T]{}
	for p := Login; p < PurposeCount; p++ {
		fields[p.String()] = func(r *reader, n *yaml.Node, v *T) { at(v)[p], _ = r.name(n, "the "+p.String()+" list") }
	}
	return fields
}

var defaultsShape = shape[Profile]{
	what:   "defaults",
	fields: bindFields(func(p *Profile) *Binds { return &p.Defaults }),
	later:  bindsLater,
}

var entryShape = func() shape[Entry] {
	fields := bindFields(func(e *Entry) *Binds { return &e.Binds })
	fields["lines"] = func(r *reader, n *yaml.Node, e *Entry) {
		e.Lines, e.HasLines = r.span(n, "lines", 4095)
		if e.HasLines && e.Access != SSH && e.Access != Telnet {
			r.wrong(n, "lines are for ssh and telnet; %s has none", e.Access)
		}
	}
	return shape[Entry]{what: "a way in", fields: fields, later: bindsLater}
}()

// accessFields reads the ways in of a profile or a device into at.
var accessShape = func() shape[Profile] {
	fields := map[string]field[Profile]{}
	for _, access := range accesses {
		fields[access] = func(r *reader, n *yaml.Node, p *Profile) {
			if p.Access == nil {
				p.Access = map[string][]Entry{}
			}
			p.Access[access] = r.entries(n, access)
		}
	}
	return shape[Profile]{what: "access", fields: fields, later: []string{"netconf"}}
}()

// entries reads one way in: off, one mapping, or a list of line ranges.
func (r *reader) entries(n *yaml.Node, access string) []Entry {
	switch {
	case n.Kind == yaml.ScalarNode && n.Value == "off":
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
					r.wrong(item, "lines %s of %s overlap lines %s in line %d", e.Lines, access, other.Lines, other.Place.Line)
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
		"defaults": func(r *reader, n *yaml.Node, v *T) { defaultsShape.read(r, n, at(v)) },
		"access":   func(r *reader, n *yaml.Node, v *T) { accessShape.read(r, n, at(v)) },
		"accounts": func(r *reader, n *yaml.Node, v *T) {
			at(v).HasAccounts = true
			refsField("accounts", func(p *Profile) *[]Ref { return &p.AccountRefs })(r, n, at(v))
		},
	}
}

func freshProfile(r *reader, n *yaml.Node) Profile { return Profile{place: r.place(n)} }

var profileShape = func() shape[Profile] {
	fields := sharedFields(func(p *Profile) *Profile { return p })
	fields["name"] = nameField("a profile's name", func(p *Profile) *Ref { return &p.Ref })
	return shape[Profile]{what: "a profile", fields: fields, must: []string{"name"}}
}()

func freshDevice(r *reader, n *yaml.Node) Device { return Device{Own: Profile{place: r.place(n)}} }

var deviceShape = func() shape[Device] {
	fields := sharedFields(func(d *Device) *Profile { return &d.Own })
	fields["name"] = nameField("a device's name", func(d *Device) *Ref { return &d.Ref })
	fields["kind"] = refField("kind", func(d *Device) *Ref { return &d.KindRef })
	fields["profile"] = refField("profile", func(d *Device) *Ref { return &d.ProfileRef })
	fields["addresses"] = func(r *reader, n *yaml.Node, d *Device) {
		r.each(n, "addresses", func(item *yaml.Node) {
			if a, ok := r.address(item, "an address"); ok {
				d.Addresses = append(d.Addresses, a)
			}
		})
	}
	fields["source"] = func(r *reader, n *yaml.Node, d *Device) { d.Source, d.SourceSet = r.address(n, "source") }
	fields["labels"] = func(r *reader, n *yaml.Node, d *Device) {
		if !r.is(n, yaml.MappingNode, "labels", "keys and values") {
			return
		}
		d.Labels = make(map[string]string, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			k, okK := r.name(n.Content[i], "a label")
			v, okV := r.scalar(n.Content[i+1], "the label "+k.Name)
			if _, twice := d.Labels[k.Name]; twice {
				r.wrong(n.Content[i], "the label %q stands twice; keep one", k.Name)
			}
			if okK && okV {
				d.Labels[k.Name] = v
			}
		}
	}
	fields["holds"] = func(r *reader, n *yaml.Node, d *Device) { holdsShape.read(r, n, d) }
	return shape[Device]{what: "a device", fields: fields, later: []string{"network"}, must: []string{"name", "addresses"}}
}()

// holdsShape reads what is known to be on a device where it differs.
var holdsShape = shape[Device]{
	what: "holds",
	fields: map[string]field[Device]{
		"keys": func(r *reader, n *yaml.Node, d *Device) {
			if !r.is(n, yaml.MappingNode, "keys", "SERVER: KEY for each server") {
				return
			}
			d.held = map[string]HeldKey{}
			for i := 0; i+1 < len(n.Content); i += 2 {
				server, ok1 := r.name(n.Content[i], "a server")
				key, ok2 := r.name(n.Content[i+1], "a key")
				if _, twice := d.held[server.Name]; twice {
					r.wrong(n.Content[i], "the server %q stands twice; keep one", server.Name)
				}
				if ok1 && ok2 {
					d.held[server.Name] = HeldKey{Server: server, KeyRef: key}
				}
			}
		},
	},
	later: []string{"ports", "servers", "order", "lists", "accounts", "source"},
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
