package load

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

const text = `site: T
keys: {k: file k}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k}
  - {name: idle, protocol: radius, address: 192.0.2.4, key: k}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1]}]
lists:
  - {name: crew, authenticate: login, methods: [group t, local]}
  - {name: rights, authorize: session, methods: [group t, local]}
  - {name: may, authorize: commands, methods: [group t, local]}
  - {name: visits, account: sessions, when: start and stop, methods: [group r]}
  - {name: typed, account: commands, methods: [group t]}
  - {name: own, authenticate: login, methods: [local]}
accounts: [{name: keeper, level: 15, password: $6$a$b}]
profiles:
  - {name: p, accounts: [keeper], access: {ssh: {login: crew, session: rights, commands: may,
     record-sessions: visits, record-commands: typed}}}
devices:
  - {name: d1, profile: p, addresses: [192.0.2.11]}
  - {name: d2, profile: p, addresses: [192.0.2.12]}
  - {name: d3, accounts: [keeper], addresses: [192.0.2.13], access: {ssh: {login: own}}}
people:
  - {name: ines, teams: [net], password: $6$a$c}
  - {name: tobin, teams: [net], password: $6$a$d, disabled: true}
  - {name: odd, teams: [none], password: $6$a$e}
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`

func report(t *testing.T, rates string) Report {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(text + rates)})
	require.NoError(t, err)
	return Of(foresee.Forecaster{Site: s, Now: time.Now()}, s.Devices)
}

func TestEachServerIsAskedWhatLoginsAndCommandsAskOfIt(t *testing.T) {
	t.Parallel()
	r := report(t, "rates: {people: 10, logins: 6, commands: 20, hours: 10, busiest-minute: 3, program-logins: 24, "+
		"program-commands: 5, after-an-outage: 3}\n")
	require.Equal(t, []any{10, false, 2, 1}, []any{r.People, r.Estimated, r.Devices, r.Left})
	require.Len(t, r.Servers, 3, "nobody asks idle")
	t1 := r.Servers[0]
	t2 := r.Servers[1]
	r1 := r.Servers[2]
	// A login is two questions to t1 (login, session) and two to r1 (start, stop); a command two to t1.
	logins, programs := 60.0, 48.0
	require.InDelta(t, (logins*42)/36000+programs*12/86400, t1.Day, 1e-9)
	require.InDelta(t, 3*(logins*42)/36000+programs*12/86400, t1.Busiest, 1e-9)
	require.InDelta(t, (30+2)*4/60.0, t1.AfterOutage, 1e-9)
	require.InDelta(t, 365*(logins*42+programs*12), t1.InAYear.All(), 1e-6)
	require.InDelta(t, 365*(logins+programs), t1.InAYear.Logins, 1e-6)
	require.InDelta(t, 365*(logins*20+programs*5), t1.InAYear.Records, 1e-6)
	require.InDelta(t, t1.InAYear.All()*340+(t1.InAYear.Logins+t1.InAYear.Records)*320, t1.OctetsOfAYear, 1e-3)
	require.Equal(t, []any{2, 0, 2}, []any{t1.Devices, t2.Devices, r1.Devices})
	require.Zero(t, t2.Day+t2.Busiest+t2.AfterOutage+t2.InAYear.All(), "while t1 is up nobody asks it")
	require.InDelta(t, (30+2)*4/60.0, t2.Alone, 1e-9, "and alone it is asked everything")
	require.InDelta(t, 32/60.0, t2.LoginsAlone, 1e-9)
	require.InDelta(t, (30+2)*2/60.0, r1.AfterOutage, 1e-9)
	require.Zero(t, r1.Alone, "without t nobody gets in whom it could record")
	require.Zero(t, r1.InAYear.Logins)
}

func TestPeopleAreThoseWithAGrantUnlessTheSiteSaysHowMany(t *testing.T) {
	t.Parallel()
	r := report(t, "rates: {program-logins: 0}\n")
	require.Equal(t, []any{1, true}, []any{r.People, r.Estimated})
	require.InDelta(t, 8*52.0/(9*3600), r.Servers[0].Day, 1e-9)
	require.InDelta(t, 4*4/60.0, r.Servers[0].AfterOutage, 1e-9)
	_, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(text + "rates: {hours: 25}\n")})
	require.ErrorContains(t, err, "hours")
}
