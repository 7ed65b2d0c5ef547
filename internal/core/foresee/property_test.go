package foresee

import (
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/testscale"
)

func init() {
	if err := flag.Set("rapid.checks", strconv.Itoa(testscale.Of(25, 100))); err != nil {
		panic(err)
	}
}

// drawn is a random site, as text with a place for one more server.
type drawn struct {
	text  string
	group string // a group that can take one more server
}

// draw makes a random site: servers of each protocol, groups, lists with any
// methods that make sense, and a platform with any aspects.
func draw(t *rapid.T) drawn {
	one := func(name string, of ...string) string { return rapid.SampledFrom(of).Draw(t, name) }
	var b strings.Builder
	b.WriteString("site: Drawn\nkeys: {k: file k, k2: file k2}\nservers:\n")
	count := map[string]int{"tacacs": rapid.IntRange(1, 3).Draw(t, "tacacs"),
		"radius": rapid.IntRange(0, 2).Draw(t, "radius")}
	var groups []string
	var all []string
	for _, protocol := range []string{"tacacs", "radius"} {
		var names []string
		for i := range count[protocol] {
			name := fmt.Sprintf("%s%d", protocol[:1], i)
			names = append(names, name)
			fmt.Fprintf(&b, "  - {name: %s, protocol: %s, address: 192.0.2.%d, key: k, timeout: %s, dead-time: %s}\n",
				name,
				protocol, len(all)+len(names),
				one("wait", "1s", "5s"), one("rest", "0", "1m"))
		}
		if len(names) > 0 {
			groups = append(groups, protocol)
			all = append(all, fmt.Sprintf("{name: %s, servers: [%s]}", protocol, strings.Join(names, ", ")))
		}
	}
	fmt.Fprintf(&b, "#MORE\ngroups: [%s]\n", strings.Join(all, ", "))
	b.WriteString("elevation-secrets: [{name: bridge, password: $6$a$b}]\nlists:\n")
	methods := func(name string, ends ...string) string {
		list := []string{"group " + one(name+" first", groups...)}
		if rapid.Bool().Draw(t, name+" two groups") {
			list = append(list, "group "+one(name+" second", groups...))
		}
		if end := one(name+" end", append(ends, "")...); end != "" {
			list = append(list, end)
		}
		return strings.Join(list, ", ")
	}
	fmt.Fprintf(&b, "  - {name: login, authenticate: login, methods: [%s]}\n", methods("login", "local", "none"))
	fmt.Fprintf(&b, "  - {name: session, authorize: session, methods: [%s]}\n",
		methods("session", "local", "signed-in", "none"))
	fmt.Fprintf(&b, "  - {name: commands, authorize: commands, methods: [%s]}\n",
		methods("commands", "local", "signed-in"))
	fmt.Fprintf(&b, "  - {name: raise, authenticate: elevation, methods: [%s]}\n",
		methods("raise", "secret bridge", "local"))
	fmt.Fprintf(&b, "  - {name: visits, account: sessions, when: start and stop, methods: [%s]}\n", methods("visits"))
	fmt.Fprintf(&b, "platforms: [{name: platform, behaviour: {refusal: %s, unknown-account: %s, all-dead: %s, "+
		"dead-time-ends: "+
		"%s, notices-closed-port: %t, level-without-session: %d, local-level-needs-session: %t, "+
		"accounting-failure: %s, "+
		"login-timeout: 5m}}]\n",
		one("refusal", "ends-list", "tries-next"), one("unknown", "tries-next", "ends-list"),
		one("resting", "asks-first", "passes"), one("dead-time-ends", "by-time", "with-last"),
		rapid.Bool().Draw(t, "icmp"), rapid.IntRange(0, 15).Draw(t, "level"), rapid.Bool().Draw(t, "needs"),
		one("failure", "ignores", "blocks"))
	binds := []string{"login: login"}
	for _, bind := range []string{"session: session", "commands: commands", "elevation: raise",
		"record-sessions: visits"} {
		if rapid.Bool().Draw(t, bind) {
			binds = append(binds, bind)
		}
	}
	holds := ""
	if rapid.Bool().Draw(t, "held") {
		holds = ", found: {keys: {t0: k2}}"
	}
	fmt.Fprintf(&b, "profiles: [{name: p, defaults: {%s}, access: {ssh: {}}, accounts: [keeper]}]\n",
		strings.Join(binds, ", "))
	fmt.Fprintf(&b, "devices: [{name: d, platform: platform, profile: p, addresses: [198.51.100.1]%s}]\n", holds)
	b.WriteString(`accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: ines, teams: [net], password: $6$c$d}, {name: odd, teams: [net], disabled: true, password: $6$c$d}, {name: tobin, teams: [watch], password: $6$c$d}]
roles: [{name: all, level: 15, commands: [allow **]}, {name: few, level: 1, commands: [allow look **]}]
grants: [{who: team net, role: all}, {who: team watch, role: few}]
`)
	return drawn{b.String(), one("grows", groups...)}
}

func (d drawn) reckoner(t require.TestingT, text string) Forecaster {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err, text)
	return Forecaster{Site: s, Keys: site.Keys{"k": site.NewSecret("one"), "k2": site.NewSecret("another")},
		Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
}

// grown is the site with one more server, first or last in a group.
func (d drawn) grown(first bool) string {
	protocol := d.group
	text := strings.Replace(d.text, "#MORE\n",
		fmt.Sprintf("  - {name: more, protocol: %s, address: 192.0.2.99, key: k, timeout: 1s, dead-time: 1m}\n",
			protocol), 1)
	start := "{name: " + protocol + ", servers: ["
	if first {
		return strings.Replace(text, start, start+"more, ", 1)
	}
	at := strings.Index(text, start)
	end := at + strings.IndexByte(text[at:], ']')
	return text[:end] + ", more" + text[end:]
}

// outcomes returns, for each way in, person and outage by names, how it comes out.
func outcomes(f Forecaster, of []string, also ...string) map[string]Case {
	all := map[string]Case{}
	d := f.Site.Devices[0]
	for _, w := range d.Ways {
		for _, who := range f.Whos(d) {
			cases := f.Cases(d, w, who)
			for bits := range 1 << len(of) {
				silent := map[*site.Server]bool{}
				for i, name := range of {
					silent[f.Site.Server(name)] = bits&(1<<i) != 0
				}
				for _, name := range also {
					silent[f.Site.Server(name)] = true
				}
				for _, c := range cases {
					if c.Holds(silent) {
						all[fmt.Sprint(w.Name(), who.Name, bits)] = c
					}
				}
			}
		}
	}
	return all
}

func serverNames(f Forecaster) []string {
	var names []string
	for _, s := range f.Site.Servers {
		names = append(names, s.Name)
	}
	return names
}

func TestPropertyASilentServerMoreNeverTurnsRefusedIntoOpen(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		before := d.reckoner(t, d.text)
		names := serverNames(before)
		was := outcomes(before, names)
		after := d.reckoner(t, d.grown(rapid.Bool().Draw(t, "first")))
		for key, c := range outcomes(after, names, "more") {
			require.False(t, was[key].Outcome == walk.OutcomeRefused && c.Outcome == walk.OutcomeOpen, "%s\n%s", key,
				d.text)
		}
	})
}

func TestPropertyAListThatEndsInLocalNeverLocksItsAccountOutWhenAllAreSilent(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		f := d.reckoner(t, d.text)
		device := f.Site.Devices[0]
		for _, w := range device.Ways {
			endsInLocal := func(l *site.List, ends ...site.MethodKind) bool {
				return l == nil || slices.Contains(ends, l.Methods[len(l.Methods)-1].Kind)
			}
			login, session := w.Lists[site.Login], w.Lists[site.Session]
			if !endsInLocal(login, site.ByLocal) || !endsInLocal(session, site.ByLocal, site.SignedIn, site.ByNone) ||
				w.Lists[site.RecordSessions] != nil && device.Platform.Behaviour.RecordFailureBlocks {
				continue
			}
			who, _ := f.Find(device, "keeper")
			dark := map[*site.Server]bool{}
			for _, s := range f.Site.Servers {
				dark[s] = true
			}
			for _, c := range f.Cases(device, w, who) {
				if c.Holds(dark) {
					require.NotEqual(t, walk.OutcomeRefused, c.Outcome, "%s %s\n%s", w.Name(), c.Reason, d.text)
				}
			}
		}
	})
}

func TestPropertyOfDrawnSitesMergingLosesNoneAndAddsNone(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		f := d.reckoner(t, d.text)
		f.Faults = rapid.Bool().Draw(t, "faults")
		device := f.Site.Devices[0]
		w := rapid.SampledFrom(device.Ways).Draw(t, "way")
		who := rapid.SampledFrom(f.Whos(device)).Draw(t, "who")
		merged := f.Cases(device, w, who)
		var chosen []Condition
		for _, s := range f.Site.Servers {
			chosen = append(chosen, Condition{s, rapid.SampledFrom(States(s, f.Faults)).Draw(t, s.Name)})
		}
		whole := f.one(device, w, who, chosen)
		fits := 0
		for _, c := range merged {
			if slices.ContainsFunc(c.When, func(w Condition) bool { return !slices.Contains(chosen, w) }) {
				continue
			}
			fits++
			require.Equal(t, whole.Summary(), c.Summary())
			require.Equal(t, whole.Again, c.Again)
			require.Len(t, c.Steps, len(whole.Steps))
		}
		require.Equal(t, 1, fits, "exactly one case for each state\n%s", d.text)
	})
}

func TestPropertyNothingChangesBetweenASiteAndItself(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		require.Empty(t, Compare(d.reckoner(t, d.text), d.reckoner(t, d.text)))
	})
}

func TestPropertyASecondLoginWaitsNoLongerThanTheFirst(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		f := d.reckoner(t, d.text)
		for _, sh := range f.Shapes(f.Site.Devices) {
			for _, c := range sh.Cases {
				if c.Again != nil {
					require.LessOrEqual(t, c.Again.Wait, c.Wait, "%s %s %v\n%s", c.Way.Name(), c.Who.Name, c.When,
						d.text)
				}
			}
		}
	})
}
