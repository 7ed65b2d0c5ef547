package listen

import (
	"container/list"
	"net/netip"
	"time"

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
}

// Datagram takes a UDP payload; what is no RADIUS of a known port is passed over.
func (l *Listener) Datagram(at time.Time, from, to netip.AddrPort, b []byte) {
	l.expire(at)
	if p, ok := l.directory.at(to); ok && p.protocol == "radius" && !p.tls {
		l.request(at, from, to, p, b)
		return
	}
	if p, ok := l.directory.at(from); ok && p.protocol == "radius" && !p.tls {
		l.response(at, to, from, p, b)
	}
}

func (l *Listener) request(at time.Time, client, server netip.AddrPort, p port, b []byte) {
	packet, err := radius.Decode(append([]byte(nil), b...))
	if err != nil {
		e := l.directory.exchange(at, client, server, p)
		e.Answer = "unreadable"
		e.remark("the request is malformed: " + err.Error())
		l.emit(*e)
		return
	}
	key := pairKey{client, server, packet.ID}
	if before, ok := l.pairs.waiting[key]; ok {
		if before.request.Authenticator == packet.Authenticator {
			before.e.Retransmissions++
			return
		}
		before.e.remark("its identifier was used again before an answer")
		l.finish(before)
	}
	e := l.directory.exchange(at, client, server, p)
	e.Person, e.Question = packet.Text(radius.UserName), questionOf(packet)
	e.Request = l.attributes(packet)
	l.judgeRequest(e, p, packet, b)
	w := &pending{key: key, e: e, request: packet}
	w.place = l.pairs.order.PushBack(w)
	l.pairs.waiting[key] = w
	if l.pairs.order.Len() > mostPending {
		l.finish(l.pairs.order.Front().Value.(*pending))
	}
}

func questionOf(p *radius.Packet) string {
	switch p.Code {
	case radius.AccessRequest:
		return "login"
	case radius.AccountingRequest:
		return "record-sessions"
	case radius.StatusServer:
		return "status"
	}
	return p.Code.String()
}

func (l *Listener) attributes(p *radius.Packet) []NameValue {
	all := []NameValue{}
	for _, a := range p.Attributes {
		for _, n := range l.directory.words.Names(a) {
			all = append(all, NameValue{n.Name, n.Value})
		}
	}
	return all
}

// judgeRequest tells whether the server's key fits a request.
func (l *Listener) judgeRequest(e *Exchange, p port, packet *radius.Packet, b []byte) {
	key, known := l.directory.key(p)
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
		e.remark("the request was not made with the server's key")
	case radius.Absent:
		e.remark("no Message-Authenticator: the request can be forged")
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
		return // the request stays without an answer, as for the device
	}
	w, ok := l.pairs.waiting[pairKey{client, server, packet.ID}]
	if !ok {
		e := l.directory.exchange(at, client, server, p)
		e.Answer, e.Response = answerOf(packet), l.attributes(packet)
		e.remark("an answer whose request is not in the capture, or was answered before")
		l.emit(*e)
		return
	}
	if key, known := l.directory.key(p); known && !radius.CheckResponse(b, w.request.Authenticator, key) {
		w.e.remark("an answer came whose authenticator does not verify")
		w.unverified = true
		return // a device drops it, and goes on waiting
	} else if known {
		w.e.Key = KeyFits
		if w.unverified {
			w.e.remark("another one does verify: the first was forged or stale")
		}
	}
	w.e.Answer, w.e.Seconds, w.e.Response = answerOf(packet), at.Sub(w.e.Time).Seconds(), l.attributes(packet)
	l.finish(w)
}

func answerOf(p *radius.Packet) string {
	switch p.Code {
	case radius.AccessAccept:
		return "accept"
	case radius.AccessReject:
		return "refuse"
	case radius.AccessChallenge:
		return "challenge"
	case radius.AccountingResponse:
		return "recorded"
	}
	return p.Code.String()
}

func (l *Listener) finish(w *pending) {
	delete(l.pairs.waiting, w.key)
	l.pairs.order.Remove(w.place)
	if w.unverified && w.e.Answer == "none" {
		w.e.Key = KeyDiffers
	}
	if w.e.Question == "status" && w.e.Answer != "none" {
		w.e.Answer = "alive"
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
		return
	}
	for k, w := range l.pairs.waiting {
		if k.client == from && k.server == to {
			w.e.remark("ICMP says: " + why)
		}
	}
}
