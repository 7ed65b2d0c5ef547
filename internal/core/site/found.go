package site

import "slices"

// shares leads the secrets that a device shares with servers by itself to their
// values: those of its profile, then its own.
func (l *linker) shares(d *Device) {
	for _, own := range [][]FoundKey{d.Profile.keys, d.Own.keys} {
		for _, k := range own {
			server, key := find(l, "server", l.site.servers, k.Server), find(l, "key", l.keys, k.KeyRef)
			switch {
			case server == nil || key == nil:
				continue
			case server.Secured() || server.Protocol == LDAP:
				l.wrong(k.Server.Place, "the server %s has no shared secret that %s could have", server.Name, d.Name)
				continue
			case d.shares == nil:
				d.shares = map[*Server]*Key{}
			}
			d.shares[server] = key
		}
	}
}

// holds leads what is known to be on a device to its values.
func (l *linker) holds(d *Device) {
	h := &d.Found
	for _, held := range h.keys {
		server := find(l, "server", l.site.servers, held.Server)
		held.Key = find(l, "key", l.keys, held.KeyRef)
		if server == nil || held.Key == nil {
			continue
		}
		if server.Secured() || server.Protocol == LDAP {
			l.wrong(held.Server.Place, "the server %s has no shared secret that %s could hold", server.Name, d.Name)
			continue
		}
		if h.Keys == nil {
			h.Keys = map[*Server]FoundKey{}
		}
		h.Keys[server] = held
	}
	for _, held := range h.ports {
		server := find(l, "server", l.site.servers, held.Server)
		if server == nil {
			continue
		}
		if h.Ports == nil {
			h.Ports = map[*Server]FoundPorts{}
		}
		h.Ports[server] = held
	}
}

// heldLists puts the lists that a device is known to have in place of those of
// the design: lists with other methods, and groups with other servers.
func (l *linker) heldLists(d *Device, ways []*Way) {
	if len(d.Found.lists) == 0 && len(d.Found.groups) == 0 {
		return
	}
	groups := map[*Group]*Group{}
	for _, held := range d.Found.groups {
		if g := find(l, "group", l.groups, held.Ref); g != nil {
			other := &Group{Ref: g.Ref, ServerRefs: held.servers}
			l.group(other)
			if len(other.Servers) > 0 {
				groups[g] = other
			}
		}
	}
	lists := map[*List]*List{}
	for _, held := range d.Found.lists {
		if have := find(l, "list", l.lists, held.Ref); have != nil {
			other := *have
			other.Methods = held.methods
			l.list(&other)
			lists[have] = &other
		}
	}
	heldOf := func(list *List) *List {
		if list == nil {
			return nil
		}
		if lists[list] == nil && slices.ContainsFunc(list.Methods,
			func(m Method) bool { return groups[m.group] != nil }) {
			other := *list
			lists[list] = &other
		}
		held := lists[list]
		if held == nil {
			return list
		}
		held.Methods = slices.Clone(held.Methods)
		for i, m := range held.Methods {
			if g := groups[m.group]; g != nil {
				held.Methods[i].group = g
			}
		}
		return held
	}
	for _, w := range ways {
		for p, list := range w.Lists {
			w.Lists[p], w.unobeyed[p] = heldOf(list), heldOf(w.unobeyed[p])
		}
	}
	for _, a := range d.Accounts {
		heldOf(a.Login)
	}
	d.held = lists
}
