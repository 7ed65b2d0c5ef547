package blueprint

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

const text = `site: x
keys: {k: file k, seed: file s}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s, dead-time: 1m, for: [authentication, accounting]}
  - {name: r, protocol: radius, address: 192.0.2.2, transport: tls}
  - {name: idle, protocol: tacacs, address: 192.0.2.3, key: k}
groups: [{name: gt, servers: [t]}, {name: gr, servers: [r]}, {name: gi, servers: [idle]}]
lists:
  - {name: login, authenticate: login, methods: [group gt, group gr, local]}
  - {name: other, authenticate: login, methods: [local]}
  - {name: raise, authenticate: elevation, methods: [group gt, secret bridge]}
  - {name: rules, authorize: commands, levels: 2-15, methods: [group gt]}
  - {name: visits, account: sessions, when: start, methods: [group gt]}
  - {name: nowhere, authenticate: login, methods: [group gi]}
elevation-secrets: [{name: bridge, level: 12, password: key k}]
accounts: [{name: keeper, level: 15, password: $6$a$b}, {name: kept, level: 3, password: key seed}]
devices:
  - name: d
    addresses: [192.0.2.9, "2001:db8::9"]
    network: management
    accounts: [keeper, kept]
    defaults: {login: login, elevation: raise, commands: rules, record-sessions: visits}
    access: {console: {login: other}, ssh: [{lines: 0-4, login: other}, {lines: 5-15}]}
`

func plan(t *testing.T) Blueprint {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return Of(s.Device("d"))
}

func TestABlueprintHoldsWhatTheDeviceUsesAndNothingElse(t *testing.T) {
	t.Parallel()
	b := plan(t)
	require.Equal(t, []string{"192.0.2.9", "2001:db8::9"}, b.Addresses)
	require.Equal(t, []string{"management", "192.0.2.9", "plain"}, []string{b.Network, b.Source, b.Kind})
	require.Equal(t, []Server{
		{Name: "t", Protocol: "tacacs", Address: "192.0.2.1", Port: 49, Key: "k", Timeout: 2 * time.Second, Attempts: 1,
			DeadTime: time.Minute, Authentication: true, Accounting: true, MessageAuthenticator: true,
			PasswordAs: "ascii",
			Source:     "192.0.2.9", Network: "management"},
		{Name: "r", Protocol: "radius", Address: "192.0.2.2", Port: 2083, AuthenticationPort: 2083,
			AccountingPort: 2083,
			TLS:            true, Timeout: 3 * time.Second, Attempts: 1,
			Authentication: true, Authorization: true, Accounting: true, MessageAuthenticator: true, PasswordAs: "pap",
			Source: "192.0.2.9", Network: "management"},
	}, b.Servers, "in the order in which the lists ask them; idle is asked by none")
	require.Equal(t, []Account{{Name: "keeper", Level: 15, Hash: "$6$a$b"}, {Name: "kept", Level: 3, Key: "seed"}},
		b.Accounts)
	require.Equal(t, []Secret{{"bridge", 12, "", "k"}}, b.Secrets)
	require.Nil(t, b.List("nowhere"))
	require.Nil(t, b.Group("gi"))
	require.Equal(t, &List{Name: "rules", Purpose: "commands", Levels: "2-15", Methods: []string{"group gt"}},
		b.List("rules"))
	require.Equal(t, "start", b.List("visits").When)
	require.Equal(t, []string{"group gt", "secret bridge"}, b.List("raise").Methods)
}

func TestTheMainListIsThatOfTheFirstWayInThatIsNotTheConsole(t *testing.T) {
	t.Parallel()
	b := plan(t)
	list, others := b.Main("login")
	require.Equal(t, "other", list.Name, "ssh 0-4 comes first")
	require.Equal(t, []string{"ssh 5-15 (login)"}, others)
	list, others = b.Main("record-sessions")
	require.Equal(t, "visits", list.Name)
	require.Empty(t, others)
	list, _ = b.Main("session")
	require.Nil(t, list)
	require.Equal(t, map[string]string{"login": "login", "elevation": "raise", "commands": "rules",
		"record-sessions": "visits"}, b.Ways[2].Lists)
}
