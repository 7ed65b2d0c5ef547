//go:build long

package gate_test

import (
	"math/rand"
	"net"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// Run with: go test -tags long -run Million ./internal/live/server/gate
const mutations = 1_000_000

// mutate changes a few octets, the length, or nothing.
func mutate(random *rand.Rand, b []byte) []byte {
	out := append([]byte(nil), b...)
	for range random.Intn(4) {
		out[random.Intn(len(out))] = byte(random.Intn(256))
	}
	switch random.Intn(6) {
	case 0:
		out = out[:random.Intn(len(out)+1)]
	case 1:
		out = append(out, out[:random.Intn(len(out)+1)]...)
	}
	return out
}

func healthy(r *rig) {
	for _, server := range []string{"t", "r"} {
		require.Eventually(r, func() bool {
			return r.ask(server, walk.Question{Purpose: site.Login, Person: "ines"}, "right").Result == walk.Accepted
		}, 20*time.Second, 50*time.Millisecond, "%s answers", server)
	}
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	require.Less(r, m.HeapAlloc, uint64(512<<20), "memory stays bounded")
}

func TestAMillionMutatedRADIUSPacketsLeaveAHealthyServer(t *testing.T) {
	t.Parallel()
	r := start(t)
	random := rand.New(rand.NewSource(1))
	conn, err := net.Dial("udp", r.radius.Authentication.String())
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	p := &radius.Packet{Code: radius.AccessRequest, ID: 1}
	p.AddText(radius.UserName, "ines")
	p.Add(radius.UserPassword, make([]byte, 16))
	p.Add(radius.VendorSpecific, radius.AppendVendor(nil, radius.VendorMSCHAP,
		radius.Attribute{Type: radius.MSCHAP2Response, Value: make([]byte, 50)}))
	good, err := p.EncodeRequest([]byte(key))
	require.NoError(t, err)
	alive := &radius.Packet{Code: radius.StatusServer, ID: 2}
	probe, err := alive.EncodeRequest([]byte(key))
	require.NoError(t, err)
	buffer := make([]byte, 4096)
	for i := range mutations {
		_, _ = conn.Write(mutate(random, good))
		if i%32 == 0 { // an answer to a good packet now and then: nothing piles up unread
			_, _ = conn.Write(probe)
			_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
			_, err := conn.Read(buffer)
			require.NoError(t, err)
		}
		if i%10000 == 0 {
			r.forget()
		}
	}
	healthy(r)
}

func TestAMillionMutatedTACACSPacketsLeaveAHealthyServer(t *testing.T) {
	t.Parallel()
	r := start(t)
	random := rand.New(rand.NewSource(2))
	bodies := [][]byte{
		tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.PAP, Service: tacacs.ServiceLogin, User: "ines",
			Port: "ssh0", Data: "right"}.Append(nil),
		tacacs.AuthorRequest{Method: tacacs.MethodTACACS, User: "tobin", Port: "ssh0",
			Args: []string{"service=shell", "cmd=look", "cmd-arg=session"}}.Append(nil),
		tacacs.AcctRequest{Flags: tacacs.AcctStop,
			AuthorRequest: tacacs.AuthorRequest{User: "ines", Args: []string{"task_id=1", "cmd=save"}}}.Append(nil),
	}
	for sent := 0; sent < mutations; {
		conn, err := net.Dial("tcp", r.tacacs.Authentication.String())
		require.NoError(t, err)
		_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
		for range 2000 {
			kind := random.Intn(3)
			h := tacacs.Header{Version: 0xc0, Type: tacacs.Type(kind + 1), Sequence: 1, Flags: tacacs.FlagSingleConnect,
				SessionID: random.Uint32()}
			if kind == 0 {
				h.Version = 0xc1
			}
			packet := tacacs.AppendPacket(nil, h, mutate(random, bodies[kind]), []byte(key))
			if random.Intn(50) == 0 {
				packet = mutate(random, packet) // the header too: mostly the end of the connection
			}
			sent++
			if _, err := conn.Write(packet); err != nil {
				break
			}
			// a broken length makes the server wait for more
			_ = conn.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
			if _, _, err := tacacs.ReadPacket(conn, []byte(key)); err != nil {
				break
			}
		}
		_ = conn.Close()
		r.forget()
	}
	healthy(r)
}

// forget drops the events so far, in a test that makes very many.
func (r *rig) forget() {
	r.mu.Lock()
	r.events, r.waited = nil, 0
	r.mu.Unlock()
	r.book.mu.Lock()
	r.book.records = nil
	r.book.mu.Unlock()
}
