package aaa

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

const key = "a-key-for-these-tests"

func target(p site.Protocol, at netip.AddrPort, wait time.Duration) Target {
	return Target{Server: &site.Server{Protocol: p, Timeout: wait, Attempts: 2, RequireMessageAuthenticator: true},
		Authentication: at, Accounting: at, Key: site.NewSecret(key)}
}

func login(t Target) walk.Exchange {
	q := walk.Question{Purpose: site.Login, Person: "ines", Way: &site.Way{Access: site.SSH}}
	return Begin(context.Background(), t, q, Asker{Device: "sw", Port: "ssh0", Password: "right"})
}

// radiusServer answers each request with the packets that answer makes of it.
func radiusServer(t *testing.T, answer func(request *radius.Packet, n int) [][]byte) (netip.AddrPort, <-chan []byte) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	seen := make(chan []byte, 16)
	done := make(chan struct{})
	go func() {
		defer close(done)
		b := make([]byte, 4096)
		for n := 1; ; n++ {
			size, from, err := conn.ReadFrom(b)
			if err != nil {
				return
			}
			seen <- append([]byte(nil), b[:size]...)
			p, err := radius.Decode(b[:size])
			if err != nil {
				return
			}
			for _, a := range answer(p, n) {
				_, _ = conn.WriteTo(a, from)
			}
		}
	}()
	t.Cleanup(func() { _ = conn.Close(); <-done })
	return conn.LocalAddr().(*net.UDPAddr).AddrPort(), seen
}

func accept(request *radius.Packet, key string) []byte {
	p := &radius.Packet{Code: radius.AccessAccept, ID: request.ID}
	p.AddInteger(radius.ManagementPrivilegeLevel, 15)
	b, err := p.EncodeResponse(request.Authenticator, []byte(key))
	if err != nil {
		panic(err)
	}
	return b
}

func TestAForgedAnswerIsPassedOverAndTheRightOneTaken(t *testing.T) {
	t.Parallel()
	at, _ := radiusServer(t, func(r *radius.Packet, _ int) [][]byte {
		stale := accept(r, key)
		stale[1]++
		broken := accept(r, key)
		broken[len(broken)-1] ^= 1
		return [][]byte{accept(r, "another key"), stale, broken, {1, 2, 3}, accept(r, key)}
	})
	e := login(target(site.RADIUS, at, 5*time.Second))
	defer e.Close()
	reply := e.Try(1)
	require.Equal(t, walk.Accepted, reply.Result)
	require.Equal(t, "15", reply.Attributes[1].Value)
}

func TestAnAnswerWithoutMessageAuthenticatorIsNone(t *testing.T) {
	t.Parallel()
	at, _ := radiusServer(t, func(r *radius.Packet, _ int) [][]byte {
		bare := &radius.Packet{Code: radius.AccountingResponse, ID: r.ID} // this code is encoded without one
		b, _ := bare.EncodeResponse(r.Authenticator, []byte(key))
		return [][]byte{b}
	})
	e := login(target(site.RADIUS, at, 200*time.Millisecond))
	defer e.Close()
	require.Equal(t, walk.Unavailable, e.Try(1).Result)
}

func TestARetransmissionIsTheSameToTheOctet(t *testing.T) {
	t.Parallel()
	at, seen := radiusServer(t, func(r *radius.Packet, n int) [][]byte {
		if n < 2 {
			return nil
		}
		return [][]byte{accept(r, key)}
	})
	e := login(target(site.RADIUS, at, 300*time.Millisecond))
	defer e.Close()
	first := e.Try(1)
	require.Equal(t, reason.Silent, first.Reason)
	require.GreaterOrEqual(t, first.Took, 300*time.Millisecond)
	require.Equal(t, walk.Accepted, e.Try(2).Result)
	require.Equal(t, <-seen, <-seen)
}

func TestAnotherKeyOnTheServerIsSeenAsAnswersThatDoNotVerify(t *testing.T) {
	t.Parallel()
	at, _ := radiusServer(t, func(r *radius.Packet, _ int) [][]byte { return [][]byte{accept(r, "another key")} })
	e := login(target(site.RADIUS, at, 200*time.Millisecond))
	defer e.Close()
	require.Equal(t, reason.Unverified, e.Try(1).Reason)
}

// closedPort returns a port that nobody listens on.
func closedPort(t *testing.T) netip.AddrPort {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = listener.Close() }()
	return listener.Addr().(*net.TCPAddr).AddrPort()
}

func TestAClosedPort(t *testing.T) {
	t.Parallel()
	at := closedPort(t)
	e := login(target(site.TACACS, at, 5*time.Second))
	reply := e.Try(1)
	e.Close()
	require.Equal(t, reason.Closed, reply.Reason)
	require.Less(t, reply.Took, time.Second, "known at once")

	waits := target(site.RADIUS, at, 300*time.Millisecond)
	e = login(waits)
	reply = e.Try(1)
	e.Close()
	require.Equal(t, reason.Closed, reply.Reason)
	require.GreaterOrEqual(t, reply.Took, 300*time.Millisecond, "the device waits all the same")

	heeds := target(site.RADIUS, at, 5*time.Second)
	heeds.HeedsICMP = true
	e = login(heeds)
	reply = e.Try(1)
	e.Close()
	require.Equal(t, reason.Closed, reply.Reason)
	require.Less(t, reply.Took, time.Second)
}

// tacacsServer answers the first packet of each connection with a body.
func tacacsServer(t *testing.T, answer []byte) netip.AddrPort {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			if h, _, err := tacacs.ReadPacket(conn, []byte(key)); err == nil && answer != nil {
				h.Sequence++
				_, _ = conn.Write(tacacs.AppendPacket(nil, h, answer, []byte(key)))
			}
			if answer == nil {
				_, _, _ = tacacs.ReadPacket(conn, []byte(key)) // until the asker gives up
			}
			_ = conn.Close()
		}
	}()
	t.Cleanup(func() { _ = listener.Close(); <-done })
	return listener.Addr().(*net.TCPAddr).AddrPort()
}

func TestWhatATACACSServerMaySay(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		body   []byte
		result walk.Result
		reason reason.Reason
	}{
		{"PASS", tacacs.AuthenReply{Status: tacacs.AuthenPass}.Append(nil), walk.Accepted, ""},
		{"FAIL", tacacs.AuthenReply{Status: tacacs.AuthenFail}.Append(nil), walk.Refused, reason.RefusedByServer},
		{"FOLLOW counts as FAIL", tacacs.AuthenReply{Status: tacacs.AuthenFollow, Data: "elsewhere"}.Append(nil),
			walk.Refused, reason.RefusedByServer},
		{"GETDATA without anybody to ask", tacacs.AuthenReply{Status: tacacs.AuthenGetData, Message: "code?"}.Append(
			nil),
			walk.Refused, reason.RefusedByServer},
		{"ERROR is no answer", tacacs.AuthenReply{Status: tacacs.AuthenError, Message: "store down"}.Append(nil),
			walk.Unavailable, reason.ServerError},
		{"RESTART again and again", tacacs.AuthenReply{Status: tacacs.AuthenRestart}.Append(nil), walk.Unavailable,
			reason.CutOff},
		{"a body that does not add up", []byte{1, 0, 0, 9, 0, 0}, walk.Unavailable, reason.Unreadable},
		{"nothing", nil, walk.Unavailable, reason.Silent},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := login(target(site.TACACS, tacacsServer(t, c.body), 300*time.Millisecond))
			defer e.Close()
			reply := e.Try(1)
			require.Equal(t, []any{c.result, c.reason}, []any{reply.Result, reply.Reason})
		})
	}
}

func TestTheEndOfTheCallEndsTheWait(t *testing.T) {
	t.Parallel()
	at, _ := radiusServer(t, func(*radius.Packet, int) [][]byte { return nil })
	ctx, cancel := context.WithCancel(context.Background())
	q := walk.Question{Purpose: site.Login, Person: "ines", Way: &site.Way{Access: site.SSH}}
	e := Begin(ctx, target(site.RADIUS, at, time.Minute), q, Asker{})
	defer e.Close()
	time.AfterFunc(50*time.Millisecond, cancel)
	require.Less(t, e.Try(1).Took, 10*time.Second)
}

func TestAPasswordTooLongForRADIUSIsSaidAndNotSent(t *testing.T) {
	t.Parallel()
	q := walk.Question{Purpose: site.Login, Person: "ines"}
	e := Begin(context.Background(), target(site.RADIUS, closedPort(t), time.Second), q,
		Asker{Password: string(make([]byte, 129))})
	defer e.Close()
	require.Contains(t, e.Try(1).Message, "at most 128 octets")
}
