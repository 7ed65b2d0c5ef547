package walk

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// full makes a device with every kind of list on ssh, and a directory.
func full(t testing.TB, behaviour, more, holds string) *site.Device {
	s, err := site.Parse(site.Source{Name: "s", Text: []byte(`
keys: {k: clear a-key-for-this-test}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 5s, attempts: 2}
  - {name: l1, protocol: ldap, address: 192.0.2.5, base: o=x, timeout: 4s}
groups: [{name: t, servers: [t1]}, {name: r, servers: [r1]}, {name: l, servers: [l1]}]
platforms: [{name: k, behaviour: {` + endsList(behaviour) + `}}]
elevation-secrets: [{name: bridge, level: 12, password: $6$a$b}, {name: top, password: $6$a$b}]
accounts: [{name: keeper, level: 15, password: $6$a$b}, {name: watch, level: 3, password: $6$a$b}]
lists:
  - {name: t-local, authenticate: login, methods: [group t, local]}
  - {name: r-local, authenticate: login, methods: [group r, local]}
  - {name: l-local, authenticate: login, methods: [group l, local]}
  - {name: t-session, authorize: session, methods: [group t, local]}
  - {name: r-session, authorize: session, methods: [group r, local]}
  - {name: l-session, authorize: session, methods: [group l, local]}
  - {name: t-commands, authorize: commands, methods: [group t]}
  - {name: r-commands, authorize: commands, methods: [group r]}
  - {name: t-raise, authenticate: elevation, methods: [group t, secret bridge]}
  - {name: secret-raise, authenticate: elevation, methods: [secret top]}
  - {name: local-raise, authenticate: elevation, methods: [local]}
  - {name: r-raise, authenticate: elevation, methods: [group r, none]}
  - {name: visits, account: sessions, when: start and stop, methods: [group t]}
  - {name: starts, account: sessions, when: start, methods: [group t]}
  - {name: typed, account: commands, when: start and stop, methods: [group t]}
devices: [{name: d, platform: k, addresses: [192.0.2.9], accounts: [keeper, watch], access: {ssh: {` + more + `}}` + holds + `}]
`)})
	require.NoError(t, err)
	return s.Devices[0]
}

func TestAnElevationIsWalkedLikeAnyList(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, list, who string
		answers         map[string]string
		secret          bool
		level           int
		allowed         bool
		by              string
		reason          reason.Reason
		wait            time.Duration
	}{
		{"a server says yes", "t-raise", "ines", map[string]string{"t1": "yes"}, false, 15, true, "t1", "", 0},
		{"a server says no, and no secret is asked for", "t-raise", "ines", map[string]string{"t1": "no"}, true, 12,
			false,
			"t1", reason.RefusedByServer, 0},
		{"silent: the secret", "t-raise", "ines", map[string]string{"t1": "silent"}, true, 12, true, "secret bridge",
			"",
			2 * time.Second},
		{"a secret goes to its level and no further", "t-raise", "ines", map[string]string{"t1": "closed"}, true, 15,
			false,
			"secret bridge", reason.WrongSecret, 0},
		{"a wrong secret", "secret-raise", "ines", nil, false, 15, false, "secret top", reason.WrongSecret, 0},
		{"local: the account's own password and level", "local-raise", "keeper", nil, false, 15, true, "local", "", 0},
		{"local: an account below the level", "local-raise", "watch", nil, false, 15, false, "local", reason.BelowLevel,
			0},
		{"RADIUS has no elevation", "r-raise", "ines", map[string]string{"r1": "yes"}, false, 15, true, "none", "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := full(t, "", "login: t-local, elevation: "+c.list, "")
			w := &world{answers: map[string]string{"t1": "yes"}, right: c.who}
			e, v := enter(d, w, c.who)
			require.True(t, e.In)
			w.answers, w.secret = c.answers, c.secret
			got := v.Elevate(time.Minute, c.level)
			require.Equal(t, []any{c.allowed, c.by, c.reason, c.wait}, []any{got.Allowed, got.By, got.Reason, got.Wait})
			if c.allowed {
				require.Equal(t, c.level, v.entry.Level)
			}
		})
	}
	d := full(t, "", "login: t-local", "")
	_, v := enter(d, &world{answers: map[string]string{"t1": "yes"}}, "ines")
	require.Equal(t, reason.NoList, v.Elevate(0, 15).Reason)
}

func TestAKindThatInsistsOnRecordsLetsNobodyInWithoutThem(t *testing.T) {
	t.Parallel()
	up, down := map[string]string{"r1": "yes 15", "t1": "yes"}, map[string]string{"r1": "yes 15", "t1": "silent"}
	binds := "login: r-local, record-sessions: visits, record-commands: typed"
	e, _ := enter(full(t, "", binds, ""), &world{answers: down}, "ines")
	require.True(t, e.In, "a failure is ignored unless the platform insists")
	d := full(t, "accounting-failure: blocks", binds, "")
	e, _ = enter(d, &world{answers: down}, "ines")
	require.Equal(t, []any{false, reason.NotRecorded}, []any{e.In, e.Reason})
	w := &world{answers: up}
	e, v := enter(d, w, "ines")
	require.True(t, e.In)
	require.True(t, v.Command(0, "look", 1).Allowed)
	w.answers = down
	require.Equal(t, reason.NotRecorded, v.Command(time.Hour, "look", 1).Reason)
}

func TestAListOfStartsAloneRecordsNoStop(t *testing.T) {
	t.Parallel()
	w := &world{answers: map[string]string{"t1": "yes"}}
	_, v := enter(full(t, "", "login: t-local, record-sessions: starts", ""), w, "ines")
	require.Equal(t, []string{"login t1 1", "record-sessions t1 1"}, w.asked)
	v.Leave(0, time.Minute)
	require.Len(t, w.asked, 2)
}

// granting answers with attributes of its own.
type granting struct {
	*world
	attributes []rights.Attribute
}

func (g granting) Begin(s *site.Server, q Question) Exchange {
	return granted{g.world.Begin(s, q), g.attributes}
}

type granted struct {
	Exchange
	attributes []rights.Attribute
}

func (g granted) Try(n int) Reply {
	r := g.Exchange.Try(n)
	r.Attributes = g.attributes
	return r
}

func TestTheLevelIsReadWhereTheKindReadsIt(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, behaviour, binds string
		attributes             []rights.Attribute
		in                     bool
		level                  int
		reason                 reason.Reason
	}{
		{"a vendor's attribute", "level-attribute: Example-Level", "login: r-local, session: r-session",
			[]rights.Attribute{{Name: "Example-Level", Value: "9"},
				{Name: rights.ServiceType, Value: "Administrative"}}, true,
			9, ""},
		{"and nothing else", "level-attribute: Example-Level", "login: r-local, session: r-session",
			[]rights.Attribute{{Name: rights.ManagementPrivilegeLevel, Value: "15"}}, true, 1, ""},
		{"a template account", "account-attribute: local-user", "login: t-local, session: t-session",
			[]rights.Attribute{{Name: "local-user", Value: "watch"}, {Name: rights.PrivLvl, Value: "15"}}, true, 3, ""},
		{"a template account that is not there", "account-attribute: local-user", "login: t-local, session: t-session",
			[]rights.Attribute{{Name: "local-user", Value: "gone"}}, false, 0, reason.TemplateMissing},
		{"an attribute that the platform does not read", "", "login: t-local, session: t-session",
			[]rights.Attribute{{Name: "local-user", Value: "gone"}, {Name: rights.PrivLvl, Value: "7"}}, true, 7, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := full(t, c.behaviour, c.binds, "")
			v := &Visit{Device: d, Way: d.Way(site.SSH),
				World: granting{&world{answers: map[string]string{"t1": "yes", "r1": "yes"}}, c.attributes},
				Rests: new(Rests)}
			e := v.Enter("ines")
			require.Equal(t, []any{c.in, c.level, c.reason}, []any{e.In, e.Level, e.Reason})
		})
	}
}

func TestWhatAKindDoesNotSpeakIsNeverAsked(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ behaviour, holds string }{{"speaks: [radius]", ""},
		{"networks: default-only", ", network: management"},
		{"networks: default-and-management", ", network: customers"}} {
		w := &world{answers: map[string]string{"t1": "yes"}, right: "keeper"}
		e, v := enter(full(t, c.behaviour, "login: t-local", c.holds), w, "keeper")
		require.Equal(t, []any{true, "local", time.Duration(0)}, []any{e.In, e.By, e.Wait}, c.behaviour)
		require.Equal(t, reason.NotSupported, v.Steps[0].Reason)
		require.Empty(t, w.asked)
	}
	w := &world{answers: map[string]string{"t1": "yes"}}
	e, _ := enter(full(t, "networks: default-and-management", "login: t-local", ", network: management"), w, "ines")
	require.True(t, e.In)
}

func TestADirectoryKnowsPasswordsAndNothingMore(t *testing.T) {
	t.Parallel()
	e, v := enter(full(t, "", "login: l-local, session: l-session, commands: r-commands", ""),
		&world{answers: map[string]string{"l1": "yes"}}, "ines")
	require.Equal(t, []any{true, "l1", 1}, []any{e.In, e.By, e.Level})
	require.Equal(t, reason.ListEnded, v.Command(0, "look", 1).Reason)
	require.Equal(t, reason.NotCarried, v.Steps[len(v.Steps)-1].Reason)
	e, _ = enter(full(t, "", "login: l-local", ""), &world{answers: map[string]string{"l1": "silent"}, right: "keeper"},
		"keeper")
	require.Equal(t, []any{"local", 4 * time.Second}, []any{e.By, e.Wait})
	e, _ = enter(full(t, "", "login: l-local", ""),
		&world{answers: map[string]string{"l1": "key-differs"}, right: "keeper"}, "keeper")
	require.Equal(t, []any{"local", time.Duration(0)}, []any{e.By, e.Wait}, "the searching account is refused at once")
}

func TestRulesThatTheDeviceHoldsByNameNeedNoQuestion(t *testing.T) {
	t.Parallel()
	binds := "login: r-local, session: r-session, commands: r-commands"
	_, v := enter(full(t, "", binds, ""), &world{answers: map[string]string{"r1": "yes 15"}}, "ines")
	require.False(t, v.Command(0, "look", 1).Allowed)
	_, v = enter(full(t, "command-rules-over-radius: by-name", binds, ""),
		&world{answers: map[string]string{"r1": "yes 15"}}, "ines")
	require.True(t, v.Command(0, "look", 1).Allowed)
}

func TestALinePasswordKnowsNoNames(t *testing.T) {
	t.Parallel()
	e, _ := enter(full(t, "default-login: line-password", "", ""), &world{right: "keeper"}, "keeper")
	require.Equal(t, []any{false, reason.LinePassword}, []any{e.In, e.Reason})
}

func TestAPortWhereNobodyListensCostsWhatItCosts(t *testing.T) {
	t.Parallel()
	for _, reason := range []string{"wrong-port", "not-for-this"} {
		e, _ := enter(full(t, "", "login: r-local", ""),
			&world{answers: map[string]string{"r1": reason}, right: "keeper"},
			"keeper")
		require.Equal(t, 10*time.Second, e.Wait, reason)
		e, _ = enter(full(t, "notices-closed-port: true", "login: r-local", ""),
			&world{answers: map[string]string{"r1": reason}, right: "keeper"}, "keeper")
		require.Equal(t, time.Duration(0), e.Wait, reason)
	}
}

// What RADIUS says with the login counts without a session list where the platform says
// so, and the account of the person's own name where no attribute says more.
func TestRightsThatComeWithTheLoginAndByTheOwnName(t *testing.T) {
	t.Parallel()
	level := []rights.Attribute{{Name: rights.ManagementPrivilegeLevel, Value: "7"}}
	template := []rights.Attribute{{Name: "Filter-Id", Value: "watch"}}
	missing := []rights.Attribute{{Name: "Filter-Id", Value: "nobody"}}
	const with, own, from = "rights-with-login: true", "account-by-name: true", "account-attribute: Filter-Id"
	for _, c := range []struct {
		name, behaviour, lists, person string
		answer                         []rights.Attribute
		level                          int
		why                            reason.Reason
	}{
		{"neither", "", "login: r-local", "watch", level, 1, ""},
		{"the level of the login", with, "login: r-local", "ines", level, 7, ""},
		{"a template of the login", with + ", " + from, "login: r-local", "ines", template, 3, ""},
		{"a template that is not there", with + ", " + from, "login: r-local", "ines", missing, 0,
			reason.TemplateMissing},
		{"no attribute, and no such behaviour", with, "login: r-local", "watch", nil, 1, ""},
		{"no attribute: the own name", with + ", " + own, "login: r-local", "watch", nil, 3, ""},
		{"no attribute, and nobody of the name", with + ", " + own, "login: r-local", "ines", nil, 1, ""},
		{"the level comes before the own name", with + ", " + own, "login: r-local", "watch", level, 7, ""},
		{"the own name needs no session list's word", own, "login: r-local, session: r-session", "watch", nil, 3, ""},
		{"of TACACS+ nothing comes with the login", with, "login: t-local", "ines", level, 1, ""},
		{"the own name, by TACACS+ and a session list", own, "login: t-local, session: t-session", "watch", nil, 3, ""},
		{"a session list has the word where there is one", with, "login: r-local, session: l-session", "ines", level, 0,
			reason.ListEnded},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := full(t, c.behaviour, c.lists, "")
			v := &Visit{Device: d, Way: d.Way(site.SSH),
				World: granting{&world{answers: map[string]string{"t1": "yes", "r1": "yes"}}, c.answer},
				Rests: new(Rests)}
			e := v.Enter(c.person)
			require.Equal(t, []any{c.why == "", c.level, c.why}, []any{e.In, e.Level, e.Reason})
		})
	}
}

// An account without a password is no way in, and no account to fall back to.
func TestAnAccountWithoutAPasswordIsNoWayIn(t *testing.T) {
	t.Parallel()
	d := full(t, "", "login: t-local", "")
	w := &world{answers: map[string]string{"t1": "silent"}, right: "keeper"}
	e, _ := enter(d, w, "keeper")
	require.True(t, e.In)
	for _, a := range d.Accounts {
		a.Password = site.Password{None: true}
	}
	e, v := enter(d, &world{answers: map[string]string{"t1": "silent"}}, "keeper")
	require.Equal(t, []any{false, reason.NoAccounts}, []any{e.In, v.Steps[len(v.Steps)-1].Reason})
	d.Accounts[1].Password.None = false
	e, v = enter(d, &world{answers: map[string]string{"t1": "silent"}}, "keeper")
	require.Equal(t, []any{false, reason.WrongPassword}, []any{e.In, v.Steps[len(v.Steps)-1].Reason})
}
