package aaa

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/mschap"
	"mellowgate/internal/wire/radius"
)

// radiusExchange is one RADIUS packet and its retransmissions, which repeat it
// to the octet (RFC 5080, section 2.2.1).
type radiusExchange struct {
	ctx     context.Context
	target  Target
	to      netip.AddrPort
	request *radius.Packet
	bytes   []byte
	conn    net.Conn
	err     error
	state   []byte // of a challenge that was the answer
	q       walk.Question
	asker   Asker
	unfit   reason.Reason // what was wrong with the newest answer that does not count, "" for none
	success string        // what the server must prove with MS-CHAPv2
}

func newRADIUS(ctx context.Context, t Target, q walk.Question, a Asker) *radiusExchange {
	if t.Server.Secured() {
		t.Key = site.NewSecret(pki.RADIUSKey)
	}
	e := &radiusExchange{ctx: ctx, target: t, to: t.Authentication, q: q, asker: a}
	if q.Purpose.Records() {
		e.to = t.Accounting
	}
	e.request, e.success, e.err = radiusRequest(t, q, a)
	if e.err == nil {
		key := []byte(t.Key.Reveal())
		if q.Purpose.Records() {
			e.bytes, e.err = e.request.EncodeAccountingRequest(key)
		} else {
			e.bytes, e.err = e.request.EncodeRequest(key)
		}
	}
	return e
}

// newRequest begins a request with a random identifier and authenticator.
func newRequest(code radius.Code) (*radius.Packet, error) {
	var random [17]byte
	if _, err := rand.Read(random[:]); err != nil {
		return nil, err
	}
	return &radius.Packet{Code: code, ID: random[16], Authenticator: [16]byte(random[:16])}, nil
}

// addCredential appends a password in a form. With MS-CHAPv2 it gives what the
// server must prove in return.
func addCredential(p *radius.Packet, t Target, person string, a Asker) (success string, err error) {
	var random [33]byte
	if _, err := rand.Read(random[:]); err != nil {
		return "", err
	}
	switch a.Form {
	case site.CHAP:
		p.Add(radius.CHAPPassword, radius.CHAP(random[32], random[:16], a.Password))
		p.Add(radius.CHAPChallenge, random[:16])
	case site.MSCHAPv2:
		x := mschap.Exchange{User: person, AuthenticatorChallenge: [16]byte(random[:16]),
			PeerChallenge: [16]byte(random[16:32])}
		p.AddMSCHAP2(x, random[32], a.Password)
		return x.Success(a.Password), nil
	case site.PAP, "":
		hidden, err := radius.HidePassword(a.Password, p.Authenticator, []byte(t.Key.Reveal()))
		if err != nil {
			return "", err
		}
		p.Add(radius.UserPassword, hidden)
	default:
		return "", fmt.Errorf("RADIUS has no form %q of a password", a.Form)
	}
	return "", nil
}

// radiusRequest builds an Access-Request or an Accounting-Request.
func radiusRequest(t Target, q walk.Question, a Asker) (p *radius.Packet, success string, err error) {
	if p, err = newRequest(radius.AccessRequest); err != nil {
		return nil, "", err
	}
	if q.Purpose != site.RecordSystem {
		p.AddText(radius.UserName, q.Person)
	}
	switch q.Purpose {
	case site.Login:
		if success, err = addCredential(p, t, q.Person, a); err != nil {
			return nil, "", err
		}
		p.AddInteger(radius.ServiceType, 7) // NAS-Prompt: a management login (RFC 2865, section 5.6)
	case site.RecordSystem: // RFC 2866, section 5.1: Accounting-On and -Off
		p.Code = radius.AccountingRequest
		p.AddInteger(radius.AcctStatusType, either(q.Start, 7, 8))
		p.AddText(radius.AcctSessionID, a.Session)
		p.AddInteger(radius.AcctDelayTime, 0)
	case site.RecordSessions:
		p.Code = radius.AccountingRequest
		p.AddInteger(radius.AcctStatusType, either(q.Start, 1, either(q.Update, 3, 2)))
		p.AddText(radius.AcctSessionID, a.Session)
		p.AddInteger(radius.AcctDelayTime, 0)
		if !q.Start {
			p.AddInteger(radius.AcctSessionTime, uint32(q.Elapsed.Seconds()))
		}
		if !q.Start && !q.Update {
			p.AddInteger(radius.AcctTerminateCause, either(a.Ended, 6, 1)) // Admin-Reset, User-Request
		}
		authentic := uint32(1)
		if q.Method == site.ByLocal {
			authentic = 2
		}
		p.AddInteger(radius.AcctAuthentic, authentic)
		p.AddInteger(radius.ManagementPrivilegeLevel, uint32(q.Level))
	default:
		return nil, "", errors.New("RADIUS has no such question")
	}
	if t.From.IsValid() {
		kind := radius.NASIPAddress
		if !t.From.Is4() {
			kind = radius.NASIPv6Address
		}
		p.Add(kind, t.From.AsSlice())
	}
	p.AddText(radius.NASIdentifier, a.Device)
	p.AddText(radius.NASPortID, a.Port)
	portType := uint32(5) // Virtual
	if strings.HasPrefix(a.Port, site.Console) {
		portType = 0 // Async
	}
	p.AddInteger(radius.NASPortType, portType)
	if a.From != "" {
		p.AddText(radius.CallingStationID, a.From)
	}
	p.Attributes = append(p.Attributes, a.Extra...)
	return p, success, nil
}

func either(yes bool, a, b uint32) uint32 {
	if yes {
		return a
	}
	return b
}

// jittered spreads the waits of retransmissions by a twentieth either way, so
// that devices which lost their server together do not ask it together
// (RFC 5080, section 2.2.1).
func jittered(wait time.Duration, n int) time.Duration {
	if n < 2 {
		return wait
	}
	return wait - wait/20 + mathrand.N(wait/10+1)
}

// Try sends the packet and waits for an answer that verifies. A challenge is
// answered where the asker can, with a packet of its own (RFC 2865, section
// 4.4).
func (e *radiusExchange) Try(n int) walk.Reply {
	reply := e.try(n)
	for round := 0; round < mostChallenges && reply.Answer == walk.SaidChallenge && e.asker.Code != nil; round++ {
		code, ok := e.asker.Code(reply.Message)
		if !ok {
			break
		}
		before := reply.Took
		if e.err = e.answerChallenge(code); e.err != nil {
			break
		}
		for n := 1; n == 1 || n <= e.target.patient().Attempts && reply.Result == walk.Unavailable; n++ {
			reply = e.try(n)
			before += reply.Took
		}
		reply.Took = before
	}
	return reply
}

// mostChallenges bounds how often a server may ask for more.
const mostChallenges = 5

// answerChallenge makes the request that brings an answer, and the State back.
func (e *radiusExchange) answerChallenge(code string) (err error) {
	a := e.asker
	a.Password = code
	if e.state != nil {
		a.Extra = append([]radius.Attribute{{Type: radius.State, Value: e.state}}, a.Extra...)
	}
	if e.request, e.success, err = radiusRequest(e.target, e.q, a); err == nil {
		e.bytes, err = e.request.EncodeRequest([]byte(e.target.Key.Reveal()))
	}
	return err
}

// try sends the packet once.
func (e *radiusExchange) try(n int) walk.Reply {
	began := time.Now()
	if errors.Is(e.err, radius.ErrLongPassword) { // it is wrong without being asked about, and the server is not silent
		return walk.Reply{Result: walk.Refused, Reason: reason.WrongPassword, Message: e.err.Error(),
			Answer: walk.SaidReject}
	}
	if e.err != nil {
		return lost(reason.ServerError, e.err.Error(), began)
	}
	deadline := began.Add(jittered(e.target.patient().Timeout, n))
	if e.conn == nil {
		if reply, ok := e.dial(deadline, began); !ok {
			return reply
		}
	}
	why, message := reason.Silent, "no answer"
	if e.unfit != "" {
		why, message = e.unfit, unfitText[e.unfit]
	}
	if _, err := e.conn.Write(e.bytes); err != nil && !icmp(err) {
		r, m := failure(err)
		return lost(r, m, began)
	}
	stop := routine.OnDone(e.ctx, func() { _ = e.conn.SetReadDeadline(time.Now()) })
	defer stop()
	buffer := make([]byte, radius.MaxSize)
	for {
		_ = e.conn.SetReadDeadline(deadline)
		if e.ctx.Err() != nil {
			return lost(reason.GivenUp, "given up by who asked", began)
		}
		n, err := e.conn.Read(buffer)
		if icmp(err) {
			why, message = failure(err)
			if e.target.HeedsICMP {
				return lost(why, message, began)
			}
			continue // the error is given once; the device goes on waiting
		}
		if r, m := failure(err); err != nil && r == reason.TLS {
			return lost(r, m, began)
		}
		if err != nil {
			return lost(why, message, began)
		}
		if reply, ok := e.answer(buffer[:n]); ok {
			reply.Took = time.Since(began)
			return reply
		}
		why, message = e.unfit, unfitText[e.unfit]
	}
}

// unfitText says what is wrong with answers that do not count.
var unfitText = map[reason.Reason]string{reason.Unverified: "an answer came that was not made with this key",
	reason.Unsigned:  "an answer came without a Message-Authenticator, which the site requires",
	reason.Malformed: "an answer came that is malformed"}

// icmp reports whether an error of UDP is what the host of the server, or a router
// on the way, said by ICMP (RFC 1122, section 4.1.3.3).
func icmp(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.EHOSTUNREACH) ||
		errors.Is(err, syscall.ENETUNREACH)
}

// dial opens the way to the server: UDP, or TLS.
func (e *radiusExchange) dial(deadline, began time.Time) (walk.Reply, bool) {
	ctx, stop := context.WithDeadline(e.ctx, deadline)
	defer stop()
	network := "udp"
	if e.target.Server.Secured() {
		network = "tcp"
	}
	conn, err := e.target.Dialer.Dial(ctx, network, e.target.From, e.to)
	if err != nil { // the next try opens it anew, as a device would
		r, m := failure(err)
		return lost(r, m, began), false
	}
	if conn, err = e.target.secure(ctx, conn); err != nil {
		return unsecured(err, began), false
	}
	if e.target.Server.Secured() {
		conn = framed{Conn: conn}
	}
	e.conn = conn
	return walk.Reply{}, true
}

// framed gives whole packets of a stream, as if they were datagrams.
type framed struct{ net.Conn }

func (f framed) Read(b []byte) (int, error) {
	packet, err := radius.ReadPacket(f.Conn)
	return copy(b, packet), err
}

// answer reads an answer. One that is not authentic is none.
func (e *radiusExchange) answer(b []byte) (walk.Reply, bool) {
	key := []byte(e.target.Key.Reveal())
	p, err := radius.Decode(b)
	switch {
	case err != nil:
		e.unfit = reason.Malformed
		return walk.Reply{}, false
	case p.ID != e.request.ID || !radius.CheckResponse(b, e.request.Authenticator, key):
		e.unfit = reason.Unverified
		return walk.Reply{}, false
	}
	if p.Code != radius.AccountingResponse {
		check := radius.CheckMessageAuthenticator(b, e.request.Authenticator, key)
		switch {
		case check == radius.Invalid:
			e.unfit = reason.Unverified
			return walk.Reply{}, false
		case check == radius.Absent && e.target.Server.RequireMessageAuthenticator:
			e.unfit = reason.Unsigned
			return walk.Reply{}, false
		}
	}
	reply := walk.Reply{Result: walk.Accepted, Message: p.Text(radius.ReplyMessage)}
	for _, a := range p.Attributes {
		for _, n := range e.target.Words.Names(a) {
			reply.Attributes = append(reply.Attributes, rights.Attribute{Name: n.Name, Value: n.Value})
		}
	}
	asked, status := e.request.Code, e.request.Code == radius.StatusServer
	switch {
	case status && (p.Code == radius.AccessAccept || p.Code == radius.AccountingResponse):
		reply.Answer = walk.SaidAlive
	case asked == radius.AccountingRequest && p.Code == radius.AccountingResponse:
		reply.Answer = walk.SaidRecorded
	case asked == radius.AccessRequest && p.Code == radius.AccessAccept:
		if e.success != "" && !e.proved(p) { // RFC 2759, section 5: the server does not know the password
			e.unfit = reason.Unverified
			return walk.Reply{}, false
		}
		reply.Answer = walk.SaidAccept
	case asked == radius.AccessRequest && p.Code == radius.AccessReject:
		reply.Result = walk.Refused
		reply.Reason = reason.RefusedByServer
		reply.Answer = walk.SaidReject
	case asked == radius.AccessRequest && p.Code == radius.AccessChallenge:
		reply.Result = walk.Refused
		reply.Reason = reason.RefusedByServer
		reply.Answer = walk.SaidChallenge
		e.state, _ = p.Get(radius.State)
		e.state = slices.Clone(e.state)
	default:
		e.unfit = reason.Malformed
		return walk.Reply{}, false
	}
	return reply, true
}

// proved reports whether an accepting answer holds the server's proof of an
// MS-CHAPv2 password, RFC 2548 section 2.3.3.
func (e *radiusExchange) proved(p *radius.Packet) bool {
	for _, a := range p.Attributes {
		if a.Type != radius.VendorSpecific {
			continue
		}
		vendor, subs, err := radius.DecodeVendor(a.Value)
		for _, s := range subs {
			if err == nil && vendor == radius.VendorMSCHAP && s.Type == radius.MSCHAP2Success && len(s.Value) > 1 {
				return subtle.ConstantTimeCompare(s.Value[1:], []byte(e.success)) == 1
			}
		}
	}
	return false
}

// Close ends the exchange.
func (e *radiusExchange) Close() {
	if e.conn != nil {
		_ = e.conn.Close()
	}
}
