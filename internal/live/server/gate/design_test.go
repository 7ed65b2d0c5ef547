package gate_test

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/ldap/ldaptest"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/wire/tacacs"
)

const designed = `
keys: {k: file k, k2: file k2, other: file other, seed: file seed, kept: file kept}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: {now: k, next: k2}, timeout: 5s, for: [authentication, authorization]}
  - {name: r, protocol: radius, address: 127.0.0.1, key: {now: k, next: k2}, timeout: 300ms, attempts: 2, password-forms: [pap], for: authentication}
  - {name: r2, protocol: radius, address: 127.0.0.1, key: k, timeout: 700ms, for: authentication}
platforms: [{name: odd, behaviour: {level-attribute: Example-Level, account-attribute: Filter-Id}}]
devices: [{name: sw, platform: odd, addresses: [127.0.0.1]}]
people:
  - {name: ines, teams: [net], password: 'HASH'}
  - {name: tobin, teams: [watch], password: 'HASH', one-time-code: key seed}
  - {name: both, teams: [net], password: key kept, one-time-code: key seed}
  - {name: far, password: 'HASH'}
  - {name: late, password: 'HASH'}
roles:
  - {name: all, level: 15, commands: [allow **], account: watch, send: {radius: [{name: Reply-Message, value: hello}], tacacs: [{name: idletime, value: "20", optional: true}]}}
vendors: [{name: example, number: 32473, attributes: [{name: Example-Level, number: 1, type: integer}]}]
clients: [{from: 127.0.0.9, servers: [t, r], key: other}]
grants:
  - {who: [team net, team watch], role: all}
  - {who: person far, from: 192.0.2.0/24, role: all}
  - {who: person late, hours: 06:00-20:00, role: all}
`

// seed is a made-up seed of one-time codes, in base 32.
const seed = "JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP"

func startDesigned(t *testing.T) (*rig, *atomic.Int64) {
	clock := new(atomic.Int64)
	clock.Store(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC).Unix())
	keys := site.Keys{"k2": site.NewSecret("the-next-key-of-both-22"), "other": site.NewSecret("a-key-for-another-one"),
		"seed": site.NewSecret(seed)}
	return startWith(t, keys, func() time.Time { return time.Unix(clock.Load(), 0).UTC() }, designed), clock
}

func login(person string) walk.Question { return walk.Question{Purpose: site.Login, Person: person} }

func TestWhileAKeyIsChangedBothAreTaken(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result, server)
		require.EqualValues(t, "k", r.last().Key)
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right",
			withKey("the-next-key-of-both-22")).Result,
			server)
		require.EqualValues(t, "k2", r.last().Key)
		require.Equal(t, walk.Unavailable, r.ask(server, login("ines"), "right", withKey("some-other-key")).Result,
			server)
	}
}

// A device that asks from another of its addresses is told apart from a stranger.
func TestADeviceThatAsksFromAnotherOfItsAddressesIsNamed(t *testing.T) {
	t.Parallel()
	r := startWith(t, site.Keys{}, time.Now, `
keys: {k: file k, kept: file kept}
servers: [{name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 2s}, {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 200ms, attempts: 1}]
devices: [{name: sw, addresses: [127.0.0.1, 127.0.0.12], source: 127.0.0.1}]
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15}]
grants: [{who: [team net], role: all}]
`)
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Unavailable, r.ask(server, login("ines"), "right", from("127.0.0.12")).Result, server)
		require.Equal(t, "127.0.0.12 is an address of sw, which is to ask from 127.0.0.1: let it ask from there, "+
			"or write source: 127.0.0.12", r.eventually("client-unknown").Text)
	}
}

func TestAnotherClientAsksWithItsOwnKey(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted,
			r.ask(server, login("ines"), "right", from("127.0.0.9"), withKey("a-key-for-another-one")).Result, server)
		require.Equal(t, walk.Unavailable, r.ask(server, login("ines"), "right", from("127.0.0.9")).Result, server)
		require.Equal(t, walk.Unavailable, r.ask(server, login("ines"), "right", from("127.0.0.10")).Result, server)
		require.Contains(t, r.eventually("client-unknown").Text,
			"no device or client of the site has the address 127.0.0.10")
	}
}

func TestWhatAServerIsNotForIsNotAnswered(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	record := walk.Question{Purpose: site.RecordSessions, Person: "ines"}
	reply := r.ask("t", record, "")
	require.Equal(t, []any{walk.Unavailable, reason.ServerError}, []any{reply.Result, reply.Reason})
	require.Contains(t, r.eventually("not-for-this").Text, "t is not for accounting")
	require.Equal(t, walk.Unavailable, r.ask("r", record, "").Result)
	require.Equal(t, walk.Refused, r.askIn("chap", "r", login("ines"), "right").Result)
	require.Contains(t, r.eventually("password-form").Text, "r takes passwords as pap, and this one came as chap")
}

func TestAnswersCarryWhatTheKindReadsAndWhatTheRoleSends(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	have := r.ask("r", login("ines"), "right", func(t *aaa.Target) { t.Words = attributes.Of(r.site) }).Attributes
	for _, want := range []rights.Attribute{{Name: "Example-Level", Value: "15"}, {Name: "Filter-Id", Value: "watch"},
		{Name: "Reply-Message", Value: "hello"}} {
		require.Contains(t, have, want)
	}
	session := r.ask("t", walk.Question{Purpose: site.Session, Person: "ines"}, "").Attributes
	require.Contains(t, session, rights.Attribute{Name: "idletime", Value: "20", Optional: true})
	require.Contains(t, session, rights.Attribute{Name: "Filter-Id", Value: "watch"})
}

func TestAGrantHoldsFromItsPlacesAndAtItsHours(t *testing.T) {
	t.Parallel()
	r, clock := startDesigned(t)
	require.Equal(t, walk.Refused, r.ask("t", login("far"), "right").Result)
	require.Contains(t, r.eventually("no-grant").Text,
		"it is for those who come from 192.0.2.0/24, and the person comes from 198.51.100.7")
	require.Equal(t, walk.Accepted, r.ask("t", login("late"), "right").Result)
	clock.Add(9 * 3600)
	require.Equal(t, walk.Refused, r.ask("t", login("late"), "right").Result)
	require.Contains(t, r.eventually("no-grant").Text, "it holds at 06:00-20:00 only")
}

func TestAOneTimeCodeFollowsThePasswordAndIsTakenOnce(t *testing.T) {
	t.Parallel()
	r, clock := startDesigned(t)
	code := func(steps int64) string {
		c, err := totp.GenerateCode(seed, time.Unix(clock.Load()+30*steps, 0))
		require.NoError(t, err)
		return c
	}
	require.Equal(t, walk.Refused, r.askIn("pap", "t", login("tobin"), "right").Result,
		"without a code, in a form that cannot ask for one")
	require.Contains(t, r.eventually("second-factor").Text, "type the code right after the password")
	require.Equal(t, walk.Refused, r.ask("t", login("tobin"), "wrong"+code(0)).Result)
	require.Equal(t, walk.Refused, r.ask("t", login("tobin"), "right"+code(3)).Result, "too far ahead")
	require.Contains(t, r.eventually("second-factor").Text, "about 1m30s ahead of the server's; set that clock")
	require.Equal(t, walk.Refused, r.ask("t", login("tobin"), "right000000").Result)
	require.Contains(t, r.eventually("second-factor").Text, "the one-time code is wrong")
	require.Equal(t, walk.Accepted, r.ask("r", login("tobin"), "right"+code(0)).Result)
	require.Equal(t, walk.Refused, r.ask("t", login("tobin"), "right"+code(0)).Result, "used already")
	require.Contains(t, r.eventually("second-factor").Text, "was used before; wait for the next")
	require.Equal(t, walk.Refused, r.ask("t", login("tobin"), "right"+code(-1)).Result, "older than a used one")
	clock.Add(60)
	require.Equal(t, walk.Accepted, r.ask("t", login("tobin"), "right"+code(-1)).Result)
	require.Contains(t, r.last().Text, "the clock that made the one-time code is about 30s behind the server's")
	require.Equal(t, walk.Refused, r.askIn("chap", "t", login("tobin"), "right").Result)
	r.eventually("password-form")
}

func TestAUsedCodeStaysUsedAfterARestart(t *testing.T) {
	t.Parallel()
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = folder.Close() })
	clock := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	code, err := totp.GenerateCode(seed, clock)
	require.NoError(t, err)
	broken := false
	served := func() *rig {
		used, err := folder.UsedCodes()
		require.NoError(t, err)
		keys := site.Keys{"k2": site.NewSecret("the-next-key-of-both-22"),
			"other": site.NewSecret("a-key-for-another-one"),
			"seed":  site.NewSecret(seed)}
		return startConfigured(t,
			gate.Config{Now: func() time.Time { return clock }, UsedCodes: used,
				KeepCodes: func(_ string, _ int64, used map[string]int64) error {
					if broken {
						return errors.New("the disk is full")
					}
					return folder.KeepCodes(used)
				}}, keys, designed)
	}
	r := served()
	broken = true
	require.Equal(t, walk.Refused, r.ask("t", login("tobin"), "right"+code).Result, "what cannot be kept is not taken")
	require.Contains(t, r.eventually("second-factor").Text, "could not be noted as used")
	broken = false
	require.Equal(t, walk.Accepted, r.ask("t", login("tobin"), "right"+code).Result)
	require.Equal(t, walk.Refused, served().ask("t", login("tobin"), "right"+code).Result)
	require.NoError(t, os.WriteFile(filepath.Join(folder.Dir, "used-codes.json"), []byte("{"), 0o600))
	_, err = folder.UsedCodes()
	require.ErrorContains(t, err, "used-codes.json is damaged")
}

func TestAOneTimeCodeIsAskedForOnceThePasswordIsRight(t *testing.T) {
	t.Parallel()
	r, clock := startDesigned(t)
	code := func() string {
		c, err := totp.GenerateCode(seed, time.Unix(clock.Load(), 0))
		require.NoError(t, err)
		return c
	}
	in := func(server, form, person, password, code string) (walk.Reply, string) {
		r.Helper()
		asked := ""
		reply := r.askWith(server, login(person),
			aaa.Asker{Password: password, Form: form, Code: func(prompt string) (string, bool) {
				asked = prompt
				return code, code != ""
			}})
		return reply, asked
	}
	for _, c := range []struct{ server, form, person string }{{"t", "", "tobin"}, {"r", "", "tobin"}, {"t", "", "both"},
		{"r", "", "both"}, {"r2", "chap", "both"}, {"r2", "mschapv2", "both"}} {
		clock.Add(60)
		reply, asked := in(c.server, c.form, c.person, "wrong", code())
		require.Equal(t, []any{walk.Refused, ""}, []any{reply.Result, asked},
			"%v: a wrong password is not asked further", c)
		reply, asked = in(c.server, c.form, c.person, "right", "")
		require.Equal(t, []any{walk.Refused, "One-time code: "}, []any{reply.Result, asked}, "%v: nobody answers", c)
		r.eventually("code-asked")
		reply, _ = in(c.server, c.form, c.person, "right", "000000")
		require.Equal(t, walk.Refused, reply.Result, "%v", c)
		require.Contains(t, r.eventually("second-factor").Text, "the one-time code is wrong")
		reply, asked = in(c.server, c.form, c.person, "right", code())
		require.Equal(t, []any{walk.Accepted, "One-time code: "}, []any{reply.Result, asked}, "%v", c)
		clock.Add(60)
		reply, asked = in(c.server, c.form, c.person, "right"+code(), code())
		require.Equal(t, []any{walk.Accepted, ""}, []any{reply.Result, asked},
			"%v: with the code after the password nothing is asked", c)
	}
	kept := r.book.kept()
	require.Equal(t, evidence.Accepted, kept[len(kept)-1].Result)
	for _, record := range kept {
		require.NotContains(t, record.Reason, "code-asked", "a question is no decision")
	}

	clock.Add(60)
	reply, _ := in("r", "", "tobin", "right", "")
	require.EqualValues(t, "challenge", reply.Answer)
	late := r.askWith("r", login("tobin"), aaa.Asker{Password: "right", Code: func(string) (string, bool) {
		clock.Add(200)
		return code(), true
	}})
	require.Equal(t, walk.Refused, late.Result)
	require.Contains(t, r.eventually("second-factor").Text, "it came too late")
}

func TestANewDesignTakesTheOldOnesPlaceWholeAndAtOnce(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	conn, err := net.Dial("tcp", r.tacacs.Authentication.String())
	require.NoError(t, err)
	kept := tacacs.Share(conn, []byte(key)) // a connection from before, which is kept
	pap := func(password string) tacacs.AuthenStatus {
		reply, err := kept.Client().Authenticate(tacacs.AuthenStart{
			Service: tacacs.ServiceLogin, User: "ines", Port: "ssh0"},
			tacacs.PAP, password)
		require.NoError(t, err)
		return reply.Status
	}
	require.Equal(t, tacacs.AuthenPass, pap("right"))

	hash, err := secrets.Hash("changed", 64, 1)
	require.NoError(t, err)
	old, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	changed := func(text string) gate.Design {
		text = strings.Replace(text, "{name: ines, teams: [net], password: 'HASH'}",
			"{name: ines, teams: [net], password: '"+hash+"'}", 1)
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.ReplaceAll(text, "HASH", old))})
		require.NoError(t, err)
		keys := site.Keys{"k": site.NewSecret(key), "k2": site.NewSecret("the-next-key-of-both-22"),
			"other": site.NewSecret("a-key-for-another-one"), "seed": site.NewSecret(seed),
			"kept": site.NewSecret("right")}
		return designOf(s, keys)
	}
	require.NoError(t, r.gate.Reload(changed(designed)))
	require.Equal(t, tacacs.AuthenFail, pap("right"),
		"the password that was remembered is not that of the new hash, on kept connections too")
	require.Equal(t, tacacs.AuthenPass, pap("changed"))
	require.Equal(t, walk.Refused, r.ask("r", login("ines"), "right").Result)
	require.Equal(t, walk.Accepted, r.ask("r", login("ines"), "changed").Result)
	require.NoError(t, kept.Close())

	without := changed(designed)
	delete(without.Keys, "k2")
	require.ErrorContains(t, r.gate.Reload(without), "its key k2 has no value here")
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "changed").Result,
		"a design that cannot be taken changes nothing")

	// The device asks from elsewhere now: its kept connection ends with its next session.
	conn, err = net.Dial("tcp", r.tacacs.Authentication.String())
	require.NoError(t, err)
	kept = tacacs.Share(conn, []byte(key))
	require.Equal(t, tacacs.AuthenPass, pap("changed"))
	moved := changed(designed)
	moved.Clients = map[netip.Addr]*site.Device{netip.MustParseAddr("127.0.0.77"): moved.Site.Device("sw")}
	require.NoError(t, r.gate.Reload(moved))
	_, err = kept.Client().Authenticate(tacacs.AuthenStart{Service: tacacs.ServiceLogin, User: "ines", Port: "ssh0"},
		tacacs.PAP, "changed")
	require.Error(t, err)
	_ = kept.Close()
}

func TestDesignsMayBeTakenManyTimesUnderLoad(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	design := designOf(r.site, site.Keys{"k": site.NewSecret(key), "k2": site.NewSecret("the-next-key-of-both-22"),
		"other": site.NewSecret("o"), "seed": site.NewSecret(seed)})
	stop := make(chan struct{})
	var reloading sync.WaitGroup
	reloading.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				require.NoError(t, r.gate.Reload(design))
			}
		}
	})
	for range 100 {
		for _, server := range []string{"t", "r"} {
			require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result)
		}
	}
	close(stop)
	reloading.Wait()
}

func TestPeopleWhoOnlyADirectoryKnows(t *testing.T) {
	t.Parallel()
	dir := ldaptest.Start(t, "", "", "")
	r := startWith(t, site.Keys{"dir": site.NewSecret(ldaptest.Secret)}, time.Now, fmt.Sprintf(`
keys: {k: file k, dir: file dir}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 700ms}
  - {name: down, protocol: ldap, address: 127.0.0.1, port: 1, base: o=x, tls: none, timeout: 1s}
  - {name: dunlin, protocol: ldap, address: 127.0.0.1, port: %d, base: "%s", bind: {dn: "%s", key: dir}, team-attribute: seeAlso, tls: none, timeout: 2s}
devices: [{name: sw, addresses: [127.0.0.1]}]
directories: [dunlin]
people: [{name: ines, teams: [network], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow look]}]
grants: [{who: team network, role: all}]
`, dir.Port, ldaptest.Base, ldaptest.Searcher))
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted, r.ask(server, login("ebba.lind"), ldaptest.Password).Result, server)
		require.Equal(t, walk.Refused, r.ask(server, login("ebba.lind"), "wrong").Result, server)
		r.eventually("wrong-password")
		require.Equal(t, walk.Refused, r.ask(server, login("nobody"), "right").Result, server)
		require.Contains(t, r.eventually("directory-no-entry").Text,
			"looked in dunlin, (uid=nobody) below ou=people,dc=saltmarsh,dc=example: no entry")
		require.Equal(t, walk.Refused, r.ask(server, login("per.holm"), ldaptest.Password).Result,
			"in no team that a grant names")
		r.eventually("no-grant")
		require.Equal(t, walk.Refused, r.ask(server, login("ulf.gran"), ldaptest.Password).Result, "right, and expired")
		require.Contains(t, r.eventually("password-expired").Text, "the password of ulf.gran is right and has expired")
		require.Equal(t, walk.Refused, r.ask(server, login("ulf.gran"), "wrong").Result)
		r.eventually("wrong-password")
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result, "the site comes first")
		require.Equal(t, walk.Refused, r.askIn("chap", server, login("ebba.lind"), ldaptest.Password).Result)
		r.eventually("password-form")
	}
	require.Equal(t, walk.Accepted, r.ask("t", walk.Question{Purpose: site.Session, Person: "ebba.lind"}, "").Result)
	require.Equal(t, walk.Accepted,
		r.ask("t", walk.Question{Purpose: site.Commands, Person: "ebba.lind", Line: "look"}, "").Result)
	require.Equal(t, walk.Refused,
		r.ask("t", walk.Question{Purpose: site.Commands, Person: "ebba.lind", Line: "set"}, "").Result)

	dir.Stop()
	reply := r.ask("t", login("ebba.lind"), ldaptest.Password)
	require.Equal(t, []any{walk.Unavailable, reason.ServerError}, []any{reply.Result, reply.Reason},
		"no refusal: the device goes on")
	r.eventually("directory-down")
	kept := r.book.kept()
	require.Equal(t, evidence.Failed, kept[len(kept)-1].Result, "the ledger does not call it a refusal")
	require.Equal(t, walk.Unavailable, r.ask("r", login("ebba.lind"), ldaptest.Password).Result)
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right").Result, "those in the site need no directory")
}

func TestConnectionsOfOneAskerTakeNobodyElsesPlace(t *testing.T) {
	t.Parallel()
	r, _ := startDesigned(t)
	var idle []net.Conn
	t.Cleanup(func() {
		for _, c := range idle {
			_ = c.Close()
		}
	})
	for range 300 { // the client at 127.0.0.9 opens more than its share, and says nothing
		c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 9)}}).Dial("tcp",
			r.tacacs.Authentication.String())
		require.NoError(t, err)
		idle = append(idle, c)
	}
	require.Contains(t, r.eventually("too-many").Text, "127.0.0.9 has 256 connections open")
	require.Equal(t, walk.Unavailable,
		r.ask("t", login("ines"), "right", from("127.0.0.9"), withKey("a-key-for-another-one")).Result)
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right").Result, "another asker logs in")
	for _, c := range idle[:100] {
		_ = c.Close()
	}
	require.Eventually(t, func() bool {
		return r.ask("t", login("ines"), "right", from("127.0.0.9"),
			withKey("a-key-for-another-one")).Result == walk.Accepted
	}, 30*time.Second, 10*time.Millisecond, "with its share free again it logs in too")
}

func TestAFloodFromAnUnknownAddressFillsNothing(t *testing.T) {
	t.Parallel()
	r, clock := startDesigned(t)
	conn, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 66)},
		net.UDPAddrFromAddrPort(r.radius.Authentication))
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	for range 2000 {
		_, err = conn.Write(make([]byte, 60))
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return r.ask("r", login("ines"), "right").Result == walk.Accepted },
		30*time.Second, time.Millisecond,
		"others log in; what the full port dropped is sent again")
	count := func() int {
		r.mu.Lock()
		defer r.mu.Unlock()
		n := 0
		for _, e := range r.events {
			if e.Reason == "client-unknown" {
				n++
			}
		}
		return n
	}
	require.LessOrEqual(t, count(), 20)
	clock.Add(2)
	require.Eventually(t, func() bool {
		_, _ = conn.Write(make([]byte, 60))
		r.mu.Lock()
		defer r.mu.Unlock()
		return slices.ContainsFunc(r.events,
			func(e evidence.Event) bool { return strings.Contains(e.Text, " more since 12:00:00)") })
	}, 30*time.Second, 10*time.Millisecond)
}
