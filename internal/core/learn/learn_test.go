package learn

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/testscale"
)

const common = `site: Learned
keys: {k: file k}
vendors: [{name: example, number: 32473, attributes: [{name: Example-Level, number: 1, type: integer}]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
platforms: [{name: make}]
`

// designs are sites of which nothing is known of the make.
var designs = map[string]string{
	"tacacs": common + `
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s, dead-time: 1m}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 2s, dead-time: 1m}
groups: [{name: t, servers: [t1, t2]}]
lists:
  - {name: l, authenticate: login, methods: [group t, local]}
  - {name: first, authenticate: login, methods: [local, group t]}
  - {name: s, authorize: session, methods: [group t, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group t]}
devices: [{name: d, platform: make, addresses: [192.0.2.9], accounts: [keeper], access: {
  console: {login: l, session: s}, ssh: {login: l, session: s, record-sessions: v}, telnet: {login: first},
  web: {login: l, session: s}, api: {login: l}, netconf: {}}}]
`,
	"radius": common + `
servers:
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 2s, attempts: 2, dead-time: 1m}
  - {name: r2, protocol: radius, address: 192.0.2.4, key: k, timeout: 2s, attempts: 2, dead-time: 1m}
groups: [{name: r, servers: [r1, r2]}]
lists:
  - {name: l, authenticate: login, methods: [group r, local]}
  - {name: s, authorize: session, methods: [group r, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group r]}
devices: [{name: d, platform: make, addresses: [192.0.2.9], accounts: [keeper], access: {
  console: {login: l, session: s}, ssh: {login: l, session: s, record-sessions: v}, telnet: {login: l},
  web: {login: l, session: s}}}]
`,
	"few": common + `
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s, dead-time: 1m}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 2s, dead-time: 1m}
groups: [{name: t, servers: [t1, t2]}]
lists:
  - {name: l, authenticate: login, methods: [group t, local]}
  - {name: first, authenticate: login, methods: [local, group t]}
  - {name: s, authorize: session, methods: [group t, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group t]}
devices: [{name: d, platform: make, addresses: [192.0.2.9], accounts: [keeper], access: {
  console: {login: l, session: s}, ssh: {login: l, session: s, record-sessions: v}, telnet: {login: first},
  web: {login: l, session: s}}}]
`,
	"both": common + `
servers:
  - {name: r1, protocol: radius, address: 192.0.2.3, ports: {authentication: 1812, accounting: 1813}, key: k,
     timeout: 1s, attempts: 3}
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 3s, dead-time: 5m}
groups: [{name: r, servers: [r1]}, {name: t, servers: [t1]}]
lists:
  - {name: l, authenticate: login, methods: [group r, group t, local]}
  - {name: s, authorize: session, methods: [group t, local]}
devices: [{name: d, platform: make, addresses: [192.0.2.9], accounts: [keeper], access: {
  console: {login: l}, ssh: {login: l, session: s}}}]
`,
}

// reckoner reads a design, with the people of experiments.
func reckoner(t testing.TB, text string) foresee.Forecaster {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	Cast(s, s.Platforms[0])
	return foresee.Forecaster{Site: s, Keys: site.Keys{"k": site.NewSecret("one"), LearnersKey: site.NewSecret("two")},
		Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
}

// pretender is a device that behaves in some way, and counts logins in a row that fail.
type pretender struct {
	*Pretender
	failed, most int
}

func (p *pretender) try(e Experiment) []Seen {
	seen := p.Try(e)
	for _, s := range seen {
		p.failed++
		if s.In {
			p.failed = 0
		}
		p.most = max(p.most, p.failed)
	}
	return seen
}

// learned lets a learner find out how a device behaves.
func learned(t testing.TB, f foresee.Forecaster, behaviour site.Behaviour, say func(string)) (*Learner, *pretender) {
	t.Helper()
	d := f.Site.Devices[0]
	l, err := New(Options{Reckoner: f, Device: d, Account: "keeper"})
	require.NoError(t, err)
	p := &pretender{Pretender: NewPretender(f, d, d.Behaving(behaviour))}
	for _, e := range l.Back() {
		seen := p.try(e)
		say(Describe(e, seen))
		if seen[0].In { // else the way back is not proven by it, and nothing is learned
			l.Saw(e, seen)
			break
		}
	}
	for range 60 {
		e, more := l.Next()
		if !more {
			return l, p
		}
		seen := p.try(e)
		say(fmt.Sprint(e.About, " ", Describe(e, seen)))
		l.Saw(e, seen)
	}
	t.Fatal("it never ends")
	return nil, nil
}

// values are all that an aspect may be set to in a pretender.
func values(l *Learner, t site.Aspect) []string {
	if all := l.candidates(t); all != nil {
		return all
	}
	return t.Values()
}

// devices is how many devices of random behaviour are learned.
var devices = flag.Int("devices", testscale.Of(1, 4), "how many devices that behave at random")

func TestWhatIsClaimedIsWhatWasSetAndNothingElseIsClaimed(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(11, 4))
	left, times := map[string][]int{}, map[string]int{}
	claimed := map[string]int{}
	set := map[string]int{}
	logins := 0
	var longest time.Duration
	if underRace { // nothing here runs beside something else; the plain run tries more
		*devices = 1
	}
	for n := range *devices {
		name := []string{"tacacs", "radius", "few", "both"}[n%4]
		f := reckoner(t, designs[name])
		behaviour := f.Site.Platforms[0].Behaviour
		all, err := New(Options{Reckoner: f, Device: f.Site.Devices[0], Account: "keeper"})
		require.NoError(t, err)
		for _, aspect := range all.Open() {
			some := values(all, aspect)
			key := name + aspect.String()
			if len(left[key]) == 0 { // each value as often as the others, in an order of chance
				left[key] = random.Perm(len(some))
			}
			value := some[left[key][0]]
			left[key] = left[key][1:]
			times[aspect.String()+": "+value]++
			var ok bool
			behaviour, ok = behaviour.With(aspect, value)
			require.True(t, ok)
		}
		var said []string
		l, p := learned(t, f, behaviour, func(text string) { said = append(said, text) })
		require.Empty(t, l.Odd(), "%s", strings.Join(said, "\n"))
		for aspect, value := range l.Claimed() {
			require.Equal(t, behaviour.Value(aspect), value, "%s\n%s", aspect, strings.Join(said, "\n"))
			claimed[name+" "+aspect.String()]++
		}
		for _, aspect := range l.Open() {
			require.Contains(t, l.Left(aspect), behaviour.Value(aspect))
			set[name+" "+aspect.String()]++
		}
		logins = max(logins, p.Logins())
		longest = max(longest, p.Took)
		require.LessOrEqual(t, p.most, 3, "%s", strings.Join(said, "\n"))
	}
	for _, name := range slices.Sorted(maps.Keys(set)) {
		t.Logf("%-45s %d of %d", name, claimed[name], set[name])
	}
	for _, name := range []string{"tacacs password-form tacacs", "tacacs refusal", "tacacs accounting-failure",
		"tacacs console-obeys-authorization", "tacacs default-login", "radius password-form radius", "radius refusal",
		"radius notices-closed-port", "radius default-ports", "radius level-attribute", "both refusal"} {
		require.Equal(t, set[name], claimed[name], "%s shows in a login of this design", name)
	}
	for written, n := range times {
		if *devices >= 200 {
			require.GreaterOrEqual(t, n, 10, written)
		}
	}
	t.Log("at most", logins, "logins and", longest)
	require.LessOrEqual(t, logins, 40)
}
