package gate_test

import (
	"net"
	"net/netip"
	"os"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

const crowded = `
keys: {k: file k}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 20s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 2s, attempts: 3}
devices: [{name: sw, addresses: [127.0.0.1]}]
clients: [{from: 127.1.0.0/24, servers: [t, r], key: k}]
people: [{name: ines, password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: person ines, role: all}]
`

// Thousands of connections on which nothing comes, and some on which octets
// come one by one, take nobody's place.
func TestIdleConnectionsAndSlowWritersHoldUpNobody(t *testing.T) {
	r := startWith(t, site.Keys{}, time.Now, crowded)
	var limit syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit))
	most := min(5000, int(limit.Cur)/2-200) // both ends are in this process
	require.Greater(t, most, 200)
	packet := papStart("ines", "right", key)
	var open []net.Conn
	t.Cleanup(func() {
		for _, c := range open {
			_ = c.Close()
		}
	})
	for i := range most {
		from := &net.TCPAddr{IP: net.IPv4(127, 1, 0, byte(1+i/250))}
		c, err := (&net.Dialer{LocalAddr: from}).Dial("tcp", r.tacacs.Authentication.String())
		require.NoError(t, err)
		open = append(open, c)
	}
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right").Result)
	for at := range len(packet) - 1 { // fifty of them send, an octet each time
		for _, c := range open[:50] {
			_, err := c.Write(packet[at : at+1])
			require.NoError(t, err)
		}
		if at%10 == 0 {
			require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right").Result)
		}
	}
	for _, c := range open[:50] { // and whoever comes to an end is answered
		_, err := c.Write(packet[len(packet)-1:])
		require.NoError(t, err)
		_, body, err := tacacs.ReadPacket(c, []byte(key))
		require.NoError(t, err)
		reply, err := tacacs.DecodeAuthenReply(body)
		require.NoError(t, err)
		require.Equal(t, tacacs.AuthenPass, reply.Status)
	}
	require.Equal(t, walk.Accepted, r.ask("r", login("ines"), "right").Result)
}

// Whoever sends again what was sent before gets the same answer, and nothing is
// done a second time.
func TestAReplayedCaptureDoesNothingTwice(t *testing.T) {
	t.Parallel()
	r, clock := startDesigned(t)
	conn, err := net.Dial("udp", r.radius.Authentication.String())
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	code, err := totp.GenerateCode(seed, time.Unix(clock.Load(), 0))
	require.NoError(t, err)
	p := &radius.Packet{Code: radius.AccessRequest, ID: 7, Authenticator: [16]byte{1, 2, 3}}
	p.AddText(radius.UserName, "tobin")
	hidden, err := radius.HidePassword("right"+code, p.Authenticator, []byte(key))
	require.NoError(t, err)
	p.Add(radius.UserPassword, hidden)
	b, err := p.EncodeRequest([]byte(key))
	require.NoError(t, err)
	say := func() radius.Code {
		_, err := conn.Write(b)
		require.NoError(t, err)
		answer := make([]byte, 4096)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(5*time.Second)))
		n, err := conn.Read(answer)
		require.NoError(t, err)
		got, err := radius.Decode(answer[:n])
		require.NoError(t, err)
		return got.Code
	}
	for range 50 {
		require.Equal(t, radius.AccessAccept, say())
	}
	require.Len(t, r.book.kept(), 1, "one login, told again each time")
	clock.Add(60) // the answer is forgotten, and the code is used up
	require.Equal(t, radius.AccessReject, say())
	require.Contains(t, r.eventually("second-factor").Text, "used before")
}

func TestAClockThatIsSetBackKeepsNobodyOutAndNothingAlive(t *testing.T) {
	t.Parallel()
	clock := new(atomic.Int64)
	clock.Store(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC).Unix())
	r := startWith(t, site.Keys{}, func() time.Time { return time.Unix(clock.Load(), 0).UTC() }, crowded)
	record := walk.Question{Purpose: site.RecordSessions, Person: "ines", Start: true}
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result)
		require.Equal(t, walk.Refused, r.ask(server, login("ines"), "wrong").Result)
	}
	clock.Add(-3600)
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result)
		require.Equal(t, walk.Accepted, r.ask(server, record, "").Result)
		require.Equal(t, walk.Refused, r.ask(server, login("ines"), "wrong").Result)
	}
	changed := designOf(r.site, site.Keys{"k": site.NewSecret(key)})
	changed.Clients[netip.MustParseAddr("127.0.0.1")] = r.site.Device("sw")
	require.NoError(t, r.gate.Reload(changed))
	clock.Add(1800)
	require.Equal(t, walk.Accepted, r.ask("t", login("ines"), "right").Result)
	kept := r.book.kept()
	require.True(t, kept[len(kept)-1].Time.Before(kept[0].Time),
		"records bear the time of their clock; their order is that of the chain")
}

// A connection that is idle in the middle of its minute, and one that has never
// said anything, end with the gate.
func TestIdleConnectionsEndWithTheGate(t *testing.T) {
	t.Parallel()
	r := start(t)
	_, conn := r.dial()
	require.NoError(t, conn.SetDeadline(time.Now().Add(time.Minute)))
	shared := tacacs.Share(conn, []byte(key))
	defer func() { _ = shared.Close() }()
	reply, err := shared.Client().Authenticate(tacacs.AuthenStart{Service: tacacs.ServiceLogin, User: "ines",
		Port: "ssh0"},
		tacacs.PAP, "right")
	require.NoError(t, err)
	require.Equal(t, tacacs.AuthenPass, reply.Status)
	_, silent := r.dial()
	ended := make(chan struct{})
	go func() { r.gate.Shutdown(); close(ended) }()
	// It is ended whether the gate had taken it already (the end of the stream) or not yet (a reset).
	_, err = silent.Read(make([]byte, 1))
	require.Error(t, err)
	require.NotErrorIs(t, err, os.ErrDeadlineExceeded)
	require.Eventually(t, func() bool {
		select {
		case <-ended:
			return true
		default:
			return false
		}
	}, 4*time.Second, 5*time.Millisecond, "long before the time of an idle connection is over")
}
