package gate_test

import (
	"bytes"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/ldap/ldaptest"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// An elevation is in the ledger as one, up to the level that was asked for.
func TestAnElevationIsKeptWithItsLevel(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, level := range []byte{15, 7} {
		client, _ := r.dial()
		_, err := client.AuthenticateASCII(tacacs.AuthenStart{Service: tacacs.ServiceEnable, PrivLvl: level,
			User: "ines", Port: "ssh0"}, "right", nil)
		require.NoError(t, err)
		kept := r.book.kept()
		last := kept[len(kept)-1]
		require.Equal(t, []any{ledger.Elevation, evidence.Accepted, int(level)},
			[]any{last.Kind, last.Result, last.Level})
	}
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right").Result)
	kept := r.book.kept()
	require.Equal(t, []any{ledger.Login, 15}, []any{kept[len(kept)-1].Kind, kept[len(kept)-1].Level})
}

// An event says what went back, and of a login over TACACS+, to which nothing goes back, nothing.
func TestAnEventSaysWhatWentBack(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, c := range []struct {
		server  string
		purpose site.Purpose
		person  string
		answer  evidence.Answer
		returns bool
	}{{"t", site.Login, "ines", evidence.Accepted, false}, {"t", site.Session, "ines", evidence.Accepted, true},
		{"t", site.Session, "nobody", evidence.Refused, false}, {"r", site.Login, "ines", evidence.Accepted, true},
		{"r", site.Login, "nobody", evidence.Refused, false}} {
		r.ask(c.server, walk.Question{Purpose: c.purpose, Person: c.person}, "right")
		e := r.last()
		require.Equal(t, []any{c.answer, c.returns}, []any{e.Answer, e.Returned != ""}, "%v: %+v", c, e)
		require.Equal(t, c.answer == evidence.Accepted, e.Level != nil)
	}
	designed, _ := startDesigned(t)
	designed.askWith("r", login("tobin"), aaa.Asker{Password: "right", Code: func(string) (string, bool) {
		return "", false
	}})
	e := designed.eventually(reason.CodeAsked)
	require.Equal(t, []any{evidence.Challenged, "", true}, []any{e.Answer, e.Returned, e.Level == nil})
}

// What an unknown device sent is said to be what it was: a login or a record.
func TestWhatAnUnknownDeviceSentIsSaid(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, purpose := range []site.Purpose{site.Login, site.RecordSessions} {
		q := walk.Question{Purpose: purpose, Person: "ines", Start: true}
		require.Equal(t, reason.Silent, r.ask("r", q, "right", from("127.0.0.3")).Reason)
		e := r.eventually("client-unknown")
		require.Equal(t, []any{evidence.Dropped, purpose == site.Login}, []any{e.Answer, e.Question == site.AskLogin})
	}
}

// A state that nobody was sent matters only to whom a code is asked of.
func TestAStateThatNobodyWasSentIsNoneOfAPassword(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	for person, why := range map[string]reason.Reason{"ines": reason.Accepted, "tobin": reason.SecondFactor} {
		p := &radius.Packet{Code: radius.AccessRequest, ID: 3}
		p.AddText(radius.UserName, person)
		p.Add(radius.State, []byte("a state of nobody"))
		hidden, err := radius.HidePassword("right", p.Authenticator, []byte(key))
		require.NoError(t, err)
		p.Add(radius.UserPassword, hidden)
		b, err := p.EncodeRequest([]byte(key))
		require.NoError(t, err)
		r.send(r.radius.Authentication, b)
		r.eventually(why)
	}
}

// A password that was hidden wrongly cannot be read, and that is said.
func TestAPasswordThatCannotBeReadIsSaid(t *testing.T) {
	t.Parallel()
	r := start(t)
	p := &radius.Packet{Code: radius.AccessRequest, ID: 4}
	p.AddText(radius.UserName, "ines")
	p.Add(radius.UserPassword, []byte{1, 2, 3})
	b, err := p.EncodeRequest([]byte(key))
	require.NoError(t, err)
	r.send(r.radius.Authentication, b)
	require.Equal(t, evidence.Dropped, r.eventually(reason.Malformed).Answer)
}

// A capture holds the passwords only where that is asked for.
func TestACaptureHoldsPasswordsOnlyWhereThatIsAskedFor(t *testing.T) {
	t.Parallel()
	for _, credentials := range []bool{false, true} {
		var file bytes.Buffer
		w, err := capture.NewWriter(&file)
		require.NoError(t, err)
		r := startConfigured(t, gate.Config{Now: time.Now, Capture: w, Credentials: credentials}, site.Keys{}, small)
		p := &radius.Packet{Code: radius.AccessRequest, ID: 5}
		p.AddText(radius.UserName, "ines")
		hidden, err := radius.HidePassword("right", p.Authenticator, []byte(key))
		require.NoError(t, err)
		p.Add(radius.UserPassword, hidden)
		b, err := p.EncodeRequest([]byte(key))
		require.NoError(t, err)
		r.send(r.radius.Authentication, b)
		r.eventually(reason.Accepted)
		r.gate.Shutdown()
		require.Equal(t, credentials, bytes.Contains(file.Bytes(), hidden))
		require.Contains(t, file.String(), "ines")
	}
}

const small = `
keys: {k: file k}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 300ms, for: authentication}
devices: [{name: sw, addresses: [127.0.0.1]}]
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
`

// A server listens nowhere for what the site says that it is not for.
func TestAServerListensForWhatItIsForAlone(t *testing.T) {
	t.Parallel()
	r := startWith(t, site.Keys{}, time.Now, small)
	require.NotZero(t, r.radius.Authentication.Port())
	require.Zero(t, r.radius.Accounting.Port())
	taken, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = taken.Close() })
	any := netip.MustParseAddrPort("127.0.0.1:0")
	r.gate.Shutdown()
	g := gate.New(gate.Config{Now: time.Now, Ledger: &book{}, Design: designOf(r.site, site.Keys{
		"k": site.NewSecret(key)}), Events: func(evidence.Event) {}})
	t.Cleanup(g.Shutdown)
	_, err = g.Listen(gate.Place{Server: r.site.Server("r"), Authentication: any,
		Accounting: netip.MustParseAddrPort(taken.LocalAddr().String())})
	require.NoError(t, err, "the port of what it is not for may be anybody's")
}

// Somebody of a directory is told of once, and goes by the name that the directory has.
func TestSomebodyOfADirectoryGoesByItsNameAndIsToldOfOnce(t *testing.T) {
	t.Parallel()
	dir := ldaptest.Start(t, "", "", "")
	var mu sync.Mutex
	told := map[string]int{}
	r := startConfigured(t, gate.Config{Now: time.Now, Learned: func(name, source string, _ time.Time) {
		mu.Lock()
		defer mu.Unlock()
		told[name+" "+source]++
	}}, site.Keys{"dir": site.NewSecret(ldaptest.Secret)}, fmt.Sprintf(`
keys: {k: file k, dir: file dir}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 700ms}
  - {name: dunlin, protocol: ldap, address: 127.0.0.1, port: %d, base: "%s", bind: {dn: "%s", key: dir}, team-attribute: seeAlso, tls: none, timeout: 2s}
devices: [{name: sw, addresses: [127.0.0.1]}]
directories: [dunlin]
roles: [{name: all, level: 15, commands: [allow look]}]
grants: [{who: team network, role: all}]
`, dir.Port, ldaptest.Base, ldaptest.Searcher))
	for range 2 {
		require.Equal(t, walk.Accepted, r.ask("t", login("EBBA.Lind"), ldaptest.Password).Result)
		kept := r.book.kept()
		require.Equal(t, "ebba.lind", kept[len(kept)-1].Person)
	}
	mu.Lock()
	defer mu.Unlock()
	require.Equal(t, map[string]int{"ebba.lind ": 1}, told)
}
