package gate

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/mschap"
	"mellowgate/internal/wire/radius"
)

// batchSize is how many packets are read, or written, in one call.
const batchSize = 32

// batches reads and writes several packets in one call.
type batches interface {
	ReadBatch(messages []ipv4.Message, flags int) (int, error)
	WriteBatch(messages []ipv4.Message, flags int) (int, error)
}

func inBatches(conn *net.UDPConn) batches {
	if conn.LocalAddr().(*net.UDPAddr).IP.To4() != nil {
		return ipv4.NewPacketConn(conn)
	}
	return ipv6.NewPacketConn(conn)
}

// serveRADIUS answers one UDP port until it is closed. Its readers answer what
// is quick to answer; the rest, a bounded number at once, holds up no other.
func (o *port) serveRADIUS(conn *net.UDPConn, accounting bool) {
	port := &radiusPort{on: o, conn: conn, accounting: accounting,
		local: conn.LocalAddr().(*net.UDPAddr).AddrPort()}
	var readers routine.Group
	for range min(max(runtime.GOMAXPROCS(0)/2, 1), 4) {
		readers.Go(port.read)
	}
	readers.Wait()
	port.answering.Wait()
}

// radiusPort is one UDP port while it is served.
type radiusPort struct {
	on         *port
	conn       *net.UDPConn
	local      netip.AddrPort
	accounting bool
	answering  routine.Group
}

func (r *radiusPort) read() {
	conn := inBatches(r.conn)
	got := make([]ipv4.Message, batchSize)
	for i := range got {
		got[i].Buffers = [][]byte{make([]byte, radius.MaxSize+1)}
	}
	ready := make(chan []answered, mostUnsent)
	defer close(ready)
	r.answering.Go(func() { r.send(conn, ready) })
	guard.Retry(r.on.ctx, func() error {
		n, err := conn.ReadBatch(got, 0)
		if err != nil {
			return err
		}
		quick := make([]answered, 0, n)
		for i := range got[:n] {
			if request, answer := r.answer(&got[i]); request != nil || answer != nil {
				quick = append(quick, answered{request: request, answer: answer, to: got[i].Addr})
			}
		}
		if len(quick) > 0 {
			ready <- quick
		}
		return nil
	}, r.on.trouble)
}

// mostUnsent bounds how much a reader has read that waits for the disk, in reads of up to
// together packets: while the disk is slow more is read, so that nothing is lost.
const mostUnsent = 128

// send sends what was answered once it is on disk, until there is no more.
func (r *radiusPort) send(conn batches, ready <-chan []answered) {
	answers := make([]ipv4.Message, 0, batchSize)
	for some := range ready {
		answers = answers[:0]
		for _, q := range some {
			answer := q.answer
			if q.request != nil {
				if answer = q.request.ready(answer); answer != nil {
					r.capture(q.request, answer)
				}
			}
			if answer != nil {
				answers = append(answers, ipv4.Message{Buffers: [][]byte{answer}, Addr: q.to})
			}
		}
		for rest := answers; len(rest) > 0; {
			n, err := conn.WriteBatch(rest, 0)
			if err != nil {
				n = 1 // the first one cannot be sent; the others can
			}
			rest = rest[n:]
		}
	}
}

// answered is a request with the answer that it gets once its decision is on disk.
type answered struct {
	request *radiusRequest
	answer  []byte
	to      net.Addr
}

// capture keeps an answer with the packets.
func (r *radiusPort) capture(request *radiusRequest, answer []byte) {
	request.server.captureUDP(r.local, request.client, answer)
}

// answer returns the answer to a packet, nil where there is none or where it comes
// later; with the request where that has yet to be ready.
func (r *radiusPort) answer(m *ipv4.Message) (*radiusRequest, []byte) {
	s, packet := r.on.server(), m.Buffers[0][:m.N]
	from := m.Addr.(*net.UDPAddr).AddrPort()
	from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
	s.captureAsked(from, r.local, packet)
	request, answer := s.receive(packet, from, r.accounting)
	switch {
	case request == nil:
	case request.quick():
		return request, request.answer()
	default:
		m.Buffers[0] = make([]byte, radius.MaxSize+1) // the request keeps the octets it points to
		request.answerLater(&r.answering, func(answer []byte) {
			r.capture(request, answer)
			_, _ = r.conn.WriteToUDPAddrPort(answer, from)
		})
		return nil, nil
	}
	if answer != nil {
		s.captureUDP(r.local, from, answer)
	}
	return nil, answer
}

// answerLater answers a request beside others, once its client has its turn and after a refusal was held back.
// send is given the answer, and is not called where there is none.
func (r *radiusRequest) answerLater(beside *routine.Group, send func(answer []byte)) {
	s, from := r.server, r.client.Addr()
	if !s.gate.queue.Enter(from) {
		s.drop(r.question, reason.TooMany,
			fmt.Sprintf("%d questions of %s, or %d of all clients together, wait for an answer", guard.MostWaitingOfOne,
				from, guard.MostWaiting))
		r.finish(nil)
		return
	}
	beside.Go(func() {
		var answer []byte
		s.gate.queue.Run(from, func() { answer = r.answer() })
		s.gate.failures.Hold(s.gate.ctx, from, r.hold)
		if answer = r.ready(answer); answer != nil {
			send(answer)
		}
	})
}

// serveRADIUSOverTLS answers the packets of one connection, RFC 6614: the kind of a packet is its code alone. One
// that waits, for a password hash, for a directory or as a refusal that is held back, holds up no other.
func (o *port) serveRADIUSOverTLS(conn net.Conn, from netip.AddrPort, heard func()) {
	var waiting routine.Group
	defer waiting.Wait()
	send := func(answer []byte) error {
		_ = conn.SetWriteDeadline(time.Now().Add(idle))
		_, err := conn.Write(answer) // whole: writes of a TLS connection do not mix
		return err
	}
	for {
		_ = conn.SetReadDeadline(time.Now().Add(idle))
		if o.ctx.Err() != nil {
			return
		}
		packet, err := radius.ReadPacket(conn)
		s := o.server()
		if err != nil {
			if errors.Is(err, radius.ErrLength) {
				s.drop(question{asking: asking{client: from}}, reason.Malformed, err.Error())
			}
			return
		}
		heard()
		request, answer := s.receive(packet, from, packet[0] == byte(radius.AccountingRequest))
		switch {
		case request != nil && !request.quick():
			// the reader finds out when it is gone
			request.answerLater(&waiting, func(answer []byte) { _ = send(answer) })
			continue
		case request != nil:
			answer = request.ready(request.answer())
		}
		if answer != nil && send(answer) != nil {
			return
		}
	}
}

// captureAsked keeps what a client sent, without a password that a key opens.
func (s *server) captureAsked(from, to netip.AddrPort, b []byte) {
	if s.gate.config.Capture != nil && !s.gate.config.Credentials {
		b = radius.Veil(b, s.openers(from.Addr()))
	}
	s.captureUDP(from, to, b)
}

func (s *server) captureUDP(from, to netip.AddrPort, b []byte) {
	if w := s.gate.config.Capture; w != nil {
		w.UDP(s.gate.config.Now(), from, to, b)
	}
}

// radiusRequest is one authentic request that is not answered yet.
type radiusRequest struct {
	server *server
	packet *radius.Packet
	question
	accounting bool
	shared     []byte // the key that the asker uses
	duplicate  guard.Duplicate
	mschap     *mschap.Exchange // when the server is to prove itself too
	ident      byte
	malformed  error // the credential cannot be read
	refused    string
	why        reason.Reason // of refused
}

// receive takes a packet in: it gives a request that is to be answered, or the
// answer at once where the packet repeats an answered request. It returns neither
// for a packet that gets no answer.
func (s *server) receive(b []byte, from netip.AddrPort, accounting bool) (*radiusRequest, []byte) {
	q := question{asking: asking{client: from}}
	q.Purpose = site.Login
	if accounting {
		q.Purpose = site.RecordSessions
	}
	client, known := s.asker(from.Addr())
	if !known {
		s.drop(q, reason.ClientUnknown, s.nobody(from.Addr()))
		return nil, nil
	}
	q.Device = client.device
	p, err := radius.Decode(b)
	if err != nil {
		s.drop(q, reason.Malformed, err.Error())
		return nil, nil
	}
	q.Person = printable(p.Text(radius.UserName))
	secret, ok := s.authentic(b, p, q, client.keys)
	if !ok {
		return nil, nil
	}
	if most := s.Site.Service.Limits.QuestionsPerClient; !s.gate.rates.Allow(from.Addr(), most) {
		s.drop(q, reason.TooMany, fmt.Sprintf("more than %d questions in a second", most))
		return nil, nil
	}
	q.came = time.Now()
	r := &radiusRequest{server: s, packet: p, question: q, shared: secret, accounting: accounting,
		duplicate: guard.DuplicateOf(from, b)}
	r.at = s.gate.config.Now()
	if answer, fresh := s.port.seen.Begin(r.duplicate, r.at); !fresh {
		return nil, answer
	}
	r.from = printable(p.Text(radius.CallingStationID))
	s.arrives(&r.question, p.Text(radius.NASPortID), radiusAccess(p))
	r.From = source(r.from)
	if client.device != nil {
		r.key = s.keyName(secret)
	}
	if p.Code == radius.AccessRequest && !accounting {
		r.readCredential()
		r.warm = r.malformed == nil && r.refused == "" && s.quick(&r.question)
	}
	return r, nil
}

// quick reports whether a request is answered without a password hash.
func (r *radiusRequest) quick() bool {
	switch {
	case r.server.gate.config.Front.Waits(r.server.site.Name, r.client.Addr()):
		return false
	case r.packet.Code == radius.AccessRequest && !r.accounting:
		return r.malformed != nil || r.refused != "" || r.warm
	}
	return true
}

// finish returns the answer to send, and remembers it for when the request comes
// again.
func (r *radiusRequest) finish(answer []byte) []byte {
	r.server.port.seen.End(r.duplicate, answer)
	return answer
}

// ready waits until the decision or the record is on disk, and returns the answer to send.
func (r *radiusRequest) ready(answer []byte) []byte {
	defer r.server.took(&r.question)
	if !r.recorded {
		r.server.waitDecision(&r.question)
	} else if r.server.waitRecord(&r.question) != nil {
		answer = nil // the device sends it again
	}
	return r.finish(answer)
}

// answer returns the encoded answer, or nil where there must be none. It is
// followed by finish.
func (r *radiusRequest) answer() []byte {
	s, p := r.server, r.packet
	if why, text, stopped := s.notAnswered(&r.question); stopped {
		s.drop(r.question, why, text)
		return nil
	}
	var answer *radius.Packet
	switch {
	case p.Code == radius.StatusServer && !r.accounting: // RFC 5997, section 3
		answer = &radius.Packet{Code: radius.AccessAccept, ID: p.ID}
	case p.Code == radius.StatusServer:
		answer = &radius.Packet{Code: radius.AccountingResponse, ID: p.ID}
	case p.Code == radius.AccessRequest && !r.accounting:
		answer = r.access()
	case p.Code == radius.AccountingRequest && r.accounting:
		answer = r.record()
	default:
		s.drop(r.question, reason.WrongPort, fmt.Sprintf("%s came to the port for the other kind", p.Code))
	}
	if answer == nil {
		return nil
	}
	for _, a := range p.Attributes { // in order and unchanged, RFC 2865 section 5.33
		if a.Type == radius.ProxyState {
			answer.Attributes = append(answer.Attributes, a)
		}
	}
	encoded, err := answer.EncodeResponse(p.Authenticator, r.shared)
	if err != nil {
		s.drop(r.question, reason.Malformed, err.Error())
		encoded = nil
	}
	return encoded
}

// authentic returns the key with which a request was made. It is false when none
// of the asker's keys fits. Where nothing in the request proves a key, the first
// is taken.
func (s *server) authentic(b []byte, p *radius.Packet, q question, keys [][]byte) ([]byte, bool) {
	for _, key := range keys {
		if p.Code == radius.AccountingRequest {
			if radius.CheckAccountingRequest(b, key) {
				return key, true
			}
			continue
		}
		switch radius.CheckMessageAuthenticator(b, p.Authenticator, key) {
		case radius.Valid:
			return key, true
		case radius.Absent:
			if s.site.RequireMessageAuthenticator {
				s.drop(q, reason.NoMessageAuthenticator, "the request has no Message-Authenticator, which this "+
					"server requires")
				return nil, false
			}
			return key, true
		}
	}
	what := "the Message-Authenticator"
	if p.Code == radius.AccountingRequest {
		what = "the Accounting-Request's authenticator"
	}
	s.drop(q, reason.KeyDiffers, what+" does not verify under the key of this server")
	return nil, false
}

// readCredential finds the credential of an Access-Request, in any form.
func (r *radiusRequest) readCredential() {
	p := r.packet
	exchange, ident, response, mschap2, err := p.MSCHAP2()
	hidden, pap := p.Get(radius.UserPassword)
	chap, isCHAP := p.Get(radius.CHAPPassword)
	switch {
	case pap && isCHAP: // RFC 2865, section 4.1
		err = errors.New("the request has both User-Password and CHAP-Password (RFC 2865, section 4.1)")
	case pap:
		r.form = site.PAP
		var typed string
		typed, err = radius.RevealPassword(hidden, p.Authenticator, r.shared)
		r.given = password(typed)
	case isCHAP:
		r.form = site.CHAP
		challenge, given := p.Get(radius.CHAPChallenge)
		if !given {
			challenge = p.Authenticator[:]
		}
		r.given = computed(func(secret string) bool { return radius.CheckCHAP(chap, challenge, secret) })
	case mschap2:
		r.mschap = &exchange
		r.ident = ident
		r.form = site.MSCHAPv2
		r.given = computed(func(secret string) bool { return exchange.Check(response, secret) })
	default:
		r.refused, r.why = "the request has no User-Password, CHAP-Password or MS-CHAPv2 response", reason.PasswordForm
	}
	if service, said := p.Integer(radius.ServiceType); said && !slices.Contains(managing, service) {
		_, name := radius.Format(radius.Attribute{Type: radius.ServiceType,
			Value: binary.BigEndian.AppendUint32(nil, service)})
		r.why = reason.NotSupported
		r.refused = fmt.Sprintf("Service-Type is %s: people get in here to manage devices, and for nothing else", name)
	}
	r.malformed = err
	// an Access-Challenge; a device that cannot take one counts it as a refusal (RFC 2865, section 4.4)
	r.Prompts = true
	if state, given := p.Get(radius.State); given && r.Person != "" {
		if r.replies = tooLate; r.server.gate.challenges.Answered(state, r.Person, r.client.Addr(), r.at) {
			r.replies = toChallenge
		}
	}
}

// managing are the values of Service-Type with which a device asks for somebody who is to
// manage it (RFC 2865, section 5.6; RFC 5607, section 6.1): Login, Administrative,
// NAS-Prompt, Authenticate-Only and Framed-Management. The rights that this server gives
// are for that: who asks for a network gets none of them.
var managing = []uint32{1, 6, 7, 8, 18}

// access decides an Access-Request.
func (r *radiusRequest) access() *radius.Packet {
	s, p := r.server, r.packet
	reject := &radius.Packet{Code: radius.AccessReject, ID: p.ID}
	if errors.Is(r.malformed, radius.ErrLongPassword) { // no answer would make the device leave this server alone
		s.note(r.question, evidence.Refused, reason.WrongPassword, r.malformed.Error())
		return reject
	}
	if r.malformed != nil {
		s.drop(r.question, reason.Malformed, r.malformed.Error())
		return nil
	}
	if r.refused != "" {
		s.note(r.question, evidence.Refused, r.why, r.refused)
		return reject
	}
	d := s.decide(&r.question)
	switch {
	case d.Asks:
		challenge := &radius.Packet{Code: radius.AccessChallenge, ID: p.ID}
		challenge.AddText(radius.ReplyMessage, codePrompt)
		challenge.Add(radius.State, s.gate.challenges.Put(r.Person, r.client.Addr(), r.at))
		challenge.AddInteger(radius.SessionTimeout, uint32(guard.ChallengeLasts.Seconds()))
		return challenge
	case d.Unsure:
		return nil // no answer: the device asks another server
	case !d.Allow:
		return reject
	}
	answer := &radius.Packet{Code: radius.AccessAccept, ID: p.ID}
	answer.Attributes = append(make([]radius.Attribute, 0, 4),
		s.granted[granted{role: d.Role, platform: platformOf(r.Device)}]...)
	if r.spelled != "" { // the name that the device is to use from now on, RFC 2865 section 5.1
		answer.AddText(radius.UserName, r.Person)
	}
	if r.mschap != nil { // the server proves that it knows the password too, RFC 2548 section 2.3.3
		success := append([]byte{r.ident}, r.mschap.Success(r.question.secret)...)
		answer.Add(radius.VendorSpecific,
			radius.AppendVendor(nil, radius.VendorMSCHAP,
				radius.Attribute{Type: radius.MSCHAP2Success, Value: success}))
	}
	return answer
}

// radiusAccess tells the way in from NAS-Port-Type, "" where that says nothing.
func radiusAccess(p *radius.Packet) string {
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
	for _, c := range s { // control characters, marks of direction, what has no width
		if !unicode.IsPrint(c) {
			return fmt.Sprintf("%q", s)
		}
	}
	return s
}
