package gather

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"syscall"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
)

// Probe asks a server a few questions that change nothing: does its port take
// connections, is it alive, does it take its records' port; and, as a device, a
// login with a name that nobody has. A refusal of that one proves that key and
// address are right, without any real password. As is "" where the questions
// come from this host and not from the device.
func Probe(ctx context.Context, t aaa.Target, as string) []evidence.Probe {
	p := prober{ctx: ctx, target: t, as: as, found: nil}
	switch {
	case t.Server.TwoPorts():
		p.status(evidence.ProbeStatus, false)
		if t.Server.Serves(site.RecordSessions) {
			p.status(evidence.ProbeAccountingStatus, true)
		}
	default:
		p.reach()
	}
	if as != "" && t.Server.Protocol != site.LDAP {
		p.login()
	}
	return p.found
}

type prober struct {
	ctx    context.Context
	target aaa.Target
	as     string
	found  []evidence.Probe
}

func (p *prober) say(kind evidence.ProbeKind, result evidence.ProbeResult, format string, args ...any) {
	p.found = append(p.found, evidence.Probe{Time: time.Now(), Server: p.target.Server.Name, As: p.as, Kind: kind,
		Result: result, Text: fmt.Sprintf(format, args...)})
}

// reach opens a TCP connection and closes it again.
func (p *prober) reach() {
	ctx, cancel := context.WithTimeout(p.ctx, p.target.Server.Timeout)
	defer cancel()
	dialer := p.target.Dialer
	if dialer == nil {
		dialer = aaa.Net{}
	}
	conn, err := dialer.Dial(ctx, "tcp", p.target.From, p.target.Authentication)
	at := fmt.Sprintf("%s at %s", p.target.Server.Name, p.target.Authentication)
	var timeout net.Error
	switch {
	case err == nil:
		_ = conn.Close()
		p.say(evidence.ProbeReach, evidence.ProbeOpen, "%s takes a connection", at)
	case errors.Is(err, syscall.ECONNREFUSED):
		p.say(evidence.ProbeReach, evidence.ProbeClosed, "%s refuses a connection", at)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		p.say(evidence.ProbeReach, evidence.ProbeNoWay, "there is no way to %s", at)
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, os.ErrDeadlineExceeded),
		errors.Is(err, context.DeadlineExceeded):
		p.say(evidence.ProbeReach, evidence.ProbeSilent, "%s does not answer within %s", at, p.target.Server.Timeout)
	default:
		p.say(evidence.ProbeReach, evidence.ProbeSilent, "%s cannot be reached: %v", at, err)
	}
}

// results of replies that are no answer.
var results = map[reason.Reason]evidence.ProbeResult{reason.Silent: evidence.ProbeSilent,
	reason.Closed: evidence.ProbeClosed, reason.Unreadable: evidence.ProbeUnfit, reason.Unverified: evidence.ProbeUnfit,
	reason.Ended: evidence.ProbeEnded, reason.CutOff: evidence.ProbeEnded, reason.ServerError: evidence.ProbeError,
	reason.Late:  evidence.ProbeSilent,
	reason.NoWay: evidence.ProbeNoWay, reason.TLS: evidence.ProbeTLS}

func result(r walk.Reply) evidence.ProbeResult {
	if found, ok := results[r.Reason]; ok {
		return found
	}
	return evidence.ProbeSilent
}

// status asks a RADIUS server whether it is alive (RFC 5997).
func (p *prober) status(kind evidence.ProbeKind, accounting bool) {
	x := aaa.Status(p.ctx, p.target, aaa.Asker{Device: name(p.as)}, accounting)
	defer x.Close()
	endpoint, port := p.target.Authentication, "logins"
	if accounting {
		endpoint, port = p.target.Accounting, "records"
	}
	r := x.Try(1)
	if r.Result == walk.Accepted {
		p.say(kind, evidence.ProbeAlive, "%s says at %s, its port for %s, that it is alive", p.target.Server.Name,
			endpoint,
			port)
		return
	}
	p.say(kind, result(r), "%s at %s, its port for %s: %s", p.target.Server.Name, endpoint, port, r.Message)
}

// login asks for a login with a name that nobody has.
func (p *prober) login() {
	var b [8]byte
	_, _ = rand.Read(b[:]) // never fails: crypto/rand ends the process instead
	nobody := "nobody-" + hex.EncodeToString(b[:])
	x := aaa.Begin(p.ctx, p.target, walk.Question{Purpose: site.Login, Person: nobody},
		aaa.Asker{Device: name(p.as), Port: "probe", Password: nobody})
	defer x.Close()
	r := x.Try(1)
	switch r.Result {
	case walk.Refused:
		p.say(evidence.ProbeLogin, evidence.ProbeRefused,
			"%s refuses a name that nobody has, asked as %s: with the site's key it answers", p.target.Server.Name,
			p.as)
	case walk.Accepted:
		p.say(evidence.ProbeLogin, evidence.ProbeRefused,
			"%s lets in a name that nobody has, asked as %s: that is a fault of its own", p.target.Server.Name, p.as)
	default:
		p.say(evidence.ProbeLogin, result(r), "%s gives no answer to a name that nobody has, asked as %s: %s",
			p.target.Server.Name, p.as, r.Message)
	}
}

func name(as string) string {
	if as == "" {
		return "mellowgate"
	}
	return as
}
