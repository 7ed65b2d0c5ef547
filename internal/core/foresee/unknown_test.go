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

// depends returns what a case says of the aspects that it depends on.
func depends(c Case) []string {
	all := []string{}
	for _, d := range c.Depends {
		all = append(all, d.Aspect.Written(d.Value)+" -> "+d.Case.Summary())
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

func TestACaseSaysOnWhichUnsaidAspectsItDependsAndWhatItIsThen(t *testing.T) {
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
func TestPropertyALoginGoesTheSameWithAnyValueOfAAspectThatItDoesNotHangOn(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		if rapid.Bool().Draw(t, "web") {
			d.text = strings.Replace(d.text, "access: {ssh: {}}", "access: {ssh: {}, web: {}, api: {}}", 1)
		}
		f := d.reckoner(t, d.text)
		f.Faults = rapid.Bool().Draw(t, "faults")
		device := f.Site.Devices[0]
		aspect := rapid.SampledFrom(site.ShownAspects()).Draw(t, "trait")
		value := rapid.SampledFrom(aspect.Values()).Draw(t, "value")
		behaviour, ok := device.Platform.Behaviour.With(aspect, value)
		require.True(t, ok, "%s takes no %s", aspect, value)
		require.Equal(t, value, behaviour.Value(aspect))
		way := rapid.SampledFrom(device.Ways).Draw(t, "way")
		who := rapid.SampledFrom(f.Whos(device)).Draw(t, "who")
		some := f.Cases(device, way, who)
		if slices.ContainsFunc(some, func(c Case) bool { return slices.Contains(c.consulted, aspect) }) {
			return
		}
		others := f.casesOf(device, way, who, device.Behaving(behaviour))
		require.Len(t, others, len(some))
		for i, o := range others {
			require.Equal(t, some[i].Summary(), o.Summary(), "%s\n%s", aspect.Written(value), d.text)
			require.Equal(t, some[i].Wait, o.Wait)
			require.Equal(t, some[i].Again, o.Again)
			require.Len(t, o.Steps, len(some[i].Steps))
		}
	})
}

// Every value of an aspect that is supposed is another than the usual one, and of forms that are alike one each.
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
	forms := map[site.Aspect]map[bool]bool{}
	for _, s := range supposed {
		usual := d.Platform.Behaviour.Value(s.Aspect)
		require.NotEqual(t, usual, s.Value, s.Aspect)
		for _, c := range s.Shape.Cases {
			require.Same(t, s.Shape.Devices[0], c.Device)
			require.Contains(t, c.Device.Ways, c.Way)
		}
		if s.Aspect == site.AspectPasswordRADIUS || s.Aspect == site.AspectPasswordTACACS {
			require.NotEqual(t, site.OneWay(usual), site.OneWay(s.Value), "servers take any form: %s", s.Value)
			if forms[s.Aspect] == nil {
				forms[s.Aspect] = map[bool]bool{}
			}
			forms[s.Aspect][site.OneWay(s.Value)] = true
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
		require.Equal(t, hangs, slices.Contains(sh.Unknown(), site.AspectDefaultPorts), ports)
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
