package exchange

import (
	"bytes"
	"cmp"
	"container/list"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/tacacs"
)

func validUTF8(s string) bool { return utf8.ValidString(s) }

// Listener takes what a capture holds and gives exchanges. It is a
// capture.Handler.
type Listener struct {
	directory Directory
	emit      func(Exchange)
	pairs     radiusPairs
	conns     map[capture.Conn]*conversation
	unreached map[capture.Conn]unreached // what ICMP says of connections
	guesses   guesses
	people    map[string]bool             // entries that a directory gave, in lower case
	sought    map[[2]netip.Addr]time.Time // who looked for whose link address, and had no answer
}

// New makes a listener that calls emit for each exchange, when it is over.
func New(d Directory, emit func(Exchange)) *Listener {
	l := &Listener{directory: d, emit: emit, conns: map[capture.Conn]*conversation{},
		unreached: map[capture.Conn]unreached{},
		guesses:   guesses{}, people: map[string]bool{}, sought: map[[2]netip.Addr]time.Time{}}
	l.pairs.waiting = map[pairKey]*pending{}
	l.pairs.order = list.New()
	l.pairs.answered = map[pairKey]*answeredOnce{}
	l.pairs.asking = map[askedKey]*pending{}
	return l
}

// Close ends what is still waiting at the end of a capture.
func (l *Listener) Close() {
	l.tooEarly(time.Time{})
	for l.pairs.order.Len() > 0 {
		l.finish(l.pairs.order.Front().Value.(*pending))
	}
	l.neverFound()
}

// mostConns bounds the TCP connections that are followed at once; more are
// passed over.
const mostConns = 1 << 12

// mostSessions bounds the sessions without an answer on one connection.
const mostSessions = 256

// conversation is one TACACS+ connection. Octets wait in the two buffers until
// they are whole packets.
type conversation struct {
	port           port
	client, server netip.AddrPort
	buffers        [2][]byte // of the client and of the server
	sessions       map[uint32]*Exchange
	tls, joined    bool
	heard          bool
	stream         *Exchange  // of a stream that is not read: TLS, or another protocol
	records        *tlsStream // its records, while they are in clear
	ldap           *ldapTalk  // with a directory
	answered       int        // sessions that had an answer
	last           *Exchange  // the last of them
}

// Data takes octets of a TCP connection.
func (l *Listener) Data(moment time.Time, c *capture.Conn, fromClient bool, b []byte, lost bool) {
	v := l.conversation(c)
	if v == nil || len(b) == 0 {
		return
	}
	if v.port.protocol == site.LDAP {
		l.directoryData(moment, v, fromClient, b, lost)
		return
	}
	if fromClient && !v.heard {
		v.heard = true
		if v.port.tls || len(b) > 2 && b[0] == 0x16 && b[1] == 3 { // a TLS hello, RFC 8446 section 5.1
			l.unread(moment, v, b)
		} else if v.port.protocol != site.TACACS {
			v.stream = l.directory.exchange(moment, v.client, v.server, v.port)
			v.tls = true // and nothing of it is read
			v.stream.Question, v.stream.Answer = site.AskConnect, evidence.Unreadable
			mark(v.stream, evidence.MarkMixed, "a TCP connection, and "+v.port.server.Name+
				" takes RADIUS over UDP on this port")
		}
	}
	if v.tls {
		if v.records != nil {
			v.records.data(v.stream, fromClient, b, lost)
		}
		return
	}
	side := 1
	if fromClient {
		side = 0
	}
	if lost {
		v.buffers[side], v.joined = nil, true
	}
	v.buffers[side] = append(v.buffers[side], b...)
	for l.packet(moment, v, side) {
	}
}

func (l *Listener) conversation(c *capture.Conn) *conversation {
	if v, ok := l.conns[*c]; ok {
		return v
	}
	p, ok := l.directory.at(c.Server)
	if !ok || p.protocol != site.TACACS && !p.tls && (p.server == nil || p.strange) && p.protocol != site.LDAP ||
		len(l.conns) >= mostConns {
		return nil
	}
	v := &conversation{port: p, client: c.Client, server: c.Server, sessions: map[uint32]*Exchange{}}
	l.conns[*c] = v
	return v
}

// packet takes one packet from a side's octets, and reports whether there may be
// another. Where the capture joins in the middle, octets that begin no packet
// are passed over.
func (l *Listener) packet(moment time.Time, v *conversation, side int) bool {
	b := v.buffers[side]
	key, known := l.directory.key(v.port, v.client.Addr())
	h, body, err := tacacs.DecodePacket(b, key)
	switch {
	case errors.Is(err, tacacs.ErrHeader):
		v.buffers[side], v.joined = b[1:], true
		return len(b) > 1
	case errors.Is(err, tacacs.ErrClear):
		v.buffers[side] = nil
		l.unreadable(moment, v, h, evidence.MarkClearBody, "a body in clear, which section 4.5 of RFC 8907 refuses")
		return false
	case err != nil:
		return false // not whole yet
	}
	v.buffers[side] = b[12+len(body):]
	if !known {
		l.unknownKey(moment, v, h)
		return true
	}
	l.body(moment, v, h, body, side == 0)
	return true
}

// session finds the exchange of a session, or begins one.
func (l *Listener) session(moment time.Time, v *conversation, h tacacs.Header) *Exchange {
	e, ok := v.sessions[h.SessionID]
	if !ok {
		if len(v.sessions) >= mostSessions {
			for _, old := range v.sessions {
				l.emit(*old)
			}
			clear(v.sessions)
		}
		e = l.directory.exchange(moment, v.client, v.server, v.port)
		l.directory.stranger(e, v.client, v.port)
		e.Question = map[tacacs.Type]site.Question{tacacs.Authentication: site.AskLogin,
			tacacs.Authorization: site.AskSession, tacacs.Accounting: site.AskRecordSessions}[h.Type]
		if v.joined || h.Sequence != 1 {
			mark(e, evidence.MarkJoined, "the capture joins in the middle")
		}
		v.sessions[h.SessionID] = e
	}
	return e
}

func (l *Listener) unreadable(moment time.Time, v *conversation, h tacacs.Header, word evidence.Mark, why string) {
	e := l.session(moment, v, h)
	e.Answer = evidence.Unreadable
	mark(e, word, why)
	l.over(moment, v, h, e)
}

// unknownKey follows a session by its headers alone.
func (l *Listener) unknownKey(moment time.Time, v *conversation, h tacacs.Header) {
	e := l.session(moment, v, h)
	if mark(e, evidence.MarkHidden, "the key is not known: give the site"); l.directory.site != nil {
		e.Says[evidence.MarkHidden] = "the site has no key for this server, or its file is not there"
		e.Remarks = []string{e.Says[evidence.MarkHidden]}
	}
	if h.Sequence%2 == 0 && (h.Type != tacacs.Authentication || h.Sequence > 2) {
		e.Answer = evidence.Unreadable
		l.over(moment, v, h, e)
	}
}

func (l *Listener) over(moment time.Time, v *conversation, h tacacs.Header, e *Exchange) {
	e.Seconds = moment.Sub(e.Time).Seconds()
	delete(v.sessions, h.SessionID)
	v.answered, v.last = v.answered+1, e
	l.emit(*e)
}

// body reads a body by the packet's type and direction.
func (l *Listener) body(moment time.Time, v *conversation, h tacacs.Header, body []byte, request bool) {
	e := l.session(moment, v, h)
	over, err := false, error(nil)
	switch {
	case h.Type == tacacs.Authentication && h.Sequence == 1:
		err = start(e, body)
	case h.Type == tacacs.Authentication && request:
		over, err = goOn(e, body)
	case h.Type == tacacs.Authentication:
		over, err = reply(e, body)
	case h.Type == tacacs.Authorization && request:
		err = ask(e, body)
	case h.Type == tacacs.Authorization:
		over, err = respond(e, body)
	case request:
		err = record(e, body)
	default:
		over, err = recorded(e, body)
	}
	fit := &e.AnswerKey
	if request {
		fit = &e.Key
	} else if e.First == 0 {
		e.First = max(moment.Sub(e.Time).Seconds(), 1e-6)
	}
	if err != nil {
		*fit, e.Answer = KeyDiffers, evidence.Unreadable
		e.KeyUsed = cmp.Or(l.bodyKey(v, h, body, request), e.KeyUsed)
		if request {
			remark(e, withKey("the request was not made with the server's key", e.KeyUsed))
		} else {
			remark(e, withKey("the answer was not made with the key of the site", e.KeyUsed))
		}
		over = !request
	} else if *fit == KeyUnknown {
		*fit = KeyFits
	}
	if over {
		l.over(moment, v, h, e)
	}
}

// named returns what a message says of itself, as an exchange keeps it.
func named(values []tacacs.Named) []NameValue {
	out := make([]NameValue, len(values))
	for i, n := range values {
		out[i] = NameValue{Name: n.Name, Value: n.Value}
	}
	return out
}

func start(e *Exchange, body []byte) error {
	s, err := tacacs.DecodeAuthenStart(body)
	if err != nil {
		return err
	}
	e.Person = s.User
	form := map[tacacs.AuthenType]string{tacacs.ASCII: site.ASCII, tacacs.PAP: site.PAP, tacacs.CHAP: site.CHAP,
		tacacs.MSCHAPv2: site.MSCHAPv2}[s.Type]
	e.Form = form
	e.Request = append(named(s.Describe()), NameValue{Name: "form", Value: form})
	if s.Service == tacacs.ServiceEnable {
		e.Question = site.AskElevation
	}
	return nil
}

// goOn reads what was typed at a prompt. It is never shown: it may be a
// password.
func goOn(e *Exchange, body []byte) (over bool, err error) {
	c, err := tacacs.DecodeAuthenContinue(body)
	if err == nil && c.Flags&tacacs.FlagAbort != 0 {
		e.Answer = evidence.None
		mark(e, evidence.MarkAborted, "who asked ended it (ABORT): the person went away, or took too long")
		return true, nil
	}
	return false, err
}

func reply(e *Exchange, body []byte) (over bool, err error) {
	r, err := tacacs.DecodeAuthenReply(body)
	if err != nil {
		return true, err
	}
	e.Response = append(e.Response, named(r.Describe())...)
	switch r.Status {
	case tacacs.AuthenGetData, tacacs.AuthenGetUser, tacacs.AuthenGetPass:
		return false, nil
	case tacacs.AuthenPass:
		e.Answer = evidence.Accepted
	case tacacs.AuthenError, tacacs.AuthenRestart:
		e.Answer = evidence.Failed
	default:
		e.Answer = evidence.Refused
	}
	return true, nil
}

func requested(e *Exchange, r tacacs.AuthorRequest) {
	e.Person = r.User
	e.Request = named(r.Describe())
	var words []string
	for _, a := range r.Args {
		if name, value, _ := tacacs.Arg(a); (name == "cmd" || name == "cmd-arg") && value != "" {
			words = append(words, value)
		}
	}
	e.Command = strings.Join(words, " ")
}

func ask(e *Exchange, body []byte) error {
	r, err := tacacs.DecodeAuthorRequest(body)
	if err != nil {
		return err
	}
	requested(e, r)
	if e.Command != "" {
		e.Question = site.AskCommands
	}
	return nil
}

func respond(e *Exchange, body []byte) (bool, error) {
	r, err := tacacs.DecodeAuthorResponse(body)
	if err != nil {
		return true, err
	}
	e.Response = append(e.Response, named(r.Describe())...)
	e.Answer = map[tacacs.AuthorStatus]evidence.Answer{tacacs.AuthorPassAdd: evidence.Accepted,
		tacacs.AuthorPassRepl: evidence.Accepted, tacacs.AuthorError: evidence.Failed}[r.Status]
	if e.Answer == "" {
		e.Answer = evidence.Refused
	}
	return true, nil
}

func record(e *Exchange, body []byte) error {
	r, err := tacacs.DecodeAcctRequest(body)
	if err != nil {
		return err
	}
	requested(e, r.AuthorRequest)
	if e.Command != "" {
		e.Question = site.AskRecordCommands
	}
	return nil
}

func recorded(e *Exchange, body []byte) (bool, error) {
	r, err := tacacs.DecodeAcctReply(body)
	if err != nil {
		return true, err
	}
	e.Answer = evidence.Failed
	if r.Status == tacacs.AcctSuccess {
		e.Answer = evidence.Recorded
	}
	return true, nil
}

// Ended is the end of a connection.
func (l *Listener) Ended(moment time.Time, c *capture.Conn, end capture.Ending) {
	v := l.conversation(c)
	if v == nil {
		return
	}
	delete(l.conns, *c)
	said, told := l.unreached[*c]
	delete(l.unreached, *c)
	for _, e := range v.sessions {
		e.Seconds = moment.Sub(e.Time).Seconds()
		l.endSession(e, end)
		if told {
			said.mark(e, v.server.Addr())
		}
		l.emit(*e)
	}
	if v.stream != nil {
		l.endStream(moment, v, end)
	}
	if v.ldap != nil {
		l.endDirectory(moment, v, end)
	}
	if end.How == capture.Closed || end.How == capture.Unfinished {
		l.endInSilence(moment, v, end)
		return
	}
	e := l.directory.exchange(moment, v.client, v.server, v.port)
	if e.Question = site.AskDirectory; v.port.protocol != site.LDAP {
		e.Question = site.AskConnect
		l.directory.stranger(e, v.client, v.port)
	}
	switch {
	case told:
		said.mark(e, v.server.Addr())
	case end.How == capture.Refused:
		mark(e, evidence.MarkPortClosed, "the port refuses: the service does not run there")
	default:
		mark(e, evidence.MarkNoSynAck, "no answer to the first packet: the way is cut or filtered, or the host is down")
	}
	l.emit(*e)
}

// byWhom says who ended a connection, as far as a capture shows it.
func byWhom(end capture.Ending) string {
	how := "ended"
	if end.Reset {
		how = "reset"
	}
	switch end.By {
	case capture.TheClient:
		return how + " by who asked"
	case capture.TheServer:
		return how + " from the side of the server"
	}
	return how
}

// endSession marks a session that had no answer when its connection ended.
func (l *Listener) endSession(e *Exchange, end capture.Ending) {
	switch {
	case end.Cut:
		e.Answer = evidence.Unreadable
		mark(e, evidence.MarkCut, "the capture keeps only a part of each packet: capture whole packets (-s 0)")
	case end.How == capture.Unfinished && end.Lost[0] == 0:
		mark(e, evidence.MarkStillOpen, "no answer yet when the capture ends")
	case end.Lost[0] > 0 && end.Most[0] > 0 && end.Lost[0] > end.Most[0]:
		mark(e, evidence.MarkBigLost, fmt.Sprintf("segments of up to %d octets are acknowledged, and %d octets in "+
			"larger ones never: the path takes no larger packets", end.Most[0], end.Lost[0]))
	case end.Lost[0] > 0:
		mark(e, evidence.MarkUnacked, fmt.Sprintf("the connection stands, and %d octets of the question were never "+
			"acknowledged: the path or a filter loses them", end.Lost[0]))
	case len(e.Response) > 0 && end.By != capture.TheServer:
		mark(e, evidence.MarkEndedEarly, fmt.Sprintf("the connection was %s %.1f s after the first answer, which "+
			"took %.1f s",
			byWhom(end), e.Seconds-e.First, e.First))
	case len(e.Response) > 0:
		mark(e, evidence.MarkCutOff, fmt.Sprintf("after %.1f s, in the middle of the talk, the connection was %s: "+
			"the answers until then were well", e.Seconds, byWhom(end)))
	default:
		mark(e, evidence.MarkEndedEarly, "the connection was "+byWhom(end)+" before the answer")
	}
}

// endInSilence notes a connection that stood and brought nothing: no question at
// all came over it.
func (l *Listener) endInSilence(moment time.Time, v *conversation, end capture.Ending) {
	if v.stream != nil || v.port.protocol == site.LDAP || v.answered > 0 || len(v.sessions) > 0 || end.Cut ||
		v.joined ||
		len(v.buffers[0])+len(v.buffers[1]) == 0 || end.How == capture.Unfinished {
		return
	}
	e := l.directory.exchange(moment, v.client, v.server, v.port)
	l.directory.stranger(e, v.client, v.port)
	e.Question = site.AskConnect
	mark(e, evidence.MarkEndedEarly, "the connection was "+byWhom(end)+" before a whole question had come")
	l.emit(*e)
}

// bodyKey returns in words which key a body was made with.
func (l *Listener) bodyKey(v *conversation, h tacacs.Header, body []byte, request bool) string {
	key, _ := l.directory.key(v.port, v.client.Addr())
	sent := bytes.Clone(body)
	tacacs.Obfuscate(h, sent, key) // the octets as they were sent
	return l.keyUsed(v.port, v.client.Addr(), func(other []byte) bool {
		read := bytes.Clone(sent)
		tacacs.Obfuscate(h, read, other)
		return readable(h, read, request)
	})
}

// readable reports whether a body is one of its type.
func readable(h tacacs.Header, body []byte, request bool) bool {
	var err error
	switch {
	case h.Type == tacacs.Authentication && h.Sequence == 1:
		var s tacacs.AuthenStart
		if s, err = tacacs.DecodeAuthenStart(body); err == nil {
			return isText(s.User) && isText(s.Port)
		}
	case h.Type == tacacs.Authentication && request:
		_, err = tacacs.DecodeAuthenContinue(body)
	case h.Type == tacacs.Authentication:
		_, err = tacacs.DecodeAuthenReply(body)
	case h.Type == tacacs.Authorization && request:
		_, err = tacacs.DecodeAuthorRequest(body)
	case h.Type == tacacs.Authorization:
		_, err = tacacs.DecodeAuthorResponse(body)
	case request:
		_, err = tacacs.DecodeAcctRequest(body)
	default:
		_, err = tacacs.DecodeAcctReply(body)
	}
	return err == nil
}

// Neighbour takes who looks for whose link address.
func (l *Listener) Neighbour(moment time.Time, asker, asked netip.Addr, answered bool) {
	pair := [2]netip.Addr{asker, asked}
	if answered {
		delete(l.sought, pair)
		return
	}
	if _, known := l.sought[pair]; !known && len(l.sought) < mostConns && l.directory.hosts[asked] != nil {
		l.sought[pair] = moment
	}
}

// neverFound notes servers whose link address nobody told who looked for it.
func (l *Listener) neverFound() {
	for pair, moment := range l.sought {
		p, ok := l.directory.host(netip.AddrPortFrom(pair[1], 0))
		if !ok {
			continue
		}
		e := l.directory.exchange(moment, netip.AddrPortFrom(pair[0], 0), netip.AddrPortFrom(pair[1], 0), p)
		e.Question = site.AskConnect
		mark(e, evidence.MarkNoHost, fmt.Sprintf("%s looks for %s on its own network, and nobody says that it is "+
			"there: the host is down or elsewhere", pair[0], pair[1]))
		l.emit(*e)
	}
}
