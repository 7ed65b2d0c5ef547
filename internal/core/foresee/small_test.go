package foresee

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

func (f Forecaster) named(t *testing.T, d *site.Device, name string) Who {
	t.Helper()
	w, known := f.Find(d, name)
	require.True(t, known, name)
	return w
}

// asked says how many questions servers get, by their names.
func asked(s *site.Site, a Asked) string {
	var all []string
	for _, v := range s.Servers {
		if q, is := a[v]; is {
			all = append(all, fmt.Sprint(v.Name, q))
		}
	}
	return strings.Join(all, " ")
}

func TestWhatOneLoginAsksOfServers(t *testing.T) {
	t.Parallel()
	f := peopled(t, "")
	d := f.Site.Device("d1")
	way, who := d.Way(site.SSH), f.named(t, d, "one")
	tacacs, radius := f.Site.Server("t"), f.Site.Server("r")
	for _, k := range []struct {
		silent         []*site.Server
		login, command string
	}{
		{nil, "t{1 1 0} r{0 0 2}", ""}, // its session is asked of t, and its start and end are recorded at r
		{[]*site.Server{tacacs}, "r{1 0 2}", ""},
		{[]*site.Server{radius}, "t{1 1 0}", ""},
		{[]*site.Server{tacacs, radius}, "", ""},
	} {
		login, command := f.Questions(d, way, who, k.silent)
		require.Equal(t, k.login, asked(f.Site, login))
		require.Equal(t, k.command, asked(f.Site, command))
	}
	login, _ := f.Questions(d, way, f.named(t, d, "unknown"), nil)
	require.Equal(t, "t{1 0 0}", asked(f.Site, login), "who is refused is asked about once")
	sum := Questions{1, 2, 3}.Plus(Questions{10, 20, 30}, 2)
	require.Equal(t, Questions{21, 42, 63}, sum)
	require.InDelta(t, 126, sum.All(), 0)

	w, usual, gets := f.Usual(d)
	require.True(t, gets)
	require.Equal(t, "ssh one (the servers' password)", w.Name()+" "+usual.Name)
}

// A command in a session is asked about and recorded by itself; what the end of the session asks belongs to the login.
func TestWhatOneCommandAsksOfServers(t *testing.T) {
	t.Parallel()
	f := of(t, twoServers+`
lists:
  - {name: l, authenticate: login, methods: [group g]}
  - {name: c, authorize: commands, methods: [group g]}
  - {name: v, account: sessions, when: start and stop, methods: [group g]}
  - {name: w, account: commands, methods: [group g]}
people: [{name: a, password: $6$x$y}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [person a], role: all}]
devices: [{name: d1, addresses: [192.0.2.9],
  access: {console: {login: l, commands: c, record-sessions: v, record-commands: w}}}]
`)
	d := f.Site.Devices[0]
	login, command := f.Questions(d, d.Ways[0], f.named(t, d, "a"), nil)
	require.Equal(t, "t{1 0 2}", asked(f.Site, login))
	require.Equal(t, "t{0 1 1}", asked(f.Site, command))
}

func TestSomebodyIsFoundByEveryNameThatTheyGoBy(t *testing.T) {
	t.Parallel()
	f := peopled(t, "")
	d := f.Site.Device("d1")
	for name, want := range map[string]string{
		"one": "one (the servers' password)", "keeper": "keeper",
		"one (the device's password)": "one (the device's password)",
		"team watch":                  "anyone of team watch", "ebba": "ebba", "unknown": "unknown", "anyone": "anyone",
	} {
		require.Equal(t, want, f.named(t, d, name).Name, name)
	}
	for _, name := range []string{"(unknown)", "deck", "nobody", "team sea"} {
		_, known := f.Find(d, name)
		require.False(t, known, name)
	}
	_, known := f.Account(d, "one")
	require.True(t, known)
	require.True(t, f.named(t, d, "one (the device's password)").samePassword(), "both have one hash")
	require.False(t, f.named(t, d, "one").samePassword(), "it is no account")
	require.False(t, f.named(t, d, "keeper").samePassword())
	require.True(t, f.named(t, d, "one (the device's password)").right())
	require.False(t, f.named(t, d, "keeper").right())
	orders := []int{}
	for _, w := range f.Whos(d) {
		orders = append(orders, w.order)
	}
	require.IsIncreasing(t, orders)
}

func TestFullRightsAreLevel15ByWhateverWay(t *testing.T) {
	t.Parallel()
	for _, k := range []struct {
		c    Case
		full bool
	}{
		{Case{Outcome: walk.OutcomeIn, Level: 15, Raised: 15}, true},
		{Case{Outcome: walk.OutcomeLow, Level: 1, Raised: 15}, true},
		{Case{Outcome: walk.OutcomeIn, Level: 7, Raised: 7}, false},
		{Case{Outcome: walk.OutcomeOpen, Level: 15, Raised: 15}, false},
		{Case{Outcome: walk.OutcomeRefused, Raised: 15}, false},
	} {
		require.Equal(t, k.full, k.c.Full(), k.c.Summary())
		require.Equal(t, k.full, k.c.earned())
	}
	require.False(t, Case{Outcome: walk.OutcomeIn, Level: 15, Raised: 15, By: "none"}.earned(),
		"none gives it to anyone")
}

func TestACaseIsThatOfItsStatesAndOfNoOther(t *testing.T) {
	t.Parallel()
	f := peopled(t, "")
	d := f.Site.Device("d1")
	tacacs, radius := f.Site.Server("t"), f.Site.Server("r")
	c := Case{Way: d.Way(site.SSH), When: []Condition{{Server: tacacs, State: Down}, {Server: radius, State: Up}}}
	for _, k := range []struct {
		states map[*site.Server]State
		is     bool
	}{
		{map[*site.Server]State{tacacs: Down}, true}, {map[*site.Server]State{tacacs: Down, radius: Up}, true},
		{nil, false},
		{map[*site.Server]State{tacacs: Down, radius: Down}, false},
		{map[*site.Server]State{tacacs: Down, radius: NoRecords}, false}, // it keeps the records of this way in
	} {
		require.Equal(t, k.is, c.In(k.states), k.states)
	}
	c.When = []Condition{{Server: tacacs, State: Up}}
	require.True(t, c.In(map[*site.Server]State{tacacs: NoRecords}),
		"it keeps none of this way in: it is as good as up")
	require.True(t, c.Holds(nil))
	require.False(t, c.Holds(map[*site.Server]bool{tacacs: true}))
	sh := Shape{Cases: []Case{{When: []Condition{{Server: radius}, {Server: tacacs}}},
		{When: []Condition{{Server: tacacs}}}}}
	require.Equal(t, []*site.Server{tacacs, radius}, sh.Servers())
}

func TestCasesGoFromAllServersUpToNone(t *testing.T) {
	t.Parallel()
	f := peopled(t, "")
	f.Faults = true
	d := f.Site.Device("d1")
	last := 0
	for _, c := range f.Cases(d, d.Way(site.SSH), f.named(t, d, "one")) {
		require.GreaterOrEqual(t, notUp(c), last)
		last = notUp(c)
	}
	require.Equal(t, 2, last)
}

func TestAnAddressOfAnotherDeviceIsKnownToServers(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]string{
		"192.0.2.10": "", "192.0.2.9": "", "192.0.2.77": "client-unknown",
	} {
		f := peopled(t, ", found: {source: "+source+"}")
		d := f.Site.Device("d2")
		require.Equal(t, want, string(f.Unheard(d, f.Site.Server("t"), site.Login)), source)
		require.Equal(t, netip.MustParseAddr(source), d.Asks())
	}
}

func TestChangesOfTwoWaysOrDevicesAreNotJoined(t *testing.T) {
	t.Parallel()
	one := Change{Devices: []string{"a"}, Way: "ssh", People: []string{"x"}, Before: &Case{Outcome: walk.OutcomeIn}}
	two := one
	three := one
	four := one
	two.People = []string{"y"}
	three.Way = "web"
	four.Devices = []string{"a,ssh"}
	four.Way = ""
	joined := joinChanges([]Change{one, two, three, four})
	require.Len(t, joined, 3)
	require.Equal(t, []string{"x", "y"}, joined[0].People)
}

// of is a reckoner of a small site: what more says beyond groups of TACACS+ and RADIUS servers, and others.
func of(t *testing.T, more string, others ...string) Forecaster {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
groups: [` + strings.Join(append(others, "{name: g, servers: [t]}, {name: q, servers: [r]}"), ", ") + `]
` + more)})
	require.NoError(t, err)
	return Forecaster{Site: s}
}

const twoServers = `
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 1s}
  - {name: r, protocol: radius, address: 192.0.2.2, key: k, timeout: 1s, attempts: 1}
`

func TestPeopleStandInTheirOrderAndThoseWithAnAccountAlone(t *testing.T) {
	t.Parallel()
	f := of(t, twoServers+`
lists: [{name: l, authenticate: login, methods: [group g, local]}]
accounts: [{name: c, level: 15, password: $6$a$b}]
people:
  - {name: a, teams: [net], password: $6$x$y}
  - {name: b, teams: [watch], password: $6$x$y}
  - {name: c, teams: [net], password: $6$x$y}
  - {name: d, teams: [net], password: $6$x$y}
devices: [{name: d1, addresses: [192.0.2.9], access: {console: {login: l}}, accounts: [c]}]
lab: {people: [{name: ebba, teams: [net], password: $6$x$y}]}
`)
	var crowd []string
	for _, group := range f.subjects() {
		var names []string
		for _, w := range group {
			names = append(names, w.Name)
		}
		crowd = append(crowd, strings.Join(names, " "))
	}
	require.Equal(t, []string{"a d", "b", "c (the servers' password)"}, crowd)
	d := f.Site.Devices[0]
	var whos []string
	for _, w := range f.Whos(d) {
		whos = append(whos, w.Name)
	}
	require.Equal(t, []string{"a", "b", "c (the servers' password)", "d", "c (the device's password)", "unknown",
		"anyone"}, whos)
	account, known := f.Account(d, "c")
	require.True(t, known)
	require.True(t, account.Called("c"))
	_, known = f.Find(d, "ebba")
	require.False(t, known, "no directory of the lab could have her")
}

func TestDevicesThatAreFoundToAskFromElsewhereAreNotAlike(t *testing.T) {
	t.Parallel()
	for found, shapes := range map[string]int{"": 1, ", found: {ports: {r: {authentication: 1645}}}": 1,
		", found: {source: 192.0.2.77}": 2} {
		f := of(t, twoServers+`
lists: [{name: l, authenticate: login, methods: [group q]}]
profiles: [{name: p, access: {console: {login: l}}}]
devices: [{name: d1, profile: p, addresses: [192.0.2.9]`+found+`},
  {name: d2, profile: p, addresses: [192.0.2.10]`+found+`}]
`)
		require.Len(t, f.Shapes(f.Site.Devices), shapes, found)
	}
}

// Devices that hold different keys are not alike; those that hold the same one are.
func TestDevicesThatHoldDifferentKeysAreNotAlike(t *testing.T) {
	t.Parallel()
	for other, shapes := range map[string]int{"k": 1, "k2": 2} {
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, k2: file k2}
groups: [{name: q, servers: [r]}]
` + twoServers + `
lists: [{name: l, authenticate: login, methods: [group q]}]
profiles: [{name: p, access: {console: {login: l}}}]
devices: [{name: d1, profile: p, addresses: [192.0.2.9], found: {keys: {r: k}}},
  {name: d2, profile: p, addresses: [192.0.2.10], found: {keys: {r: ` + other + `}}}]
`)})
		require.NoError(t, err)
		f := Forecaster{Site: s}
		require.Len(t, f.Shapes(s.Devices), shapes, other)
	}
}

// Devices that ask at different ports are not alike.
func TestDevicesThatAskAtDifferentPortsAreNotAlike(t *testing.T) {
	t.Parallel()
	for other, shapes := range map[string]int{"1645": 1, "1646": 2} {
		f := of(t, twoServers+`
lists: [{name: l, authenticate: login, methods: [group q]}]
profiles: [{name: p, access: {console: {login: l}}}]
devices: [{name: d1, profile: p, addresses: [192.0.2.9], found: {ports: {r: {authentication: 1645}}}},
  {name: d2, profile: p, addresses: [192.0.2.10], found: {ports: {r: {authentication: `+other+`}}}}]
`)
		require.Len(t, f.Shapes(f.Site.Devices), shapes, other)
	}
}

// Where there is no account, anyone types the name of a person.
func TestAnyoneTypesANameThatThereIs(t *testing.T) {
	t.Parallel()
	for more, typed := range map[string]string{"": "(anyone)", "people: [{name: a, password: $6$x$y}]": "a"} {
		f := of(t, twoServers+more+`
lists: [{name: l, authenticate: login, methods: [group q]}]
devices: [{name: d1, addresses: [192.0.2.9], access: {console: {login: l}}}]
`)
		require.Equal(t, typed, f.named(t, f.Site.Devices[0], "anyone").typed)
	}
}

func TestWhatAServerInAStateAnswers(t *testing.T) {
	t.Parallel()
	f := of(t, `
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k, for: [accounting]}
  - {name: r, protocol: radius, address: 192.0.2.2, key: k, for: [accounting]}
  - {name: t6, protocol: tacacs, address: "2001:db8::1", key: k}
lists: [{name: l, authenticate: login, methods: [group g, group q]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: a, password: $6$x$y}]
devices: [{name: d1, addresses: [192.0.2.9], access: {console: {login: l}}, accounts: [keeper]}]
`)
	d := f.Site.Devices[0]
	try := func(server string, state State, p site.Purpose) walk.Reply {
		w := &imagined{reckoner: f, device: d, as: d, visit: &walk.Visit{Device: d}, way: d.Ways[0],
			who: f.named(t, d, "a")}
		return imaginedExchange{world: w, server: f.Site.Server(server), q: walk.Question{Purpose: p},
			state: state}.Try(1)
	}
	for _, k := range []struct {
		server string
		state  State
		is     string
	}{
		{"t", Up, "not-for-this"}, {"t", Down, "silent"}, {"t", InError, "error"}, {"r", Up, "not-for-this"},
		{"r", Down, "silent"}, {"r", InError, "not-for-this"}, {"t6", Up, "no-source"}, {"t6", Down, "no-source"},
	} {
		require.Equal(t, k.is, string(try(k.server, k.state, site.Login).Reason), k)
	}
	require.Equal(t, walk.Accepted, try("t", Up, site.RecordSessions).Result)
	require.Equal(t, walk.Accepted, try("r", Up, site.RecordSessions).Result)
	require.Equal(t, "error", string(try("t", NoRecords, site.RecordSessions).Reason))
	require.Equal(t, "silent", string(try("r", NoRecords, site.RecordSessions).Reason))
}

func TestAPasswordThatNoServerCanCheckIsForeseen(t *testing.T) {
	t.Parallel()
	f := of(t, twoServers+`
platforms: [{name: k, behaviour: {password-form: {radius: chap}}}]
lists: [{name: l, authenticate: login, methods: [group q]}, {name: n, authenticate: login, methods: [none]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: hashed, teams: [net], password: $6$x$y}, {name: kept, teams: [net], password: key k}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
devices: [{name: d1, platform: k, addresses: [192.0.2.9], accounts: [keeper],
  access: {console: {login: l}, ssh: {login: n}}}]
`)
	d := f.Site.Devices[0]
	require.Equal(t, walk.OutcomeRefused, f.Cases(d, d.Ways[0], f.named(t, d, "hashed"))[0].Outcome)
	require.NotEqual(t, walk.OutcomeRefused, f.Cases(d, d.Ways[0], f.named(t, d, "kept"))[0].Outcome)
	for who, outcome := range map[string]walk.Outcome{"keeper": walk.OutcomeLow, "unknown": walk.OutcomeOpen,
		"anyone": walk.OutcomeOpen} {
		require.Equal(t, outcome, f.Cases(d, d.Way(site.SSH), f.named(t, d, who))[0].Outcome, who)
	}
}

// A directory that a device asks itself knows passwords and whose time is over, and asks nobody for a code.
func TestADirectoryThatADeviceAsksItselfKnowsNoCodes(t *testing.T) {
	t.Parallel()
	f := of(t, `
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 1s}
  - {name: r, protocol: radius, address: 192.0.2.2, key: k, timeout: 1s}
  - {name: book, protocol: ldap, address: 192.0.2.3, base: o=x}
teams: [{name: net, one-time-code: needed}]
lists: [{name: l, authenticate: login, methods: [group g]}, {name: b, authenticate: login, methods: [group b]}]
people: [{name: a, teams: [net], password: $6$x$y}, {name: gone, teams: [net], password: $6$x$y, disabled: true}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
devices: [{name: d1, addresses: [192.0.2.9], access: {ssh: {login: l}, telnet: {login: b}}}]
`, "{name: b, servers: [book]}")
	d := f.Site.Devices[0]
	for _, c := range []struct {
		access, person string
		outcome        walk.Outcome
	}{{"ssh", "a", walk.OutcomeRefused}, {"telnet", "a", walk.OutcomeIn}, {"telnet", "gone", walk.OutcomeRefused}} {
		for _, w := range d.Ways {
			if w.Access == c.access {
				require.Equal(t, c.outcome, f.Cases(d, w, f.named(t, d, c.person))[0].Outcome, "%v", c)
				for _, sh := range f.Device(d) {
					if sh.Way == w && sh.Who.Name == c.person {
						require.Equal(t, c.outcome, sh.Outcome, "among all: %v", c)
						break // the others are of outages
					}
				}
			}
		}
	}
}
