package learn

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

const common = `site: Learned
keys: {k: file k}
vendors: [{name: example, number: 32473, attributes: [{name: Example-Level, number: 1, type: integer}]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
kinds: [{name: make}]
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
devices: [{name: d, kind: make, addresses: [192.0.2.9], accounts: [keeper], access: {
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
devices: [{name: d, kind: make, addresses: [192.0.2.9], accounts: [keeper], access: {
  console: {login: l, session: s}, ssh: {login: l, session: s, record-sessions: v}, telnet: {login: l},
  web: {login: l, session: s}}}]
`,
	"both": common + `
servers:
  - {name: r1, protocol: radius, address: 192.0.2.3, ports: {authentication: 1812, accounting: 1813}, key: k, timeout: 1s, attempts: 3}
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 3s, dead-time: 5m}
groups: [{name: r, servers: [r1]}, {name: t, servers: [t1]}]
lists:
  - {name: l, authenticate: login, methods: [group r, group t, local]}
  - {name: s, authorize: session, methods: [group t, local]}
devices: [{name: d, kind: make, addresses: [192.0.2.9], accounts: [keeper], access: {
  console: {login: l}, ssh: {login: l, session: s}}}]
`,
}

// reckoner reads a design, with the people of experiments.
func reckoner(t testing.TB, text string) foresee.Reckoner {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	Cast(s, s.Kinds[0])
	return foresee.Reckoner{Site: s, Keys: site.Keys{"k": site.NewSecret("one"), LearnersKey: site.NewSecret("two")},
		Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
}

// pretender is a device that behaves in some way, and remembers what it was asked.
type pretender struct {
	f       foresee.Reckoner
	d, as   *site.Device
	history []foresee.Login
	pause   time.Duration
	took    time.Duration
	failed  int // in a row
	most    int
}

func (p *pretender) try(e Experiment) []Seen {
	from := len(p.history)
	for i, g := range e.Logins {
		if i == 0 {
			g.After += p.pause
		}
		p.history = append(p.history, g)
	}
	p.pause = e.Rest
	ends, _ := p.f.Series(p.d, p.as, p.history)
	var seen []Seen
	for i, end := range ends[from:] {
		s := Seen{In: end.In, Level: end.Level, Asked: Asked(p.f, p.as, end.Steps), Wait: end.Wait}
		if !end.In || !site.HasShell(e.Logins[i].Way.Access) {
			s.Level = NoLevel
		}
		p.failed++
		if end.In {
			p.failed = 0
		}
		p.most = max(p.most, p.failed)
		p.took += end.Wait + e.Logins[i].After + time.Second
		seen = append(seen, s)
	}
	p.took += e.Rest
	return seen
}

// learned lets a learner find out how a device behaves.
func learned(t testing.TB, f foresee.Reckoner, traits site.Traits, say func(string)) (*Learner, *pretender) {
	t.Helper()
	d := f.Site.Devices[0]
	l, err := New(Options{Reckoner: f, Device: d, Account: "keeper"})
	require.NoError(t, err)
	p := &pretender{f: f, d: d, as: d.Behaving(traits)}
	if e, ok := l.Back(); ok {
		seen := p.try(e)
		say(Describe(e, seen))
		l.Saw(e, seen)
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

// values are all that a trait may be set to in a pretender.
func values(l *Learner, t site.Trait) []string {
	if all := l.candidates(t); all != nil {
		return all
	}
	return t.Values()
}

func TestWhatIsClaimedIsWhatWasSetAndNothingElseIsClaimed(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(11, 4))
	claimed, set, logins := map[string]int{}, map[string]int{}, 0
	var longest time.Duration
	for n := range 45 {
		name := []string{"tacacs", "radius", "both"}[n%3]
		f := reckoner(t, designs[name])
		traits := f.Site.Kinds[0].Traits
		all, err := New(Options{Reckoner: f, Device: f.Site.Devices[0], Account: "keeper"})
		require.NoError(t, err)
		for _, trait := range all.Open() {
			some := values(all, trait)
			value := some[random.IntN(len(some))]
			var ok bool
			traits, ok = traits.With(trait, value)
			require.True(t, ok)
		}
		var said []string
		l, p := learned(t, f, traits, func(text string) { said = append(said, text) })
		require.Empty(t, l.Odd(), "%s", strings.Join(said, "\n"))
		for trait, value := range l.Claimed() {
			require.Equal(t, traits.Value(trait), value, "%s\n%s", trait, strings.Join(said, "\n"))
			claimed[name+" "+trait.String()]++
		}
		for _, trait := range l.Open() {
			require.Contains(t, l.Left(trait), traits.Value(trait))
			set[name+" "+trait.String()]++
		}
		logins = max(logins, len(p.history))
		longest = max(longest, p.took)
		require.LessOrEqual(t, p.most, 3, "%s", strings.Join(said, "\n"))
	}
	names := make([]string, 0, len(set))
	for name := range set {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		t.Logf("%-45s %d of %d", name, claimed[name], set[name])
	}
	t.Log("at most", logins, "logins and", longest)
	require.LessOrEqual(t, logins, 40)
}
