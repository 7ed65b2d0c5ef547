package site

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

func parsedText(t *testing.T, text string) *Site {
	t.Helper()
	s, err := Parse(Source{Name: "s.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return s
}

// Mistakes that are said, each with what is wanted in its place.
func TestWhatDoesNotFitIsSaidWithItsRepair(t *testing.T) {
	t.Parallel()
	const lists = "lists: [{name: l, authenticate: login, methods: [local]}, {name: c, authorize: commands, " +
		"methods: [local]}]\n"
	vendor := func(commands string) string {
		return "vendors: [{name: x, number: 9, attributes: [], commands: {" + commands + "}}]\n"
	}
	for _, k := range []struct{ text, says string }{
		{"lists: [{name: l, authenticate: login, methods: []}]",
			"the list l has no method"},
		{"lists: [{name: l, authenticate: logins, methods: [local]}]",
			`did you mean "login"?`},
		{"lists: [{name: l, authenticate: login, account: system, methods: [local]}]",
			"a list has one purpose"},
		{lists + "accounts: [{name: a, level: 1, password: none, login: c}]",
			`the list "c" is for commands and is used here for login`},
		{lists + "accounts: [{name: a, level: 1, password: none, login: m}]",
			`there is no list "m"`},
		{"lists: [{name: c, authorize: commands, only: [a], methods: [local]}]\naccounts: [{name: a, level: 1, " +
			"password: none}]", "only is for lists of logins"},
		{"lists: [{name: l, authenticate: login, only: [b], methods: [local]}]",
			`there is no person or account "b"`},
		{vendor("between: x"),
			"commands needs an attribute: allow: NAME, refuse: NAME, or both"},
		{vendor("allow: A, refuse: A"),
			"nobody can tell them apart"},
		{vendor("allow: A, allow-form: x"),
			"a form of the value with {command} in it is wanted"},
		{vendor(`allow: A, word: ""`),
			"word and rest are how * and ** are written"},
		{vendor("allow: A") + "platforms: [{name: k, behaviour: {commands-from: y}}]", `there is no vendor "y"`},
		{"vendors: [{name: x, number: 9, attributes: []}]\nkinds: [{name: k, behaviour: {commands-from: x}}]",
			"the vendor x does not say how it carries commands"},
		{"devices: [{name: d, addresses: [192.0.2.1], access: {console: {from: 192.0.2.0/24}}}]",
			"from is for ways in over a network"},
		{"devices: [{name: d, addresses: [192.0.2.1], access: {web: {host-key: rsa}}}]",
			"host-key is for ssh; web has none"},
		{"devices: [{name: d, addresses: [192.0.2.1], access: {ssh: {versions: 3}}}]",
			`versions is "3"`},
		{"devices: [{name: d, addresses: [192.0.2.1], hostname: x}]",
			`here it is called "name"`},
		{"devices: [{name: d, addresses: [192.0.2.1], Make: x}]",
			`here it is called "platform"`},
		{"servers: [{name: t, protocol: tacacs, ip_address: 192.0.2.1}]",
			`here it is called "address"`},
		{"devices: [{name: d, addresses: [192.0.2.1], found: {ports: {r: {authentication: 0}}}}]",
			"the authentication port"},
		{"people: [{name: a, password: key }]",
			"password must be a one-way hash"},
		{"people: [{name: a, password: key b c}]",
			"password must be a one-way hash"},
		{"servers: [{name: d, protocol: ldap, address: 192.0.2.1, base: o=x}]\nlab: {people: [{name: a, teams: [x]}]}",
			"a stands in a directory of the lab, which needs a password"},
		{"rates: {logins: -1}",
			"logins"},
		{"site: a\n---\nsite: b",
			"a site file is one document"},
		{"site: a\ndevices:\n\t- name: d",
			"a tab stands before the text of this line"},
	} {
		_, err := Parse(Source{Name: "s.yaml", Text: []byte(k.text)})
		require.ErrorContains(t, err, k.says, k.text)
	}
	for _, nothing := range []string{"", "# nothing\n", "---\n"} {
		_, err := Parse(Source{Name: "s.yaml", Text: []byte(nothing)})
		require.NotContains(t, err.Error(), "panic", nothing)
	}
}

func TestAListForOneNameAndAListForSomeNames(t *testing.T) {
	t.Parallel()
	s := parsedText(t, `lists:
  - {name: l, authenticate: login, only: [a, p], methods: [local]}
  - {name: own, authenticate: login, methods: [none]}
accounts: [{name: a, level: 15, password: none}, {name: b, level: 15, password: none, login: own}]
people: [{name: p, password: $6$a$b}]
devices:
  - {name: d, addresses: [192.0.2.1], accounts: [a, b], defaults: {login: l}, access: {ssh: {from: [192.0.2.0/24,
     198.51.100.7]}}}
  - {name: e, addresses: [192.0.2.2], accounts: [b], defaults: {login: l}, found: {lists: {own: [local]}}}
`)
	d, ssh := s.Device("d"), s.Device("d").Way(SSH)
	for name, list := range map[string]string{"a": "l", "b": "own", "p": "l", "nobody": "l"} {
		require.Equal(t, list, loginList(d, ssh, name).Name, name)
	}
	for name, is := range map[string]bool{"a": true, "p": true, "b": false, "nobody": false} {
		require.Equal(t, is, loginList(d, ssh, "a").For(name), name)
	}
	require.True(t, loginList(d, ssh, "b").For("anybody"))
	e := s.Device("e")
	require.Equal(t, ByLocal, loginList(e, e.Way(Console), "b").Methods[0].Kind, "what it is known to have counts")
	require.Equal(t, ByNone, loginList(d, ssh, "b").Methods[0].Kind)
	for from, takes := range map[string]bool{"192.0.2.7": true, "198.51.100.7": true, "198.51.100.8": false, "": true} {
		a, _ := netip.ParseAddr(from)
		require.Equal(t, takes, ssh.Takes(a), from)
	}
	require.True(t, d.Way(Console).Takes(netip.MustParseAddr("203.0.113.1")))
	require.True(t, ssh.OverNetwork())
	require.False(t, d.Way(Console).OverNetwork())
}

func TestWhatAKindDoesUnsaid(t *testing.T) {
	t.Parallel()
	s := parsedText(t, `keys: {k: file k}
servers:
  - {name: r, protocol: radius, address: 192.0.2.1, key: k}
  - {name: said, protocol: radius, address: 192.0.2.2, key: k, ports: {authentication: 1812, accounting: 1813}}
  - {name: tls, protocol: radius, address: 192.0.2.3, transport: tls}
  - {name: t, protocol: tacacs, address: 192.0.2.4, key: k}
vendors: [{name: x, number: 9, attributes: [], commands: {allow: A, refuse: B, rest: "...", word: "?"}}]
platforms:
  - {name: old, behaviour: {default-ports: legacy, models: [openconfig-system], commands-from: x, restconf: true}}
  - {name: new, behaviour: {commands-from: none}}
devices:
  - {name: o, platform: old, addresses: [192.0.2.11], access: {api: {}}}
  - {name: n, platform: new, addresses: [192.0.2.12], access: {api: {}, netconf: {}}}
`)
	o, n := s.Device("o"), s.Device("n")
	ports := func(d *Device, server string) [2]uint16 {
		a, b, _ := d.Ports(s.Server(server))
		return [2]uint16{a, b}
	}
	require.Equal(t, [2]uint16{1645, 1646}, ports(o, "r"))
	require.Equal(t, [2]uint16{1812, 1813}, ports(o, "said"))
	require.Equal(t, [2]uint16{2083, 2083}, ports(o, "tls"))
	require.Equal(t, [2]uint16{0, 0}, ports(o, "t"))
	require.Equal(t, [2]uint16{1812, 1813}, ports(n, "r"))
	require.True(t, o.Platform.Behaviour.HasModel("openconfig-system"))
	require.False(t, o.Platform.Behaviour.HasModel("ietf-system"))
	require.True(t, n.Platform.Behaviour.HasModel("ietf-system"))
	require.Nil(t, n.Platform.Commands)
	require.Equal(t, "look ? ...", o.Platform.Commands.Written([]string{"look", "*", "**"}))
	r, ok := o.Platform.Commands.Read("B", "look ? ...")
	require.True(t, ok)
	require.Equal(t, []any{false, []string{"look", "*", "**"}, "refuse look * **"}, []any{r.Allow, r.Words, r.Text})
	_, ok = o.Platform.Commands.Read("C", "look")
	require.False(t, ok)
	require.Equal(t, API, o.Managed().Access)
	require.Equal(t, NETCONF, n.Managed().Access)
	require.Equal(t, []string{PAP, CHAP, MSCHAPv2}, FormsOf(RADIUS))
	require.Equal(t, []string{PAP}, FormsOf(LDAP))
	require.Equal(t, []string{ASCII, PAP, CHAP, MSCHAPv2}, FormsOf(TACACS))
}

func loginList(d *Device, w *Way, name string) *List {
	l, _ := d.LoginList(w, name)
	return l
}
