package gather_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// Cases that a lab does not have are written by hand: packets with the product's
// own codecs, events and log lines as they would have been noted.

var handTime = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)

// hand is evidence in the making.
type hand struct {
	t    *testing.T
	file bytes.Buffer
	w    *capture.Writer
	now  time.Time
	e    evidence.Evidence
}

var (
	apAddress  = netip.MustParseAddrPort("192.0.2.12:40001")
	swAddress  = netip.MustParseAddrPort("192.0.2.11:40002")
	ap2Address = netip.MustParseAddrPort("192.0.2.14:40003")
	r1Login    = netip.MustParseAddrPort("192.0.2.3:1812")
	r1Records  = netip.MustParseAddrPort("192.0.2.3:1813")
	t1Port     = netip.MustParseAddrPort("192.0.2.1:49")
)

const (
	keyOfR = "lab-only-key-of-r-67890"
	keyOfT = "lab-only-key-of-t-12345"
)

func byHand(t *testing.T, name string, c aCase, make func(h *hand)) {
	h := &hand{t: t, now: handTime}
	var err error
	h.w, err = capture.NewWriter(&h.file)
	require.NoError(t, err)
	make(h)
	require.NoError(t, h.w.Close())
	dir := filepath.Join(casesDir, name)
	require.NoError(t, write(filepath.Join(dir, "traffic.pcapng"), h.file.Bytes()))
	lines := func(name string, n int, line func(int) any) {
		var text []byte
		for i := range n {
			b, err := json.Marshal(line(i))
			require.NoError(t, err)
			text = append(append(text, b...), '\n')
		}
		if n > 0 {
			require.NoError(t, write(filepath.Join(dir, name), text))
		}
	}
	lines("events.jsonl", len(h.e.Events), func(i int) any { return h.e.Events[i] })
	lines("traces/"+c.Device+".jsonl", len(h.e.Traces), func(i int) any { return h.e.Traces[i] })
	lines("logs/"+c.Device+".jsonl", len(h.e.Log), func(i int) any { return h.e.Log[i] })
	c.At = handTime.Format(time.RFC3339)
	c.keep(t, dir)
}

func (h *hand) tick(d time.Duration) time.Time {
	h.now = h.now.Add(d)
	return h.now
}

// ask sends a RADIUS login.
func (h *hand) ask(from netip.AddrPort, to netip.AddrPort, id byte, person, key string) *radius.Packet {
	p := &radius.Packet{Code: radius.AccessRequest, ID: id, Authenticator: [16]byte{id, 9, 8}}
	p.AddText(radius.UserName, person)
	hidden, err := radius.HidePassword("something", p.Authenticator, []byte(key))
	require.NoError(h.t, err)
	p.Add(radius.UserPassword, hidden)
	b, err := p.EncodeRequest([]byte(key))
	require.NoError(h.t, err)
	h.w.UDP(h.tick(time.Millisecond), from, to, b)
	return p
}

// say answers a RADIUS login.
func (h *hand) say(to netip.AddrPort, p *radius.Packet, code radius.Code, key string, after time.Duration) {
	a := &radius.Packet{Code: code, ID: p.ID}
	if code == radius.AccessAccept {
		a.AddInteger(radius.ManagementPrivilegeLevel, 15)
	}
	b, err := a.EncodeResponse(p.Authenticator, []byte(key))
	require.NoError(h.t, err)
	h.w.UDP(h.tick(after), r1Login, to, b)
}

func casesByHand(t *testing.T) {
	c := func(n int, device, how string, causes ...string) aCase {
		return aCase{Causes: causes, How: "by hand: " + how, Device: device, Person: "ines", Way: "ssh", Held: n%3 == 1}
	}
	// A device that holds a name back.
	for n, way := range []string{"ssh", "telnet", "console", "web"} {
		v := c(n, "sw", "a device says that it holds the name back", diagnose.LockedForNow)
		v.Way = way
		byHand(t, fmt.Sprintf("%s-%d", diagnose.LockedForNow, n+1), v, func(h *hand) {
			text := "a login of ines was refused: held back until 03:05:00 after 5 failures"
			if n%2 == 0 {
				h.e.Log = append(h.e.Log, evidence.LogLine{
					Time: handTime, Device: "sw", What: evidence.LogRefused, Person: "ines",
					Access: way, Reason: diagnose.LockedForNow, Text: text})
				return
			}
			h.e.Traces = append(h.e.Traces, evidence.Trace{Time: handTime, Device: "sw", Access: way, Person: "ines",
				Kind: evidence.TraceLogin, Outcome: "refused", Reason: diagnose.LockedForNow, By: "local",
				Steps: []evidence.TraceStep{{Purpose: "login", List: "tl", Method: "local", Result: "refused",
					Reason: diagnose.LockedForNow, By: "local"}}})
			h.e.Log = append(h.e.Log, evidence.LogLine{
				Time: handTime, Device: "sw", What: evidence.LogRefused, Person: "ines",
				Access: way, Reason: diagnose.LockedForNow, Text: text})
		})
	}
	// Answers that the server did not give.
	for n := range 4 {
		byHand(t, fmt.Sprintf("%s-%d", diagnose.ForgedOrStale, n+1),
			c(n, "ap", "answers with a wrong authenticator beside right ones, and second answers that differ",
				diagnose.ForgedOrStale), func(h *hand) {
				other := h.ask(ap2Address, r1Login, 7, "tobin", keyOfR)
				h.say(ap2Address, other, radius.AccessAccept, keyOfR, time.Millisecond)
				p := h.ask(apAddress, r1Login, byte(n+1), "ines", keyOfR)
				if n%2 == 0 {
					h.say(apAddress, p, radius.AccessAccept, "not the key", time.Millisecond)
					h.say(apAddress, p, radius.AccessReject, keyOfR, 3*time.Millisecond)
					return
				}
				h.say(apAddress, p, radius.AccessReject, keyOfR, time.Millisecond)
				h.say(apAddress, p, radius.AccessAccept, "not the key", 3*time.Millisecond)
			})
	}
	// Packets that break the protocol.
	for n := range 4 {
		byHand(t, fmt.Sprintf("%s-%d", diagnose.Malformed, n+1),
			c(n, []string{"ap", "sw"}[n%2], "attributes that overrun; a body in clear", diagnose.Malformed),
			func(h *hand) {
				switch n {
				case 0, 2:
					b := append([]byte{1, 5, 0, 26}, make([]byte, 16)...)
					h.w.UDP(h.now, apAddress, r1Login, append(b, 1, 40, 'i', 'n', 'e', 's'))
					if n == 2 {
						h.e.Events = append(h.e.Events,
							evidence.Event{Time: h.now, Server: "r1", Protocol: "radius", Client: "192.0.2.12",
								Device: "ap", Question: "login", Answer: evidence.Dropped, Reason: diagnose.Malformed,
								Text: "the attribute at octet 20 overruns the packet (RFC 2865, section 5)"})
					}
				default:
					conn := h.w.Connect(h.tick(time.Millisecond), swAddress, t1Port)
					conn.Data(h.tick(time.Millisecond), true,
						append([]byte{0xc0, 1, 1, 1, 0, 0, 0, 9, 0, 0, 0, 12}, make([]byte, 12)...))
					conn.Close(h.tick(time.Millisecond), false)
					if n == 3 {
						h.e.Events = append(h.e.Events,
							evidence.Event{Time: h.now, Server: "t1", Protocol: "tacacs", Client: "192.0.2.11",
								Device: "sw", Question: "login", Answer: evidence.Dropped, Reason: diagnose.Malformed,
								Text: "a body in clear, which section 4.5 of RFC 8907 refuses"})
					}
				}
			})
	}
	// One protocol at the other's port.
	for n := range 4 {
		byHand(t, fmt.Sprintf("%s-%d", diagnose.MixedProtocol, n+1),
			c(n, []string{"ap", "sw", "ap", "sw"}[n], "RADIUS to a TACACS+ server, TACACS+ and TLS to ports that "+
				"are not for it",
				diagnose.MixedProtocol), func(h *hand) {
				switch n {
				case 0, 2:
					to := netip.AddrPortFrom(t1Port.Addr(), []uint16{49, 0, 1812}[n])
					p := h.ask(apAddress, to, 3, "ines", keyOfR)
					h.now = h.now.Add(200 * time.Millisecond)
					b, err := p.EncodeRequest([]byte(keyOfR))
					require.NoError(h.t, err)
					h.w.UDP(h.now, apAddress, to, b)
				case 1:
					conn := h.w.Connect(h.tick(time.Millisecond), swAddress, t1Port)
					conn.Data(h.tick(time.Millisecond), true, []byte{0x16, 3, 1, 0, 5, 1, 0, 0, 1, 0})
					conn.Close(h.tick(time.Millisecond), false)
				case 3:
					start := tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.ASCII, User: "ines",
						Port: "ssh0"}
					body := start.Append(nil)
					packet := tacacs.AppendPacket(nil,
						tacacs.Header{Version: 0xc0, Type: tacacs.Authentication, Sequence: 1, SessionID: 77}, body,
						[]byte(keyOfT))
					conn := h.w.Connect(h.tick(time.Millisecond), swAddress, r1Login)
					conn.Data(h.tick(time.Millisecond), true, packet)
					conn.Close(h.tick(time.Millisecond), false)
				}
			})
	}
	// A server whose disk is full.
	for n := range 2 {
		byHand(t, fmt.Sprintf("%s-disk-%d", diagnose.RecordNotKept, n+1),
			c(n, "ap", "a server whose disk is full", diagnose.RecordNotKept), func(h *hand) {
				p := h.ask(apAddress, r1Login, 1, "ines", keyOfR)
				h.say(apAddress, p, radius.AccessAccept, keyOfR, time.Millisecond)
				a := &radius.Packet{Code: radius.AccountingRequest, ID: 2}
				a.AddText(radius.UserName, "ines")
				b, err := a.EncodeAccountingRequest([]byte(keyOfR))
				require.NoError(h.t, err)
				h.w.UDP(h.tick(time.Millisecond), apAddress, r1Records, b)
				h.e.Events = append(h.e.Events,
					evidence.Event{Time: handTime, Server: "r1", Protocol: "radius", Client: "192.0.2.12", Device: "ap",
						Access: "ssh",
						Person: "ines", Question: "login", Answer: evidence.Accepted, Reason: "accepted",
						Text: "ines has the role all"},
					evidence.Event{Time: h.now, Server: "r1", Protocol: "radius", Client: "192.0.2.12", Device: "ap",
						Access: "ssh",
						Person: "ines", Question: "record-sessions", Answer: evidence.Failed, Reason: "record-not-kept",
						Text: "the record could not be written: no space left on device"})
			})
	}
	// An accepting answer without a level.
	for n, way := range []string{"ssh", "telnet", "console"} {
		v := c(n, "ap", "a server that accepts and sends no level", diagnose.NoRights)
		v.Way = way
		byHand(t, fmt.Sprintf("%s-radius-%d", diagnose.NoRights, n+1), v, func(h *hand) {
			p := h.ask(apAddress, r1Login, 1, "ines", keyOfR)
			a := &radius.Packet{Code: radius.AccessAccept, ID: p.ID}
			b, err := a.EncodeResponse(p.Authenticator, []byte(keyOfR))
			require.NoError(h.t, err)
			h.w.UDP(h.tick(time.Millisecond), r1Login, apAddress, b)
			level := 15
			if n > 0 {
				h.e.Events = append(h.e.Events, evidence.Event{
					Time: h.now, Server: "r1", Protocol: "radius", Client: "192.0.2.12",
					Device: "ap", Access: way, Person: "ines", Question: "login", Answer: evidence.Accepted,
					Reason: "accepted",
					Level:  &level, Text: "ines has the role all"})
			}
			if n < 2 {
				h.e.Traces = append(h.e.Traces, evidence.Trace{Time: h.now, Device: "ap", Access: way, Person: "ines",
					Kind: evidence.TraceLogin, Outcome: "in", Level: 1, By: "r1", Seconds: 0.01,
					Steps: []evidence.TraceStep{
						{Purpose: "login", List: "rl", Method: "group rad", Result: "accepted", By: "r1",
							Tries: []evidence.TraceTry{{Server: "r1", Try: 1, Result: "accepted", Seconds: 0.01}}},
						{Purpose: "session", List: "rs", Method: "group rad", Result: "accepted", By: "r1"}}})
			}
		})
	}
	// Near misses.
	healthy := func(n int, name, how string, do func(h *hand)) {
		byHand(t, "healthy-"+name, c(n, "ap", how), do)
	}
	healthy(0, "retransmitted", "a question that was sent again and answered, and answered twice", func(h *hand) {
		p := h.ask(apAddress, r1Login, 1, "ines", keyOfR)
		h.now = h.now.Add(100 * time.Millisecond)
		b, err := p.EncodeRequest([]byte(keyOfR))
		require.NoError(h.t, err)
		h.w.UDP(h.now, apAddress, r1Login, b)
		h.say(apAddress, p, radius.AccessAccept, keyOfR, 20*time.Millisecond)
		h.say(apAddress, p, radius.AccessAccept, keyOfR, 20*time.Millisecond)
	})
	healthy(1, "joined", "a capture that begins with an answer", func(h *hand) {
		p := &radius.Packet{Code: radius.AccessRequest, ID: 9, Authenticator: [16]byte{9}}
		h.say(apAddress, p, radius.AccessAccept, keyOfR, time.Millisecond)
		q := h.ask(apAddress, r1Login, 1, "ines", keyOfR)
		h.say(apAddress, q, radius.AccessAccept, keyOfR, time.Millisecond)
	})
}
