package walk

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// world answers for each server from a script: "yes", "yes 15", "no",
// "error", or a reason for no answer. Anything after the first blank of an
// answer "yes" is the level it gives.
type world struct {
	answers map[string]string
	right   string // the local account whose password was given
	asked   []string
	secret  bool // the right elevation secret is given
}

type exchange struct {
	w *world
	s *site.Server
	q Question
}

func (w *world) Begin(s *site.Server, q Question) Exchange { return exchange{w, s, q} }
func (w *world) PasswordIs(a *site.Account) bool           { return a.Name == w.right }
func (w *world) SecretIs(*site.ElevationSecret) bool       { return w.secret }
func (e exchange) Close()                                  {}
func (e exchange) Try(n int) Reply {
	e.w.asked = append(e.w.asked, fmt.Sprintf("%s %s %d", e.q.Purpose, e.s.Name, n))
	word, level, _ := strings.Cut(e.w.answers[e.s.Name], " ")
	switch word {
	case "yes":
		r := Reply{Result: Accepted}
		if level != "" && (e.q.Purpose == site.Session || e.s.Protocol == site.RADIUS) {
			name := rights.PrivLvl
			if e.s.Protocol == site.RADIUS {
				name = rights.ManagementPrivilegeLevel
			}
			r.Attributes = []rights.Attribute{{Name: name, Value: level}}
		}
		return r
	case "no":
		return Reply{Result: Refused, Reason: reason.RefusedByServer}
	}
	return Reply{Result: Unavailable, Reason: reason.Reason(word), Took: Lost(e.q.Device, e.s, reason.Reason(word))}
}

// endsList adds to aspects that a refusal ends a list, where they say nothing of
// refusals.
func endsList(behaviour string) string {
	if strings.Contains(behaviour, "refusal:") {
		return behaviour
	}
	return strings.TrimSuffix("refusal: ends-list, "+behaviour, ", ")
}

// device makes a device with TACACS+ servers t1 and t2, RADIUS servers r1 and
// r2, an account keeper of level 15, and the given lists on ssh and console.
func device(t testing.TB, behaviour, lists, ways, accounts string) *site.Device {
	s, err := site.Parse(site.Source{Name: "s", Text: []byte(`
keys: {k: clear a-key-for-this-test}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s, dead-time: 1m}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 3s, dead-time: 1m}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 5s, attempts: 2}
  - {name: r2, protocol: radius, address: 192.0.2.4, key: k, timeout: 1s, attempts: 3}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1, r2]}]
platforms: [{name: k, behaviour: {` + endsList(behaviour) + `}}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
lists:
  - {name: l-none, authenticate: login, methods: [none]}
` + lists + `
devices: [{name: d, platform: k, addresses: [192.0.2.9], accounts: [` + accounts + `], access: {` + ways + `}}]
`)})
	require.NoError(t, err)
	return s.Devices[0]
}

const loginLists = `
  - {name: t-local, authenticate: login, methods: [group t, local]}
  - {name: t-only, authenticate: login, methods: [group t]}
  - {name: r-local, authenticate: login, methods: [group r, local]}
  - {name: local-t, authenticate: login, methods: [local, group t]}
  - {name: t-none, authenticate: login, methods: [group t, none]}
`

func enter(d *site.Device, w *world, who string) (Entry, *Visit) {
	v := &Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: new(Rests)}
	return v.Enter(who), v
}

func TestWalkingALoginList(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, behaviour, list, who string
		answers                    map[string]string
		right                      string
		in                         bool
		by                         string
		reason                     reason.Reason
		wait                       time.Duration
	}{
		{"a yes ends the walk", "", "t-local", "ines", map[string]string{"t1": "yes"}, "", true, "t1", "", 0},
		{"a no ends the walk, local is not asked", "", "t-local", "keeper", map[string]string{"t1": "no"}, "keeper",
			false,
			"t1", reason.RefusedByServer, 0},
		{"with refusal: tries-next it goes on", "refusal: tries-next", "t-local", "keeper",
			map[string]string{"t1": "no"},
			"keeper", true, "local", "", 0},
		{"and a no stands when nobody says yes", "refusal: tries-next", "t-local", "ines",
			map[string]string{"t1": "no"}, "",
			false, "t1", reason.RefusedByServer, 0},
		{"a silent server costs its wait", "", "t-local", "ines", map[string]string{"t1": "silent", "t2": "yes"}, "",
			true,
			"t2", "", 2 * time.Second},
		{"a closed TACACS+ port is known at once", "", "t-local", "ines",
			map[string]string{"t1": "closed", "t2": "yes"}, "",
			true, "t2", "", 0},
		{"so are an unreadable answer and an unknown asker", "", "t-local", "ines",
			map[string]string{"t1": "key-differs", "t2": "client-unknown"}, "", false, "", reason.ListEnded, 0},
		{"a server in error is passed over", "", "t-local", "ines", map[string]string{"t1": "error", "t2": "yes"}, "",
			true,
			"t2", "", 0},
		{"an answer later than the wait is none", "", "t-local", "ines", map[string]string{"t1": "late", "t2": "yes"},
			"",
			true, "t2", "", 2 * time.Second},
		{"all silent: local", "", "t-local", "keeper", map[string]string{"t1": "silent", "t2": "silent"}, "keeper",
			true,
			"local", "", 5 * time.Second},
		{"all silent, no such account: the list ends", "", "t-local", "ines",
			map[string]string{"t1": "silent", "t2": "silent"}, "", false, "", reason.ListEnded, 5 * time.Second},
		{"all silent, wrong local password", "", "t-local", "keeper", map[string]string{"t1": "silent", "t2": "silent"},
			"",
			false, "local", reason.WrongPassword, 5 * time.Second},
		{"no fallback", "", "t-only", "keeper", map[string]string{"t1": "silent", "t2": "silent"}, "keeper", false, "",
			reason.ListEnded, 5 * time.Second},
		{"none lets anyone in", "", "t-none", "whoever", map[string]string{"t1": "silent", "t2": "silent"}, "", true,
			"none",
			"", 5 * time.Second},
		{"local first, unknown there", "", "local-t", "ines", map[string]string{"t1": "yes"}, "", true, "t1", "", 0},
		{"local first, with unknown-account: ends-list", "unknown-account: ends-list", "local-t", "ines",
			map[string]string{"t1": "yes"}, "", false, "local", reason.NoSuchAccount, 0},
		{"RADIUS tries cost each its wait", "", "r-local", "keeper", map[string]string{"r1": "silent", "r2": "silent"},
			"keeper", true, "local", "", 13 * time.Second},
		{"another RADIUS key looks like silence", "", "r-local", "keeper",
			map[string]string{"r1": "key-differs", "r2": "yes"}, "", true, "r2", "", 10 * time.Second},
		{"a closed RADIUS port is not noticed", "", "r-local", "ines", map[string]string{"r1": "closed", "r2": "yes"},
			"",
			true, "r2", "", 10 * time.Second},
		{"unless the device heeds ICMP", "notices-closed-port: true", "r-local", "ines",
			map[string]string{"r1": "closed", "r2": "yes"}, "", true, "r2", "", 0},
		{"beyond its patience the way in gives up", "login-timeout: 12s", "r-local", "keeper",
			map[string]string{"r1": "silent", "r2": "silent"}, "keeper", false, "local", reason.GivesUpFirst,
			12 * time.Second},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := device(t, c.behaviour, loginLists, "ssh: {login: "+c.list+"}", "keeper")
			e, _ := enter(d, &world{answers: c.answers, right: c.right}, c.who)
			require.Equal(t, []any{c.in, c.by, c.reason, c.wait}, []any{e.In, e.By, e.Reason, e.Wait})
			require.Equal(t, c.in && c.by == "none", e.Open)
		})
	}
}

func TestADeviceWithoutAccountsHasNoLocalMethod(t *testing.T) {
	t.Parallel()
	d := device(t, "", loginLists, "ssh: {login: t-local}", "")
	e, v := enter(d, &world{answers: map[string]string{"t1": "closed", "t2": "closed"}}, "keeper")
	require.False(t, e.In)
	require.Equal(t, reason.NoAccounts, v.Steps[len(v.Steps)-1].Reason)
}

func TestAWayWithoutALoginListDoesWhatItsKindHasBuiltIn(t *testing.T) {
	t.Parallel()
	e, v := enter(device(t, "default-login: none", "", "ssh: {}", ""), &world{}, "anyone")
	require.True(t, e.In && e.Open)
	require.Nil(t, v.Steps[0].List)
	e, _ = enter(device(t, "", "", "ssh: {}", "keeper"), &world{right: "keeper"}, "keeper")
	require.True(t, e.In)
}

const sessionLists = loginLists + `
  - {name: s-t, authorize: session, methods: [group t]}
  - {name: s-t-local, authorize: session, methods: [group t, local]}
  - {name: s-r-local, authorize: session, methods: [group r, local]}
  - {name: s-in, authorize: session, methods: [signed-in]}
`

func TestTheLevelComesFromTheSession(t *testing.T) {
	t.Parallel()
	up := map[string]string{"t1": "yes 15", "r1": "yes 7"}
	dark := map[string]string{"t1": "closed", "t2": "closed", "r1": "silent", "r2": "silent"}
	for _, c := range []struct {
		name, behaviour, ways, who string
		answers                    map[string]string
		in                         bool
		level                      int
	}{
		{"TACACS+ gives it with an exchange of its own", "", "ssh: {login: t-local, session: s-t-local}", "ines", up,
			true,
			15},
		{"without a session list it is the behaviour", "", "ssh: {login: t-local}", "ines", up, true, 1},
		{"which a platform may set", "level-without-session: 15", "ssh: {login: t-local}", "ines", up, true, 15},
		{"RADIUS gives it with the login", "", "ssh: {login: r-local, session: s-r-local}", "ines", up, true, 7},
		{"RADIUS cannot authorize someone it did not let in", "", "ssh: {login: t-local, session: s-r-local}", "ines",
			up,
			false, 0},
		{"signed-in gives none: 1", "", "ssh: {login: t-local, session: s-in}", "ines", up, true, 1},
		{"local gives the account's", "", "ssh: {login: t-local, session: s-t-local}", "keeper", dark, true, 15},
		{"a session without a fallback refuses the local account", "", "ssh: {login: t-local, session: s-t}", "keeper",
			dark,
			false, 0},
		{"a local account has its own level without a session list", "", "ssh: {login: t-local}", "keeper", dark, true,
			15},
		{"unless its level needs one", "local-level-needs-session: true", "ssh: {login: t-local}", "keeper", dark, true,
			1},
		{"a page needs its level", "web-needs-level: 15, login-timeout: 1m",
			"ssh: {login: t-local}, web: {login: t-local}",
			"ines", up, false, 0},
		{"or shows what may be read", "web-needs-level: 15, below-level: reads", "ssh: {}, web: {login: t-local}",
			"ines", up,
			true, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := device(t, c.behaviour, sessionLists, c.ways, "keeper")
			way := d.Way(site.SSH)
			if strings.Contains(c.ways, "web") {
				way = d.Way(site.Web)
			}
			v := &Visit{Device: d, Way: way, World: &world{answers: c.answers, right: "keeper"},
				Rests: new(Rests)}
			e := v.Enter(c.who)
			require.Equal(t, []any{c.in, c.level}, []any{e.In, e.Level})
		})
	}
}

func TestAServerThatGaveNoAnswerRests(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, behaviour string
		second          []string // who is asked when both gave no answer ten seconds before
	}{
		{"asks-first asks them all the same", "", []string{"login t1 1", "login t2 1"}},
		{"passes goes on at once", "all-dead: passes", nil},
		{"dead-time-ends: with-last ends all rests when all rest", "all-dead: passes, dead-time-ends: with-last",
			[]string{"login t1 1", "login t2 1"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := device(t, c.behaviour, loginLists, "ssh: {login: t-local}", "keeper")
			w := &world{answers: map[string]string{"t1": "silent", "t2": "silent"}}
			rests := new(Rests)
			visit := func(now time.Duration) []string {
				w.asked = nil
				(&Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: rests, Now: now}).Enter("ines")
				return w.asked
			}
			require.Equal(t, []string{"login t1 1", "login t2 1"}, visit(0))
			require.Equal(t, c.second, visit(10*time.Second))
		})
	}
}

func TestARestEndsByTimeOrByAnAnswer(t *testing.T) {
	t.Parallel()
	d := device(t, "", loginLists, "ssh: {login: t-local}", "keeper")
	w := &world{answers: map[string]string{"t1": "silent", "t2": "yes"}}
	rests := new(Rests)
	visit := func(now time.Duration) []string {
		w.asked = nil
		(&Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: rests, Now: now}).Enter("ines")
		return w.asked
	}
	require.Equal(t, []string{"login t1 1", "login t2 1"}, visit(0))
	require.Equal(t, []string{"login t2 1"}, visit(30*time.Second), "t1 rests")
	require.Equal(t, []string{"login t1 1", "login t2 1"}, visit(63*time.Second),
		"the minute began when its wait had passed")
	w.answers["t1"] = "yes"
	require.Equal(t, []string{"login t1 1"}, visit(200*time.Second))
	require.Equal(t, []string{"login t1 1"}, visit(201*time.Second), "an answer ends the rest")
}

const commandLists = sessionLists + `
  - {name: c-t, authorize: commands, levels: 1-15, methods: [group t]}
  - {name: c-t-in, authorize: commands, levels: 15, methods: [group t, signed-in]}
  - {name: c-r, authorize: commands, methods: [group r, signed-in]}
  - {name: rec-c, account: commands, when: start and stop, methods: [group t]}
  - {name: rec-s, account: sessions, when: start and stop, methods: [group t]}
`

func TestCommandsAreAskedAboutAndRecordedByTheirLevel(t *testing.T) {
	t.Parallel()
	d := device(t, "", commandLists,
		"ssh: {login: t-local, session: s-t-local, commands: c-t, record-commands: rec-c, record-sessions: rec-s}",
		"keeper")
	w := &world{answers: map[string]string{"t1": "yes 15"}}
	e, v := enter(d, w, "ines")
	require.True(t, e.In)
	require.True(t, v.Command(time.Second, "look session", 1).Allowed)
	v.Leave(2*time.Second, 2*time.Second)
	require.Equal(t, []string{"login t1 1", "session t1 1", "record-sessions t1 1", "commands t1 1",
		"record-commands t1 1", "record-commands t1 1",
		"record-sessions t1 1"}, w.asked, "login, session, start; the command, its start and stop; the end")

	w.asked, w.answers = nil, map[string]string{"t1": "no"}
	verdict := v.Command(3*time.Second, "save", 15)
	require.Equal(t, Verdict{By: "t1", Reason: reason.RefusedByServer}, verdict)
	require.Equal(t, []string{"commands t1 1"}, w.asked, "a refused command is not recorded")
	w.asked = nil
	require.True(t, v.Command(4*time.Second, "help", 0).Allowed)
	require.Equal(t, []string{"record-commands t1 1", "record-commands t1 1"}, w.asked,
		"the list is for levels 1-15; records are for all")
}

func TestRADIUSHasNoQuestionAboutCommands(t *testing.T) {
	t.Parallel()
	d := device(t, "", commandLists, "ssh: {login: r-local, session: s-r-local, commands: c-r}", "keeper")
	w := &world{answers: map[string]string{"r1": "yes 15"}}
	_, v := enter(d, w, "ines")
	w.asked = nil
	require.Equal(t, "signed-in", v.Command(0, "save", 15).By)
	require.Empty(t, w.asked)
}

// worlds draws any combination of answers.
func worlds(t *rapid.T) map[string]string {
	answer := rapid.SampledFrom([]string{"yes 15", "no", "silent", "closed", "key-differs", "client-unknown", "error",
		"late"})
	all := map[string]string{}
	for _, s := range []string{"t1", "t2", "r1", "r2"} {
		all[s] = answer.Draw(t, s)
	}
	return all
}

func TestPropertyALocalAccountGetsInWhenNoServerAnswers(t *testing.T) {
	t.Parallel()
	d := device(t, "login-timeout: 5m", loginLists, "ssh: {login: r-local}", "keeper")
	rapid.Check(t, func(t *rapid.T) {
		answers := worlds(t)
		for _, s := range []string{"r1", "r2"} {
			if answers[s] == "yes 15" || answers[s] == "no" {
				answers[s] = "silent"
			}
		}
		w := &world{answers: answers, right: "keeper"}
		e := (&Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: new(Rests)}).Enter("keeper")
		if !e.In {
			t.Fatalf("refused: %s", e.Reason)
		}
	})
}

func TestPropertySilencingAServerNeverLetsAStrangerIn(t *testing.T) {
	t.Parallel()
	d := device(t, "login-timeout: 5m", loginLists, "ssh: {login: t-local}", "keeper")
	rapid.Check(t, func(t *rapid.T) {
		answers := worlds(t)
		for s, a := range answers {
			if a == "yes 15" {
				answers[s] = "no" // a stranger: no server says yes
			}
		}
		answers[rapid.SampledFrom([]string{"t1", "t2"}).Draw(t, "silenced")] = "silent"
		w := &world{answers: answers}
		if e := (&Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: new(Rests)}).Enter("stranger"); e.In {
			t.Fatalf("in by %s", e.By)
		}
	})
}

func TestPropertyTheWaitIsTheSumOfTheSteps(t *testing.T) {
	t.Parallel()
	d := device(t, "login-timeout: 10m", commandLists, "ssh: {login: r-local, session: s-r-local, record-sessions: "+
		"rec-s}",
		"keeper")
	rapid.Check(t, func(t *rapid.T) {
		v := &Visit{Device: d, Way: d.Way(site.SSH),
			World: &world{answers: worlds(t), right: "keeper"}, Rests: new(Rests)}
		e := v.Enter("keeper")
		sum := time.Duration(0)
		for _, s := range v.Steps {
			sum += s.Took
		}
		if sum != e.Wait {
			t.Fatalf("%s against %s", sum, e.Wait)
		}
	})
}

// A server that answered, yes or no, is not asked again, and the next is not
// asked at all; one that gives no answer is asked as often as it has attempts.
func TestAServerThatAnsweredIsNotAskedAgain(t *testing.T) {
	t.Parallel()
	d := device(t, "", loginLists, "ssh: {login: r-local}", "keeper")
	for _, s := range d.Way(site.SSH).Lists[site.Login].Servers() {
		s.Attempts = 3
	}
	for _, c := range []struct {
		r1, r2 string
		asked  []string
	}{
		{"yes", "yes", []string{"login r1 1"}},
		{"no", "yes", []string{"login r1 1"}},
		{"silent", "yes", []string{"login r1 1", "login r1 2", "login r1 3", "login r2 1"}},
		{"silent", "no", []string{"login r1 1", "login r1 2", "login r1 3", "login r2 1"}},
		{"closed", "silent", []string{"login r1 1", "login r1 2", "login r1 3", "login r2 1", "login r2 2",
			"login r2 3"}},
	} {
		w := &world{answers: map[string]string{"r1": c.r1, "r2": c.r2}}
		enter(d, w, "ines")
		require.Equal(t, c.asked, w.asked, "%s, %s", c.r1, c.r2)
	}
}

// Who was let in by a server has the level that the server gives, or the least:
// not that of a local account of the same name.
func TestAServersLoginDoesNotTakeTheLevelOfALocalAccount(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		behaviour, ways string
		answers         map[string]string
		level           int
	}{
		{"", "ssh: {login: t-local, session: s-t-local}", map[string]string{"t1": "yes"}, 1},
		{"", "ssh: {login: t-local, session: s-t-local}", map[string]string{"t1": "yes 7"}, 7},
		{"", "ssh: {login: t-local}", map[string]string{"t1": "yes"}, 1},
		{"level-without-session: 4", "ssh: {login: t-local}", map[string]string{"t1": "yes"}, 4},
		{"", "ssh: {login: t-local}", map[string]string{"t1": "silent", "t2": "silent"}, 15},
		{"", "ssh: {login: t-local, session: s-t-local}", map[string]string{"t1": "silent", "t2": "silent"}, 15},
	} {
		d := device(t, c.behaviour, sessionLists, c.ways, "keeper")
		w := &world{answers: c.answers, right: "keeper"}
		e, _ := enter(d, w, "keeper")
		require.True(t, e.In, "%+v", c)
		require.Equal(t, c.level, e.Level, "%+v", c)
	}
}

// Where a platform insists on records, a command that could not be recorded is not
// allowed, and a session whose start could not be recorded is none; otherwise
// both go on.
func TestWhatCannotBeRecordedIsAllowedOnlyWhereTheKindSaysSo(t *testing.T) {
	t.Parallel()
	for behaviour, allowed := range map[string]bool{"accounting-failure: blocks": false,
		"accounting-failure: ignores": true,
		"":                            true} {
		d := device(t, behaviour, commandLists, "ssh: {login: t-local, session: s-t-local, record-commands: rec-c}",
			"keeper")
		w := &world{answers: map[string]string{"t1": "yes 15"}}
		e, v := enter(d, w, "ines")
		require.True(t, e.In)
		w.answers = map[string]string{"t1": "closed", "t2": "closed"}
		verdict := v.Command(time.Second, "save", 15)
		require.Equal(t, allowed, verdict.Allowed, behaviour)
		if !allowed {
			require.Equal(t, reason.NotRecorded, verdict.Reason)
		}
		w.answers = map[string]string{"t1": "yes"}
		require.True(t, v.Command(2*time.Second, "save", 15).Allowed, behaviour)

		d = device(t, behaviour, commandLists, "ssh: {login: t-local, record-sessions: rec-s}", "keeper")
		w = &world{answers: map[string]string{"t1": "silent", "t2": "silent"}, right: "keeper"}
		e, _ = enter(d, w, "keeper")
		require.Equal(t, allowed, e.In, behaviour)
		if !allowed {
			require.Equal(t, reason.NotRecorded, e.Reason)
		}
	}
}
