package gate_test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/ldap/ldaptest"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// limitedPeople is a site with a directory in which people are that the site
// limits, and spellings of their names are.
func limitedPeople(t *testing.T, dir *ldaptest.Server, service string) *rig {
	return startWith(t, site.Keys{"dir": site.NewSecret(ldaptest.Secret), "seed": site.NewSecret(seedOfTest)}, time.Now,
		fmt.Sprintf(`
keys: {k: file k, dir: file dir, seed: file seed}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 700ms}
  - {name: dunlin, protocol: ldap, address: 127.0.0.1, port: %d, base: "%s", bind: {dn: "%s", key: dir}, team-attribute: seeAlso, tls: none, timeout: 2s}
devices: [{name: sw, addresses: [127.0.0.1]}]
directories: [dunlin]
people:
  - {name: ines, teams: [network], password: 'HASH'}
  - {name: ebba.lind, from: directory, disabled: true}
  - {name: per.holm, from: directory, teams: [network], one-time-code: key seed}
teams: [{name: guarded, one-time-code: needed}]
roles: [{name: all, level: 15, commands: [allow look]}]
grants: [{who: team network, role: all}]
%s`, dir.Port, ldaptest.Base, ldaptest.Searcher, service))
}

const seedOfTest = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"

// Whoever the site disables, or binds to a code, is so limited in every spelling
// of the name, though a directory would take it.
func TestNoSpellingOfANameGoesPastWhatTheSiteSaysOfIt(t *testing.T) {
	t.Parallel()
	dir := ldaptest.Start(t, "", "", "")
	r := limitedPeople(t, dir, "")
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Refused, r.ask(server, login("ebba.lind"), ldaptest.Password).Result)
		r.eventually(reason.Disabled)
		for _, name := range []string{"Ebba.lind", "EBBA.LIND", " ebba.lind", "ebba.lind ", "ｅｂｂａ.lind", "Ines", "INES",
			"ines ",
			"Per.Holm", "ＰＥＲ.holm"} {
			require.Equal(t, walk.Refused, r.ask(server, login(name), ldaptest.Password).Result, "%q", name)
			r.eventually(reason.NameSpelling)
		}
		// The password alone is not enough for somebody whom the site binds to a code.
		require.NotEqual(t, walk.Accepted, r.ask(server, login("per.holm"), ldaptest.Password).Result)
	}
	code, err := secrets.Code(site.NewSecret(seedOfTest), secrets.CodeStepAt(time.Now()))
	require.NoError(t, err)
	require.Equal(t, walk.Accepted, r.askIn(site.PAP, "t", login("per.holm"), ldaptest.Password+code).Result)
	e := r.eventually(reason.Accepted)
	require.Equal(t, "per.holm", e.Person)
	session := walk.Question{Purpose: site.Session, Person: "PER.HOLM"}
	require.Equal(t, walk.Refused, r.ask("t", session, "").Result, "nor for rights")
}

// Where the site folds names another spelling is the person, and recorded so.
func TestAFoldedNameIsThePerson(t *testing.T) {
	t.Parallel()
	dir := ldaptest.Start(t, "", "", "")
	r := limitedPeople(t, dir, "service: {names: folded, limits: {failure-delay: 0s}}\n")
	require.Equal(t, walk.Accepted, r.ask("t", login("INES"), "right").Result)
	e := r.eventually(reason.Accepted)
	require.Equal(t, "ines", e.Person)
	require.Contains(t, e.Text, `typed as "INES"`)
	// RADIUS tells the device, whose records and sessions then bear the name of the site.
	names := func(person string) []rights.Attribute {
		return slices.DeleteFunc(r.ask("r", login(person), "right").Attributes,
			func(a rights.Attribute) bool { return a.Name != "User-Name" })
	}
	require.Equal(t, []rights.Attribute{{Name: "User-Name", Value: "ines"}}, names("Ines"))
	require.Empty(t, names("ines"))
	require.Equal(t, walk.Refused, r.ask("t", login("Ebba.Lind"), ldaptest.Password).Result)
	r.eventually(reason.Disabled)
	kept := r.book.kept()
	require.Equal(t, "ebba.lind", kept[len(kept)-1].Person)
}

// A stranger's typing does not make a device leave a server alone: no answer is
// given only for names that a directory has been seen to have.
func TestAnUnknownNameIsRefusedWhileADirectoryIsAway(t *testing.T) {
	t.Parallel()
	dir := ldaptest.Start(t, "", "", "")
	r := limitedPeople(t, dir, "")
	r.ask("t", login("per.holm"), ldaptest.Password) // found once
	dir.Stop()
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Refused, r.ask(server, login("anybody.at.all"), "x").Result, server)
		require.Contains(t, r.eventually(reason.UnknownPerson).Text, "no directory has ever had the name")
		require.Equal(t, walk.Unavailable, r.ask(server, login("per.holm"), ldaptest.Password).Result, server)
		r.eventually(reason.DirectoryDown)
	}
}

// A password that RADIUS cannot carry is a wrong one, on both sides of the wire.
func TestAPasswordThatIsTooLongIsWrong(t *testing.T) {
	t.Parallel()
	r := start(t)
	long := strings.Repeat("x", 129)
	reply := r.ask("r", login("ines"), long)
	require.Equal(t, walk.Refused, reply.Result, "a device refuses it by itself")
	require.Equal(t, walk.Refused, r.ask("t", login("ines"), long).Result)
	r.eventually(reason.WrongPassword)

	p := &radius.Packet{Code: radius.AccessRequest, ID: 9, Authenticator: [16]byte{1}}
	p.AddText(radius.UserName, "ines")
	p.Add(radius.UserPassword, make([]byte, 144)) // as a device sends it that does not keep to the bound
	b, err := p.EncodeRequest([]byte(key))
	require.NoError(t, err)
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(r.radius.Authentication))
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
	_, err = conn.Write(b)
	require.NoError(t, err)
	answer := make([]byte, 4096)
	n, err := conn.Read(answer)
	require.NoError(t, err)
	require.Equal(t, byte(radius.AccessReject), answer[:n][0])
	require.Equal(t, reason.WrongPassword, r.eventually(reason.WrongPassword).Reason)
}

// Two requests are the same only when every octet is: another name in the same
// envelope does not get the answer of the first.
func TestAnotherNameInTheSameEnvelopeIsAnotherRequest(t *testing.T) {
	t.Parallel()
	r := startWith(t, site.Keys{}, time.Now, strings.ReplaceAll(siteOfTwo, "MA", "if-present"))
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(r.radius.Authentication))
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
	for name, want := range map[string]radius.Code{"ines": radius.AccessAccept, "odd": radius.AccessReject} {
		p := &radius.Packet{Code: radius.AccessRequest, ID: 9, Authenticator: [16]byte{1}}
		p.AddText(radius.UserName, name)
		hidden, err := radius.HidePassword("right", p.Authenticator, []byte(key))
		require.NoError(t, err)
		p.Add(radius.UserPassword, hidden)
		b, err := p.EncodeRequest([]byte(key))
		require.NoError(t, err)
		_, err = conn.Write(b)
		require.NoError(t, err)
		answer := make([]byte, 4096)
		n, err := conn.Read(answer)
		require.NoError(t, err)
		require.Equal(t, byte(want), answer[:n][0], name)
	}
}

const siteOfTwo = `
keys: {k: file k}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 5s, message-authenticator: MA}
devices: [{name: sw, addresses: [127.0.0.1]}]
people:
  - {name: ines, teams: [net], password: 'HASH'}
  - {name: odd, teams: [net], disabled: true, password: 'HASH'}
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
`

// A device that says that nobody has proven who somebody is gets them no rights,
// unless a grant says so.
func TestNobodyWhoHasProvenNothingGetsRights(t *testing.T) {
	t.Parallel()
	for provenBy, want := range map[string]tacacs.AuthorStatus{"": tacacs.AuthorFail,
		", proven-by: [password, none]": tacacs.AuthorPassAdd} {
		r := startWith(t, site.Keys{}, time.Now,
			strings.NewReplacer("MA", "required", "who: team net", "who: team net"+provenBy).
				Replace(siteOfTwo))
		for _, method := range []tacacs.Method{tacacs.MethodNone, tacacs.MethodNotSet, tacacs.MethodLine,
			tacacs.MethodEnable,
			tacacs.MethodGuest} {
			c, _ := r.dial()
			response, err := c.Authorize(tacacs.AuthorRequest{Method: method, User: "ines", Port: "ssh0",
				Args: []string{"service=shell", "cmd="}})
			require.NoError(t, err)
			require.Equal(t, want, response.Status, provenBy)
		}
	}
}

// Somebody who is disabled while their password prompt is open does not get in.
func TestAnOpenPromptIsJudgedByTheSiteOfNow(t *testing.T) {
	t.Parallel()
	r := start(t)
	_, conn := r.dial()
	send := func(sequence byte, body []byte) tacacs.AuthenReply {
		h := tacacs.Header{Version: 0xc0, Type: tacacs.Authentication, Sequence: sequence, SessionID: 7}
		_, err := conn.Write(tacacs.AppendPacket(nil, h, body, []byte(key)))
		require.NoError(t, err)
		_, answer, err := tacacs.ReadPacket(conn, []byte(key))
		require.NoError(t, err)
		reply, err := tacacs.DecodeAuthenReply(answer)
		require.NoError(t, err)
		return reply
	}
	reply := send(1, tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.ASCII, Service: tacacs.ServiceLogin,
		User: "ines", Port: "ssh0"}.Append(nil))
	require.Equal(t, tacacs.AuthenGetPass, reply.Status)
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	next, err := site.Parse(site.Source{Name: "site.yaml",
		Text: []byte(strings.NewReplacer("HASH", hash, "MA", "required",
			"- {name: ines,", "- {name: ines, disabled: true,").Replace(siteOfTwo))})
	require.NoError(t, err)
	require.NoError(t, r.gate.Reload(designOf(next, site.Keys{"k": site.NewSecret(key)})))
	reply = send(3, tacacs.AuthenContinue{Message: "right"}.Append(nil))
	require.Equal(t, tacacs.AuthenFail, reply.Status)
	r.eventually(reason.Disabled)
}

// Guesses of one name are bounded over all sources and protocols; the right
// password from another source is let in meanwhile.
func TestSoManyGuessesOfANameAreJudgedAndNoMore(t *testing.T) {
	t.Parallel()
	r := start(t)
	began := time.Now()
	var wait sync.WaitGroup
	for i := range 20 {
		wait.Go(func() {
			for n := range 20 {
				r.ask([]string{"t", "r"}[i%2], login("ines"), fmt.Sprint("wrong", i, n))
			}
		})
	}
	wait.Wait()
	took := time.Since(began)
	judged := 0
	r.mu.Lock()
	for _, e := range r.events {
		if e.Answer == evidence.Refused && !strings.Contains(e.Text, "more passwords were tried") {
			judged++
		}
	}
	r.mu.Unlock()
	require.LessOrEqual(t, judged, 21+int(10*took.Seconds()), "in %s", took)
	e := aaa.Asker{Password: "right", Device: "sw", Port: "ssh0", From: "198.51.100.99", Session: "s2"}
	require.Equal(t, walk.Accepted, r.askFrom("t", login("ines"), e).Result, "from elsewhere")
}

// A program that logs one person in on many devices at once makes one guess, not
// many.
func TestManyLoginsOfOnePersonAtOnceAreLetIn(t *testing.T) {
	t.Parallel()
	slow, err := secrets.Hash("right", 16<<10, 2)
	require.NoError(t, err)
	r := startWith(t, site.Keys{}, time.Now, `
keys: {k: file k}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 30s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 30s}
devices: [{name: sw, addresses: [127.0.0.1]}]
people: [{name: robot, password: '`+slow+`'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: person robot, role: all}]
`)
	results := make(chan walk.Reply, 64)
	for i := range cap(results) {
		go func() { results <- r.ask([]string{"t", "r"}[i%2], login("robot"), "right") }()
	}
	for range cap(results) {
		reply := <-results
		require.Equal(t, walk.Accepted, reply.Result, "%s", reply.Message)
	}
}

// Codes cannot be guessed: after five wrong ones none is looked at for a while.
func TestFiveCodesMayBeWrong(t *testing.T) {
	t.Parallel()
	at := time.Now()
	var mu sync.Mutex
	clock := func() time.Time { mu.Lock(); defer mu.Unlock(); return at }
	r := startWith(t, site.Keys{"seed": site.NewSecret(seedOfTest)}, clock, strings.NewReplacer("MA", "required",
		"keys: {k: file k}", "keys: {k: file k, seed: file seed}", "{name: ines,",
		"{name: ines, one-time-code: key seed,").
		Replace(siteOfTwo))
	code := func() string {
		code, err := secrets.Code(site.NewSecret(seedOfTest), secrets.CodeStepAt(clock()))
		require.NoError(t, err)
		return code
	}
	for n := range 5 {
		require.Equal(t, walk.Refused, r.askIn(site.PAP, "t", login("ines"), fmt.Sprintf("right%06d", n)).Result)
	}
	require.Equal(t, walk.Refused, r.askIn(site.PAP, "t", login("ines"), "right"+code()).Result,
		"the right one neither")
	require.Contains(t, r.last().Text, "five one-time codes were wrong within ten minutes")
	mu.Lock()
	at = at.Add(11 * time.Minute)
	mu.Unlock()
	require.Equal(t, walk.Accepted, r.askIn(site.PAP, "r", login("ines"), "right"+code()).Result, "later a new one")
}

// Where somebody comes from is an address in any form, or nowhere.
func TestAnAddressIsTheSameInEveryForm(t *testing.T) {
	t.Parallel()
	r := startWith(t, site.Keys{}, time.Now, strings.NewReplacer("MA", "required", "who: team net",
		"who: team net, from: [198.51.100.0/24]").Replace(siteOfTwo))
	for from, want := range map[string]walk.Result{"198.51.100.9": walk.Accepted, "::ffff:198.51.100.9": walk.Accepted,
		"not an address": walk.Refused, "198.51.101.9": walk.Refused} {
		require.Equal(t, want,
			r.askFrom("t", login("ines"), aaa.Asker{Password: "right", Device: "sw", Port: "ssh0", From: from,
				Session: "s"}).Result, from)
	}
}

// Half-sent headers of all the connections that there are hold up nobody.
func TestHalfConnectionsHoldUpNobody(t *testing.T) {
	t.Parallel()
	r := startWith(t, site.Keys{}, time.Now, strings.Replace(siteOfTwo, "MA", "required", 1)+
		"service: {limits: {failure-delay: 0s, connections: 64, connections-per-client: 200}}\n")
	for range 64 {
		conn, err := net.Dial("tcp", r.tacacs.Authentication.String())
		require.NoError(t, err)
		defer func() { _ = conn.Close() }()
		_, err = conn.Write([]byte{0xc1, 1, 1})
		require.NoError(t, err)
	}
	began := time.Now()
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right", from("127.0.0.1")).Result)
	require.Less(t, time.Since(began), 4*time.Second, "it waits for none of them to time out")
}

// Over TLS a certificate is good for the device that it names, and for no other:
// not that of a printer, not that of the server, and not one that was revoked.
func TestACertificateIsGoodForTheDeviceThatItNames(t *testing.T) {
	t.Parallel()
	r := start(t)
	authority, err := pki.NewAuthority("ours", time.Now())
	require.NoError(t, err)
	issue := func(name, address string) pki.Identity {
		i, err := authority.Issue(name, netip.MustParseAddr(address), time.Now())
		require.NoError(t, err)
		return i
	}
	for _, p := range []site.Protocol{site.TACACS, site.RADIUS} {
		server := &site.Server{Ref: site.Ref{Name: "over-tls-" + string(p)}, Protocol: p, Transport: site.TLS,
			Timeout:  5 * time.Second,
			Attempts: 1, RequireMessageAuthenticator: true}
		own, revoked := issue("over-tls", "127.0.0.1"), issue("sw", "192.0.2.77")
		list, err := authority.Revoke(revoked, time.Now())
		require.NoError(t, err)
		own.Revoked = append(own.Revoked, list)
		place, err := r.gate.Listen(gate.Place{Server: server, Authentication: netip.MustParseAddrPort("127.0.0.1:0"),
			TLS: own.Server(p)})
		require.NoError(t, err)
		ask := func(i pki.Identity, purpose site.Purpose) walk.Reply {
			e := aaa.Begin(context.Background(), aaa.Target{Server: server, Authentication: place.Authentication,
				Accounting: place.Accounting, TLS: i.Client(p, "127.0.0.1")},
				walk.Question{Purpose: purpose, Person: "ines",
					Way: &site.Way{Access: site.SSH}, Start: true}, aaa.Asker{Port: "ssh0", Password: "right"})
			defer e.Close()
			return e.Try(1)
		}
		require.Equal(t, walk.Accepted, ask(issue("sw", "192.0.2.77"), site.Login).Result, "by its name")
		require.Equal(t, walk.Accepted, ask(issue("any", "127.0.0.1"), site.Login).Result, "by its address")
		before := len(r.book.kept())
		for name, i := range map[string]pki.Identity{"printer": issue("printer", "192.0.2.78"),
			"other-sw": issue("other-sw", "192.0.2.79"), "over-tls": issue("over-tls-"+string(p), "192.0.2.80")} {
			require.Equal(t, walk.Unavailable, ask(i, site.Login).Result, name)
			require.Contains(t, r.eventually(reason.TLS).Text, "and not sw: another device's is not taken for it")
			require.Equal(t, walk.Unavailable, ask(i, site.RecordSessions).Result, name)
			r.eventually(reason.TLS)
		}
		require.Len(t, r.book.kept(), before, "no record was forged")
		reply := ask(revoked, site.Login)
		require.Equal(t, []any{walk.Unavailable, reason.TLS}, []any{reply.Result, reply.Reason}, reply.Message)
		require.Contains(t, r.eventually(reason.TLS).Text, "the certificate sw was revoked on")
	}
}

// The rights of this server are for managing devices: somebody for whom a device asks a
// network, or a call, is refused with the right password.
func TestNobodyGetsANetworkWithRightsThatAreForDevices(t *testing.T) {
	t.Parallel()
	r := startWith(t, site.Keys{}, time.Now, strings.ReplaceAll(siteOfTwo, "MA", "if-present"))
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(r.radius.Authentication))
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	for service, want := range map[uint32]radius.Code{0: radius.AccessAccept, 1: radius.AccessAccept,
		2: radius.AccessReject,
		5: radius.AccessReject, 6: radius.AccessAccept, 7: radius.AccessAccept, 8: radius.AccessAccept,
		10: radius.AccessReject, 18: radius.AccessAccept, 99: radius.AccessReject} {
		p := &radius.Packet{Code: radius.AccessRequest, ID: byte(service), Authenticator: [16]byte{byte(service), 1}}
		p.AddText(radius.UserName, "ines")
		hidden, err := radius.HidePassword("right", p.Authenticator, []byte(key))
		require.NoError(t, err)
		p.Add(radius.UserPassword, hidden)
		if service > 0 {
			p.AddInteger(radius.ServiceType, service)
		}
		b, err := p.EncodeRequest([]byte(key))
		require.NoError(t, err)
		_, err = conn.Write(b)
		require.NoError(t, err)
		answer := make([]byte, 4096)
		n, err := conn.Read(answer)
		require.NoError(t, err)
		require.Equal(t, byte(want), answer[:n][0], service)
	}
	require.Contains(t, r.eventually(reason.NotSupported).Text,
		"people get in here to manage devices, and for nothing else")
}
