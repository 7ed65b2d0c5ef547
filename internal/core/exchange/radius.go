package exchange

import (
	"cmp"
	"container/list"
	"fmt"
	"hash/maphash"
	"net/netip"
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
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
	asks       askedKey
	last       time.Time // of the last transmission
}

// askedKey is what two requests have in common that ask the same: a device that
// gives up a server asks the next one the same, or this one with another identifier.
type askedKey struct {
	client   netip.Addr
	question site.Question
	content  uint64
}

// early is an answer that stands in the capture before its question: two queues of
// a host may give their packets to the capture in another order.
type early struct {
	at             time.Time
	client, server netip.AddrPort
	port           port
	octets         []byte
}

// answeredOnce is an answer that was given, and to which question.
type answeredOnce struct {
	at              time.Time
	request, answer [16]byte // authenticators
	e               Exchange // without what it carried
	again           int      // how often the question came again after it
}

const (
	mostPending = 1 << 16
	longestWait = 30 * time.Second // after which a request, as it was last sent, has no answer
)

// radiusPairs pairs RADIUS packets in bounded memory.
type radiusPairs struct {
	waiting map[pairKey]*pending
	order   *list.List
	// answered are the last answers.
	answered map[pairKey]*answeredOnce
	asking   map[askedKey]*pending // what was asked last, and is not answered
	early    []early
}

// earlyBy is how long before its question an answer may stand in a capture.
const earlyBy = 50 * time.Millisecond

// mostEarly bounds the answers that wait for their questions.
const mostEarly = 64

// mostAnswered bounds what is remembered of answers.
const mostAnswered = 1 << 13

// repeats reports whether an answer is one that was given before.
func (l *Listener) repeats(k pairKey, p *radius.Packet) bool {
	before, ok := l.pairs.answered[k]
	return ok && before.answer == p.Authenticator
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
func (l *Listener) Datagram(moment time.Time, from, to netip.AddrPort, b []byte, cut bool) {
	l.expire(moment)
	if cut {
		l.cut(moment, from, to)
		return
	}
	if p, ok := l.directory.at(to); ok && p.protocol == site.RADIUS && !p.tls {
		l.request(moment, from, to, p, b)
		return
	}
	if p, ok := l.directory.host(to); ok && isRequest(b) { // RADIUS at a port that is not for it
		l.request(moment, from, to, p, b)
		return
	}
	if w := l.askedElsewhere(to, from, b); w != nil {
		l.fromElsewhere(w, from, b)
		return
	}
	if p, ok := l.directory.at(from); ok && p.protocol == site.RADIUS && !p.tls {
		l.response(moment, to, from, p, b)
	}
}

// cut takes a packet that the capture keeps in part only: that it was sent is all
// that can be said.
func (l *Listener) cut(moment time.Time, from, to netip.AddrPort) {
	p, ok := l.directory.at(to)
	if !ok || p.protocol != site.RADIUS || p.tls {
		return
	}
	e := l.directory.exchange(moment, from, to, p)
	e.Question, e.Answer = site.AskLogin, evidence.Unreadable
	mark(e, evidence.MarkCut, "the capture keeps only a part of each packet: capture whole packets (-s 0)")
	l.emit(*e)
}

// askedElsewhere finds the request of a client that an answer from a place where
// nobody was asked may be for.
func (l *Listener) askedElsewhere(client, from netip.AddrPort, b []byte) *pending {
	if len(b) < 20 {
		return nil
	}
	if _, asked := l.pairs.waiting[pairKey{client: client, server: from, id: b[1]}]; asked {
		return nil
	}
	for n, at := 0, l.pairs.order.Back(); at != nil && n < mostEarly; n, at = n+1, at.Prev() {
		w := at.Value.(*pending)
		if w.key.client == client && w.key.id == b[1] && w.key.server != from {
			return w
		}
	}
	return nil
}

// fromElsewhere notes an answer from another place than the one that was asked. A
// device drops it, whoever made it.
func (l *Listener) fromElsewhere(w *pending, from netip.AddrPort, b []byte) {
	packet, err := radius.Decode(append([]byte(nil), b...))
	if err != nil || packet.Code == radius.AccessRequest || packet.Code == radius.AccountingRequest {
		return
	}
	p, _ := l.directory.at(w.key.server)
	text := fmt.Sprintf("an answer came from %s, and %s was asked: the device drops it", from, w.key.server)
	if key, known := l.directory.key(p, w.key.client.Addr()); known {
		if radius.CheckResponse(b, w.request.Authenticator, key) {
			text += "; it was made with the right key, so the server sends from another of its addresses"
		} else {
			mark(w.e, evidence.MarkForged, text+"; it was not made with the right key")
			return
		}
	}
	mark(w.e, evidence.MarkElsewhere, text)
}

func (l *Listener) request(moment time.Time, client, server netip.AddrPort, p port, b []byte) {
	packet, err := radius.Decode(append([]byte(nil), b...))
	if err != nil {
		e := l.directory.exchange(moment, client, server, p)
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
			before.last = moment // it is waited for from then on
			l.pairs.order.MoveToBack(before.place)
			return
		}
		mark(before.e, evidence.MarkReused, "its identifier was used again before an answer")
		l.finish(before)
	}
	if l.askedAfterAnswer(moment, key, packet) {
		return
	}
	e := l.directory.exchange(moment, client, server, p)
	e.Person, e.Question = packet.Text(radius.UserName), questionOf(packet)
	if e.Protocol = string(site.RADIUS); p.protocol != site.RADIUS || p.server != nil &&
		p.server.Protocol != site.RADIUS {
		mark(e, evidence.MarkMixed, "RADIUS, and "+p.server.Name+" speaks "+string(p.server.Protocol))
	} else {
		l.directory.stranger(e, client, p)
	}
	e.Request, e.Form = l.attributes(packet), formOf(packet)
	if p.protocol == site.RADIUS {
		l.judgeRequest(e, p, packet, b)
	}
	w := &pending{key: key, e: e, request: packet, last: moment, asks: asks(client.Addr(), e.Question, packet)}
	w.place = l.pairs.order.PushBack(w)
	l.pairs.waiting[key] = w
	l.superseded(w)
	l.pairEarly(w)
	if l.pairs.order.Len() > mostPending {
		l.finish(l.pairs.order.Front().Value.(*pending))
	}
}

// formOf returns in which form a question carries a password, "" for none.
func formOf(p *radius.Packet) string {
	if _, has := p.Get(radius.CHAPPassword); has {
		return site.CHAP
	}
	if _, _, _, has, err := p.MSCHAP2(); has && err == nil {
		return site.MSCHAPv2
	}
	if _, has := p.Get(radius.UserPassword); has {
		return site.PAP
	}
	return ""
}

// askedAfterAnswer notes a request that came again after its answer: the device
// did not hear that one.
func (l *Listener) askedAfterAnswer(moment time.Time, key pairKey, packet *radius.Packet) bool {
	before, ok := l.pairs.answered[key]
	if !ok || before.request != packet.Authenticator || moment.Sub(before.at) > longestWait {
		return false
	}
	if before.again++; moment.Sub(before.at) < crossed {
		return true
	}
	again := before.e
	again.Time = moment.UTC()
	again.Marks = nil
	again.Remarks = []string{}
	again.Says = map[evidence.Mark]string{}
	mark(&again, evidence.MarkUnheard,
		fmt.Sprintf("the question came again %.1f s after its answer had left: that one did not reach the device",
			moment.Sub(before.at).Seconds()))
	l.emit(again)
	return true
}

// crossed is within what time of an answer a request that is sent again may have
// crossed it on the way.
const crossed = 300 * time.Millisecond

// asks is what a request asks, whatever its identifier and the octets that are new
// in each one.
func asks(client netip.Addr, q site.Question, p *radius.Packet) askedKey {
	var content maphash.Hash
	content.SetSeed(seed)
	for _, a := range p.Attributes {
		switch a.Type {
		case radius.UserPassword, radius.MessageAuthenticator, radius.CHAPPassword, radius.CHAPChallenge,
			radius.AcctDelayTime, radius.ProxyState, radius.EventTimestamp:
			continue
		}
		_ = content.WriteByte(byte(a.Type))
		_, _ = content.Write(a.Value)
	}
	return askedKey{client: client, question: q, content: content.Sum64()}
}

var seed = maphash.MakeSeed()

// superseded marks a request that a newer one asks again: whoever asked has given
// it up, and an answer to it comes too late.
func (l *Listener) superseded(w *pending) {
	if w.e.Question == site.AskStatus {
		return
	}
	if before, ok := l.pairs.asking[w.asks]; ok && w.e.Time.Sub(before.e.Time) > soonest {
		mark(before.e, evidence.MarkAskedAgain, fmt.Sprintf(
			"after %.1f s without an answer the same was asked anew, of %s",
			w.e.Time.Sub(before.e.Time).Seconds(), w.e.AskedOf()))
	}
	l.pairs.asking[w.asks] = w
}

// soonest is after how long a device may give a question up. What is asked twice
// sooner are two logins.
const soonest = 20 * time.Millisecond

// pairEarly gives a request the answer that stood before it.
func (l *Listener) pairEarly(w *pending) {
	for i, a := range l.pairs.early {
		if a.client == w.key.client && a.server == w.key.server && a.octets[1] == w.key.id {
			l.pairs.early = slices.Delete(l.pairs.early, i, i+1)
			l.response(w.e.Time, a.client, a.server, a.port, a.octets)
			return
		}
	}
}

// tooEarly gives up on questions for answers that came before them.
func (l *Listener) tooEarly(now time.Time) {
	for len(l.pairs.early) > 0 && (now.IsZero() || now.Sub(l.pairs.early[0].at) > earlyBy) {
		a := l.pairs.early[0]
		l.pairs.early = l.pairs.early[1:]
		packet, err := radius.Decode(append([]byte(nil), a.octets...))
		if err != nil {
			continue
		}
		e := l.directory.exchange(a.at, a.client, a.server, a.port)
		e.Answer, e.Response = answerOf(packet), l.attributes(packet)
		remark(e, "an answer whose request is not in the capture, or was answered before")
		if _, before := l.pairs.answered[pairKey{client: a.client, server: a.server, id: packet.ID}]; before {
			mark(e, evidence.MarkStray, "its request had another answer before")
		}
		l.emit(*e)
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
		e.KeyUsed = l.keyUsed(p, netip.MustParseAddrPort(e.Client).Addr(), func(key []byte) bool {
			if packet.Code == radius.AccountingRequest {
				return radius.CheckAccountingRequest(b, key)
			}
			return radius.CheckMessageAuthenticator(b, packet.Authenticator, key) == radius.Valid
		})
		remark(e, withKey("the request was not made with the server's key", e.KeyUsed))
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

// withKey adds to a remark which key it was, where that was found out.
func withKey(text, used string) string {
	if used == "" {
		return text
	}
	return text + ", but with " + used
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

func (l *Listener) response(moment time.Time, client, server netip.AddrPort, p port, b []byte) {
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
		if len(l.pairs.early) >= mostEarly {
			l.tooEarly(time.Time{})
		}
		l.pairs.early = append(l.pairs.early, early{at: moment, client: client, server: server, port: p,
			octets: append([]byte(nil), b...)})
		return
	}
	if key, known := l.directory.key(p, client.Addr()); known &&
		!radius.CheckResponse(b, w.request.Authenticator, key) {
		used := l.keyUsed(p, client.Addr(),
			func(key []byte) bool { return radius.CheckResponse(b, w.request.Authenticator, key) })
		mark(w.e, evidence.MarkUnverified, withKey("an answer came that was not made with the key of the site", used))
		w.unverified, w.e.AnswerKey, w.e.KeyUsed = true, KeyDiffers, cmp.Or(used, w.e.KeyUsed)
		return // a device drops it, and goes on waiting
	} else if known {
		if w.e.AnswerKey = KeyFits; w.e.Key == KeyUnknown {
			w.e.Key = KeyFits
		}
		if p.server != nil && p.server.RequireMessageAuthenticator && packet.Code != radius.AccountingResponse &&
			radius.CheckMessageAuthenticator(b, w.request.Authenticator, key) == radius.Absent {
			mark(w.e, evidence.MarkUnsigned, "an answer came without a Message-Authenticator, which the site "+
				"requires: the device drops it")
			return
		}
		if w.unverified {
			mark(w.e, evidence.MarkForged, "another one does verify: the first was forged or stale")
		}
	}
	if w.e.Has(evidence.MarkAskedAgain) {
		mark(w.e, evidence.MarkLate, fmt.Sprintf("the answer came after %.1f s, when the same had been asked anew",
			moment.Sub(w.e.Time).Seconds()))
	} else if patience := waitOf(p); patience > 0 && moment.Sub(w.e.Time) > patience {
		mark(w.e, evidence.MarkLate, fmt.Sprintf("the answer came after %.1f s, and its timeout in the site is %.1f s",
			moment.Sub(w.e.Time).Seconds(), patience.Seconds()))
	}
	if len(l.pairs.answered) >= mostAnswered {
		clear(l.pairs.answered)
	}
	w.e.Answer, w.e.Seconds, w.e.Response = answerOf(packet), moment.Sub(w.e.Time).Seconds(), l.attributes(packet)
	bare := *w.e
	bare.Request, bare.Response = []NameValue{}, []NameValue{}
	l.pairs.answered[w.key] = &answeredOnce{at: moment, request: w.request.Authenticator, answer: packet.Authenticator,
		e: bare}
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
	if l.pairs.asking[w.asks] == w {
		delete(l.pairs.asking, w.asks)
	}
	if w.e.Question == site.AskStatus && w.e.Answer != evidence.None {
		w.e.Answer = evidence.Alive
	}
	l.emit(*w.e)
}

// expire ends the requests that have waited too long.
func (l *Listener) expire(now time.Time) {
	l.tooEarly(now)
	for front := l.pairs.order.Front(); front != nil; front = l.pairs.order.Front() {
		w := front.Value.(*pending)
		if now.Sub(w.last) < longestWait {
			return
		}
		l.finish(w)
	}
}
