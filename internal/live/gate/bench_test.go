package gate_test

import (
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

// benchGate is a gate as serve runs it: events and ledger on disk.
func benchGate(b *testing.B) (tacacsAt, radiusAt netip.AddrPort) {
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
	book, err := ledger.Open(folder.Ledger())
	require.NoError(b, err)
	g := gate.New(gate.Config{Site: s, Keys: site.Keys{"k": site.NewSecret(key)}, Ledger: book, Events: folder.Event,
		Clients: map[netip.Addr]*site.Device{netip.MustParseAddr("127.0.0.1"): s.Device("sw")}})
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

// requests makes Access-Requests that differ in their identifier, and from all
// that were made before: none may look like a retransmission.
func requests(b *testing.B) [][]byte {
	all := make([][]byte, 256)
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
const window = 32

// exchange sends requests to a UDP port, a window of them at once, and waits
// for as many answers. New identifiers come with a new authenticator, so that
// none is a retransmission.
func exchange(b *testing.B, to netip.AddrPort, fresh bool) {
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
			if sent%256 == 255 && fresh {
				b.StopTimer()
				all = requests(b)
				b.StartTimer()
			}
			if _, err := conn.Write(all[(sent+1)%256]); err != nil {
				b.Fatal(err)
			}
			sent++
		}
		if _, err := conn.Read(answer); err != nil {
			b.Fatal(err)
		}
		got++
	}
}

func BenchmarkRADIUSAnswers(b *testing.B) {
	_, at := benchGate(b)
	exchange(b, at, true)
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
	exchange(b, conn.LocalAddr().(*net.UDPAddr).AddrPort(), true)
	_ = conn.Close()
	<-done
}

func BenchmarkTACACSSessionsOnOneConnection(b *testing.B) {
	at, _ := benchGate(b)
	conn, err := net.Dial("tcp", at.String())
	require.NoError(b, err)
	shared := tacacs.Share(conn, []byte(key))
	login := func() {
		reply, err := shared.Client().Authenticate(tacacs.AuthenStart{Service: tacacs.ServiceLogin, User: "ines", Port: "ssh0"}, tacacs.PAP, "right")
		if err != nil || reply.Status != tacacs.AuthenPass {
			b.Fatal(err, reply.Status)
		}
	}
	login()
	for b.Loop() {
		login()
	}
	_ = shared.Close()
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
