package learn

import (
	"bytes"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/testscale"
	"mellowgate/internal/wire/capture"
)

var makeRuns = flag.Bool("make-runs", false, "write testdata/runs.txt anew; read what has changed in it")

// Whole runs, as they are told: which experiments are made, in which order, what is seen of
// each, what that shows, and what is left. What changes in them is to be read.
func TestWholeRunsAreAsWritten(t *testing.T) {
	t.Parallel()
	if underRace {
		t.Skip("nothing here runs beside something else, and the plain run reads it")
	}
	if !*makeRuns {
		testscale.Whole(t, "devices that behave at random, learned from the core")
	}
	var b strings.Builder
	for _, k := range []struct {
		design string
		behave []string
	}{
		{"tacacs", nil},
		{"tacacs", []string{"dead-time-ends: with-last", "web-needs-level: 9", "refusal: ends-list",
			"default-login: none"}},
		{"tacacs", []string{"all-dead: passes", "unknown-account: ends-list", "accounting-failure: blocks",
			"console-obeys-authorization: false", "below-level: reads", "web-needs-level: 15"}},
		{"few", []string{"dead-time-ends: with-last", "accounting-failure: blocks", "level-without-session: 5",
			"password-form tacacs: pap"}},
		{"radius", nil},
		{"radius", []string{"default-ports: legacy", "notices-closed-port: true", "level-attribute: Example-Level",
			"rights-with-login: true", "password-form radius: chap"}},
		{"both", []string{"local-level-needs-session: true", "level-without-session: 4"}},
	} {
		f := reckoner(t, designs[k.design])
		behaviour := f.Site.Platforms[0].Behaviour
		for _, text := range k.behave {
			one, err := f.Site.Supposition("make " + text)
			require.NoError(t, err)
			behaviour, _ = behaviour.With(one.Aspect, one.Value)
		}
		fmt.Fprintf(&b, "# %s %s\n", k.design, strings.Join(k.behave, ", "))
		l, p := learned(t, f, behaviour, func(text string) { b.WriteString(text + "\n") })
		for _, aspect := range l.Open() {
			fmt.Fprintf(&b, "%s: %s\n", aspect, strings.Join(l.Left(aspect), " "))
		}
		fmt.Fprintf(&b, "%d logins, %s, %d in a row failed\n\n", p.Logins(), p.Took, p.most)
	}
	file := filepath.Join("testdata", "runs.txt")
	if *makeRuns {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), b.String())
}

func TestADeviceThatNothingCanBeLearnedOfIsSaid(t *testing.T) {
	t.Parallel()
	const device = "devices: [{name: d, platform: make, addresses: [192.0.2.9], accounts: [keeper], access: {ssh: " +
		"{login: l}}}]\n"
	for text, says := range map[string]string{
		strings.Replace(designs["tacacs"], "protocol: tacacs, address: 192.0.2.1, key: k,",
			"protocol: tacacs, transport: tls, address: 192.0.2.1,",
			1): "d asks t1 over TACACS+ with TLS, which is not played yet",
		common + "\nlists: [{name: l, authenticate: login, methods: [local]}]\n" + device: "d asks no server",
		common + "\nservers: [{name: b, protocol: ldap, address: 192.0.2.5, base: o=x, tls: start}]\n" +
			"groups: [{name: g, servers: [b]}]\nlists: [{name: l, authenticate: login, methods: [group g, local]}]\n" +
			device: "over LDAP",
	} {
		f := reckoner(t, text)
		_, err := New(Options{Reckoner: f, Device: f.Site.Devices[0]})
		require.ErrorContains(t, err, says)
	}
}

func TestWhatTheSiteSaysIsAskedForOnlyAgain(t *testing.T) {
	t.Parallel()
	f := reckoner(t, strings.Replace(designs["tacacs"], "{name: make}", "{name: make, behaviour: {refusal: ends-list}}",
		1))
	o := Options{Reckoner: f, Device: f.Site.Devices[0], Account: "keeper", Ways: []string{site.SSH}}
	l, err := New(o)
	require.NoError(t, err)
	require.NotContains(t, l.Open(), site.AspectRefusal)
	require.Equal(t, 3, l.Failures)
	require.Empty(t, l.Left(site.AspectRefusal))
	require.Len(t, l.Back(), 1, "by ssh alone")
	o.Again, o.Failures = true, 5
	l, err = New(o)
	require.NoError(t, err)
	require.Contains(t, l.Open(), site.AspectRefusal)
	require.Equal(t, 5, l.Failures)
	require.Len(t, l.Left(site.AspectWebNeedsLevel), 16)
	o.Account = ""
	l, err = New(o)
	require.NoError(t, err)
	require.Empty(t, l.Back(), "there is no account with a known password")
}

func TestWhereNoLevelShowsNothingIsTriedForIt(t *testing.T) {
	t.Parallel()
	for name, design := range designs {
		// the pages of that one take long to work out
		if name == "tacacs" || (underRace || !testscale.All()) && name != "both" {
			continue
		}
		f := reckoner(t, design)
		d := f.Site.Devices[0]
		l, err := New(Options{Reckoner: f, Device: d, Account: "keeper"})
		require.NoError(t, err)
		p := NewPretender(f, d, d)
		p.Blind = true
		back := l.Back()[0]
		require.True(t, l.Saw(back, p.Try(back)))
		for range 30 {
			e, more := l.Next()
			if !more {
				break
			}
			require.True(t, l.Saw(e, p.Try(e)))
		}
		require.LessOrEqual(t, p.Logins(), 15, name)
		require.NotContains(t, l.Claimed(), site.AspectLevelWithoutSession, name)
		require.Contains(t, l.Claimed(), site.AspectRefusal, name)
	}
}

func TestAAspectThatAloneExplainsWhatWasSeenIsNamed(t *testing.T) {
	t.Parallel()
	f := reckoner(t, designs["tacacs"])
	d := f.Site.Devices[0]
	l, err := New(Options{Reckoner: f, Device: d, Account: "keeper"})
	require.NoError(t, err)
	blocks, _ := d.Platform.Behaviour.With(site.AspectRecordFailure, "blocks")
	back := l.Back()[0]
	seen := NewPretender(f, d, d.Behaving(blocks)).Try(back)
	require.False(t, seen[0].In)
	require.Equal(t, "accounting-failure: blocks", l.Like(back, seen))
	require.Empty(t, l.Like(back, NewPretender(f, d, d).Try(back)))
	require.True(t, l.Explained(back, seen))
	seen[0].Asked = []string{"login t2 x1 pap"}
	require.False(t, l.Explained(back, seen))
	require.Empty(t, l.Like(back, seen))
	require.False(t, l.Saw(back, seen))
	require.Len(t, l.Odd(), 1)
	seen = NewPretender(f, d, d).Try(back)
	for _, k := range []struct {
		wait  time.Duration
		fits  bool
		clock bool
	}{{12 * time.Second, true, true}, {15 * time.Second, true, true}, {16 * time.Second, false, true},
		{11 * time.Second, true, true}, {10 * time.Second, false, true}, {time.Hour, true, false}} {
		seen[0].Wait, seen[0].Unclocked = k.wait, !k.clock
		require.Equal(t, k.fits, l.Explained(back, seen), k.wait)
	}
}

func TestWhatServersWereAskedIsReadFromExchanges(t *testing.T) {
	t.Parallel()
	at := func(s int) time.Time { return time.Unix(int64(s), 0) }
	x := func(s int, server, person string, q site.Question, again int, form string) evidence.Exchange {
		return evidence.Exchange{Time: at(s), Protocol: "radius", Server: server, Person: person, Question: q,
			Retransmissions: again, Form: form}
	}
	tacacs := x(4, "t1", "", site.AskSession, 0, "")
	tacacs.Protocol = "tacacs"
	asked, strangers := AskedIn([]evidence.Exchange{
		x(3, "r2", "ines", site.AskLogin, 0, "chap"), x(1, "r1", "ines", site.AskLogin, 1, "pap"),
		x(2, "r1", "ines", site.AskLogin, 0, "pap"), x(2, "r1", "odd", site.AskLogin, 0, "pap"),
		x(5, "r1", "odd", site.AskSession, 0, ""), x(5, "r1", "", site.AskLogin, 0, "pap"),
		x(6, "r1", "ines", site.AskRecordSessions, 0, ""), tacacs,
	}, "ines")
	require.Equal(t, []string{"login r1 x3 pap", "login r2 x1 chap", "session t1 x1"}, asked)
	require.Equal(t, []string{"odd"}, strangers)
	asked, strangers = AskedIn(nil, "ines")
	require.Equal(t, []string{}, asked)
	require.Empty(t, strangers)
}

func TestWhatADeviceSendsIsMeasured(t *testing.T) {
	t.Parallel()
	device, server := netip.MustParseAddrPort("192.0.2.9:5000"), netip.MustParseAddrPort("192.0.2.1:1812")
	other, accounting := netip.MustParseAddrPort("192.0.2.2:49"), netip.MustParseAddrPort("192.0.2.1:1813")
	var packets bytes.Buffer
	w, err := capture.NewWriter(&packets)
	require.NoError(t, err)
	at := func(ms int) time.Time { return time.UnixMilli(int64(1000000 + ms)) }
	question := append([]byte{1, 7, 0, 20}, bytes.Repeat([]byte{3}, 16)...)
	for _, ms := range []int{0, 2100, 4000} { // jitter makes the second time the shorter one
		w.UDP(at(ms), device, server, question)
	}
	record := append([]byte{4, 7, 0, 20}, bytes.Repeat([]byte{5}, 16)...)
	for _, ms := range []int{4010, 6010} {
		w.UDP(at(ms), device, accounting, record)
	}
	w.UDP(at(4100), server, device, append([]byte{2, 7, 0, 20}, bytes.Repeat([]byte{3}, 16)...))
	w.UDP(at(4200), device, server, append([]byte{1, 8, 0, 20}, bytes.Repeat([]byte{4}, 16)...))
	w.UDP(at(4300), device, server, []byte{1, 2, 3})
	for _, ms := range []int{4310, 4320} { // another device, whose logins are not asked for
		w.UDP(at(ms), netip.MustParseAddrPort("192.0.2.77:5000"), server, question)
	}
	silent := w.Connect(at(5000), netip.MustParseAddrPort("192.0.2.9:6000"), other)
	silent.Data(at(5000), true, []byte("question"))
	silent.Close(at(7500), true)
	answered := w.Connect(at(8000), netip.MustParseAddrPort("192.0.2.9:6001"), other)
	answered.Data(at(8000), true, []byte("question"))
	answered.Data(at(8100), false, []byte("answer"))
	answered.Close(at(9000), true)
	require.NoError(t, w.Close())
	m := NewMeter()
	source, err := capture.Open(bytes.NewReader(packets.Bytes()))
	require.NoError(t, err)
	_, err = capture.Read(source, m)
	require.NoError(t, err)
	x := func(to netip.AddrPort, from, name, protocol, form string, more ...evidence.NameValue) evidence.Exchange {
		return evidence.Exchange{Protocol: protocol, Client: from, Server: name, ServerAddress: to.String(),
			Question: site.AskLogin, Form: form, Request: more}
	}
	recorded := x(accounting, "192.0.2.9:5009", "r2", "radius", "mschapv2")
	recorded.Question = site.AskRecordSessions
	m.Login("ssh", []evidence.Exchange{x(server, "192.0.2.9:5000", "r1", "radius", "pap",
		evidence.NameValue{Name: "NAS-Port-Id", Value: "line1"}, evidence.NameValue{Name: "User-Name", Value: "x"}),
		recorded,
		x(other, "192.0.2.9:6000", "t1", "tacacs", "ascii", evidence.NameValue{Name: "port", Value: "line0"}),
		x(other, "192.0.2.8:6000", "t1", "tacacs", "ascii", evidence.NameValue{Name: "port", Value: "line0"})})
	m.LeftAlone("t1", time.Second, 0)
	is := m.Measured()
	again := map[string]*Spread{"r1": {Low: 1900 * time.Millisecond, High: 2100 * time.Millisecond, Count: 2},
		"r2": {Low: 2 * time.Second, High: 2 * time.Second, Count: 1}}
	require.Equal(t, again, is.Between)
	require.Equal(t, map[string]int{"r1": 3, "r2": 2}, is.Attempts)
	require.Equal(t, &Spread{Low: 2500 * time.Millisecond, High: 2500 * time.Millisecond, Count: 1}, is.Gives["t1"])
	require.Len(t, is.Gives, 1)
	require.Equal(t, map[string][]string{"ssh": {"line0", "line1"}}, is.Names)
	require.Equal(t, map[string][]string{"radius": {"pap"}, "tacacs": {"ascii"}}, is.Forms)
	require.Equal(t, map[string][]string{"radius": {"NAS-Port-Id", "User-Name"}}, is.Carries)
	require.Equal(t, []string{"192.0.2.8", "192.0.2.9"}, is.Sources)
	require.True(t, is.Ports)
	require.Equal(t, &Spread{Low: time.Second, Count: 1}, is.Alone["t1"])
	m.Login("", []evidence.Exchange{x(server, "192.0.2.9:5000", "r1", "radius", "",
		evidence.NameValue{Name: "port", Value: "line9"})})
	require.Equal(t, again, m.Measured().Between, "what was measured once does not count again")
	require.Len(t, m.Measured().Names, 1)
}

func TestForHowLongAServerIsLeftAloneIsReadFromThreeLogins(t *testing.T) {
	t.Parallel()
	f := reckoner(t, designs["tacacs"])
	l, err := New(Options{Reckoner: f, Device: f.Site.Devices[0], Account: "keeper"})
	require.NoError(t, err)
	e, server, can := l.DeadTime()
	require.True(t, can)
	require.Equal(t, "t1", server.Name)
	require.Equal(t, "learner-15 by ssh while t1 is silent; then learner-15 by ssh; then learner-15 by ssh",
		Describe(e, nil))
	require.Equal(t, []time.Duration{0, 52500 * time.Millisecond, 15 * time.Second, time.Minute},
		[]time.Duration{e.Logins[0].After, e.Logins[1].After, e.Logins[2].After, e.Rest})
	first, second := Seen{Asked: []string{"login t1 x1 pap", "login t2 x1 pap"}},
		Seen{Asked: []string{"login t2 x1 pap"},
			Wait: time.Second}
	for _, k := range []struct {
		seen        []Seen
		least, most time.Duration
	}{
		{[]Seen{first, second, first}, 52500 * time.Millisecond, 68500 * time.Millisecond},
		{[]Seen{first, first, first}, 0, 52500 * time.Millisecond},
		{[]Seen{first, second, second}, 68500 * time.Millisecond, 0},
		{[]Seen{first}, 0, 0},
	} {
		least, most := LeftAlone(e, server, k.seen)
		require.Equal(t, []time.Duration{k.least, k.most}, []time.Duration{least, most})
	}
	for name, text := range map[string]string{
		"nothing is left alone":       strings.ReplaceAll(designs["tacacs"], ", dead-time: 1m", ""),
		"one server does not show it": strings.ReplaceAll(designs["tacacs"], "servers: [t1, t2]}]", "servers: [t1]}]"),
		"a rest that ends with the last": strings.Replace(designs["tacacs"], "{name: make}",
			"{name: make, behaviour: {dead-time-ends: with-last}}", 1),
	} {
		f := reckoner(t, text)
		l, err := New(Options{Reckoner: f, Device: f.Site.Devices[0], Account: "keeper"})
		require.NoError(t, err)
		_, _, can := l.DeadTime()
		require.False(t, can, name)
	}
	l, err = New(Options{Reckoner: f, Device: f.Site.Devices[0]})
	require.NoError(t, err)
	_, _, can = l.DeadTime()
	require.False(t, can, "without an account there is no way back, and so no experiment")
}

func TestAAspectIsNamedOnlyWhereNothingElseExplainsWhatWasSeen(t *testing.T) {
	t.Parallel()
	f := reckoner(t, designs["radius"])
	d := f.Site.Devices[0]
	l, err := New(Options{Reckoner: f, Device: d, Account: "keeper"})
	require.NoError(t, err)
	who, _ := f.Find(d, "keeper")
	e := Experiment{Logins: []foresee.Login{{Way: d.Way(site.SSH), Who: who}}}
	seen := []Seen{{In: true, Level: 15, Asked: []string{"login r1 x1 pap"}}}
	require.Empty(t, l.Like(e, seen), "it is what the usual device does")
	seen[0].In = false
	require.Equal(t, "refusal: ends-list", l.Like(e, seen))
}

func TestWhatWasSeenIsSaidForPeople(t *testing.T) {
	t.Parallel()
	for want, s := range map[string]Seen{
		"in at level 0, no server asked": {In: true},
		"in, asked login t1 x1 pap, session t1 x1": {In: true, Level: NoLevel,
			Asked: []string{"login t1 x1 pap", "session t1 x1"}},
		"refused after 100ms, no server asked": {Wait: 100 * time.Millisecond, Level: 3},
		"refused, no server asked":             {Wait: 99 * time.Millisecond},
		"in at level 15 after 2.4s, asked login r1 x2 ascii": {In: true, Level: 15, Wait: 2440 * time.Millisecond,
			Asked: []string{"login r1 x2 ascii"}},
	} {
		require.Equal(t, want, s.String())
	}
	f := reckoner(t, designs["tacacs"])
	d := f.Site.Devices[0]
	who, _ := f.Find(d, "learner-1")
	e := Experiment{Logins: []foresee.Login{{Way: d.Way(site.SSH), Who: who}, {Way: d.Way(site.Web), Who: who,
		When: []foresee.Condition{{Server: f.Site.Servers[0], State: foresee.NoRecords}}}}}
	require.Equal(t, "learner-1 by ssh: in at level 1, no server asked; then learner-1 by web while t1 is without "+
		"records",
		Describe(e, []Seen{{In: true, Level: 1}}))
}

func TestThePeopleOfExperimentsAreKnownEverywhereAndToNobodyElse(t *testing.T) {
	t.Parallel()
	f := reckoner(t, strings.Replace(designs["radius"], "attributes: [",
		"attributes: [{name: Example-Who, number: 2, type: text}, {name: Example-Key, number: 3, type: octets}, ", 1))
	require.Len(t, f.Site.People, 16)
	require.Empty(t, f.Site.Directories)
	p := f.Site.Person("learner-7")
	require.Equal(t, LearnersKey, p.Password.Key.Name, "it can be read, so it is checked in every form")
	require.Same(t, p, f.Site.Spelled("LEARNER-7"))
	role := f.Site.Roles[7]
	require.Equal(t, 7, role.Level)
	require.True(t, role.Commands[0].Allow)
	sent := map[string]string{}
	for _, a := range role.SendRADIUS {
		sent[a.Name] = a.Value
	}
	require.Equal(t, map[string]string{"Example-Who": "9", "Example-Level": "10"}, sent,
		"each another level than its own")
	d := f.Site.Devices[0]
	who, found := f.Find(d, "learner-7")
	require.True(t, found)
	level, is := learnerLevel(who)
	require.True(t, is)
	require.Equal(t, 7, level)
	keeper, _ := f.Find(d, "keeper")
	_, is = learnerLevel(keeper)
	require.False(t, is)
	_, is = learnerLevel(foresee.InTeams("learner-boss", nil))
	require.False(t, is)
}
