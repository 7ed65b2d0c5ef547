package gate

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"
	"unicode/utf8"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/radius"
)

// mostAtOnce bounds the requests of one port that are worked on at the same
// time: a slow password check holds up no other.
const mostAtOnce = 64

// serveRADIUS answers one UDP port until it is closed. Each worker reads a
// packet, answers it, and reads the next.
func (s *server) serveRADIUS(conn *net.UDPConn, accounting bool) {
	var workers sync.WaitGroup
	for range mostAtOnce {
		workers.Go(func() { s.workRADIUS(conn, accounting) })
	}
	workers.Wait()
}

func (s *server) workRADIUS(conn *net.UDPConn, accounting bool) {
	local := conn.LocalAddr().(*net.UDPAddr).AddrPort()
	buffer := make([]byte, radius.MaxSize+1)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil {
			if s.gate.ctx.Err() == nil && isTemporary(err) {
				continue
			}
			return
		}
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		s.captureUDP(from, local, buffer[:n])
		if answer := s.answerRADIUS(buffer[:n], from, accounting); answer != nil {
			s.captureUDP(local, from, answer)
			_, _ = conn.WriteToUDPAddrPort(answer, from)
		}
	}
}

// serveRADIUSOverTLS answers the packets of one connection, one after another,
// RFC 6614: the kind of a packet is its code alone.
func (s *server) serveRADIUSOverTLS(conn net.Conn, from netip.AddrPort) {
	for {
		_ = conn.SetDeadline(time.Now().Add(idle))
		packet, err := radius.ReadPacket(conn)
		if err != nil {
			if errors.Is(err, radius.ErrLength) {
				q := question{client: from}
				s.drop(q, "malformed", err.Error())
			}
			return
		}
		accounting := packet[0] == byte(radius.AccountingRequest)
		if answer := s.answerRADIUS(packet, from, accounting); answer != nil {
			if _, err := conn.Write(answer); err != nil {
				return
			}
		}
	}
}

func (s *server) captureUDP(from, to netip.AddrPort, b []byte) {
	if w := s.gate.config.Capture; w != nil {
		w.UDP(s.gate.config.Now(), from, to, b)
	}
}

// isTemporary tells whether reading a UDP port goes on after an error, such as
// an ICMP message about an answer sent earlier.
func isTemporary(err error) bool {
	op, ok := err.(*net.OpError)
	return ok && !op.Timeout() && op.Err != net.ErrClosed && op.Err.Error() != "use of closed network connection"
}

// answerRADIUS gives the answer to one packet, or nil when there must be none.
func (s *server) answerRADIUS(b []byte, from netip.AddrPort, accounting bool) []byte {
	q := question{client: from}
	q.Purpose = site.Login
	if accounting {
		q.Purpose = site.RecordSessions
	}
	device, known := s.gate.client(from.Addr())
	if !known {
		s.drop(q, "asker-unknown", fmt.Sprintf("no device of the site has the address %s", from.Addr()))
		return nil
	}
	q.Device = device
	p, err := radius.Decode(b)
	if err != nil {
		s.drop(q, "malformed", err.Error())
		return nil
	}
	q.Person = printable(p.Text(radius.UserName))
	if !s.authentic(b, p, q) {
		return nil
	}
	key := duplicate{from, p.ID, p.Authenticator}
	if answer, fresh := s.seen.begin(key, s.gate.config.Now()); !fresh {
		return answer
	}
	var answer *radius.Packet
	switch {
	case p.Code == radius.StatusServer && !accounting: // RFC 5997, section 3
		answer = &radius.Packet{Code: radius.AccessAccept, ID: p.ID}
	case p.Code == radius.StatusServer:
		answer = &radius.Packet{Code: radius.AccountingResponse, ID: p.ID}
	case p.Code == radius.AccessRequest && !accounting:
		answer = s.access(p, q)
	case p.Code == radius.AccountingRequest && accounting:
		answer = s.accounting(p, q)
	default:
		s.drop(q, "wrong-port", fmt.Sprintf("%s came to the port for the other kind", p.Code))
	}
	if answer == nil {
		s.seen.end(key, nil)
		return nil
	}
	for _, a := range p.Attributes { // in order and unchanged, RFC 2865 section 5.33
		if a.Type == radius.ProxyState {
			answer.Attributes = append(answer.Attributes, a)
		}
	}
	encoded, err := answer.EncodeResponse(p.Authenticator, s.secret())
	if err != nil {
		s.drop(q, "malformed", err.Error())
		encoded = nil
	}
	s.seen.end(key, encoded)
	return encoded
}

// authentic tells whether a request was made with our key.
func (s *server) authentic(b []byte, p *radius.Packet, q question) bool {
	if p.Code == radius.AccountingRequest {
		if !radius.CheckAccountingRequest(b, s.secret()) {
			s.drop(q, "key-differs", "the Accounting-Request's authenticator does not verify under the key of this server")
			return false
		}
		return true
	}
	switch radius.CheckMessageAuthenticator(b, p.Authenticator, s.secret()) {
	case radius.Invalid:
		s.drop(q, "key-differs", "the Message-Authenticator does not verify under the key of this server")
		return false
	case radius.Absent:
		if s.site.RequireMessageAuthenticator {
			s.drop(q, "no-message-authenticator", "the request has no Message-Authenticator, which this server requires")
			return false
		}
	}
	return true
}

// access decides an Access-Request with a credential of any form.
func (s *server) access(p *radius.Packet, q question) *radius.Packet {
	q.Access, q.from = radiusAccess(p), printable(p.Text(radius.CallingStationID))
	reject := &radius.Packet{Code: radius.AccessReject, ID: p.ID}
	exchange, ident, response, mschap2, err := p.MSCHAP2()
	hidden, pap := p.Get(radius.UserPassword)
	chap, isCHAP := p.Get(radius.CHAPPassword)
	switch {
	case pap && isCHAP: // RFC 2865, section 4.1
		err = errors.New("the request has both User-Password and CHAP-Password (RFC 2865, section 4.1)")
	case pap:
		q.typed, err = radius.RevealPassword(hidden, p.Authenticator, s.secret())
	case isCHAP:
		challenge, given := p.Get(radius.CHAPChallenge)
		if !given {
			challenge = p.Authenticator[:]
		}
		q.proves = func(password string) bool { return radius.CheckCHAP(chap, challenge, password) }
	case mschap2:
		q.proves = func(password string) bool { return exchange.Check(response, password) }
	default:
		s.drop(q, "password-form", "the request has no User-Password, CHAP-Password or MS-CHAPv2 response")
		return reject
	}
	if err != nil {
		s.drop(q, "malformed", err.Error())
		return nil
	}
	d := s.decide(q)
	if !d.Allow {
		return reject
	}
	answer := &radius.Packet{Code: radius.AccessAccept, ID: p.ID}
	for _, a := range rights.Attributes(site.RADIUS, site.Login, d) {
		if made, err := radius.Make(a.Name, a.Value); err == nil {
			answer.Attributes = append(answer.Attributes, made)
		}
	}
	if mschap2 { // the server proves that it knows the password too, RFC 2548 section 2.3.3
		success := append([]byte{ident}, exchange.Success(s.gate.recoverable(q.Person))...)
		answer.Add(radius.VendorSpecific, radius.AppendVendor(nil, radius.VendorMSCHAP, radius.Attribute{Type: radius.MSCHAP2Success, Value: success}))
	}
	return answer
}

// accounting keeps an Accounting-Request.
func (s *server) accounting(p *radius.Packet, q question) *radius.Packet {
	q.Access, q.from = radiusAccess(p), printable(p.Text(radius.CallingStationID))
	status, _ := p.Integer(radius.AcctStatusType)
	q.start, q.session = status == 1, printable(p.Text(radius.AcctSessionID))
	if level, ok := p.Integer(radius.ManagementPrivilegeLevel); ok && level <= 15 {
		q.level = int(level)
	}
	if status != 1 && status != 2 {
		// On, off and interim are taken and not kept yet: they say nothing of a person.
		return &radius.Packet{Code: radius.AccountingResponse, ID: p.ID}
	}
	if s.keep(q) != nil {
		return nil // no answer: the device sends it again
	}
	return &radius.Packet{Code: radius.AccountingResponse, ID: p.ID}
}

// radiusAccess tells the way in from NAS-Port-Id, else from NAS-Port-Type.
func radiusAccess(p *radius.Packet) string {
	if access := rights.AccessOfPort(p.Text(radius.NASPortID)); access != "" {
		return access
	}
	if kind, ok := p.Integer(radius.NASPortType); ok && kind == 0 {
		return site.Console
	}
	return ""
}

// printable makes a text from the network fit for events and records.
func printable(s string) string {
	if !utf8.ValidString(s) {
		return fmt.Sprintf("%q", s)
	}
	for _, c := range s {
		if c < ' ' || c == 0x7f {
			return fmt.Sprintf("%q", s)
		}
	}
	return s
}
