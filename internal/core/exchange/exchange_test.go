package exchange

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

const key = "a-key-for-these-tests"

var (
	at     = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	device = netip.MustParseAddrPort("192.0.2.101:40001")
	rad    = netip.MustParseAddrPort("192.0.2.23:1812")
	acct   = netip.MustParseAddrPort("192.0.2.23:1813")
	tac    = netip.MustParseAddrPort("192.0.2.21:49")
)

func directory(t *testing.T) Directory {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers:
  - {name: tern, protocol: tacacs, address: 192.0.2.21, key: k}
  - {name: sanderling, protocol: radius, address: 192.0.2.23, key: k}
devices: [{name: sw-1, addresses: [192.0.2.101]}]
`)})
	require.NoError(t, err)
	return Designed(s, site.Keys{"k": site.NewSecret(key)})
}

// film is a capture in the making. Each packet is a millisecond after the one
// before.
type film struct {
	t *testing.T
	*capture.Writer
	file bytes.Buffer
	now  time.Time
}

func newFilm(t *testing.T) *film {
	f := &film{t: t, now: at}
	w, err := capture.NewWriter(&f.file)
	require.NoError(t, err)
	f.Writer = w
	return f
}

func (f *film) tick() time.Time {
	f.now = f.now.Add(time.Millisecond)
	return f.now
}

// exchanges reads the film.
func (f *film) exchanges(d Directory) []Exchange {
	require.NoError(f.t, f.Close())
	return exchangesOf(f.t, f.file.Bytes(), d)
}

func exchangesOf(t *testing.T, file []byte, d Directory) []Exchange {
	source, err := capture.Open(bytes.NewReader(file))
	require.NoError(t, err)
	var all []Exchange
	l := New(d, func(e Exchange) { all = append(all, e) })
	_, err = capture.Read(source, l)
	require.NoError(t, err)
	l.Close()
	return all
}

// access sends an Access-Request and gives it.
func (f *film) access(id byte, with string) *radius.Packet {
	p := &radius.Packet{Code: radius.AccessRequest, ID: id, Authenticator: [16]byte{id, 2, 3}}
	p.AddText(radius.UserName, "ines.marsh")
	p.AddText(radius.NASIdentifier, "sw-1")
	hidden, err := radius.HidePassword("a-secret-password", p.Authenticator, []byte(with))
	require.NoError(f.t, err)
	p.Add(radius.UserPassword, hidden)
	b, err := p.EncodeRequest([]byte(with))
	require.NoError(f.t, err)
	f.UDP(f.tick(), device, rad, b)
	return p
}

func (f *film) answer(p *radius.Packet, code radius.Code, with string) {
	a := &radius.Packet{Code: code, ID: p.ID}
	a.AddInteger(radius.ManagementPrivilegeLevel, 15)
	b, err := a.EncodeResponse(p.Authenticator, []byte(with))
	require.NoError(f.t, err)
	f.UDP(f.tick(), rad, device, b)
}

func TestRADIUSExchanges(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		film   func(f *film)
		answer evidence.Answer
		key    evidence.KeyFit
		again  int
		remark string
	}{
		{"accepted", func(f *film) { f.answer(f.access(1, key), radius.AccessAccept, key) }, evidence.Accepted, KeyFits,
			0,
			""},
		{"refused", func(f *film) { f.answer(f.access(1, key), radius.AccessReject, key) }, evidence.Refused, KeyFits,
			0, ""},
		{"challenged", func(f *film) { f.answer(f.access(1, key), radius.AccessChallenge, key) }, evidence.Challenged,
			KeyFits, 0, ""},
		{"sent again", func(f *film) { f.access(1, key); f.answer(f.access(1, key), radius.AccessAccept, key) },
			evidence.Accepted, KeyFits, 1, ""},
		{"no answer", func(f *film) { f.access(1, key) }, "none", KeyFits, 0, ""},
		{"another key", func(f *film) { f.access(1, "another") }, "none", KeyDiffers, 0,
			"the request was not made with the server's key"},
		{"a server with another key", func(f *film) { f.answer(f.access(1, key), radius.AccessAccept, "another") },
			"none",
			KeyFits, 0, "an answer came that was not made with the key of the site"},
		{"a forged answer before the right one", func(f *film) {
			p := f.access(1, key)
			f.answer(p, radius.AccessAccept, "forged")
			f.answer(p, radius.AccessReject, key)
		}, evidence.Refused, KeyFits, 0, "the first was forged or stale"},
		{"an answer alone", func(f *film) {
			f.answer(&radius.Packet{ID: 9}, radius.AccessAccept, key)
		}, evidence.Accepted, KeyUnknown, 0, "whose request is not in the capture"},
		{"malformed", func(f *film) { f.UDP(f.tick(), device, rad, []byte{1, 2, 3}) }, "unreadable", KeyUnknown, 0,
			"the request is malformed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := newFilm(t)
			c.film(f)
			all := f.exchanges(directory(t))
			require.Len(t, all, 1)
			e := all[0]
			require.Equal(t, []any{c.answer, c.key, c.again}, []any{e.Answer, e.Key, e.Retransmissions})
			require.Contains(t, strings.Join(e.Remarks, "; "), c.remark)
			require.Equal(t, []string{"sw-1", "sanderling"}, []string{e.Device, e.Server})
			require.NotContains(t, fmt.Sprint(e), "a-secret-password")
		})
	}
}

func TestAnIdentifierUsedAgainEndsTheFirstExchange(t *testing.T) {
	t.Parallel()
	f := newFilm(t)
	f.access(1, key)
	p := &radius.Packet{Code: radius.AccessRequest, ID: 1, Authenticator: [16]byte{7}}
	b, err := p.EncodeRequest([]byte(key))
	require.NoError(t, err)
	f.UDP(f.tick(), device, rad, b)
	f.answer(p, radius.AccessAccept, key)
	all := f.exchanges(directory(t))
	require.Len(t, all, 2)
	require.Contains(t, all[0].Remarks[0], "its identifier was used again")
	require.EqualValues(t, "accepted", all[1].Answer)
	require.InDelta(t, 0.001, all[1].Seconds, 0.0001)
}

func TestOldRequestsAreGivenWhenTheirTimeIsOver(t *testing.T) {
	t.Parallel()
	f := newFilm(t)
	f.access(1, key)
	f.now = f.now.Add(time.Minute)
	f.access(2, key)
	require.NoError(t, f.Close())
	source, err := capture.Open(bytes.NewReader(f.file.Bytes()))
	require.NoError(t, err)
	n := 0
	_, err = capture.Read(source, New(directory(t), func(Exchange) { n++ }))
	require.NoError(t, err)
	require.Equal(t, 1, n, "before the end of the capture")
}

// talk is a TACACS+ session on a connection of its own.
type talk struct {
	f    *film
	tcp  *capture.TCP
	h    tacacs.Header
	with string
}

func (f *film) talk(kind tacacs.Type, minor byte, with string) *talk {
	return &talk{f, f.Connect(f.tick(), device, tac), tacacs.Header{Version: 0xc0 | minor, Type: kind, SessionID: 77},
		with}
}

func (k *talk) say(bodies ...[]byte) *talk {
	for _, b := range bodies {
		k.h.Sequence++
		k.tcp.Data(k.f.tick(), k.h.Sequence%2 == 1, tacacs.AppendPacket(nil, k.h, b, []byte(k.with)))
	}
	return k
}

func asciiLogin(k *talk, end tacacs.AuthenStatus) {
	k.say(tacacs.AuthenStart{Action: 1, Type: tacacs.ASCII, Service: 1, User: "ines.marsh", Port: "ssh0"}.Append(nil),
		tacacs.AuthenReply{Status: tacacs.AuthenGetPass, Message: "Password: "}.Append(nil),
		tacacs.AuthenContinue{Message: "a-secret-password"}.Append(nil),
		tacacs.AuthenReply{Status: end}.Append(nil)).tcp.Close(k.f.tick(), false)
}

var command = tacacs.AuthorRequest{User: "ines.marsh", Port: "ssh0", RemoteAddress: "198.51.100.9",
	Args: []string{"service=shell", "cmd=set", "cmd-arg=port", "cmd-arg=3"}}

func TestTACACSExchanges(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name                     string
		film                     func(f *film)
		question                 site.Question
		answer                   evidence.Answer
		key                      evidence.KeyFit
		command, person, remarks string
	}{
		{"prompts", func(f *film) { asciiLogin(f.talk(tacacs.Authentication, 0, key), tacacs.AuthenPass) }, "login",
			evidence.Accepted, KeyFits, "", "ines.marsh", ""},
		{"refused", func(f *film) { asciiLogin(f.talk(tacacs.Authentication, 0, key), tacacs.AuthenFail) }, "login",
			evidence.Refused, KeyFits, "", "ines.marsh", ""},
		{"error", func(f *film) { asciiLogin(f.talk(tacacs.Authentication, 0, key), tacacs.AuthenError) }, "login",
			"error",
			KeyFits, "", "ines.marsh", ""},
		{"a command", func(f *film) {
			f.talk(tacacs.Authorization, 0, key).say(command.Append(nil),
				tacacs.AuthorResponse{Status: tacacs.AuthorFail}.Append(nil))
		}, "commands", evidence.Refused, KeyFits, "set port 3", "ines.marsh", ""},
		{"a session", func(f *film) {
			r := command
			r.Args = []string{"service=shell", "cmd="}
			f.talk(tacacs.Authorization, 0, key).say(r.Append(nil),
				tacacs.AuthorResponse{Status: tacacs.AuthorPassAdd, Args: []string{"priv-lvl=15"}}.Append(nil))
		}, "session", evidence.Accepted, KeyFits, "", "ines.marsh", ""},
		{"a record", func(f *film) {
			f.talk(tacacs.Accounting, 0, key).say(tacacs.AcctRequest{
				Flags: tacacs.AcctStop, AuthorRequest: command}.Append(nil),
				tacacs.AcctReply{Status: tacacs.AcctSuccess}.Append(nil))
		}, "record-commands", "recorded", KeyFits, "set port 3", "ines.marsh", ""},
		{"another key", func(f *film) {
			f.talk(tacacs.Authorization, 0, "another").say(command.Append(nil),
				tacacs.AuthorResponse{Status: tacacs.AuthorError}.Append(nil))
		}, "session", "unreadable", KeyDiffers, "", "", "not made with"},
		{"no answer", func(f *film) {
			f.talk(tacacs.Authorization, 0, key).say(command.Append(nil)).tcp.Close(f.tick(), false)
		},
			"commands", "none", KeyFits, "set port 3", "ines.marsh", "from the side of the server before the answer"},
		{"joined in the middle", func(f *film) {
			k := f.talk(tacacs.Authorization, 0, key)
			k.tcp.Data(f.tick(), true, []byte("the end of something else"))
			k.say(command.Append(nil), tacacs.AuthorResponse{Status: tacacs.AuthorPassAdd}.Append(nil))
		}, "commands", evidence.Accepted, KeyFits, "set port 3", "ines.marsh", "joins in the middle"},
		{"TLS on the clear port", func(f *film) {
			f.Connect(f.tick(), device, tac).Data(f.tick(), true, []byte{0x16, 3, 1, 0, 50, 1, 0, 0, 46, 3, 3})
		}, "connect", "unreadable", KeyUnknown, "", "", "TLS on a port for clear text"},
		{"a port that refuses", func(f *film) { f.Refused(f.tick(), device, tac) }, "connect", "none", KeyUnknown, "",
			"",
			"the port refuses"},
		{"nobody there", func(f *film) { f.Syn(f.tick(), device, tac) }, "connect", "none", KeyUnknown, "", "",
			"no answer to the first packet"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := newFilm(t)
			c.film(f)
			all := f.exchanges(directory(t))
			require.Len(t, all, 1, "%+v", all)
			e := all[0]
			require.Equal(t, []any{c.question, c.answer, c.key, c.command, c.person},
				[]any{e.Question, e.Answer, e.Key, e.Command, e.Person})
			require.Contains(t, strings.Join(e.Remarks, "; "), c.remarks)
			require.NotContains(t, fmt.Sprint(e), "a-secret-password")
		})
	}
}

func TestWithoutASiteTheStandardPortsAreKnown(t *testing.T) {
	t.Parallel()
	f := newFilm(t)
	f.answer(f.access(1, key), radius.AccessAccept, key)
	asciiLogin(f.talk(tacacs.Authentication, 0, key), tacacs.AuthenPass)
	f.UDP(f.tick(), device, netip.AddrPortFrom(rad.Addr(), 53), []byte("something else"))
	all := f.exchanges(Directory{})
	require.Len(t, all, 2)
	require.Equal(t, []any{evidence.Accepted, KeyUnknown, "ines.marsh"},
		[]any{all[0].Answer, all[0].Key, all[0].Person})
	require.Equal(t, []any{evidence.Unreadable, KeyUnknown}, []any{all[1].Answer, all[1].Key})
	require.Contains(t, all[1].Remarks[0], "the key is not known")
	f2 := exchangesOf(t, f.file.Bytes(), Directory{}.WithKey(site.NewSecret(key)))
	require.Equal(t, []any{evidence.Accepted, KeyFits, "ines.marsh"}, []any{f2[1].Answer, f2[1].Key, f2[1].Person})
}

func TestAScrubbedCopyTellsTheSameStoryWithoutTheNames(t *testing.T) {
	t.Parallel()
	f := newFilm(t)
	f.answer(f.access(1, key), radius.AccessAccept, key)
	f.access(2, "another")
	record := &radius.Packet{Code: radius.AccountingRequest, ID: 3}
	record.AddInteger(radius.AcctStatusType, 1)
	record.AddText(radius.UserName, "ines.marsh")
	record.AddText(radius.AcctSessionID, "sw-1-session")
	b, err := record.EncodeAccountingRequest([]byte(key))
	require.NoError(t, err)
	f.UDP(f.tick(), device, acct, b)
	done := &radius.Packet{Code: radius.AccountingResponse, ID: 3}
	b, err = done.EncodeResponse(record.Authenticator, []byte(key))
	require.NoError(t, err)
	f.UDP(f.tick(), acct, device, b)
	asciiLogin(f.talk(tacacs.Authentication, 0, key), tacacs.AuthenFail)
	f.talk(tacacs.Authorization, 0, key).say(command.Append(nil),
		tacacs.AuthorResponse{Status: tacacs.AuthorPassAdd, Args: []string{"priv-lvl=15"}}.Append(nil)).tcp.Close(
		f.tick(),
		false)
	f.Syn(f.tick(), device, tac)
	require.NoError(t, f.Close())

	d := directory(t)
	source, err := capture.Open(bytes.NewReader(f.file.Bytes()))
	require.NoError(t, err)
	var out bytes.Buffer
	scrubber, err := NewScrubber(d, &out)
	require.NoError(t, err)
	_, err = capture.Read(source, scrubber)
	require.NoError(t, err)
	require.NoError(t, scrubber.Close())
	require.Zero(t, scrubber.Left)

	before, after := exchangesOf(t, f.file.Bytes(), d),
		exchangesOf(t, out.Bytes(), Directory{}.WithKey(site.NewSecret(StandInKey)))
	require.Len(t, after, len(before))
	people := map[string]string{}
	for i := range before {
		b, a := before[i], after[i]
		require.Equal(t, []any{b.Question, b.Answer, b.Key, b.Protocol, len(b.Request)},
			[]any{a.Question, a.Answer, a.Key, a.Protocol, len(a.Request)}, "%+v", a)
		require.InDelta(t, b.Seconds, a.Seconds, 1e-6)
		if b.Person != "" {
			require.NotEqual(t, b.Person, a.Person)
			if known, ok := people[b.Person]; ok {
				require.Equal(t, known, a.Person, "the same by the same")
			}
			people[b.Person] = a.Person
		}
		for _, told := range []string{"ines", "sw-1", "a-secret-password", "192.0.2.101", "198.51.100.9"} {
			require.NotContains(t, fmt.Sprint(a), told)
		}
	}
	for _, told := range []string{"ines", "sw-1", string(device.Addr().AsSlice()), string(tac.Addr().AsSlice())} {
		require.NotContains(t, out.String(), told)
	}
}

func FuzzListener(f *testing.F) {
	f.Add([]byte{0xc0, 1, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0}, []byte{1, 1, 0, 20, 19: 0})
	d := Directory{}.WithKey(site.NewSecret(key))
	f.Add([]byte{0x30, 12, 2, 1, 1, 0x60, 7, 2, 1, 3, 4, 0, 0x80, 0}, []byte{2, 1, 0, 20, 19: 0})
	f.Fuzz(func(t *testing.T, stream, datagram []byte) {
		l := New(d, func(Exchange) {})
		tls := &capture.Conn{Client: device, Server: netip.AddrPortFrom(tac.Addr(), 300)}
		dir := &capture.Conn{Client: device, Server: netip.AddrPortFrom(tac.Addr(), 389)}
		for _, c := range []*capture.Conn{tls, dir} {
			l.Data(at, c, true, stream, false)
			l.Data(at, c, false, stream, false)
			l.Ended(at, c, capture.Ending{By: capture.TheServer, Reset: true, Lost: [2]int{1, 0}})
		}
		c := &capture.Conn{Client: device, Server: tac}
		l.Data(at, c, true, stream, false)
		l.Data(at, c, false, stream, true)
		l.Ended(at, c, capture.Ending{How: capture.Closed})
		l.Datagram(at, device, rad, datagram, false)
		l.Datagram(at, rad, device, datagram, false)
		l.Close()
	})
}
