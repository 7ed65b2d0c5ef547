package gate_test

import (
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// benchGate is a gate as serve runs it: every decision is an event on disk and,
// with a ledger, a record as well.
func benchGate(b *testing.B, withLedger bool) (tacacsAt, radiusAt netip.AddrPort) {
	hash, err := secrets.Hash("right", 19456, 2)
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
	book, err := ledger.Open(folder.Records(), ledger.Options{})
	require.NoError(b, err)
	var keeper gate.Keeper = book
	if !withLedger {
		keeper = nothing{}
	}
	g := gate.New(gate.Config{Ledger: keeper, Events: folder.Event,
		Design: gate.Design{Site: s, Keys: site.Keys{"k": site.NewSecret(key)},
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
	parts := make([][]byte, cycle)
	for i := range parts {
		p := &radius.Packet{Code: radius.AccessRequest, ID: byte(i)}
		_, err := rand.Read(p.Authenticator[:])
		require.NoError(b, err)
		p.AddText(radius.UserName, "ines")
		hidden, err := radius.HidePassword("right", p.Authenticator, []byte(key))
		require.NoError(b, err)
		p.Add(radius.UserPassword, hidden)
		p.AddText(radius.NASPortID, "ssh0")
		parts[i], err = p.EncodeRequest([]byte(key))
		require.NoError(b, err)
	}
	return parts
}

// window is how many requests are on their way at once.
const window = 128

// exchange sends requests to a UDP port, a window of them at once, and waits
// for as many answers.
func exchange(b *testing.B, to netip.AddrPort) { through(b, to, requests(b), b.N, window) }

func exchangeOf(b *testing.B, to netip.AddrPort, n int) { through(b, to, requests(b), n, window) }

// through sends n requests of a cycle of them, a window of them at once.
func through(b *testing.B, to netip.AddrPort, parts [][]byte, n, window int) {
	conn, err := net.Dial("udp", to.String())
	require.NoError(b, err)
	defer func() { _ = conn.Close() }()
	answer := make([]byte, 4096)
	require.NoError(b, conn.SetDeadline(time.Now().Add(time.Minute)))
	_, err = conn.Write(parts[0]) // the first one makes the credential warm
	require.NoError(b, err)
	_, err = conn.Read(answer)
	require.NoError(b, err)
	b.ResetTimer()
	sent, got := 0, 0
	for got < n {
		for sent < n && sent-got < window {
			sent++
			if _, err := conn.Write(parts[sent%cycle]); err != nil {
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
		asks[i] = tacacs.AppendPacket(nil, tacacs.Header{Version: 0xc1, Type: tacacs.Authentication, Sequence: 1,
			Flags: tacacs.FlagSingleConnect, SessionID: uint32(i)},
			tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.PAP, Service: tacacs.ServiceLogin, User: "ines",
				Port: "ssh0", Data: "right"}.Append(nil), []byte(key))
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
	ask := tacacs.AppendPacket(nil, tacacs.Header{Version: 0xc1, Type: 1, Sequence: 1},
		tacacs.AuthenStart{User: "ines", Port: "ssh0", Data: "right"}.Append(nil), []byte(key))
	answer := tacacs.AppendPacket(nil, tacacs.Header{Version: 0xc1, Type: 1, Sequence: 2},
		tacacs.AuthenReply{}.Append(nil), []byte(key))
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

// Records: the gate answers each Accounting-Request once its record is safe.
func BenchmarkRecordsAnswered(b *testing.B) {
	folder, err := state.Create(filepath.Join(b.TempDir(), "state"))
	require.NoError(b, err)
	book, err := ledger.Open(folder.Records(), ledger.Options{})
	require.NoError(b, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers: [{name: r, protocol: radius, address: 127.0.0.1, key: k}]
clients: [{from: 127.0.0.1, servers: [r], key: k}, {from: 127.0.0.2, servers: [r], key: k}]
`)})
	require.NoError(b, err)
	g := gate.New(gate.Config{Ledger: book, Events: folder.Event,
		Design: gate.Design{Site: s, Keys: site.Keys{"k": site.NewSecret(key)}}})
	any := netip.MustParseAddrPort("127.0.0.1:0")
	r, err := g.Listen(gate.Place{Server: s.Server("r"), Authentication: any, Accounting: any})
	require.NoError(b, err)
	parts := make([][]byte, cycle)
	for i := range parts {
		p := &radius.Packet{Code: radius.AccountingRequest, ID: byte(i)}
		p.AddInteger(radius.AcctStatusType, 1)
		p.AddText(radius.UserName, "ines")
		p.AddText(radius.AcctSessionID, fmt.Sprintf("session-%08d", i))
		p.AddText(radius.NASPortID, "ssh0")
		parts[i], err = p.EncodeAccountingRequest([]byte(key))
		require.NoError(b, err)
	}
	var askers sync.WaitGroup
	for range 2 { // the records of one are written while those of the other arrive
		askers.Go(func() { through(b, r.Accounting, parts, (b.N+1)/2, window) })
	}
	askers.Wait()
	g.Shutdown()
	require.NoError(b, errors.Join(book.Close(), folder.Close()))
}

// The plainest program that keeps the same rows: batches of as many as are on
// their way above, each safe on disk.
func BenchmarkRecordsPlainInsert(b *testing.B) {
	db, err := sql.Open("sqlite",
		"file:"+filepath.Join(b.TempDir(), "plain.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	require.NoError(b, err)
	db.SetMaxOpenConns(1)
	_, err = db.Exec(`CREATE TABLE records (sequence INTEGER PRIMARY KEY, time INTEGER NOT NULL, node TEXT NOT NULL, kind TEXT NOT NULL, person TEXT NOT NULL,
		device TEXT NOT NULL, access TEXT NOT NULL, source TEXT NOT NULL, level INTEGER NOT NULL, result TEXT NOT NULL, command TEXT NOT NULL, reason TEXT NOT NULL,
		session TEXT NOT NULL, protocol TEXT NOT NULL, hash TEXT NOT NULL);
		CREATE INDEX records_time ON records (time); CREATE INDEX records_person ON records (person, time); CREATE INDEX records_device ON records (device, time);`)
	require.NoError(b, err)
	insert, err := db.Prepare("INSERT INTO records VALUES (?" + strings.Repeat(",?", 14) + ")")
	require.NoError(b, err)
	now, hash := time.Now().UnixNano(), strings.Repeat("0", 64)
	b.ResetTimer()
	for done := 0; done < b.N; {
		tx, err := db.Begin()
		require.NoError(b, err)
		in := tx.Stmt(insert)
		for range min(window, b.N-done) {
			done++
			if _, err := in.Exec(done, now+int64(done), "r", "session-start", "ines", "", "ssh", "", 0, "recorded", "",
				"",
				"session-00000001", "radius", hash); err != nil {
				b.Fatal(err)
			}
		}
		require.NoError(b, tx.Commit())
	}
	b.StopTimer()
	require.NoError(b, db.Close())
}

// How long an answer takes while half of what is possible is asked, steadily
// and whatever comes back. It reports the quantiles, counted from when each
// question was due, in microseconds.
func BenchmarkRADIUSLatencyAtHalfLoad(b *testing.B) {
	_, at := benchGate(b, true)
	began := time.Now()
	const trial, sockets, most = 50_000, 16, 100_000
	exchangeOf(b, at, trial)
	step := 2 * time.Since(began) / trial
	parts := requests(b)
	var dueAt [sockets][256]atomic.Int64 // by identifier
	times := make([][]time.Duration, sockets)
	conns := make([]net.Conn, sockets)
	var reading sync.WaitGroup
	for i := range sockets {
		conn, err := net.Dial("udp", at.String())
		require.NoError(b, err)
		conns[i] = conn
		reading.Go(func() {
			for buffer := make([]byte, 4096); ; {
				if _, err := conn.Read(buffer); err != nil {
					return
				}
				times[i] = append(times[i], time.Duration(time.Now().UnixNano()-dueAt[i][buffer[1]].Load()))
			}
		})
	}
	b.ResetTimer()
	begin := time.Now()
	for i := range most {
		due := begin.Add(time.Duration(i) * step)
		if early := time.Until(due); early > 0 {
			time.Sleep(early) // coarser than a step: what has become due meanwhile is sent at once
		}
		request := parts[i%cycle]
		dueAt[i%sockets][request[1]].Store(due.UnixNano())
		if _, err := conns[i%sockets].Write(request); err != nil {
			b.Fatal(err)
		}
	}
	for _, c := range conns {
		_ = c.SetReadDeadline(time.Now().Add(time.Second))
	}
	reading.Wait()
	b.StopTimer()
	answered := slices.Concat(times...)
	require.Greater(b, len(answered), most*99/100)
	slices.Sort(answered)
	for name, q := range map[string]int{"p50-us": 500, "p99-us": 990, "p99.9-us": 999} {
		b.ReportMetric(float64(answered[(len(answered)-1)*q/1000].Microseconds()), name)
	}
	b.ReportMetric(float64(time.Second/step), "asked/s")
	b.ReportMetric(0, "ns/op")
}

// What a gate holds in memory for a company of 10,000 devices and 5,000 people,
// beside what it holds for a small one.
func BenchmarkMemory(b *testing.B) {
	for _, c := range []struct {
		name            string
		devices, people int
	}{{"small", 10, 10}, {"10000-devices-5000-people", 10_000, 5_000}} {
		b.Run(c.name, func(b *testing.B) {
			hash, err := secrets.Hash("right", 64, 1)
			require.NoError(b, err)
			var text strings.Builder
			text.WriteString("keys: {k: file k}\nservers: [{name: t, protocol: tacacs, address: 127.0.0.1, key: " +
				"k}, {name: r, protocol: radius, address: 127.0.0.1, key: k}]\nroles: [{name: all, level: 15, " +
				"commands: [allow **]}]\ngrants: [{who: team net, role: all}]\ndevices:\n")
			for i := range c.devices {
				fmt.Fprintf(&text, "  - {name: sw-%d, addresses: [10.%d.%d.%d], labels: {place: p%d}}\n", i, i>>16,
					i>>8&255, i&255,
					i%40)
			}
			text.WriteString("people:\n")
			for i := range c.people {
				fmt.Fprintf(&text, "  - {name: person.%d, teams: [net], password: '%s'}\n", i, hash)
			}
			heap := func() float64 {
				runtime.GC()
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				return float64(m.HeapAlloc) / (1 << 20)
			}
			source := []byte(text.String())
			before := heap()
			for b.Loop() {
				s, err := site.Parse(site.Source{Name: "site.yaml", Text: source})
				require.NoError(b, err)
				clients := map[netip.Addr]*site.Device{}
				for _, d := range s.Devices {
					clients[d.Source] = d
				}
				g := gate.New(gate.Config{Ledger: nothing{},
					Design: gate.Design{Site: s, Keys: site.Keys{"k": site.NewSecret(key)}, Clients: clients}})
				any := netip.MustParseAddrPort("127.0.0.1:0")
				_, err = g.Listen(gate.Place{Server: s.Server("t"), Authentication: any})
				require.NoError(b, err)
				_, err = g.Listen(gate.Place{Server: s.Server("r"), Authentication: any, Accounting: any})
				require.NoError(b, err)
				b.ReportMetric(heap()-before, "MiB")
				g.Shutdown()
				runtime.KeepAlive(s)
			}
		})
	}
}

type nothing struct{}

func (nothing) Begin(ledger.Record) (ledger.Written, error) { return ledger.Written{}, nil }
func (nothing) Note(ledger.Record) (ledger.Written, error)  { return ledger.Written{}, nil }
