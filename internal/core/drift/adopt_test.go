package drift

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

const adoptText = `site: x
keys: {k: file k}
servers:
  - {name: r1, protocol: radius, address: 192.0.2.1, key: k}
  - {name: r2, protocol: radius, address: 192.0.2.2, key: k}
  - {name: t1, protocol: tacacs, address: 192.0.2.3, key: k}
groups: [{name: sea, servers: [r1, r2]}, {name: shore, servers: [t1]}]
lists:
  - {name: l, authenticate: login, methods: [group sea, group shore, local]}
  - {name: rs, account: sessions, methods: [group shore]}
  - {name: rc, account: commands, methods: [group shore]}
accounts: [{name: keeper, level: 15, password: '$6$a$b'}, {name: master, level: 15, password: '$6$a$b'}]
devices: [{name: d, addresses: [192.0.2.9], accounts: [keeper, master], defaults: {login: l, record-sessions: rs, record-commands: rc}, access: {console: {}}}]
`

func TestWhatADeviceHoldsIsSaidInTheWordsOfHolds(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(adoptText)})
	require.NoError(t, err)
	type change func(want, have Facts)
	for says, do := range map[string]change{
		"{}": func(_, have Facts) { have.Say(Server, "r1", "wait", "9 s") }, // holds has no word for it
		`{keys: {r1: found}, ports: {r1: {authentication: 1645}, r2: {authentication: 1645, accounting: 1646}}, source: "2001:db8::1"}`: func(_, have Facts) {
			have.Hide(Server, "r1", "key", "another key")
			have.Say(Server, "r1", "authentication port", "1645")
			have.Say(Server, "r2", "authentication port", "1645")
			have.Say(Server, "r2", "accounting port", "1646")
			have.Say(Server, "r1", "source", "2001:db8::1")
		},
		"{accounts: [master, other], lists: {l: [local, group sea], rc: [group sea], rs: [group sea]}, groups: " +
			"{sea: [r2]}}": func(_, have Facts) {
			have.Forget(Account, "keeper")
			have.Note(Account, "other")
			have.Hide(Account, "other", "password", "$6$c$d")
			have.Say(Account, "other", "role", "none")
			have.Forget(Server, "r1")
			have.Say(Group, AllRADIUS, "servers in order", "r2, stranger")
			have.Say(List, "login", "methods", "local-users, radius")
			have.Say(List, "records", "methods", "sea")
		},
		"{groups: {shore: [r1]}}": func(_, have Facts) { // a group that is known by its name
			have.Say(Group, "shore", "servers in order", "r1, stranger")
			have.Say(List, "login", "methods", "stranger")
		},
		"{accounts: []}": func(_, have Facts) { have.Forget(Account, "keeper"); have.Forget(Account, "master") },
	} {
		want, have := Facts{}, Facts{}
		for _, f := range []Facts{want, have} {
			for _, r := range []string{"r1", "r2"} {
				f.Say(Server, r, "wait", "5 s")
				f.Hide(Server, r, "key", "the key")
				f.Say(Server, r, "authentication port", "1812")
				f.Say(Server, r, "accounting port", "1813")
				f.Say(Server, r, "source", "192.0.2.9")
			}
			for _, a := range []string{"keeper", "master"} {
				f.Note(Account, a)
				f.Hide(Account, a, "password", "$6$a$b")
			}
			f.Say(Group, AllRADIUS, "servers in order", "r1, r2")
			f.Say(Group, "shore", "servers in order", "t1")
			f.Say(List, "login", "methods", "radius, tacacs-plus, local-users")
			f.Say(List, "records", "methods", "shore")
		}
		do(want, have)
		found := Compare(want, have, func(About, string) string { return "" })
		require.NotEmpty(t, found, says)
		h := Adopt(s, s.Device("d"), found, have, func(server string, value site.Secret) string {
			require.Equal(t, "another key", value.Reveal())
			return "found"
		})
		require.Equal(t, says, h.YAML())
		require.Equal(t, says == "{}", h.Empty())
		for _, n := range h.New {
			require.Equal(t, NewAccount{"other", 1, "$6$c$d"}, n)
		}
	}
}

func TestSecretsThatADeviceDoesNotShowAreNoDifference(t *testing.T) {
	t.Parallel()
	want, have := Facts{}, Facts{}
	want.Hide(Server, "r1", "key", "the key")
	have.Unread(Server, "r1", "key")
	require.False(t, have.Shows())
	found := Compare(want, have, func(About, string) string { return "" })
	require.Len(t, found, 1)
	require.Equal(t, []string{Unread, "server r1: the device does not show its key, which may be another"},
		[]string{found[0].Kind, found[0].String()})
	require.Empty(t, Compare(have, want, func(About, string) string { return "" }), "nor is one that is not known here")

	other := Facts{}
	other.Hide(Server, "r1", "key", "another")
	have.Join(other)
	require.True(t, have.Shows(), "another model shows it")
	want.Settle(have, func(site.Secret, site.Secret) bool { return true })
	require.Empty(t, Compare(want, have, func(About, string) string { return "" }))
}
