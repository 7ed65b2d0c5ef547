package foresee_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Devices that differ in one thing that a login depends on are never one shape,
// and those that differ in nothing that counts are.
func TestDevicesAreOneShapeOnlyWhenEveryLoginGoesTheSame(t *testing.T) {
	t.Parallel()
	const text = `site: Test
keys: {k: file k, other: file other}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k}
  - {name: r, protocol: radius, address: 192.0.2.2, key: k}
groups: [{name: g, servers: [t]}, {name: h, servers: [r]}]
lists:
  - {name: l, authenticate: login, methods: [group g, local]}
  - {name: m, authenticate: login, methods: [group h, local]}
platforms: [{name: a, behaviour: {refusal: ends-list}}, {name: b, behaviour: {refusal: tries-next}}]
profiles:
  - {name: p, access: {ssh: {login: l}}, accounts: [keeper]}
  - {name: q, access: {ssh: {login: m}}, accounts: [keeper]}
accounts: [{name: keeper, level: 15, password: $6$a$b}, {name: second, level: 15, password: $6$a$b}]
people: [{name: ines, teams: [net], password: $6$c$d}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, where: {place: [north, south]}, role: all}]
devices:
  - {name: base, platform: a, profile: p, addresses: [192.0.2.10], labels: {place: north}}
  - {name: other, platform: %s, profile: %s, addresses: [192.0.2.11], labels: {place: %s, duty: %s}%s}
`
	base := []any{"a", "p", "north", "edge", ""}
	for name, c := range map[string]struct {
		at   int
		to   any
		same bool
	}{
		"nothing":                           {0, "a", true},
		"a label that no grant asks for":    {3, "core", true},
		"another value that grants as well": {2, "south", true},
		"a value that no grant has":         {2, "west", false},
		"its platform":                      {0, "b", false},
		"its lists":                         {1, "q", false},
		"its accounts":                      {4, ", accounts: [keeper, second]", false},
		"its network":                       {4, ", network: management", false},
		"a key that was found":              {4, ", found: {keys: {t: other}}", false},
		"the source that was found":         {4, ", found: {source: 192.0.2.77}", false},
	} {
		values := append([]any{}, base...)
		values[c.at] = c.to
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: fmt.Appendf(nil, text, values...)})
		require.NoError(t, err, name)
		shapes := foresee.Forecaster{Site: s, Now: time.Now()}.Shapes(s.Devices)
		want := 2
		if c.same {
			want = 1
		}
		require.Len(t, shapes, want, name)
	}
	// And what is foreseen differs where the label does.
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: fmt.Appendf(nil, text, "a", "p", "west", "edge", "")})
	require.NoError(t, err)
	r := foresee.Forecaster{Site: s, Now: time.Now()}
	in := func(device string) bool {
		for _, c := range r.Device(s.Device(device)) {
			if c.Who.Name == "ines" && c.Way.Access == site.SSH && c.Outcome == walk.OutcomeRefused && c.By == "t" {
				return false
			}
		}
		return true
	}
	require.True(t, in("base"))
	require.False(t, in("other"), "a device without the label lets nobody in")
}
