package aaa

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/mschap"
	"mellowgate/internal/wire/tacacs"
)

// tacacsExchange is one TACACS+ session on a connection of its own.
type tacacsExchange struct {
	ctx    context.Context
	target Target
	q      walk.Question
	asker  Asker
	conn   net.Conn
}

// unsecured is the reply of a try that ended in the TLS handshake.
func unsecured(err error, began time.Time) walk.Reply {
	if isTimeout(err) {
		return lost(reason.Silent, "no answer in the TLS handshake", began)
	}
	return lost(reason.TLS, err.Error(), began)
}

// patient gives every read of a connection the server's wait anew.
type patient struct {
	net.Conn
	wait time.Duration
	had  *int // octets that came
}

func (p patient) Read(b []byte) (int, error) {
	n, err := p.Conn.Read(b)
	*p.had += n
	return n, err
}

func (p patient) Write(b []byte) (int, error) {
	if err := p.SetDeadline(time.Now().Add(p.wait)); err != nil {
		return 0, err
	}
	return p.Conn.Write(b)
}

// Try connects, asks, and reads the answer.
func (e *tacacsExchange) Try(int) walk.Reply {
	began := time.Now()
	ctx, cancel := context.WithTimeout(e.ctx, e.target.patient().Timeout)
	defer cancel()
	conn, err := e.target.Dialer.Dial(ctx, "tcp", e.target.From, e.target.Authentication)
	if err != nil {
		r, m := failure(err)
		return lost(r, m, began)
	}
	if conn, err = e.target.secure(ctx, conn); err != nil {
		return unsecured(err, began)
	}
	e.conn = conn
	stop := routine.OnDone(e.ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	key := []byte(e.target.Key.Reveal())
	if e.target.Server.Secured() {
		key = nil
	}
	had := 0
	client := &tacacs.Client{Conn: patient{Conn: conn, wait: e.target.patient().Timeout, had: &had}, Key: key}
	reply, err := e.ask(client)
	switch {
	case err == nil:
		reply.Took = time.Since(began)
		return reply
	case errors.Is(err, tacacs.ErrBody), errors.Is(err, tacacs.ErrClear):
		return lost(reason.Unreadable, "an answer came that this key does not open", began)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET),
		errors.Is(err, syscall.EPIPE):
		return lost(ended(had), endedText(err, had), began)
	case errors.Is(err, tacacs.ErrHeader):
		return lost(reason.ServerError, err.Error(), began)
	}
	if r, m := failure(err); isNetwork(err) {
		return lost(r, m, began)
	}
	return lost(reason.ServerError, err.Error(), began) // it could not even be asked
}

// ended tells a connection that ended before an answer from one that ended in the
// middle of a talk. Why, the device cannot know.
func ended(had int) reason.Reason {
	if had > 0 {
		return reason.CutOff
	}
	return reason.Ended
}

func endedText(err error, had int) string {
	how := "closed"
	if errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) {
		how = "reset"
	}
	if had > 0 {
		return fmt.Sprintf("the connection was %s after %d octets of answers, before the last one", how, had)
	}
	return "the connection was " + how + " without an answer"
}

func (e *tacacsExchange) ask(c *tacacs.Client) (walk.Reply, error) {
	switch e.q.Purpose {
	case site.Login, site.Elevation:
		reply, err := e.authenticate(c)
		return authenticated(reply), err
	case site.Session, site.Commands:
		r := e.request()
		if err := fits(r); err != nil {
			return walk.Reply{}, err
		}
		response, err := c.Authorize(r)
		return authorized(response), err
	}
	flags := byte(tacacs.AcctStop)
	switch {
	case e.q.Update:
		flags = tacacs.AcctWatchdog
	case e.q.Start:
		flags = tacacs.AcctStart
	}
	r := e.record()
	if err := fits(r); err != nil {
		return walk.Reply{}, err
	}
	reply, err := c.Account(tacacs.AcctRequest{Flags: flags, AuthorRequest: r})
	if err == nil && reply.Status != tacacs.AcctSuccess {
		return walk.Reply{Result: walk.Unavailable, Reason: reason.ServerError, Message: reply.Message,
			Answer: walk.SaidError}, nil
	}
	return walk.Reply{Result: walk.Accepted, Message: reply.Message, Answer: walk.SaidRecorded}, err
}

// fits refuses what the packet could only carry in part: a server must never
// decide about half a command.
func fits(r tacacs.AuthorRequest) error {
	if len(r.Args) > 255 {
		return errors.New("the command has more than 253 words, which TACACS+ cannot carry (RFC 8907, section 6.1)")
	}
	for _, a := range r.Args {
		if len(a) > 255 {
			return errors.New("a word of the command has more than 247 octets, which TACACS+ cannot carry (RFC " +
				"8907, section 6.1)")
		}
	}
	return nil
}

// authenticate logs in with the password in its form.
func (e *tacacsExchange) authenticate(c *tacacs.Client) (tacacs.AuthenReply, error) {
	start := tacacs.AuthenStart{PrivLvl: 1, Service: tacacs.ServiceLogin, User: e.q.Person, Port: e.asker.Port,
		RemoteAddress: e.asker.From}
	if e.asker.Elevate > 0 {
		start.Service, start.PrivLvl = tacacs.ServiceEnable, byte(min(e.asker.Elevate, 15))
	}
	var random [33]byte
	if _, err := rand.Read(random[:]); err != nil {
		return tacacs.AuthenReply{}, err
	}
	switch e.asker.Form {
	case site.PAP:
		return c.Authenticate(start, tacacs.PAP, e.asker.Password)
	case site.CHAP:
		return c.Authenticate(start, tacacs.CHAP, tacacs.CHAPData(random[32], random[:16], e.asker.Password))
	case site.MSCHAPv2:
		x := mschap.Exchange{User: e.q.Person, AuthenticatorChallenge: [16]byte(random[:16]),
			PeerChallenge: [16]byte(random[16:32])}
		return c.Authenticate(start, tacacs.MSCHAPv2, tacacs.MSCHAP2Data(random[32], x, e.asker.Password))
	}
	return c.AuthenticateASCII(start, e.asker.Password, e.asker.Code)
}

// authenticated puts an authentication's end into a reply. FOLLOW counts as
// FAIL, and so does a prompt that a device cannot answer.
func authenticated(r tacacs.AuthenReply) walk.Reply {
	switch r.Status {
	case tacacs.AuthenPass:
		return walk.Reply{Result: walk.Accepted, Message: r.Message, Answer: walk.SaidPass}
	case tacacs.AuthenError, tacacs.AuthenRestart:
		return walk.Reply{Result: walk.Unavailable, Reason: reason.ServerError, Message: r.Message,
			Answer: walk.SaidError}
	case tacacs.AuthenGetData:
		return walk.Reply{Result: walk.Refused, Reason: reason.RefusedByServer, Message: r.Message,
			Answer: walk.SaidChallenge}
	}
	return walk.Reply{Result: walk.Refused, Reason: reason.RefusedByServer, Message: r.Message, Answer: walk.SaidFail}
}

func authorized(r tacacs.AuthorResponse) walk.Reply {
	switch r.Status {
	case tacacs.AuthorPassAdd, tacacs.AuthorPassRepl:
		reply := walk.Reply{Result: walk.Accepted, Message: r.Message, Answer: walk.SaidPass}
		for _, arg := range r.Args {
			name, value, mandatory := tacacs.Arg(arg)
			reply.Attributes = append(reply.Attributes,
				rights.Attribute{Name: name, Value: value, Optional: !mandatory})
		}
		return reply
	case tacacs.AuthorError:
		return walk.Reply{Result: walk.Unavailable, Reason: reason.ServerError, Message: r.Message,
			Answer: walk.SaidError}
	}
	return walk.Reply{Result: walk.Refused, Reason: reason.RefusedByServer, Message: r.Message, Answer: walk.SaidFail}
}

// request builds the authorization of a session, or of one command.
func (e *tacacsExchange) request() tacacs.AuthorRequest {
	r := e.common()
	r.Args = []string{"service=shell", "cmd="}
	if e.q.Purpose == site.Commands {
		words, _ := rights.SplitLine(e.q.Line)
		r.Args[1] = "cmd=" + words[0]
		for _, w := range words[1:] {
			r.Args = append(r.Args, "cmd-arg="+w)
		}
	}
	return r
}

// record builds the arguments of an accounting record, RFC 8907 section 8.3.
func (e *tacacsExchange) record() tacacs.AuthorRequest {
	r := e.common()
	r.Args = []string{"task_id=" + e.asker.Session, "timezone=UTC", "service=shell",
		fmt.Sprintf("priv-lvl=%d", e.q.Level)}
	now := fmt.Sprint(time.Now().Unix())
	if e.q.Purpose == site.RecordCommands {
		r.Args = append(r.Args, "cmd="+strings.Join(strings.Fields(e.q.Line), " "))
	}
	if e.q.Purpose == site.RecordSystem { // RFC 8907, section 8.3
		how := "stop"
		if e.q.Start {
			how = "start"
		}
		r.Args = []string{"task_id=" + e.asker.Session, "timezone=UTC", "service=system", "event=sys_acct", "reason=" +
			how}
	}
	switch {
	case e.q.Start:
		r.Args = append(r.Args, "start_time="+now)
	case e.q.Purpose == site.RecordSessions:
		r.Args = append(r.Args, "stop_time="+now, fmt.Sprintf("elapsed_time=%d", int(e.q.Elapsed.Seconds())))
	default:
		r.Args = append(r.Args, "stop_time="+now)
	}
	return r
}

func (e *tacacsExchange) common() tacacs.AuthorRequest {
	method := map[site.MethodKind]tacacs.Method{site.ByGroup: tacacs.MethodTACACS, site.ByLocal: tacacs.MethodLocal,
		site.ByNone: tacacs.MethodNone, site.BySecret: tacacs.MethodLine}[e.q.Method]
	return tacacs.AuthorRequest{Method: method, PrivLvl: byte(e.q.Level), Type: tacacs.ASCII,
		Service: tacacs.ServiceLogin,
		User:    e.q.Person, Port: e.asker.Port, RemoteAddress: e.asker.From}
}

// Close ends the exchange.
func (e *tacacsExchange) Close() {
	if e.conn != nil {
		_ = e.conn.Close()
	}
}
