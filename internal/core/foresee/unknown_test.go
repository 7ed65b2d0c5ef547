package foresee

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"mellowgate/internal/core/site"
)

const unsaid = `
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 6s}
  - {name: r, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 6s, dead-time: 1m}
lists:
  - {name: l, authenticate: login, methods: [group g, local]}
  - {name: s, authorize: session, methods: [group g, local]}
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: a, teams: [net], password: $6$x$y}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`

// depends returns what a case says of the traits that it depends on.
func depends(c Case) []string {
	all := []string{}
	for _, d := range c.Depends {
		all = append(all, d.Trait.Written(d.Value)+" -> "+d.Case.Summary())
	}
	return all
}

func (f Forecaster) unknownCase(t *testing.T, way, who string, silent ...string) Case {
	d := f.Site.Devices[0]
	for _, c := range f.Depending(f.Shapes([]*site.Device{d})[0]).For(d) {
		if c.Way.Name() != way || c.Who.Name != who {
			continue
		}
		all := map[*site.Server]bool{}
		for _, s := range silent {
			all[f.Site.Server(s)] = true
		}
		if c.Holds(all) {
			return c
		}
	}
	t.Fatalf("no case of %s by %s", who, way)
	return Case{}
}

func TestACaseSaysOnWhichUnsaidTraitsItDependsAndWhatItIsThen(t *testing.T) {
	t.Parallel()
	f := withKeys(of(t, unsaid+`
platforms: [{name: switch, behaviour: {password-form: {tacacs: ascii}, level-attribute: radius-standard,
  console-obeys-authorization: true}}]
devices: [{name: d, platform: switch, addresses: [192.0.2.9], access: {console: {login: l, session: s}, ssh: {login: l}},
  accounts: [keeper]}]
`))
	require.Equal(t, []string{"level-without-session: 0 -> low, level 0, by t",
		"level-without-session: 15 -> in, level 15, by t"}, depends(f.unknownCase(t, "ssh", "a")))
	require.Equal(t, []string{"refusal: ends-list -> refused, by t",
		"local-level-needs-session: true -> low, level 1, by local"}, depends(f.unknownCase(t, "ssh", "keeper")),
		"the local account gets in while the servers answer only where a refusal goes on")
	require.Empty(t, depends(f.unknownCase(t, "console", "a")))
	require.Equal(t, []string{"local-level-needs-session: true -> low, level 1, by local, after 6s"},
		depends(f.unknownCase(t, "ssh", "keeper", "t")))
	f.Assume = true
	require.Empty(t, depends(f.unknownCase(t, "ssh", "keeper")),
		"what is not said is taken as the open standards give it")
}

func withKeys(f Forecaster) Forecaster {
	f.Keys = site.Keys{"k": site.NewSecret("one")}
	return f
}

// What a case does not hang on may have any value: worked out with it, the login goes the
// same, step by step.
func TestPropertyALoginGoesTheSameWithAnyValueOfATraitThatItDoesNotHangOn(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		if rapid.Bool().Draw(t, "web") {
			d.text = strings.Replace(d.text, "access: {ssh: {}}", "access: {ssh: {}, web: {}, api: {}}", 1)
		}
		f := d.reckoner(t, d.text)
		f.Faults = rapid.Bool().Draw(t, "faults")
		device := f.Site.Devices[0]
		trait := rapid.SampledFrom(site.ShownTraits()).Draw(t, "trait")
		value := rapid.SampledFrom(trait.Values()).Draw(t, "value")
		traits, ok := device.Kind.Traits.With(trait, value)
		require.True(t, ok, "%s takes no %s", trait, value)
		require.Equal(t, value, traits.Value(trait))
		way := rapid.SampledFrom(device.Ways).Draw(t, "way")
		who := rapid.SampledFrom(f.Whos(device)).Draw(t, "who")
		some := f.Cases(device, way, who)
		if slices.ContainsFunc(some, func(c Case) bool { return slices.Contains(c.consulted, trait) }) {
			return
		}
		others := f.casesOf(device, way, who, device.Behaving(traits))
		require.Len(t, others, len(some))
		for i, o := range others {
			require.Equal(t, some[i].Summary(), o.Summary(), "%s\n%s", trait.Written(value), d.text)
			require.Equal(t, some[i].Wait, o.Wait)
			require.Equal(t, some[i].Again, o.Again)
			require.Len(t, o.Steps, len(some[i].Steps))
		}
	})
}

// Every value of a habit that is supposed is another than the usual one, and of forms that are alike one each.
func TestOnlyOtherValuesAreSupposed(t *testing.T) {
	t.Parallel()
	f := of(t, twoServers+`
lists: [{name: l, authenticate: login, methods: [group g, group q, local]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: a, password: $6$x$y}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [person a], role: all}]
devices: [{name: d1, addresses: [192.0.2.9], access: {console: {login: l}}, accounts: [keeper]}]
`)
	d := f.Site.Devices[0]
	supposed := f.Suppose(f.Shapes(f.Site.Devices)[0])
	require.NotEmpty(t, supposed)
	forms := map[site.Trait]map[bool]bool{}
	for _, s := range supposed {
		usual := d.Kind.Traits.Value(s.Trait)
		require.NotEqual(t, usual, s.Value, s.Trait)
		for _, c := range s.Shape.Cases {
			require.Same(t, s.Shape.Devices[0], c.Device)
			require.Contains(t, c.Device.Ways, c.Way)
		}
		if s.Trait == site.TraitPasswordRADIUS || s.Trait == site.TraitPasswordTACACS {
			require.NotEqual(t, site.OneWay(usual), site.OneWay(s.Value), "servers take any form: %s", s.Value)
			if forms[s.Trait] == nil {
				forms[s.Trait] = map[bool]bool{}
			}
			forms[s.Trait][site.OneWay(s.Value)] = true
		}
	}
	require.NotEmpty(t, forms)
}

// Whether a platform has ports of its own matters only where the site does not say those of the server; and the
// shape that is asked about stays as it is.
func TestPortsThatAreSaidHangOnNoHabit(t *testing.T) {
	t.Parallel()
	for ports, hangs := range map[string]bool{"": true, ", ports: {authentication: 1812, accounting: 1813}": false} {
		f := of(t, `
servers: [{name: t, protocol: tacacs, address: 192.0.2.1, key: k},
  {name: r, protocol: radius, address: 192.0.2.2, key: k`+ports+`}]
lists: [{name: l, authenticate: login, methods: [group q, local]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: a, password: $6$x$y}]
devices: [{name: d1, addresses: [192.0.2.9], access: {console: {login: l}}, accounts: [keeper]}]
`)
		sh := f.Shapes(f.Site.Devices)[0]
		require.Equal(t, hangs, slices.Contains(sh.Unknown(), site.TraitDefaultPorts), ports)
		depends := 0
		for _, c := range f.Depending(sh).Cases {
			depends += len(c.Depends)
		}
		require.Positive(t, depends)
		for _, c := range sh.Cases {
			require.Empty(t, c.Depends)
		}
	}
}
