package gate

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/tacacs"
)

// tacacsSession is one session. Its methods stand in the order of RFC 8907.
type tacacsSession struct {
	*tacacsConn
	server  *server // as it was when the session began
	device  *site.Device
	header  tacacs.Header
	first   received
	typed   time.Time       // when somebody had typed last; zero: nobody has
	packets <-chan received // what comes after the first; nil while the reader serves it
	warm    bool            // the password of the first packet is known to be right
}

// quick reports whether a session is answered without a password hash and without another packet, and whether
// that is so because its password is known to be right.
func (t *tacacsSession) quick() (quick, warm bool) {
	if t.server.gate.config.Front.Waits(t.server.site.Name, t.client.Addr()) {
		return false, false
	}
	q := question{asking: asking{at: t.server.gate.config.Now()}}
	switch t.first.header.Type {
	case tacacs.Authorization:
		r, err := tacacs.DecodeAuthorRequest(t.first.body)
		q.Purpose, q.Person = site.Session, printable(r.User)
		_, ask := t.server.needsDirectory(&q)
		return err != nil || !ask, false
	case tacacs.Authentication:
		start, err := tacacs.DecodeAuthenStart(t.first.body)
		q.Person, q.given = printable(start.User), password(start.Data)
		warm = err == nil && start.Type == tacacs.PAP && t.server.quick(&q)
		return err != nil || warm, warm
	}
	return true, false
}

// question begins a question of the session. It is not the connection's, whose
// reader may take a new design meanwhile.
func (t *tacacsSession) question(p site.Purpose) question {
	return t.server.question(p, t.client, asker{device: t.device, keys: t.keys})
}

// read waits for the session's next packet and checks its order, RFC 8907
// section 4.3.
func (t *tacacsSession) read() ([]byte, bool) {
	var p received
	var ok bool
	late := time.NewTimer(idle) // packets of other sessions do not make this one last longer
	defer late.Stop()
	select {
	case p, ok = <-t.packets:
	case <-late.C:
	}
	if !ok {
		return nil, false
	}
	if p.header.Sequence != t.header.Sequence+1 || p.header.Type != t.header.Type {
		t.server.drop(t.question(purposeOf(p.header.Type)), reason.Malformed,
			fmt.Sprintf("a packet out of order: sequence number %d (RFC 8907, section 4.3)", p.header.Sequence))
		return nil, false
	}
	t.header = p.header
	return p.body, true
}

// write answers with the next sequence number. The answer to a first packet
// says whether the connection is kept.
func (t *tacacsSession) write(body []byte) bool {
	packet := t.append(make([]byte, 0, 64), body)
	t.sending.Lock()
	defer t.sending.Unlock()
	_, err := t.conn.Write(packet)
	return err == nil
}

// append appends the next packet of the session.
func (t *tacacsSession) append(b, body []byte) []byte {
	t.header.Sequence++
	t.header.Flags = 0
	if t.single && t.header.Sequence == 2 {
		t.header.Flags = tacacs.FlagSingleConnect
	}
	return tacacs.AppendPacket(b, t.header, body, t.keys[0])
}

// purposeOfType is a purpose that stands for the kind of question of a packet's type.
var purposeOfType = map[tacacs.Type]site.Purpose{tacacs.Authentication: site.Login, tacacs.Authorization: site.Session,
	tacacs.Accounting: site.RecordSessions}

// unreadable notes a body that does not add up, and answers ERROR as RFC 8907
// section 4.6 asks: the same for every such body.
func (t *tacacsSession) unreadable() {
	t.server.note(t.question(purposeOf(t.header.Type)), evidence.Failed, reason.KeyDiffers, tacacs.ErrBody.Error())
	t.sayError()
}

func (t *tacacsSession) sayError() {
	switch t.header.Type {
	case tacacs.Authentication:
		t.write(tacacs.AuthenReply{Status: tacacs.AuthenError}.Append(nil))
	case tacacs.Authorization:
		t.write(tacacs.AuthorResponse{Status: tacacs.AuthorError}.Append(nil))
	default:
		t.write(tacacs.AcctReply{Status: tacacs.AcctError}.Append(nil))
	}
}

// serve answers the session, step by step.
func (t *tacacsSession) serve() {
	t.header = t.first.header
	q := t.question(purposeOfType[t.header.Type])
	if why, text, stopped := t.server.notAnswered(&q); stopped {
		t.server.note(t.question(purposeOf(t.header.Type)), evidence.Failed, why, text)
		t.sayError()
		return
	}
	var err error
	body := t.first.body
	switch t.header.Type {
	case tacacs.Authentication:
		err = t.authenticate(body)
	case tacacs.Authorization:
		err = t.authorize(body)
	default:
		err = t.account(body)
	}
	if err != nil {
		t.unreadable()
	}
}

// authenticate serves an authentication, RFC 8907 section 5: ASCII with
// prompts, and PAP. Its error is ErrBody.
func (t *tacacsSession) authenticate(body []byte) error {
	start, err := tacacs.DecodeAuthenStart(body)
	if err != nil {
		return err
	}
	q := t.question(site.Login)
	q.Person, q.from = printable(start.User), printable(start.RemoteAddress)
	t.server.arrives(&q, start.Port, "")
	q.From = source(q.from)
	if start.Service == tacacs.ServiceEnable { // elevation: the level counts, RFC 8907 section 5.4.2.6
		q.Wants = int(start.PrivLvl)
	}
	refuse := func(why string) {
		t.server.note(q, evidence.Refused, reason.PasswordForm, why)
		t.write(tacacs.AuthenReply{Status: tacacs.AuthenFail}.Append(nil))
	}
	switch {
	case start.Action != tacacs.ActionLogin:
		refuse("only logins and elevations are answered here, no change of password")
		return nil
	case start.PrivLvl > 15:
		refuse(fmt.Sprintf("level %d does not exist; levels are 0 to 15 (RFC 8907, section 9)", start.PrivLvl))
		return nil
	case start.Type == tacacs.PAP && t.header.Minor() == 1:
		q.given = password(start.Data)
		q.form = site.PAP
		q.warm = t.warm
	case start.Type == tacacs.CHAP && t.header.Minor() == 1:
		q.form = site.CHAP
		q.given = computed(func(secret string) bool { return tacacs.CheckCHAP(start.Data, secret) })
	case start.Type == tacacs.MSCHAPv2 && t.header.Minor() == 1:
		q.form = site.MSCHAPv2
		q.given = computed(func(secret string) bool { return tacacs.CheckMSCHAP2(start.User, start.Data, secret) })
	case start.Type == tacacs.ASCII && t.header.Minor() == 0:
		q.form = site.ASCII
		if start.User == "" {
			if q.Person, err = t.prompt(tacacs.AuthenGetUser, "Name: ", 0); err != nil {
				return ignoreGone(err)
			}
			q.Person = printable(q.Person)
		}
		typed, err := t.prompt(tacacs.AuthenGetPass, "Password: ", tacacs.FlagNoEcho)
		if err != nil {
			return ignoreGone(err)
		}
		q.given = password(typed)
	default:
		refuse(fmt.Sprintf("authentication type %d with minor version %d is not taken here; ASCII with 0, and PAP, "+
			"CHAP and MS-CHAPv2 with 1 are", start.Type, t.header.Minor()))
		return nil
	}
	q.Prompts = q.form == site.ASCII
	if q.Prompts && !t.renewed(&q) {
		return nil
	}
	d := t.server.decide(&q)
	if d.Asks {
		typed, err := t.prompt(tacacs.AuthenGetData, codePrompt, tacacs.FlagNoEcho)
		if err != nil {
			return ignoreGone(err)
		}
		q.given, q.replies = password(typed), toChallenge
		if !t.renewed(&q) {
			return nil
		}
		d = t.server.decide(&q)
	}
	if t.typed.After(q.came) {
		q.came = t.typed
	}
	t.server.gate.failures.Hold(t.server.gate.ctx, t.client.Addr(), q.hold)
	reply := tacacs.AuthenReply{Status: tacacs.AuthenFail}
	switch {
	case d.Allow:
		reply.Status = tacacs.AuthenPass
	case d.Unsure:
		reply.Status = tacacs.AuthenError
	}
	t.answer(&q, reply.Append(nil))
	return nil
}

// answer answers once the decision, or the record, is on disk. On a connection on which
// more waits to be read, that is when no more does.
func (t *tacacsSession) answer(q *question, body []byte) {
	if t.packets == nil && t.single {
		t.waiting = append(t.waiting, unanswered{session: t, question: *q, body: body})
		return
	}
	t.write(t.ready(q, body))
}

// unanswered is an answer that waits for the disk.
type unanswered struct {
	session  *tacacsSession
	question question
	body     []byte
}

// ready waits until a decision or a record is on disk, and returns the body of the answer.
func (t *tacacsSession) ready(q *question, body []byte) []byte {
	defer t.server.took(q)
	if !q.recorded {
		t.server.waitDecision(q)
	} else if t.server.waitRecord(q) != nil {
		return tacacs.AcctReply{Status: tacacs.AcctError}.Append(nil)
	}
	return body
}

// answerAll sends the answers that wait for the disk, in one go.
func (c *tacacsConn) answerAll() {
	if len(c.waiting) == 0 {
		return
	}
	b := make([]byte, 0, 64*len(c.waiting))
	for _, u := range c.waiting {
		b = u.session.append(b, u.session.ready(&u.question, u.body))
	}
	clear(c.waiting)
	c.waiting = c.waiting[:0]
	c.sending.Lock()
	defer c.sending.Unlock()
	_, _ = c.conn.Write(b) // the reader finds out when the client is gone
}

// renewed takes the site as it is now, after somebody has typed: they may have been
// disabled meanwhile. It is false when the device is not known any more.
func (t *tacacsSession) renewed(q *question) bool {
	s := t.server.port.server()
	if s == t.server {
		return true
	}
	who, known := s.asker(t.client.Addr())
	if !known {
		t.server.drop(*q, reason.ClientUnknown, s.nobody(t.client.Addr()))
		t.sayError()
		return false
	}
	t.server = s
	t.device = who.device
	q.Device = who.device
	return true
}

// errGone is a client that left, or aborted, during a prompt.
var errGone = errors.New("the client left during a prompt")

func ignoreGone(err error) error {
	if errors.Is(err, errGone) {
		return nil
	}
	return err
}

// prompt asks for one value and reads it, RFC 8907 sections 5.2 and 5.3.
func (t *tacacsSession) prompt(status tacacs.AuthenStatus, text string, flags byte) (string, error) {
	if !t.write(tacacs.AuthenReply{Status: status, Flags: flags, Message: text}.Append(nil)) {
		return "", errGone
	}
	body, ok := t.read()
	if !ok {
		return "", errGone
	}
	t.typed = time.Now()
	answer, err := tacacs.DecodeAuthenContinue(body)
	if err != nil {
		return "", err
	}
	if answer.Flags&tacacs.FlagAbort != 0 {
		return "", errGone
	}
	return answer.Message, nil
}

// authorize serves the authorization of a session or of a command, RFC 8907
// section 6. Its error is ErrBody.
func (t *tacacsSession) authorize(body []byte) error {
	r, err := tacacs.DecodeAuthorRequest(body)
	if err != nil {
		return err
	}
	args := arguments(r.Args)
	q := t.of(r, args)
	q.Purpose = site.Session
	if len(args.args) > 0 {
		q.Purpose = site.Commands
		q.Line = args.command
		q.Args = args.args
	}
	if args.values["service"] != "shell" {
		t.server.note(q, evidence.Refused, reason.NotSupported,
			fmt.Sprintf("the service %q is not known here; shell is", args.values["service"]))
		t.write(tacacs.AuthorResponse{Status: tacacs.AuthorFail}.Append(nil))
		return nil
	}
	q.Unproven = slices.Contains(provesNobody, r.Method)
	d := t.server.decide(&q)
	response := tacacs.AuthorResponse{Status: tacacs.AuthorFail}
	if d.Unsure {
		response.Status = tacacs.AuthorError
	}
	if d.Allow {
		response.Status = tacacs.AuthorPassAdd
		for _, a := range rights.Attributes(site.TACACS, q.Purpose, d, platformOf(q.Device)) {
			mark := "="
			if a.Optional {
				mark = "*"
			}
			response.Args = append(response.Args, a.Name+mark+a.Value)
		}
	}
	t.answer(&q, response.Append(nil))
	return nil
}

func (t *tacacsSession) of(r tacacs.AuthorRequest, args parsed) question {
	q := t.question(site.Session)
	q.Person = printable(r.User)
	q.from = printable(r.RemoteAddress)
	q.level = int(min(r.PrivLvl, 15))
	t.server.arrives(&q, r.Port, "")
	q.From = source(q.from)
	if n, err := strconv.Atoi(args.values["priv-lvl"]); err == nil && n >= 0 && n <= 15 {
		q.level = n
	}
	return q
}

// parsed is the arguments of a request: the command line, and the others by
// name.
type parsed struct {
	args    []string // the command and its arguments, as they were sent; empty for a session
	command string   // the same, to be shown
	values  map[string]string
}

func arguments(args []string) parsed {
	p := parsed{values: map[string]string{}}
	for _, a := range args {
		name, value, _ := tacacs.Arg(a)
		switch name {
		case "cmd":
			if value != "" {
				p.args = append(p.args, value)
			}
		case "cmd-arg":
			p.args = append(p.args, value)
		default:
			p.values[name] = value
		}
	}
	if len(p.args) == 1 { // a record has the whole line in one
		p.command = printable(strings.TrimSuffix(p.args[0], " <cr>"))
		return p
	}
	p.command = printable(rights.JoinArgs(rights.Ended(p.args)))
	return p
}

// provesNobody are the ways to let somebody in that do not prove who that is: nothing,
// or a password that many share (RFC 8907, section 6.1).
var provesNobody = []tacacs.Method{tacacs.MethodNotSet, tacacs.MethodNone, tacacs.MethodLine, tacacs.MethodEnable,
	tacacs.MethodGuest}
