package foresee

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// peopled is a site whose people are of every sort, with two devices that differ by
// what more says of the second.
func peopled(t *testing.T, more string) Forecaster {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, k2: file k2}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 1s}
  - {name: r, protocol: radius, address: 192.0.2.2, key: k, timeout: 1s, attempts: 1}
  - {name: d, protocol: ldap, address: 192.0.2.3, base: o=x, team-attribute: memberOf}
groups: [{name: g, servers: [t]}, {name: q, servers: [r]}]
directories: [d]
platforms: [{name: k1, behaviour: {refusal: ends-list}}]
lists:
  - {name: l, authenticate: login, methods: [group g, group q, local]}
  - {name: s, authorize: session, methods: [group g, group q, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group q]}
accounts: [{name: keeper, level: 15, password: $6$a$b}, {name: one, level: 15, password: $6$c$d},
  {name: deck, level: 7, password: none}]
people: [{name: one, teams: [net], password: $6$c$d}, {name: limited, from: directory},
  {name: gone, from: directory, disabled: true}]
roles: [{name: all, level: 15, commands: [allow **]}, {name: look, level: 1, commands: [allow look]}]
grants:
  - {who: [team net], from: [192.0.2.0/24], hours: Mon 06:00-20:00, role: all}
  - {who: [team watch], devices: [d1], role: all}
  - {who: [team watch], role: look}
lab: {people: [{name: ebba, teams: [watch, net], password: $6$a$b}]}
profiles: [{name: p, accounts: [keeper, one, deck], access: {ssh: {login: l, session: s, record-sessions: v}}}]
devices:
  - {name: d1, platform: k1, profile: p, addresses: [192.0.2.9]}
  - {name: d2, platform: k1, profile: p, addresses: [192.0.2.10]` +
		more + `}
`)})
	require.NoError(t, err)
	return Forecaster{Site: s, Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
}

// up returns how a login at a device comes out while every server is up.
func (f Forecaster) up(device string, who Who) string {
	d := f.Site.Device(device)
	for _, c := range f.Cases(d, d.Way(site.SSH), who) {
		if c.Holds(nil) {
			return c.Summary()
		}
	}
	return "nothing"
}

func TestEverybodyWhoMatters(t *testing.T) {
	t.Parallel()
	f := peopled(t, "")
	d := f.Site.Device("d1")
	names := map[string]string{}
	for _, w := range f.Whos(d) {
		names[w.Name] = f.up("d1", w)
	}
	require.Equal(t, map[string]string{
		"one (the servers' password)": "in, level 15, by t",
		"one (the device's password)": "in, level 15, by t", // the two are one
		"gone":                        "refused, by t",
		"anyone of team net":          "in, level 15, by t",
		"anyone of team watch":        "in, level 15, by t",
		"anyone else in a directory":  "refused, by t",
		"keeper":                      "refused, by t",
		"unknown":                     "refused, by t",
		"anyone":                      "refused, by t",
	}, names, "nobody for an account without a password, nor for whom a directory limits")
	for name, want := range map[string]string{"team net": "anyone of team net",
		"someone.of.watch": "anyone of team watch",
		"one":              "one (the servers' password)", "ebba": "ebba", "keeper": "keeper", "unknown": "unknown",
		"gone": "gone"} {
		w, known := f.Find(d, name)
		require.True(t, known, name)
		require.Equal(t, want, w.Name)
		_, member := w.Member()
		require.Equal(t, strings.HasPrefix(want, "anyone of") || want == "ebba", member, name)
		require.Equal(t, member || name == "gone", w.OfDirectory(), name)
	}
	for _, name := range []string{"team ", "team nobody", "limited", "deck", ""} {
		_, known := f.Find(d, name)
		require.False(t, known, name)
	}
	w, known := f.Account(d, "one")
	require.True(t, known && w.Kind == Local)
	_, known = f.Account(d, "deck")
	require.False(t, known)
	both := InTeams("per", []string{"watch", "net"})
	require.Equal(t, "in, level 15, by t", f.up("d1", both))
	require.Equal(t, "look", f.role("d2", InTeams("per", []string{"watch"})))
	require.Empty(t, f.role("d2", InTeams("per", nil)))
	f.Site.Directories = nil
	require.Equal(t, "refused, by t", f.up("d1", both), "servers that ask no directory know nobody of it")
}

func (f Forecaster) role(device string, who Who) string {
	d := f.Site.Device(device)
	if r := f.RoleOf(Case{Device: d, Way: d.Way(site.SSH), Who: who}); r != nil {
		return r.Name
	}
	return ""
}

func TestHoursAndAddressesAreMetUnlessTheyAreSaid(t *testing.T) {
	t.Parallel()
	f := peopled(t, "")
	who, _ := f.Find(f.Site.Device("d1"), "team net")
	require.Equal(t, "all", f.role("d1", who))
	f.From = netip.MustParseAddr("192.0.2.77")
	require.Equal(t, "all", f.role("d1", who))
	f.At = f.Now // a Monday at noon
	require.Equal(t, "all", f.role("d1", who))
	f.At = f.Now.Add(24 * time.Hour)
	require.Empty(t, f.role("d1", who), "of hours")
	f.At, f.From = time.Time{}, netip.MustParseAddr("198.51.100.1")
	require.Empty(t, f.role("d1", who), "of addresses")
}

// Devices are alike unless something that a login can depend on tells them apart.
func TestWhatTellsDevicesApart(t *testing.T) {
	t.Parallel()
	for more, alike := range map[string]bool{
		"":                              false, // a grant names one of them
		", found: {keys: {t: k2}}":      false,
		", found: {keys: {r: k2}}":      false,
		", found: {source: 192.0.2.99}": false,
		", found: {ports: {r: {authentication: 1645, accounting: 1646}}}": false,
	} {
		f := peopled(t, more)
		require.Equal(t, alike, len(f.Shapes(f.Site.Devices)) == 1, more)
		f.Site.Grants[1].Devices = nil // then only what is found tells them apart
		require.Equal(t, more == "", len(f.Shapes(f.Site.Devices)) == 1, more)
	}
	f := peopled(t, "")
	f.Site.Grants[1].Devices = nil
	n := 0
	for sh := range f.Each(f.Site.Devices) {
		require.Len(t, sh.Devices, 2)
		n++
		break
	}
	require.Equal(t, 1, n)
}

// A server that answers logins and keeps no records is a state of its own where it
// keeps records for the way in, and none elsewhere.
func TestRecordsAloneAreLost(t *testing.T) {
	t.Parallel()
	f := peopled(t, "")
	f.Records = true
	d := f.Site.Device("d1")
	who, _ := f.Find(d, "team net")
	states := map[string]map[State]bool{}
	var lost Case
	for _, c := range f.Cases(d, d.Way(site.SSH), who) {
		for _, w := range c.When {
			if states[w.Server.Name] == nil {
				states[w.Server.Name] = map[State]bool{}
			}
			states[w.Server.Name][w.State] = true
		}
		if c.In(map[*site.Server]State{f.Site.Server("r"): NoRecords}) {
			lost = c
		}
	}
	require.Equal(t, map[State]bool{Up: true, Down: true}, states["t"], "it keeps no records here")
	require.Equal(t, map[State]bool{Up: true, Down: true, NoRecords: true}, states["r"])
	require.Equal(t, []any{walk.OutcomeIn, "t", time.Duration(0)}, []any{lost.Outcome, lost.By, lost.Steps[0].Took})
	require.Equal(t, "in, level 15, by t, after 1s", lost.Summary())
	d.Platform.Behaviour.RecordFailureBlocks = true
	for _, c := range f.Cases(d, d.Way(site.SSH), who) {
		if c.In(map[*site.Server]State{f.Site.Server("r"): NoRecords}) {
			require.Equal(t, walk.OutcomeRefused, c.Outcome)
		}
	}
}

// What passed the login is what is typed, whoever decides afterwards.
func TestTheSecretThatPassesALoginIsWhatIsTyped(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`site: S
keys: {k: file k}
servers:
  - {name: r, protocol: radius, address: 192.0.2.1, key: k}
  - {name: t, protocol: tacacs, address: 192.0.2.2, key: k, dead-time: 1m}
groups: [{name: g, servers: [r]}, {name: h, servers: [t]}]
lists:
  - {name: l, authenticate: login, methods: [group g, secret bridge]}
  - {name: s, authorize: session, methods: [group h]}
elevation-secrets: [{name: bridge, level: 15, password: $6$a$b}]
people: [{name: ines, teams: [net], password: $6$a$b}, {name: odd, teams: [none], password: $6$a$b}]
roles: [{name: all, level: 15}]
grants: [{who: [team net], role: all}]
devices: [{name: d, addresses: [192.0.2.9], access: {ssh: {login: l, session: s}}}]
`)})
	require.NoError(t, err)
	f := Forecaster{Site: s, Keys: site.Keys{"k": site.NewSecret("one")}, Now: time.Now()}
	d := s.Device("d")
	typed := map[string]string{}
	for _, c := range f.Device(d) {
		if c.Who.Name != "ines" {
			continue
		}
		secret := "their own"
		if s := c.SecretOf(site.Login); s != nil {
			secret = s.Name
		}
		require.Nil(t, c.SecretOf(site.Elevation))
		if c.Again != nil && c.Again.Secret != nil {
			secret += ", then " + c.Again.Secret.Name
		}
		silent, _ := c.Split()
		typed[strings.Join(silent, " ")] = secret
	}
	require.Equal(t, map[string]string{"": "their own", "r": "bridge", "t": "their own", "r t": "bridge, then bridge"},
		typed)
	for _, c := range f.Device(d) {
		require.True(t, c.Who.Name != "odd" || c.SecretOf(site.Login) == nil,
			"who has no right to the level does not know its secret")
	}
}
