package exchange

import (
	"bytes"
	"fmt"
	"io"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// one reads a film with one exchange.
func one(t *testing.T, d Directory, take func(f *film)) Exchange {
	t.Helper()
	f := newFilm(t)
	take(f)
	all := f.exchanges(d)
	require.Len(t, all, 1, "%+v", all)
	return all[0]
}

// bare sends an Access-Request without Message-Authenticator.
func (f *film) bare(with string, to netip.AddrPort) *radius.Packet {
	p := &radius.Packet{Code: radius.AccessRequest, ID: 9, Authenticator: [16]byte{9}}
	p.AddText(radius.UserName, "ines.marsh")
	hidden, err := radius.HidePassword("a-secret-password", p.Authenticator, []byte(with))
	require.NoError(f.t, err)
	p.Add(radius.UserPassword, hidden)
	b, err := p.Append(nil)
	require.NoError(f.t, err)
	f.UDP(f.tick(), device, to, b)
	return p
}

func TestARequestWithoutMessageAuthenticatorIsJudgedByItsPassword(t *testing.T) {
	t.Parallel()
	for with, want := range map[string]evidence.KeyFit{key: KeyFits, "another": KeyDiffers} {
		e := one(t, directory(t), func(f *film) { f.bare(with, rad) })
		require.Equal(t, want, e.Key, with)
		require.Equal(t, []string{"no Message-Authenticator: the request can be forged"}, e.Remarks)
	}
}

func TestQuestionsOfRADIUSAreReadFromTheirCodes(t *testing.T) {
	t.Parallel()
	send := func(code radius.Code, to netip.AddrPort) func(*film) {
		return func(f *film) {
			p := &radius.Packet{Code: code, ID: 5}
			encode := p.EncodeRequest
			if code == radius.AccountingRequest {
				encode = p.EncodeAccountingRequest
			}
			b, err := encode([]byte(key))
			require.NoError(t, err)
			f.UDP(f.tick(), device, to, b)
			answer := &radius.Packet{Code: map[bool]radius.Code{true: radius.AccountingResponse,
				false: radius.AccessAccept}[code == radius.AccountingRequest], ID: 5}
			if b, err = answer.EncodeResponse(p.Authenticator, []byte(key)); err == nil {
				f.UDP(f.tick(), to, device, b)
			}
		}
	}
	e := one(t, directory(t), send(radius.AccountingRequest, acct))
	require.Equal(t, []any{site.AskRecordSessions, evidence.Recorded, KeyFits}, []any{e.Question, e.Answer, e.Key})
	e = one(t, directory(t), send(radius.StatusServer, rad))
	require.Equal(t, []any{site.AskStatus, evidence.Alive, KeyFits}, []any{e.Question, e.Answer, e.Key})
	e = one(t, directory(t), send(40, rad))
	require.Equal(t, site.Question(radius.Code(40).String()), e.Question, "another code is told by its name")
	require.NotEmpty(t, e.Question)
	for _, b := range [][]byte{{byte(radius.AccessRequest), 1, 2}, {}} {
		e = one(t, directory(t), func(f *film) { f.UDP(f.tick(), device, rad, b) })
		require.Equal(t, []any{site.AskLogin, evidence.Unreadable}, []any{e.Question, e.Answer})
	}
	e = one(t, directory(t), func(f *film) {
		f.UDP(f.tick(), device, acct,
			[]byte{byte(radius.AccountingRequest), 1, 2})
	})
	require.Equal(t, []any{site.AskRecordSessions, evidence.Unreadable}, []any{e.Question, e.Answer})
}

func TestWhatIsWrongWithAnExchangeIsAMark(t *testing.T) {
	t.Parallel()
	here := func(p uint16) netip.AddrPort { return netip.AddrPortFrom(rad.Addr(), p) }
	stranger := netip.MustParseAddrPort("203.0.113.7:40000")
	accept := func(p *radius.Packet, with string) []byte {
		b, err := (&radius.Packet{Code: radius.AccessAccept, ID: p.ID}).EncodeResponse(p.Authenticator, []byte(with))
		require.NoError(t, err)
		return b
	}
	for name, c := range map[string]struct {
		film  func(f *film)
		marks []evidence.Mark
	}{
		"a port of the older pair": {func(f *film) { f.bare(key, here(1645)) },
			[]evidence.Mark{evidence.MarkNoServer, evidence.MarkLegacyPort}},
		"the other port of it": {func(f *film) { f.bare(key, here(1646)) },
			[]evidence.Mark{evidence.MarkNoServer, evidence.MarkLegacyPort}},
		"a port of nothing": {func(f *film) { f.bare(key, here(9999)) },
			[]evidence.Mark{evidence.MarkNoServer}},
		"RADIUS to a TACACS+ server": {func(f *film) { f.bare(key, tac) }, []evidence.Mark{evidence.MarkMixed}},
		"an answer that came late": {func(f *film) {
			p := f.access(1, key)
			f.now = f.now.Add(7 * time.Second)
			f.answer(p, radius.AccessAccept, key)
		}, []evidence.Mark{evidence.MarkLate}},
		"an answer just in time": {func(f *film) {
			p := f.access(1, key)
			f.now = f.now.Add(5 * time.Second)
			f.answer(p, radius.AccessAccept, key)
		}, []evidence.Mark{}},
		"an answer that does not verify": {func(f *film) { f.answer(f.access(1, key), radius.AccessAccept, "another") },
			[]evidence.Mark{evidence.MarkUnverified}},
		"a malformed answer": {func(f *film) { f.access(1, key); f.UDP(f.tick(), rad, device, []byte{2, 1, 0, 99}) },
			[]evidence.Mark{evidence.MarkMalformed}},
		"the answer given again": {func(f *film) {
			p := f.access(1, key)
			b := accept(p, key)
			f.UDP(f.tick(), rad, device, b)
			f.UDP(f.tick(), rad, device, b)
		}, []evidence.Mark{}},
		"clear text on a RADIUS port over TCP": {func(f *film) {
			f.Connect(f.tick(), device, rad).Data(f.tick(), true,
				[]byte("hello"))
		},
			[]evidence.Mark{evidence.MarkMixed}},
		"a body in clear": {func(f *film) {
			k := f.talk(tacacs.Authorization, 0, key)
			k.h.Flags |= 1
			k.say(command.Append(nil))
		}, []evidence.Mark{evidence.MarkClearBody}},
	} {
		require.Equal(t, c.marks, one(t, directory(t), c.film).Marks, name)
	}
	e := one(t, directory(t), func(f *film) {
		p := &radius.Packet{Code: radius.AccessRequest, ID: 9}
		b, err := p.EncodeRequest([]byte(key))
		require.NoError(t, err)
		f.UDP(f.tick(), stranger, rad, b)
	})
	require.Equal(t, []evidence.Mark{evidence.MarkClientUnknown}, e.Marks)
	require.Empty(t, e.Device)
}

func TestAnICMPMessageIsHeededForTheRequestItRepeats(t *testing.T) {
	t.Parallel()
	for why, want := range map[string]evidence.Mark{"port unreachable": evidence.MarkPortClosed,
		"host unreachable": evidence.MarkNoWay} {
		var all []Exchange
		l := New(directory(t), func(e Exchange) { all = append(all, e) })
		for i, from := range []netip.AddrPort{device, netip.AddrPortFrom(device.Addr(), 40002)} {
			b, err := (&radius.Packet{Code: radius.AccessRequest, ID: byte(i)}).EncodeRequest([]byte(key))
			require.NoError(t, err)
			l.Datagram(at, from, rad, b, false)
		}
		l.Unreachable(at, rad.Addr(), device, rad, true, capture.Refusal(why))
		l.Close()
		require.Equal(t, []evidence.Mark{want}, all[0].Marks)
		require.Empty(t, all[1].Marks, "the other one came from another port")
	}
	var all []Exchange
	l := New(directory(t), func(e Exchange) { all = append(all, e) })
	l.Unreachable(at, netip.Addr{}, device, tac, false, capture.NoHost)
	l.Ended(at, &capture.Conn{Client: device, Server: tac}, capture.Ending{How: capture.Unanswered})
	require.Equal(t, []evidence.Mark{evidence.MarkNoWay}, all[0].Marks)
}

func TestTLSPortsHoldWhatCannotBeRead(t *testing.T) {
	t.Parallel()
	tls := netip.AddrPortFrom(rad.Addr(), 2083)
	hello := one(t, directory(t), func(f *film) {
		f.Connect(f.tick(), device, tls).Data(f.tick(), true, []byte{0x16, 3, 1, 0, 50, 1})
	})
	require.Equal(t, []any{"tls", site.AskConnect, evidence.Unreadable, []evidence.Mark{evidence.MarkNoServer}},
		[]any{hello.Protocol, hello.Question, hello.Answer, hello.Marks})
	clear := one(t, directory(t), func(f *film) {
		f.Connect(f.tick(), device, tls).Data(f.tick(), true, []byte{1, 3, 1, 0, 50, 1})
	})
	require.Equal(t, []evidence.Mark{evidence.MarkClearOnTLS}, clear.Marks)
}

func TestWhatTACACSPacketsSayIsShownByName(t *testing.T) {
	t.Parallel()
	login := one(t, directory(t), func(f *film) {
		f.talk(tacacs.Authentication, 1, key).say(
			tacacs.AuthenStart{Action: 1, Type: tacacs.PAP, Service: tacacs.ServiceEnable, User: "ines.marsh",
				Port:          "ssh0",
				RemoteAddress: "198.51.100.9", Data: "a-secret-password"}.Append(nil),
			tacacs.AuthenReply{Status: tacacs.AuthenFail, Message: "not here"}.Append(nil))
	})
	require.Equal(t, []NameValue{{Name: "user", Value: "ines.marsh"}, {Name: "port", Value: "ssh0"},
		{Name: "rem_addr", Value: "198.51.100.9"}, {Name: "form", Value: "pap"}}, login.Request)
	require.Equal(t, []any{site.AskElevation, evidence.Refused}, []any{login.Question, login.Answer})
	require.Equal(t, NameValue{Name: "server_msg", Value: "not here"}, login.Response[1])
	quiet := one(t, directory(t), func(f *film) {
		f.talk(tacacs.Authentication, 1, key).say(tacacs.AuthenStart{Action: 1, Type: tacacs.PAP, Service: 1}.Append(
			nil),
			tacacs.AuthenReply{Status: tacacs.AuthenPass}.Append(nil))
	})
	require.Len(t, quiet.Response, 1)
	failed := one(t, directory(t), func(f *film) {
		f.talk(tacacs.Accounting, 0, key).say(tacacs.AcctRequest{Flags: tacacs.AcctStop, AuthorRequest: command}.Append(
			nil),
			tacacs.AcctReply{Status: tacacs.AcctError}.Append(nil))
	})
	require.Equal(t, evidence.Failed, failed.Answer)
	rights := one(t, directory(t), func(f *film) {
		f.talk(tacacs.Authorization, 0, key).say(command.Append(nil),
			tacacs.AuthorResponse{Status: tacacs.AuthorPassAdd, Args: []string{"priv-lvl=7"}}.Append(nil))
	})
	require.Equal(t, NameValue{Name: "priv-lvl", Value: "7"}, rights.Response[1])
	require.Equal(t, NameValue{Name: "cmd-arg", Value: "3"}, rights.Request[len(rights.Request)-1])
	gone := one(t, directory(t), func(f *film) {
		f.talk(tacacs.Authentication, 0, key).say(tacacs.AuthenStart{Action: 1, Type: tacacs.ASCII, Service: 1}.Append(
			nil),
			tacacs.AuthenReply{Status: tacacs.AuthenGetUser}.Append(nil),
			tacacs.AuthenContinue{Flags: tacacs.FlagAbort}.Append(nil))
	})
	require.Equal(t, []evidence.Mark{evidence.MarkAborted}, gone.Marks)
	broken := one(t, directory(t), func(f *film) {
		f.talk(tacacs.Authorization, 0, key).say([]byte{1, 2}, []byte{1})
	})
	require.Equal(t, []any{KeyDiffers, evidence.Unreadable}, []any{broken.Key, broken.Answer})
}

func TestWhatCannotBeReadIsSaidToBeSo(t *testing.T) {
	t.Parallel()
	mixed := one(t, directory(t), func(f *film) {
		f.Connect(f.tick(), device, rad).Data(
			f.tick(), true, []byte("hello"))
	})
	require.Equal(t, []any{site.AskConnect, evidence.Unreadable}, []any{mixed.Question, mixed.Answer})
	clear := one(t, directory(t), func(f *film) {
		k := f.talk(tacacs.Authorization, 0, key)
		k.h.Flags |= 1
		k.say(command.Append(nil))
	})
	require.Equal(t, []any{site.AskSession, evidence.Unreadable}, []any{clear.Question, clear.Answer})
	alone := one(t, directory(t), func(f *film) {
		f.talk(tacacs.Authorization, 0, key).say([]byte{1, 2}).tcp.Close(f.tick(), false)
	})
	require.Equal(t, []any{KeyDiffers, evidence.Unreadable}, []any{alone.Key, alone.Answer}, "a request without answer")
	banner := one(t, directory(t), func(f *film) {
		k := f.talk(tacacs.Authorization, 0, key)
		k.tcp.Data(f.tick(), false, []byte{0x16, 3, 1, 0})
		k.say(command.Append(nil), tacacs.AuthorResponse{Status: tacacs.AuthorPassAdd}.Append(nil))
	})
	require.Equal(t, "tacacs", banner.Protocol, "only a client's first octets are a TLS hello")
}

func TestAScrubbedRequestKeepsWhetherItsKeyFits(t *testing.T) {
	t.Parallel()
	for with, want := range map[string]evidence.KeyFit{key: KeyFits, "another": KeyDiffers} {
		f := newFilm(t)
		f.access(1, with)
		require.NoError(t, f.Close())
		source, err := capture.Open(&f.file)
		require.NoError(t, err)
		var out bytes.Buffer
		s, err := NewScrubber(directory(t), &out)
		require.NoError(t, err)
		_, err = capture.Read(source, s)
		require.NoError(t, err)
		require.NoError(t, s.Close())
		after := exchangesOf(t, out.Bytes(), Directory{}.WithKey(site.NewSecret(StandInKey)))
		require.Equal(t, want, after[0].Key)
	}
}

func TestAScrubbedAddressIsOneOfTheDocumentationRangesAndNeverTwice(t *testing.T) {
	t.Parallel()
	s, err := NewScrubber(directory(t), io.Discard)
	require.NoError(t, err)
	seen := map[netip.Addr]bool{}
	from := netip.MustParseAddr("10.0.0.0")
	var addresses []netip.Addr
	for range 70_000 {
		from = from.Next()
		made := s.address(from)
		require.False(t, seen[made], "%s twice", made)
		seen[made] = true
		addresses = append(addresses, made)
	}
	for n, want := range map[int]string{0: "192.0.2.1", 253: "192.0.2.254", 254: "198.51.100.1", 508: "203.0.113.1",
		761: "203.0.113.254", 762: "100.64.2.250", 65535: "100.64.255.255", 65536: "100.65.0.0"} {
		require.Equal(t, want, addresses[n].String(), "address %d", n)
	}
	require.Equal(t, "192.0.2.1", s.address(netip.MustParseAddr("10.0.0.1")).String(), "the same by the same")
	six, err := NewScrubber(directory(t), io.Discard)
	require.NoError(t, err)
	require.Equal(t, "2001:db8::1", six.address(netip.MustParseAddr("fd00::7")).String())
	require.Equal(t, "text-1", six.name("text", "a word"))
	require.Equal(t, "192.0.2.2", six.name("text", "10.0.0.1"), "an address that is told as text")
}

func TestAScrubberSaysWhatItLeavesOut(t *testing.T) {
	t.Parallel()
	s, err := NewScrubber(Directory{}, io.Discard)
	require.NoError(t, err)
	s.Datagram(at, device, rad, []byte{1, 2, 3}, false)
	require.Equal(t, 1, s.Left, "a malformed packet")
	h := tacacs.Header{Version: 0xc0, Type: tacacs.Authorization, SessionID: 7, Sequence: 1}
	s.Data(at, &capture.Conn{Client: device, Server: tac}, true, tacacs.AppendPacket(nil, h, command.Append(nil),
		[]byte("unknown")), false)
	require.Equal(t, 2, s.Left, "a body whose key is not known")
	require.NotContains(t, fmt.Sprint(s.names), "ines")
}

func TestAScrubbedAttributeKeepsItsFormAndNotItsValue(t *testing.T) {
	t.Parallel()
	s, err := NewScrubber(directory(t), io.Discard)
	require.NoError(t, err)
	in := []radius.Attribute{{Type: radius.ServiceType, Value: []byte{0, 0, 0, 6}},
		{Type: radius.NASIPAddress, Value: []byte{10, 1, 2, 3}}, {Type: radius.NASIdentifier, Value: []byte("sw-1")},
		{Type: radius.UserName, Value: []byte("ines.marsh")}, {Type: 200, Value: []byte("tells")},
		{Type: radius.NASIPAddress, Value: []byte{1, 2, 3}}}
	want := [][]byte{{0, 0, 0, 6}, {192, 0, 2, 1}, []byte("text-1"), []byte("person-2"), make([]byte, 5),
		make([]byte, 3)}
	for i, a := range in {
		require.Equal(t, radius.Attribute{Type: a.Type, Value: want[i]}, s.attribute(a, [16]byte{}, []byte(key)))
	}
}
