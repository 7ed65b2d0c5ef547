package gate_test

import (
	"encoding/binary"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// limited is a site with two askers and limits.
func limited(t *testing.T, limits string) *rig {
	return startWith(t, site.Keys{"other": site.NewSecret("a-key-for-another-one")}, time.Now, `
keys: {k: file k, other: file other}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 30s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 1s, message-authenticator: if-present}
devices: [{name: sw, addresses: [127.0.0.1]}]
clients: [{from: 127.0.0.9, servers: [t, r], key: other}]
people: [{name: ines, password: 'HASH'}, {name: tobin, password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [person ines, person tobin], role: all}]
service: {limits: {`+limits+`}}
`)
}

func TestRefusalsAreHeldBackAfterSomeFailures(t *testing.T) {
	t.Parallel()
	r := limited(t, "failure-delay: 300ms")
	for _, server := range []string{"t", "r"} {
		for range 5 {
			require.Equal(t, walk.Refused, r.ask(server, login("ines"), "wrong").Result)
		}
		reply := r.ask(server, login("ines"), "wrong")
		require.Equal(t, walk.Refused, reply.Result)
		require.GreaterOrEqual(t, reply.Took, 300*time.Millisecond)
		require.Contains(t, r.last().Text, "; to be answered 300ms later, after so many failures")
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result)
		require.NotContains(t, r.last().Text, "later", "the right password is answered at once")
		require.Equal(t, walk.Refused, r.ask(server, login("nobody"), "x").Result)
		require.Contains(t, r.last().Text, "later", "the source has failed often, whatever the name")
	}
}

// Somebody who tries a name over and over does not keep its owner out: here the
// owner is in while dozens of refusals are still held back.
func TestGuessingKeepsNobodyOut(t *testing.T) {
	t.Parallel()
	r := limited(t, "failure-delay: 10s")
	for range 12 {
		r.heldBack("127.0.0.1", key)
	}
	for range 40 { // more than are held back of one asker
		r.heldBack("127.0.0.9", "a-key-for-another-one")
	}
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right").Result)
	require.Equal(t, walk.Accepted, r.ask("r", login("ines"), "right").Result)
	r.mu.Lock()
	defer r.mu.Unlock()
	held := 0
	for _, e := range r.events {
		if strings.Contains(e.Text, "; to be answered 10s later") {
			held++
		}
	}
	require.Greater(t, held, 10)
}

// heldBack sends a wrong password for ines, waits for its event, and leaves the
// answer.
func (r *rig) heldBack(from, key string) {
	conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp",
		r.tacacs.Authentication.String())
	require.NoError(r, err)
	r.Cleanup(func() { _ = conn.Close() })
	_, err = conn.Write(papStart("ines", "wrong", key))
	require.NoError(r, err)
	r.eventually("wrong-password")
}

func papStart(person, password, key string) []byte {
	h := tacacs.Header{Version: 0xc1, Type: tacacs.Authentication, Sequence: 1, SessionID: 7}
	return tacacs.AppendPacket(nil, h, tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.PAP,
		Service: tacacs.ServiceLogin, User: person, Port: "ssh0", Data: password}.Append(nil), []byte(key))
}

func TestSlowQuestionsOfOneAskerTakeNobodyElsesPlace(t *testing.T) {
	t.Parallel()
	r := limited(t, "failure-delay: 0s")
	r.book.hold()
	defer r.book.release()
	conn, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)},
		net.UDPAddrFromAddrPort(r.radius.Authentication))
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	for i := range 700 { // logins whose record is not taken
		p := &radius.Packet{Code: radius.AccessRequest, ID: byte(i)}
		binary.BigEndian.PutUint32(p.Authenticator[:], uint32(i))
		p.AddText(radius.UserName, "ines")
		hidden, err := radius.HidePassword("wrong", p.Authenticator, []byte(key))
		require.NoError(t, err)
		p.Add(radius.UserPassword, hidden)
		b, err := p.EncodeRequest([]byte(key))
		require.NoError(t, err)
		_, err = conn.Write(b)
		require.NoError(t, err)
	}
	require.Contains(t, r.eventually("too-many").Text,
		"512 questions of 127.0.0.1, or 4096 of all clients together, wait for an answer")
	require.Eventually(t, func() bool {
		return r.ask("r", login("tobin"), "right", from("127.0.0.9"),
			withKey("a-key-for-another-one")).Result == walk.Accepted
	}, 30*time.Second, time.Millisecond, "another asker logs in")
}

func TestQuestionsBeyondARateAreDropped(t *testing.T) {
	t.Parallel()
	r := limited(t, "requests-per-client: 5")
	var asking sync.WaitGroup
	for range 30 {
		asking.Go(func() { r.ask("r", login("ines"), "right") })
	}
	asking.Wait()
	require.Contains(t, r.eventually("too-many").Text, "more than 5 questions in a second")
	require.Equal(t, walk.Accepted, r.ask("r", login("ines"), "right", from("127.0.0.9"),
		withKey("a-key-for-another-one")).Result, "another asker is served")
	require.Eventually(t, func() bool { return r.ask("t", login("ines"), "right").Result == walk.Accepted },
		10*time.Second, 10*time.Millisecond)
}
