package gate

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/live/server/ledger"
)

// conclude notes a decision: as an event, and in the ledger.
func (s *server) conclude(q *question, d rights.Decision) rights.Decision {
	g := s.gate
	if q.at.IsZero() {
		q.at = g.config.Now()
	}
	if q.spelled != "" && q.spelled != q.Person {
		d.Text += fmt.Sprintf("; typed as %q", q.spelled)
	}
	if q.Purpose == site.Login {
		if q.hold = s.heldFor(q, d); q.hold > 0 {
			d.Text += fmt.Sprintf("; to be answered %s later, after so many failures", q.hold)
		}
	}
	e := s.event(*q)
	e.Answer = evidence.Refused
	e.Reason = d.Reason
	e.Text = d.Text
	e.Place = s.Site.Where(d.Place)
	e.Rule = d.Rule
	switch {
	case d.Allow:
		e.Answer = evidence.Accepted
		e.Level = &d.Role.Level
		e.Returned = s.goesBack(q, d)
	case d.Unsure:
		e.Answer = evidence.Failed
	case d.Asks:
		e.Answer = evidence.Challenged
	}
	g.config.Events(e)
	if g.config.Explain != nil {
		steps, _ := rights.Explain(s.Site, q.Question, q.at)
		g.config.Explain(s.Site, e, steps)
	}
	if !d.Asks { // the decision comes with the code
		s.keepDecision(q, d, e)
	}
	return d
}

// refuseForm refuses a password in a form that the server does not take.
func (s *server) refuseForm(q *question) rights.Decision {
	d := rights.Decision{Reason: reason.PasswordForm, Place: s.site.Place,
		Text: fmt.Sprintf("%s takes passwords as %s, and this one came as %s", s.site.Name,
			strings.Join(s.site.Forms, ", "),
			q.form)}
	more, tell := s.gate.floods.Say(q.client.Addr(), d.Reason, q.at)
	if !tell {
		return d
	}
	d.Text += more
	e := s.event(*q)
	e.Answer = evidence.Refused
	e.Reason = d.Reason
	e.Text = d.Text
	e.Place = s.Site.Where(d.Place)
	s.gate.config.Events(e)
	s.keepDecision(q, d, e)
	return d
}

// keepDecision writes a login, or a refusal, to the ledger. Its loss does not
// change the answer, but it is an event. What decided is as the event has it.
func (s *server) keepDecision(q *question, d rights.Decision, e evidence.Event) {
	r := s.record(*q)
	r.Rule, r.Returned = strings.TrimSpace(e.Place+" "+e.Rule), e.Returned
	switch {
	case q.Purpose == site.Login && q.Wants > 0:
		r.Kind = ledger.Elevation
	case q.Purpose == site.Login:
		r.Kind = ledger.Login
	case d.Allow:
		return // the record of what follows says it
	default:
		r.Kind = ledger.Decision
	}
	switch {
	case d.Allow:
		r.Result, r.Level = evidence.Accepted, d.Role.Level
		if q.Wants > 0 { // up to it, and no further
			r.Level = q.Wants
		}
	case d.Unsure: // nobody was refused
		r.Result, r.Reason = evidence.Failed, string(d.Reason)+": "+d.Text
	default:
		r.Result, r.Reason = evidence.Refused, string(d.Reason)+": "+d.Text
	}
	var err error
	if q.written, err = s.gate.config.Ledger.Note(r); err != nil {
		s.note(*q, evidence.Failed, reason.DecisionNotKept,
			"the decision could not be written to the ledger: "+err.Error())
	}
}

// took tells how long the answer to a question took.
func (s *server) took(q *question) {
	if !q.came.IsZero() {
		s.gate.config.Took(s.site.Name, q.asks(), time.Since(q.came))
	}
}

// answersAnyway is how long a decision may take to be on disk; then it is answered all
// the same, so that a disk that hangs keeps nobody out.
const answersAnyway = time.Second

// waitDecision waits until the record of a decision is on disk. What could not be written is
// said by the ledger's owner, and tried again.
func (s *server) waitDecision(q *question) {
	if q.written.Safe() {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(s.gate.ctx), answersAnyway)
	defer cancel()
	if err := q.written.Wait(ctx); errors.Is(err, context.DeadlineExceeded) || errors.Is(err, ledger.ErrSlow) {
		s.note(*q, evidence.Failed, reason.DecisionNotKept, "the decision is not on the disk yet, which is slow, "+
			"and was answered all the same")
	}
	q.written = ledger.Written{}
}

// keepsFor is how long a record may take to be safe on disk.
const keepsFor = 10 * time.Second

// beginRecord begins to write an accounting record to the ledger. Only after kept has returned
// nil may it be answered.
func (s *server) beginRecord(q *question) {
	r := s.record(*q)
	r.Result, r.Kind, r.Reason, r.Time = evidence.Recorded, q.kind, q.detail, r.Time.Add(-q.ago)
	q.written, q.failed = s.gate.config.Ledger.Begin(r)
	q.recorded = true
}

// waitRecord waits until a record is safe on disk.
func (s *server) waitRecord(q *question) error {
	// what was asked before the end is kept
	ctx, cancel := context.WithTimeout(context.WithoutCancel(s.gate.ctx), keepsFor)
	defer cancel()
	err := q.failed
	if err == nil {
		err = q.written.Wait(ctx)
	}
	q.written = ledger.Written{}
	q.at = s.gate.config.Now()
	e := s.event(*q)
	e.Answer, e.Reason = evidence.Recorded, reason.Recorded
	if err != nil {
		e.Answer = evidence.Failed
		e.Reason = reason.RecordNotKept
		e.Text = err.Error()
	}
	s.gate.config.Events(e)
	return err
}

func (s *server) record(q question) ledger.Record {
	return ledger.Record{Time: q.at, Node: s.site.Name, Person: q.Person, Device: deviceName(q.Device),
		Access: q.Access,
		From:   q.from, Level: q.level, Command: q.Line, Session: q.session, Protocol: string(s.site.Protocol)}
}

func deviceName(d *site.Device) string {
	if d == nil {
		return ""
	}
	return d.Name
}

func (s *server) event(q question) evidence.Event {
	return evidence.Event{Time: q.at, Server: s.site.Name, Protocol: s.site.Protocol, Client: clientText(q.client),
		Port: q.client.Port(), Device: deviceName(q.Device), Access: q.Access, Person: q.Person,
		Question: q.asks(), Command: q.Line,
		Key: q.key}
}

// drop notes a packet that gets no answer.
func (s *server) drop(q question, why reason.Reason, text string) {
	s.note(q, evidence.Dropped, why, text)
}

// note notes what became of a packet on which nothing was decided.
func (s *server) note(q question, answer evidence.Answer, why reason.Reason, text string) {
	if q.at.IsZero() {
		q.at = s.gate.config.Now()
	}
	if floods[why] {
		more, yes := s.gate.floods.Say(q.client.Addr(), why, q.at)
		if !yes {
			return
		}
		text += more
	}
	e := s.event(q)
	e.Answer = answer
	e.Reason = why
	e.Text = text
	s.gate.config.Events(e)
}

// floods are the reasons of which there can be very many from one asker.
var floods = map[reason.Reason]bool{reason.ClientUnknown: true, reason.Malformed: true, reason.KeyDiffers: true,
	reason.NoMessageAuthenticator: true, reason.TooMany: true, reason.TLS: true, reason.WrongPort: true,
	reason.CannotTake: true, reason.PasswordForm: true, reason.NotSupported: true, reason.DecisionNotKept: true}

// guessable are the refusals by which somebody who guesses learns something.
var guessable = map[reason.Reason]bool{reason.WrongPassword: true, reason.UnknownPerson: true,
	reason.SecondFactor: true,
	reason.NoEntry:      true, reason.NameSpelling: true}

// heldFor counts a login that failed, and returns how long its refusal is to be
// held back: never for longer than half of what the device waits, so that no
// device takes the server for silent.
func (s *server) heldFor(q *question, d rights.Decision) time.Duration {
	if q.guess != nil {
		q.guess.Ends(d.Allow || !guessable[d.Reason])
		q.guess = nil
	}
	switch {
	case d.Allow:
		s.gate.failures.Forget(site.FoldedName(q.Person))
		return 0
	case !guessable[d.Reason]:
		return 0
	}
	s.gate.config.Learned(site.FoldedName(q.Person), s.source(q), q.at)
	before := s.gate.failures.Note(site.FoldedName(q.Person), s.source(q), q.at)
	return guard.HoldFor(before, min(s.Site.Service.Limits.FailureDelay, s.site.Timeout/2))
}

// clientText returns the address that a question came from, "" where it is of
// nobody.
func clientText(from netip.AddrPort) string {
	if !from.IsValid() {
		return ""
	}
	return from.Addr().String()
}
