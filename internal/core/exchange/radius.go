package exchange

import (
	"container/list"
	"fmt"
	"net/netip"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
)

// pairKey is what a request and its answer have in common.
type pairKey struct {
	client, server netip.AddrPort
	id             byte
}

// pending is a RADIUS request that waits for its answer.
type pending struct {
	key     pairKey
	e       *Exchange
	request *radius.Packet
	place   *list.Element
	// unverified: an answer came that the server's key did not make.
	unverified bool
}

const (
	mostPending = 1 << 16
	longestWait = 30 * time.Second // after which a request has no answer
)

// radiusPairs pairs RADIUS packets in bounded memory.
type radiusPairs struct {
	waiting map[pairKey]*pending
	order   *list.List
	// answered are the authenticators of the last answers.
	answered map[pairKey][16]byte
}

// mostAnswered bounds what is remembered of answers.
const mostAnswered = 1 << 14

// repeats reports whether an answer is one that was given before.
func (l *Listener) repeats(k pairKey, p *radius.Packet) bool {
	before, ok := l.pairs.answered[k]
	return ok && before == p.Authenticator
}

// waitOf is how long an asker waits for a server in all, 0 where that is not known.
func waitOf(p port) time.Duration {
	if p.server == nil {
		return 0
	}
	return p.server.Timeout * time.Duration(max(1, p.server.Attempts))
}

// isRequest reports whether octets are a RADIUS request.
func isRequest(b []byte) bool {
	if len(b) < 20 || radius.Code(b[0]) != radius.AccessRequest && radius.Code(b[0]) != radius.AccountingRequest {
		return false
	}
	_, err := radius.Decode(b)
	return err == nil
}

// Datagram takes a UDP payload; what is no RADIUS of a known port is passed over.
func (l *Listener) Datagram(at time.Time, from, to netip.AddrPort, b []byte) {
	l.expire(at)
	if p, ok := l.directory.at(to); ok && p.protocol == site.RADIUS && !p.tls {
		l.request(at, from, to, p, b)
		return
	}
	if p, ok := l.directory.host(to); ok && isRequest(b) { // RADIUS at a port that is not for it
		l.request(at, from, to, p, b)
		return
	}
	if p, ok := l.directory.at(from); ok && p.protocol == site.RADIUS && !p.tls {
		l.response(at, to, from, p, b)
	}
}

func (l *Listener) request(at time.Time, client, server netip.AddrPort, p port, b []byte) {
	packet, err := radius.Decode(append([]byte(nil), b...))
	if err != nil {
		e := l.directory.exchange(at, client, server, p)
		if e.Answer, e.Question = evidence.Unreadable,
			site.AskLogin; len(b) > 0 && radius.Code(b[0]) == radius.AccountingRequest {
			e.Question = site.AskRecordSessions
		}
		mark(e, evidence.MarkMalformed, "the request is malformed: "+err.Error())
		l.emit(*e)
		return
	}
	key := pairKey{client: client, server: server, id: packet.ID}
	if before, ok := l.pairs.waiting[key]; ok {
		if before.request.Authenticator == packet.Authenticator {
			before.e.Retransmissions++
			return
		}
		mark(before.e, evidence.MarkReused, "its identifier was used again before an answer")
		l.finish(before)
	}
	e := l.directory.exchange(at, client, server, p)
	e.Person, e.Question = packet.Text(radius.UserName), questionOf(packet)
	if e.Protocol = string(site.RADIUS); p.protocol != site.RADIUS || p.server != nil && p.server.Protocol != site.RADIUS {
		mark(e, evidence.MarkMixed, "RADIUS, and "+p.server.Name+" speaks "+string(p.server.Protocol))
	} else {
		l.directory.stranger(e, client, p)
	}
	e.Request = l.attributes(packet)
	if p.protocol == site.RADIUS {
		l.judgeRequest(e, p, packet, b)
	}
	w := &pending{key: key, e: e, request: packet}
	w.place = l.pairs.order.PushBack(w)
	l.pairs.waiting[key] = w
	if l.pairs.order.Len() > mostPending {
		l.finish(l.pairs.order.Front().Value.(*pending))
	}
}

func questionOf(p *radius.Packet) site.Question {
	switch p.Code {
	case radius.AccessRequest:
		return site.AskLogin
	case radius.AccountingRequest:
		return site.AskRecordSessions
	case radius.StatusServer:
		return site.AskStatus
	}
	return site.Question(p.Code.String())
}

func (l *Listener) attributes(p *radius.Packet) []NameValue {
	all := []NameValue{}
	for _, a := range p.Attributes {
		for _, n := range l.directory.words.Names(a) {
			all = append(all, NameValue{Name: n.Name, Value: n.Value})
		}
	}
	return all
}

// judgeRequest reports whether the server's key fits a request.
func (l *Listener) judgeRequest(e *Exchange, p port, packet *radius.Packet, b []byte) {
	key, known := l.directory.key(p, netip.MustParseAddrPort(e.Client).Addr())
	if !known {
		return
	}
	check := radius.CheckMessageAuthenticator(b, packet.Authenticator, key)
	if packet.Code == radius.AccountingRequest {
		check = radius.Invalid
		if radius.CheckAccountingRequest(b, key) {
			check = radius.Valid
		}
	}
	switch check {
	case radius.Valid:
		e.Key = KeyFits
	case radius.Invalid:
		e.Key = KeyDiffers
		remark(e, "the request was not made with the server's key")
	case radius.Absent:
		remark(e, "no Message-Authenticator: the request can be forged")
		if hidden, ok := packet.Get(radius.UserPassword); ok {
			e.Key = KeyDiffers
			if clear, err := radius.RevealPassword(hidden, packet.Authenticator, key); err == nil && isText(clear) {
				e.Key = KeyFits
			}
		}
	}
}

// isText tells a password from the noise that another key gives.
func isText(s string) bool {
	for _, c := range []byte(s) {
		if c < ' ' || c == 0x7f {
			return false
		}
	}
	return validUTF8(s)
}

func (l *Listener) response(at time.Time, client, server netip.AddrPort, p port, b []byte) {
	packet, err := radius.Decode(append([]byte(nil), b...))
	if err != nil {
		for k, w := range l.pairs.waiting { // it stays without an answer, as for the device
			if k.client == client && k.server == server && len(b) > 1 && k.id == b[1] {
				mark(w.e, evidence.MarkMalformed, "an answer came that is malformed: "+err.Error())
			}
		}
		return
	}
	w, ok := l.pairs.waiting[pairKey{client: client, server: server, id: packet.ID}]
	if !ok && l.repeats(pairKey{client: client, server: server, id: packet.ID}, packet) {
		return // to each transmission the same answer (RFC 5080, section 2.2.2)
	}
	if !ok {
		e := l.directory.exchange(at, client, server, p)
		e.Answer, e.Response = answerOf(packet), l.attributes(packet)
		remark(e, "an answer whose request is not in the capture, or was answered before")
		if _, before := l.pairs.answered[pairKey{client: client, server: server, id: packet.ID}]; before {
			mark(e, evidence.MarkStray, "its request had another answer before")
		}
		l.emit(*e)
		return
	}
	if key, known := l.directory.key(p, client.Addr()); known && !radius.CheckResponse(b, w.request.Authenticator, key) {
		mark(w.e, evidence.MarkUnverified, "an answer came whose authenticator does not verify")
		w.unverified = true
		return // a device drops it, and goes on waiting
	} else if known {
		w.e.Key = KeyFits
		if w.unverified {
			mark(w.e, evidence.MarkForged, "another one does verify: the first was forged or stale")
		}
	}
	if patience := waitOf(p); patience > 0 && at.Sub(w.e.Time) > patience {
		mark(w.e, evidence.MarkLate, fmt.Sprintf("the answer came after %.1f s, and its timeout in the site is %.1f s",
			at.Sub(w.e.Time).Seconds(), patience.Seconds()))
	}
	if len(l.pairs.answered) >= mostAnswered {
		clear(l.pairs.answered)
	}
	l.pairs.answered[w.key] = packet.Authenticator
	w.e.Answer, w.e.Seconds, w.e.Response = answerOf(packet), at.Sub(w.e.Time).Seconds(), l.attributes(packet)
	l.finish(w)
}

func answerOf(p *radius.Packet) evidence.Answer {
	switch p.Code {
	case radius.AccessAccept:
		return evidence.Accepted
	case radius.AccessReject:
		return evidence.Refused
	case radius.AccessChallenge:
		return evidence.Challenged
	case radius.AccountingResponse:
		return evidence.Recorded
	}
	return evidence.Answer(p.Code.String())
}

func (l *Listener) finish(w *pending) {
	delete(l.pairs.waiting, w.key)
	l.pairs.order.Remove(w.place)
	if w.unverified && w.e.Answer == evidence.None {
		w.e.Key = KeyDiffers
	}
	if w.e.Question == site.AskStatus && w.e.Answer != evidence.None {
		w.e.Answer = evidence.Alive
	}
	l.emit(*w.e)
}

// expire ends the requests that have waited too long.
func (l *Listener) expire(now time.Time) {
	for front := l.pairs.order.Front(); front != nil; front = l.pairs.order.Front() {
		w := front.Value.(*pending)
		if now.Sub(w.e.Time) < longestWait {
			return
		}
		l.finish(w)
	}
}

// Unreachable notes an ICMP message about a request.
func (l *Listener) Unreachable(_ time.Time, from, to netip.AddrPort, udp bool, why string) {
	if !udp {
		if why != "port unreachable" && len(l.unreached) < mostConns {
			l.unreached[capture.Conn{Client: from, Server: to}] = why
		}
		return
	}
	for k, w := range l.pairs.waiting {
		if k.client == from && k.server == to {
			word := evidence.MarkNoWay
			if why == "port unreachable" {
				word = evidence.MarkPortClosed
			}
			mark(w.e, word, "ICMP says: "+why)
		}
	}
}
