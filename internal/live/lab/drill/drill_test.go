package drill

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/testscale"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

const text = `site: Drilled
keys: {a: file a, b: file b}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: a, timeout: 2s, dead-time: 1m, run: true}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: a, timeout: 2s, dead-time: 1m, run: true}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: b, timeout: 2s, attempts: 2, run: true, message-authenticator: required}
  - {name: d1, protocol: ldap, address: 192.0.2.4, base: "ou=people,dc=example", bind: {dn: "cn=gate,dc=example", key: b}, filter: "(&(objectClass=person)(uid=%u))", tls: start, timeout: 2s, dead-time: 1m}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1]}, {name: d, servers: [d1]}]
lists:
  - {name: l, authenticate: login, methods: [group t, local]}
  - {name: lr, authenticate: login, methods: [group r, local]}
  - {name: ld, authenticate: login, methods: [group d, local]}
  - {name: s, authorize: session, methods: [group t, local]}
platforms: [{name: odd, behaviour: {refusal: tries-next, unknown-account: ends-list, password-form: {radius: chap}, below-level: reads}}]
accounts: [{name: keeper, level: 15, password: 'HASH'}]
devices:
  - {name: sw, addresses: [192.0.2.11], accounts: [keeper], access: {ssh: {login: l, session: s}, telnet: {login: l, session: s}, web: {login: l, session: s}, api: {login: l, session: s}, console: {login: l}, netconf: {login: l, session: s}}}
  - {name: ap, platform: odd, addresses: [192.0.2.12], accounts: [keeper], access: {ssh: {login: lr}}}
  - {name: door, addresses: [192.0.2.13], accounts: [keeper], access: {ssh: {login: ld}}}
people:
  - {name: ines, teams: [net], password: 'HASH'}
  - {name: tobin, teams: [watch], password: 'HASH', disabled: true}
  - {name: kept, teams: [watch], password: key b}
roles:
  - {name: all, level: 15, commands: [allow **]}
  - {name: lookout, level: 1, commands: [allow look **]}
grants: [{who: team net, role: all}, {who: team watch, access: [ssh, web], role: lookout}]
`

func parsed(t *testing.T) (*site.Site, site.Keys) { return parsedAs(t, text) }

func parsedAs(t *testing.T, text string) (*site.Site, site.Keys) {
	hash, err := secrets.Hash("something", 64, 1)
	require.NoError(t, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.ReplaceAll(text, "HASH", hash))})
	require.NoError(t, err)
	s.Lab.Network = labtest.Network(t)
	return s, site.Keys{"a": site.NewSecret("the-key-a-of-these-tests"),
		"b": site.NewSecret("the-key-b-of-these-tests")}
}

// Every way in, odd aspects, every fault alone and in pairs: what happens is what
// was foreseen.
func TestEveryLoginInEveryFaultComesOutAsForeseen(t *testing.T) {
	t.Parallel()
	s, keys := parsed(t)
	n, every := 0, testscale.Of(5, 1)
	if underRace { // a part of them, as they come
		every = 5
	}
	r, err := Start(context.Background(), Options{Site: s, Keys: keys, Faults: true, Factor: 5, Rate: 120,
		Choose: func(foresee.Case) bool { n++; return n%every == 0 }})
	require.NoError(t, err)
	require.Greater(t, len(r.Runs), 500/every)
	ways := map[string]bool{}
	states := map[foresee.State]bool{}
	again := 0
	for _, run := range r.Runs {
		if !run.Match { // a busy machine answers late; alone, in the site's own time, it does not
			s, keys := parsed(t)
			r, err := Start(context.Background(), Options{Site: s, Keys: keys, Faults: true, Factor: 1, Rate: 20,
				Choose: func(c foresee.Case) bool { return nameOf(c) == nameOf(run.Case) }})
			require.NoError(t, err)
			require.NotEmpty(t, r.Runs)
			for _, run := range r.Runs {
				require.True(t, run.Match || tooLate(run), "%s: %s\n%+v\n%+v", nameOf(run.Case), run.Why, run.Foreseen,
					run.Seen)
			}
		}
		ways[run.Case.Way.Access] = true
		for _, w := range run.Case.When {
			states[w.State] = true
		}
		if run.Again {
			again++
		}
	}
	require.Len(t, ways, 6)
	require.Len(t, states, 6)
	require.Greater(t, again, 50/every)
	require.Empty(t, r.Skipped)
}

// A lab that does something else than the site says is noticed.
func TestWhatWasNotForeseenIsAMismatch(t *testing.T) {
	t.Parallel()
	s, keys := parsed(t)
	choose := func(c foresee.Case) bool {
		return c.Device.Name == "sw" && c.Way.Access == site.SSH && c.Who.Name == "ines"
	}
	r, err := Start(context.Background(),
		Options{Site: s, Keys: keys, Choose: choose, Lab: lab.Config{}, meddle: func(l *lab.Lab) {
			f, err := lab.ParseFault(s, "t1 no-authentication")
			require.NoError(t, err)
			l.Set(f)
		}})
	require.NoError(t, err)
	require.Less(t, r.Matched, len(r.Runs))
	run := r.Runs[0]
	require.False(t, run.Match)
	require.True(t, run.Retried)
	// t2 decides; on a machine so busy that it is late too, or the login is, something else is seen.
	require.Contains(t, run.Why, "was foreseen")
	require.NotEmpty(t, run.Foreseen.Steps)
	require.NotEmpty(t, run.Seen.Steps)
}

func TestAMismatchNamesWhatDiffers(t *testing.T) {
	t.Parallel()
	in := Story{Outcome: walk.OutcomeIn, Level: 15, By: "t1", Wait: 4}
	with := func(change func(*Story)) Story { s := in; change(&s); return s }
	for want, seen := range map[string]Story{
		"":                                      in,
		"in was foreseen, and refused was seen": with(func(s *Story) { s.Outcome = walk.OutcomeRefused }),
		"level 15 was foreseen, and level 1 was seen":       with(func(s *Story) { s.Level = 1 }),
		"t1 was foreseen to decide, and nobody did":         with(func(s *Story) { s.By = "" }),
		"a wait of 4.0 s was foreseen, and 2.0 s were seen": with(func(s *Story) { s.Wait = 2 }),
		"a wait of 4.0 s was foreseen, and 9.0 s were seen": with(func(s *Story) { s.Wait = 9 }),
	} {
		require.Equal(t, want, mismatch(in, seen, 10), fmt.Sprint(seen))
	}
	require.Empty(t, mismatch(in, with(func(s *Story) { s.Wait = 3.85 }), 10), "jitter")
	require.Empty(t, mismatch(in, with(func(s *Story) { s.Wait = 6 }), 10), "a busy machine, at a tenth of the time")
}

func TestADrillEndsWithItsContext(t *testing.T) {
	t.Parallel()
	s, keys := parsed(t)
	ctx, cancel := context.WithCancel(context.Background())
	_, err := Start(ctx, Options{Site: s, Keys: keys, Faults: true, Done: func(done, _ int) {
		if done > 20 {
			cancel()
		}
	}})
	require.ErrorIs(t, err, context.Canceled)
}
