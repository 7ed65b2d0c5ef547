package gate

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/live/server/ledger"
)

// question is what a listener understood of a packet.
type question struct {
	rights.Question
	came   time.Time // when it was read
	at     time.Time
	client netip.AddrPort
	typed  string // the password, for a login by PAP or prompts
	// spelled is the name as it came, where the person is known by another spelling.
	spelled string
	warm    bool // the password is known to be right
	// crowded: too much waits for the memory that a hash needs, and it was not checked.
	crowded bool
	// challenged: what is given answers the question for a one-time code; late:
	// it would, and there is no such question.
	challenged, late bool
	matched          string // for a proof, what it proves
	// proves, for CHAP and MS-CHAPv2, tells whether a password is the one
	// that the asker proves to know.
	proves  func(password string) bool
	key     string        // the name of the key that was used, while it is being changed
	guess   *guard.Guess  // of the password while it is judged; nil: it is none
	hold    time.Duration // how long the refusal is held back
	form    string        // of the password: ascii, pap, chap or mschapv2
	from    string        // where the person comes from
	level   int
	session string
	kind    ledger.Kind // of a record
	detail  string      // of a record: what the device adds
	// hindrance is what a lab puts in the way of the answer.
	hindrance Hindrance
	ago       time.Duration // how long ago a record happened
	// written is the record, of the decision or of what a device reports (recorded), which is
	// on disk before there is an answer; failed says why that was not even begun.
	written  ledger.Written
	recorded bool
	failed   error
}

// decide answers a login, a session or a command, and notes it.
func (s *server) decide(q *question) rights.Decision {
	g := s.gate
	if spelling := s.spelling(q); spelling != nil {
		return s.settle(q, *spelling)
	}
	if len(s.site.Forms) > 0 && q.form != "" && !slices.Contains(s.site.Forms, q.form) {
		return s.refuseForm(q)
	}
	looked, failure := "", error(nil)
	switch {
	case q.Purpose == site.Login && !s.judges(q):
		return s.settle(q, rights.Decision{Reason: reason.WrongPassword,
			Text: fmt.Sprintf("more passwords were tried for this name than the %d a second that are judged; this "+
				"one was not",
				guard.MostGuesses)})
	case s.outside(q):
		looked, failure = s.lookUp(context.WithoutCancel(g.ctx), q)
	case q.Purpose == site.Login:
		q.Credential = s.credential(q)
	}
	q.at = g.config.Now() // a password hash takes its time
	d := rights.Decide(s.Site, q.Question, q.at)
	if fromDirectory(s.Site, q, failure) {
		d = rights.Decision{Reason: reason.UnknownPerson, Text: "the directory knows nobody called " + q.Person}
	}
	switch {
	case q.crowded:
		d = rights.Decision{Unsure: true, Reason: reason.TooMany,
			Text: "so many passwords wait to be checked that this one was not: limits: {hash-memory:} bounds them"}
	case d.Reason != reason.UnknownPerson:
	case failure != nil && q.Purpose == site.Login && !g.confirmed.Has(q.Person) &&
		!errors.Is(failure, ldap.ErrSpelling):
		// No answer would make the device leave this server alone: nobody may bring that about by typing a name. Who
		// asks
		// for rights is in already, perhaps by an account of the device, and is not to lose them for a directory.
		d.Text += "; " + looked + "; no directory has ever had the name, so it is refused although one is away"
	case failure != nil:
		d = unsure(failure, looked)
	default:
		like := rights.LikeName(s.Site, q.Person)
		if d.Text += like; looked != "" {
			d.Text += "; looked in " + looked
			if like == "" {
				d.Reason = reason.NoEntry
			}
		}
	}
	return s.settle(q, d)
}

// fromDirectory reports whether the site limits a person whom no directory had, or
// none could be asked about.
func fromDirectory(s *site.Site, q *question, failure error) bool {
	p := s.Person(q.Person)
	return p != nil && p.FromDirectory && (q.Known == nil || failure != nil)
}

// judges reports whether the password of a login is to be checked at all: so many
// guesses for a name are, and no more.
func (s *server) judges(q *question) bool {
	if person := s.Site.Person(q.Person); q.challenged || q.warm ||
		person != nil && q.proves == nil && s.verified.Knows(person, q.typed, q.at) {
		return true
	}
	fresh := !s.gate.failures.Failed(s.source(q), q.at)
	q.guess = s.gate.guesses.Allow(site.FoldedName(q.Person), q.typed, q.client.Addr().String(), fresh, q.at)
	return q.guess != nil
}

// source is where a login comes from, as the device says, else the device.
func (s *server) source(q *question) string {
	if q.From.IsValid() {
		return q.From.String()
	}
	return q.client.Addr().String()
}

// spelling refuses a name that is another spelling of one of the site, or puts
// the site's name in its place where the site says so. It is nil where the name
// is no such spelling.
func (s *server) spelling(q *question) *rights.Decision {
	p := s.Site.Spelled(q.Person)
	if p == nil || p.Name == q.Person {
		return nil
	}
	if s.Site.Service.FoldNames && strings.TrimSpace(q.Person) == q.Person {
		q.spelled, q.Person = q.Person, p.Name
		return nil
	}
	return &rights.Decision{Reason: reason.NameSpelling, Place: p.Place,
		Text: fmt.Sprintf("the name is a spelling of %s, and names count as they are written here", p.Name)}
}

// settle notes a decision: as an event, and in the ledger.
func (s *server) settle(q *question, d rights.Decision) rights.Decision {
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
	e.Answer, e.Reason, e.Text, e.Place, e.Rule = evidence.Refused, d.Reason, d.Text, s.Site.Where(d.Place), d.Rule
	switch {
	case d.Allow:
		e.Answer, e.Level, e.Returned = evidence.Accepted, &d.Role.Level, s.goesBack(q, d)
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
	e.Answer, e.Reason, e.Text, e.Place = evidence.Refused, d.Reason, d.Text, s.Site.Where(d.Place)
	s.gate.config.Events(e)
	s.keepDecision(q, d, e)
	return d
}

// credential checks a password, or the proof of one. An unknown name costs as
// much time as a wrong password.
func (s *server) credential(q *question) rights.Credential {
	person := s.Site.Person(q.Person)
	if person != nil && person.OneTime != nil {
		if q.late {
			return rights.LateCode
		}
		return s.withCode(q, person, func(typed string) bool { return s.passwordIs(q, person.Password, typed) })
	}
	if q.proves != nil {
		return s.proven(q, person)
	}
	if q.warm || person != nil && s.verified.Knows(person, q.typed, q.at) {
		return rights.Right
	}
	if s.judgedOnce(q, person) && person != nil {
		return rights.Right
	}
	if some, _, like := splitCode(q.typed); like && s.codesUsed { // as long as for those who have a code
		s.passwordIs(q, s.dummy, some)
	}
	return rights.Wrong
}

// quick reports whether a login is let in without a slow hash, by a password that
// was right not long ago. It notes what it found.
func (s *server) quick(q *question) bool {
	if s.outside(q) || q.proves != nil {
		return false
	}
	person := s.Site.Person(q.Person)
	q.warm = person != nil && person.OneTime == nil && s.verified.Knows(person, q.typed, q.at)
	return q.warm
}

// proven checks a proof, for which the password itself must be known.
func (s *server) proven(q *question, person *site.Person) rights.Credential {
	if person == nil {
		q.proves("no password at all")
		return rights.Wrong
	}
	if person.Password.Key == nil {
		return rights.Uncheckable
	}
	value, known := s.Keys[person.Password.Key.Name]
	if known && q.proves(value.Reveal()) {
		q.matched = value.Reveal()
		return rights.Right
	}
	return rights.Wrong
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

// safe waits until the record of a decision is on disk. What could not be written is
// said by the ledger's owner, and tried again.
func (s *server) safe(q *question) {
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

// keep begins to write an accounting record to the ledger. Only after kept has returned
// nil may it be answered.
func (s *server) keep(q *question) {
	r := s.record(*q)
	r.Result, r.Kind, r.Reason, r.Time = evidence.Recorded, q.kind, q.detail, r.Time.Add(-q.ago)
	q.written, q.failed = s.gate.config.Ledger.Begin(r)
	q.recorded = true
}

// kept waits until a record is safe on disk.
func (s *server) kept(q *question) error {
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
		e.Answer, e.Reason, e.Text = evidence.Failed, reason.RecordNotKept, err.Error()
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

// asks returns the word for a question: an elevation is asked as a login that wants
// a level (RFC 8907, section 5.4.2.6).
func (q *question) asks() site.Question {
	if q.Purpose == site.Login && q.Wants > 0 {
		return site.Elevation.Question()
	}
	return q.Purpose.Question()
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
	e.Answer, e.Reason, e.Text = answer, why, text
	s.gate.config.Events(e)
}

// arrives notes the port by which a person comes, as the device names it, and the
// way in that it is; else is the way in where the name says none. A name that
// says nothing, and would shut people out of grants, is told once for each kind.
func (s *server) arrives(q *question, port, otherwise string) {
	var names site.PortNames
	if q.Device != nil {
		names = q.Device.Kind.Traits.PortNames
	}
	q.Port = printable(port)
	if q.Access = names.Access(port); q.Access == "" {
		q.Access = otherwise
	}
	if q.Access != "" || port == "" || q.Device == nil || s.gate.config.Say == nil ||
		!slices.ContainsFunc(s.Site.Grants, func(g *site.Grant) bool { return len(g.Through) > 0 }) {
		return
	}
	stem := strings.Map(func(c rune) rune {
		if c >= '0' && c <= '9' {
			return -1
		}
		return c
	}, q.Port)
	stem = strings.TrimRight(stem, " /.:-")
	if kind := q.Device.Kind.Name; s.gate.unnamed.First(kind + " " + stem) {
		s.gate.config.Say(fmt.Sprintf("%s names the port of a login %q, which says no way in: grants with through "+
			"hold for it nowhere; say which way in it is: port-names: {ssh: [%q]} in the traits of the kind %s",
			q.Device.Name,
			q.Port, stem,
			kind))
	}
}

// source reads where a person comes from, as a device says it.
func source(text string) netip.Addr {
	a, _ := netip.ParseAddr(text)
	return a.Unmap().WithZone("")
}

// floods are the reasons of which there can be very many from one asker.
var floods = map[reason.Reason]bool{reason.ClientUnknown: true, reason.Malformed: true, reason.KeyDiffers: true,
	reason.NoMessageAuthenticator: true, reason.TooMany: true, reason.TLS: true, reason.WrongPort: true,
	reason.CannotTake: true, reason.PasswordForm: true, reason.NotSupported: true, reason.DecisionNotKept: true}

// guesses are the refusals by which somebody who guesses learns something.
var guesses = map[reason.Reason]bool{reason.WrongPassword: true, reason.UnknownPerson: true, reason.SecondFactor: true,
	reason.NoEntry: true, reason.NameSpelling: true}

// heldFor counts a login that failed, and returns how long its refusal is to be
// held back: never for longer than half of what the device waits, so that no
// device takes the server for silent.
func (s *server) heldFor(q *question, d rights.Decision) time.Duration {
	if q.guess != nil {
		q.guess.Ends(d.Allow || !guesses[d.Reason])
		q.guess = nil
	}
	switch {
	case d.Allow:
		s.gate.failures.Forget(site.FoldedName(q.Person))
		return 0
	case !guesses[d.Reason]:
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
