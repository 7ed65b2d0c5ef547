package gate_test

import (
	"context"
	"crypto/rand"
	"io"
	"net"
	"net/netip"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/gate"
	"mellowgate/internal/live/ledger"
	"mellowgate/internal/live/state"
	"mellowgate/internal/live/vault"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// benchGate is a gate as serve runs it: every decision is an event on disk and,
// with a ledger, a record as well.
func benchGate(b *testing.B, withLedger bool) (tacacsAt, radiusAt netip.AddrPort) {
	hash, err := vault.Hash("right", 19456, 2)
	require.NoError(b, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k}
devices: [{name: sw, addresses: [127.0.0.1]}]
people: [{name: ines, teams: [net], password: '` + hash + `'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`)})
	require.NoError(b, err)
	folder, err := state.Create(filepath.Join(b.TempDir(), "state"))
	require.NoError(b, err)
	book, err := ledger.Open(folder.Ledger(), ledger.Options{})
	require.NoError(b, err)
	var keeper gate.Keeper = book
	if !withLedger {
		keeper = nothing{}
	}
	g := gate.New(gate.Config{Ledger: keeper, Events: folder.Event, Design: gate.Design{Site: s, Keys: site.Keys{"k": site.NewSecret(key)},
		Clients: map[netip.Addr]*site.Device{netip.MustParseAddr("127.0.0.1"): s.Device("sw")}}})
	b.Cleanup(func() {
		g.Shutdown()
		require.NoError(b, book.Close())
		require.NoError(b, folder.Close())
	})
	any := netip.MustParseAddrPort("127.0.0.1:0")
	t, err := g.Listen(gate.Place{Server: s.Server("t"), Authentication: any})
	require.NoError(b, err)
	r, err := g.Listen(gate.Place{Server: s.Server("r"), Authentication: any, Accounting: any})
	require.NoError(b, err)
	return t.Authentication, r.Authentication
}

// cycle is how many requests are made, more than the gate remembers: by the
// time one comes again it is no retransmission any more.
const cycle = 64 * 256

// requests makes Access-Requests that differ in their identifier and their
// authenticator.
func requests(b *testing.B) [][]byte {
	all := make([][]byte, cycle)
	for i := range all {
		p := &radius.Packet{Code: radius.AccessRequest, ID: byte(i)}
		_, err := rand.Read(p.Authenticator[:])
		require.NoError(b, err)
		p.AddText(radius.UserName, "ines")
		hidden, err := radius.HidePassword("right", p.Authenticator, []byte(key))
		require.NoError(b, err)
		p.Add(radius.UserPassword, hidden)
		p.AddText(radius.NASPortID, "ssh0")
		all[i], err = p.EncodeRequest([]byte(key))
		require.NoError(b, err)
	}
	return all
}

// window is how many requests are on their way at once.
const window = 128

// exchange sends requests to a UDP port, a window of them at once, and waits
// for as many answers.
func exchange(b *testing.B, to netip.AddrPort) {
	conn, err := net.Dial("udp", to.String())
	require.NoError(b, err)
	defer func() { _ = conn.Close() }()
	all := requests(b)
	answer := make([]byte, 4096)
	require.NoError(b, conn.SetDeadline(time.Now().Add(time.Minute)))
	_, err = conn.Write(all[0]) // the first one makes the credential warm
	require.NoError(b, err)
	_, err = conn.Read(answer)
	require.NoError(b, err)
	b.ResetTimer()
	sent, got := 0, 0
	for got < b.N {
		for sent < b.N && sent-got < window {
			sent++
			if _, err := conn.Write(all[sent%cycle]); err != nil {
				b.Fatal(err)
			}
		}
		if _, err := conn.Read(answer); err != nil {
			b.Fatal(err)
		}
		got++
	}
}

func BenchmarkRADIUSAnswers(b *testing.B) {
	_, at := benchGate(b, false)
	exchange(b, at)
}

func BenchmarkRADIUSAnswersWithLedger(b *testing.B) {
	_, at := benchGate(b, true)
	exchange(b, at)
}

// The plainest program with the same input and output: a UDP echo.
func BenchmarkRADIUSPlainEcho(b *testing.B) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(b, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		buffer := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			_, _ = conn.WriteToUDPAddrPort(buffer[:min(n, 50)], from)
		}
	}()
	exchange(b, conn.LocalAddr().(*net.UDPAddr).AddrPort())
	_ = conn.Close()
	<-done
}

func BenchmarkTACACSSessions(b *testing.B)           { sessions(b, false) }
func BenchmarkTACACSSessionsWithLedger(b *testing.B) { sessions(b, true) }

// sessions logs in by PAP, one session after another on one kept connection.
func sessions(b *testing.B, withLedger bool) {
	at, _ := benchGate(b, withLedger)
	conn, err := net.Dial("tcp", at.String())
	require.NoError(b, err)
	asks := make([][]byte, 256)
	for i := range asks {
		asks[i] = tacacs.AppendPacket(nil, tacacs.Header{Version: 0xc1, Type: tacacs.Authentication, Sequence: 1, Flags: tacacs.FlagSingleConnect, SessionID: uint32(i)},
			tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.PAP, Service: tacacs.ServiceLogin, User: "ines", Port: "ssh0", Data: "right"}.Append(nil), []byte(key))
	}
	answer := make([]byte, 12+6) // the header, and a reply without a message
	login := func(i int) {
		if _, err := conn.Write(asks[i%len(asks)]); err != nil {
			b.Fatal(err)
		}
		if _, err := io.ReadFull(conn, answer); err != nil {
			b.Fatal(err)
		}
	}
	login(0) // makes the credential warm
	h, body, err := tacacs.DecodePacket(answer, []byte(key))
	require.NoError(b, err)
	reply, err := tacacs.DecodeAuthenReply(body)
	require.NoError(b, err)
	require.Equal(b, tacacs.AuthenPass, reply.Status)
	require.NotZero(b, h.Flags&tacacs.FlagSingleConnect)
	for i := 1; b.Loop(); i++ {
		login(i)
	}
	_ = conn.Close()
}

// The plainest program with the same input and output: a TCP ping-pong of the
// same sizes.
func BenchmarkTACACSPlainPingPong(b *testing.B) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	ask := tacacs.AppendPacket(nil, tacacs.Header{Version: 0xc1, Type: 1, Sequence: 1}, tacacs.AuthenStart{User: "ines", Port: "ssh0", Data: "right"}.Append(nil), []byte(key))
	answer := tacacs.AppendPacket(nil, tacacs.Header{Version: 0xc1, Type: 1, Sequence: 2}, tacacs.AuthenReply{}.Append(nil), []byte(key))
	done := make(chan struct{})
	go func() {
		defer close(done)
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		buffer := make([]byte, len(ask))
		for {
			if _, err := io.ReadFull(conn, buffer); err != nil {
				_ = conn.Close()
				return
			}
			_, _ = conn.Write(answer)
		}
	}()
	conn, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(b, err)
	buffer := make([]byte, len(answer))
	for b.Loop() {
		if _, err := conn.Write(ask); err != nil {
			b.Fatal(err)
		}
		if _, err := io.ReadFull(conn, buffer); err != nil {
			b.Fatal(err)
		}
	}
	_ = conn.Close()
	_ = listener.Close()
	<-done
}

type nothing struct{}

func (nothing) Keep(context.Context, ledger.Record) error { return nil }
func (nothing) Note(ledger.Record) error                  { return nil }
