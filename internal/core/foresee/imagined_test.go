package foresee

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// imaginary is a small site with a server of every sort.
func imaginary(t *testing.T, forms string) Forecaster {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, other: file other, pass: file pass}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k` + forms + `}
  - {name: s, protocol: radius, transport: tls, address: 192.0.2.2}
  - {name: l, protocol: ldap, address: 192.0.2.3, base: o=x}
platforms: [{name: hashes, behaviour: {password-form: {tacacs: chap}}}]
elevation-secrets: [{name: bridge, level: 12, password: key k}]
accounts: [{name: keeper, level: 15, password: $6$a$b}, {name: ines, level: 5, password: $6$c$d}]
people:
  - {name: ines, teams: [net], password: $6$a$b}
  - {name: clear, teams: [net], password: key pass}
  - {name: watch, teams: [see], password: $6$a$b}
  - {name: idle, teams: [see], password: $6$a$b}
  - {name: past, teams: [net], disabled: true, password: $6$a$b}
roles:
  - {name: all, level: 15, commands: [allow **]}
  - {name: look, level: 3, commands: [refuse **, allow look]}
grants:
  - {who: [team net], from: 192.0.2.0/24, hours: Sun 00:00-00:01, role: all}
  - {who: [team see], role: look}
devices:
  - {name: d, addresses: [192.0.2.9], accounts: [keeper], found: {keys: {t: other}}}
  - {name: h, platform: hashes, addresses: [192.0.2.10], accounts: [keeper]}
`)})
	require.NoError(t, err)
	return Forecaster{Site: s, Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC),
		Keys: site.Keys{"k": site.NewSecret("one"), "other": site.NewSecret("two")}}
}

func (f Forecaster) whoIs(name string) Who {
	return Who{Kind: Known, Name: name, typed: name, person: f.Site.Person(name)}
}

func TestWhatAServerSaysIsWhatTheServiceWouldDecide(t *testing.T) {
	t.Parallel()
	f := imaginary(t, "")
	d := f.Site.Device("d")
	w := &site.Way{Access: "ssh"}
	for name, c := range map[string]struct {
		who     Who
		purpose site.Purpose
		allow   bool
		reason  reason.Reason
	}{
		"wherever they come from and whenever": {f.whoIs("ines"), site.Login, true, reason.Accepted},
		"a local account is no person": {Who{Kind: Local, typed: "keeper"}, site.Login, false,
			reason.UnknownPerson},
		"a person's name on a local account": {Who{Kind: Local, typed: "ines"}, site.Login, false,
			reason.WrongPassword},
		"commands":                               {f.whoIs("ines"), site.Commands, true, reason.Accepted},
		"commands of a role that may do nothing": {f.whoIs("watch"), site.Commands, false, reason.CommandRefused},
		"the session of such a role":             {f.whoIs("watch"), site.Session, true, reason.Accepted},
		"full rights of one who has them":        {f.whoIs("ines"), site.Elevation, true, reason.Accepted},
		"full rights of one who has them not":    {f.whoIs("watch"), site.Elevation, false, reason.NoGrant},
		"commands of one who is not let in":      {f.whoIs("past"), site.Commands, false, reason.Disabled},
	} {
		got := f.decide(d, w, c.who, c.purpose)
		require.Equal(t, []any{c.allow, c.reason}, []any{got.Allow, got.Reason}, name)
	}
	require.Equal(t, "ines", f.whoIs("ines").Typed())
	require.Equal(t, "all", f.RoleOf(Case{Device: d, Way: w, Who: f.whoIs("ines")}).Name)
	require.Nil(t, f.RoleOf(Case{Device: d, Way: w, Who: f.whoIs("past")}))
}

// A device that has no address to ask a server from sends nothing, whatever the server is for.
func TestNothingIsSentWithoutASourceWhateverTheServerIsFor(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`site: S
keys: {k: file k}
servers:
  - {name: six, protocol: radius, address: "2001:db8::1", key: k, for: [authentication]}
  - {name: four, protocol: radius, address: 192.0.2.1, key: k, for: [authentication]}
devices: [{name: d, addresses: [192.0.2.9]}]
`)})
	require.NoError(t, err)
	f := Forecaster{Site: s, Keys: site.Keys{"k": site.NewSecret("one")}}
	d := s.Device("d")
	for purpose, want := range map[site.Purpose][2]reason.Reason{
		site.Login:          {reason.NoSource, ""},
		site.RecordSessions: {reason.NoSource, reason.NotForThis},
	} {
		require.Equal(t, want, [2]reason.Reason{f.Unheard(d, s.Server("six"), purpose),
			f.Unheard(d, s.Server("four"), purpose)}, purpose)
	}
}

func TestAServerThatCannotCheckThePasswordRefuses(t *testing.T) {
	t.Parallel()
	f := imaginary(t, "")
	w := &site.Way{Access: "ssh"}
	login := func(f Forecaster, server, device string, who Who) []any {
		d := f.login(f.Site.Server(server), f.Site.Device(device), w, who, site.Login)
		return []any{d.Allow, d.Reason}
	}
	require.Equal(t, []any{true, reason.Accepted}, login(f, "t", "d", f.whoIs("ines")))
	require.Equal(t, []any{false, reason.PasswordForm}, login(f, "t", "h", f.whoIs("ines")), "CHAP of a hash")
	require.Equal(t, []any{true, reason.Accepted}, login(f, "t", "h", f.whoIs("clear")), "CHAP of a known password")
	require.Equal(t, []any{false, reason.UnknownPerson}, login(f, "t", "h", Who{Kind: Local, typed: "keeper"}))
	only := imaginary(t, ", password-forms: [chap]")
	require.Equal(t, []any{false, reason.PasswordForm}, login(only, "t", "d", only.whoIs("clear")))
	require.Equal(t, []any{true, reason.Accepted}, login(only, "t", "h", only.whoIs("clear")))
	require.Equal(t, []any{true, reason.Reason("")}, login(f, "l", "d", f.whoIs("idle")), "a directory knows no grants")
	require.Equal(t, []any{false, reason.Disabled}, login(f, "l", "d", f.whoIs("past")))
	require.Equal(t, []any{false, reason.UnknownPerson}, login(f, "l", "d", Who{Kind: Local, typed: "keeper"}))
}

func TestSecretsAreKnownToThoseWhoseLevelTheyOpen(t *testing.T) {
	t.Parallel()
	f := imaginary(t, "")
	d, w := f.Site.Device("d"), &site.Way{Access: "ssh"}
	keeper, bridge := f.Site.Accounts[0], f.Site.Elevations[0]
	other := f.Site.Accounts[1]
	is := func(who Who) [3]bool {
		world := &imagined{reckoner: f, device: d, way: w, who: who}
		return [3]bool{world.PasswordIs(keeper), world.PasswordIs(other), world.SecretIs(bridge)}
	}
	require.Equal(t, [3]bool{true, false, true}, is(Who{Kind: Local, typed: "keeper", account: keeper}))
	require.Equal(t, [3]bool{false, false, true}, is(f.whoIs("ines")))
	require.Equal(t, [3]bool{false, false, false}, is(f.whoIs("watch")), "level 3 is below 12")
	other.Password = f.Site.Person("ines").Password
	require.Equal(t, [3]bool{false, true, true}, is(f.whoIs("ines")), "one password in both places")
	require.Equal(t, [3]bool{false, false, false}, is(f.whoIs("watch")), "the same password, and another name")
	require.Equal(t, [3]bool{false, false, false}, is(Who{Kind: Unknown, typed: "ines", account: keeper}))
}

func TestAServerOverTLSNeedsNoKeyAndADirectoryKnowsNoDevice(t *testing.T) {
	t.Parallel()
	f := imaginary(t, "")
	d := f.Site.Device("d")
	require.Equal(t, reason.KeyDiffers, f.Unheard(d, f.Site.Server("t"), site.Login))
	require.Equal(t, reason.Reason(""), f.Unheard(d, f.Site.Server("s"), site.Login))
	require.Contains(t, States(f.Site.Server("t"), true), KeyDiffers)
	require.NotContains(t, States(f.Site.Server("s"), true), KeyDiffers)
	require.NotContains(t, States(f.Site.Server("s"), true), InError)
}

func TestCasesThatDifferInOneThingAreAChange(t *testing.T) {
	t.Parallel()
	same := Case{Outcome: walk.OutcomeIn, Level: 15, By: "group g", Wait: time.Second, Raised: 15}
	require.Empty(t, compareCases([]Case{same}, []Case{same}))
	for name, c := range map[string]struct {
		change   func(*Case)
		waitOnly bool
	}{
		"outcome": {func(c *Case) { c.Outcome = walk.OutcomeRefused }, false},
		"level":   {func(c *Case) { c.Level = 14 }, false},
		"by":      {func(c *Case) { c.By = "local" }, false},
		"stuck":   {func(c *Case) { c.Stuck = true }, false},
		"raised":  {func(c *Case) { c.Raised = 12 }, false},
		"wait":    {func(c *Case) { c.Wait = 2 * time.Second }, true},
	} {
		other := same
		c.change(&other)
		changes := compareCases([]Case{same}, []Case{other})
		require.Len(t, changes, 1, name)
		require.Equal(t, c.waitOnly, changes[0].WaitOnly(), name)
	}
}

func TestPeopleWhoChangeAlikeAreSaidTogether(t *testing.T) {
	t.Parallel()
	full, refused := &Case{Outcome: walk.OutcomeIn, Level: 15}, &Case{Outcome: walk.OutcomeRefused}
	change := func(who, way string, devices []string, when ...Named) Change {
		return Change{People: []string{who}, Way: way, Devices: devices, When: when, Before: full, After: refused}
	}
	joined := joinChanges([]Change{
		change("a", "ssh", []string{"x", "y"}), change("b", "ssh", []string{"x", "y"}),
		change("c", "web", []string{"x", "y"}),
		change("d", "ssh", []string{"x"}), change("e", "ssh", []string{"x", "y"}, Named{"t", Down}),
		{People: []string{"f"}, Way: "ssh", Devices: []string{"x", "y"}, After: refused},
	})
	var people [][]string
	for _, c := range joined {
		people = append(people, c.People)
	}
	require.Equal(t, [][]string{{"a", "b"}, {"c"}, {"d"}, {"e"}, {"f"}}, people)
}

func TestOutagesGoFromNoneToAllByNumber(t *testing.T) {
	t.Parallel()
	a := &site.Server{Port: 1}
	b := &site.Server{Port: 2}
	c := &site.Server{Port: 3}
	require.Equal(t, []Outage{{}, {a: true}, {b: true}, {c: true}, {a: true, b: true}, {a: true, c: true},
		{b: true, c: true}, {a: true, b: true, c: true}}, Outages([]*site.Server{a, b, c}))
	require.Equal(t, []Outage{{}}, Outages(nil))
}

func TestWhoIsNamedOrBearsTheNameOfAnAccountStandsAlone(t *testing.T) {
	t.Parallel()
	f := imaginary(t, "")
	var names [][]string
	for _, group := range f.subjects() {
		var of []string
		for _, w := range group {
			of = append(of, w.Name)
		}
		names = append(names, of)
	}
	require.Equal(t, [][]string{{"ines (the servers' password)"}, {"clear"}, {"watch", "idle"}, {"past"}}, names)
}

func TestTheSecondLoginIsForeseenUnlessItIsToBeBrief(t *testing.T) {
	t.Parallel()
	for brief, want := range map[bool]bool{false: true, true: false} {
		f := reckoner(t, reviewed)
		f.SkipSecond = brief
		again := false
		for _, c := range f.Shapes([]*site.Device{f.Site.Device("north-rtr-1")})[0].Cases {
			again = again || c.Again != nil
			require.True(t, c.Again == nil || c.Rests, "only a server that is left alone makes the second differ")
		}
		require.Equal(t, want, again)
	}
}
