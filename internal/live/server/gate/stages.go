package gate

import (
	"crypto/subtle"
	"net/netip"
	"time"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/live/server/ledger"
)

// question is one question on its way from a packet to its answer. Each stage of it has a type of its own, in
// the order in which they are filled: who asks, what is claimed, by what that is proven, whether the proof is
// judged at all, and what came of it; or, of a record, what is reported.
type question struct {
	asking
	claim
	presented
	admission
	outcome
	report
}

// asking is what is known before anything is read: who asks, when, and with which key. It never changes, but
// for at, which is the time of the newest thing that is known of the question.
type asking struct {
	client netip.AddrPort
	came   time.Time // when it was read
	at     time.Time
	key    string // the name of the key that was used, while it is being changed
}

// claim is who somebody says to be, from where, by what, and what they want.
type claim struct {
	rights.Question
	spelled string // the name as it came, where the person is known by another spelling
	from    string // where the person comes from, as the device says it
	level   int
	session string
}

// presented is by what a claim is proven.
type presented struct {
	form  string // ascii, pap, chap or mschapv2; "" where nothing is to be proven
	given proof  // nil where nothing came
	// replies says whether what is given answers the question for a one-time code.
	replies reply
}

// reply tells what is given at first from what is given when asked for more.
type reply int

const (
	toNothing   reply = iota
	toChallenge       // it answers the question for a one-time code
	tooLate           // it would, and there is no such question any more
)

// proof is what somebody gave: a password as it was typed, or what was computed from one.
type proof interface {
	// is reports whether a secret, such as a password or a code, is what was given. It takes the same time
	// whichever secret it is compared with.
	is(secret string) bool
	// text returns what was typed; false where only what was computed from it came.
	text() (string, bool)
}

// password is what was typed, by PAP (RFC 2865, section 5.2; RFC 8907, section 5.4.2.2) or at prompts.
type password string

func (p password) is(secret string) bool { return same(string(p), secret) }

func (p password) text() (string, bool) { return string(p), true }

// computed is a proof by CHAP or MS-CHAPv2: it can be compared with a secret that is known, and not read.
type computed func(secret string) bool

func (c computed) is(secret string) bool { return c(secret) }

func (c computed) text() (string, bool) { return "", false }

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// typed returns what was typed, "" where nothing that can be read came.
func (p *presented) typed() string {
	if p.given == nil {
		return ""
	}
	text, _ := p.given.text()
	return text
}

// matches reports whether a secret is what was given; nothing is, where nothing was.
func (p *presented) matches(secret string) bool { return p.given != nil && p.given.is(secret) }

// hidden reports whether what was given cannot be read, and only be compared with what is known.
func (p *presented) hidden() bool {
	if p.given == nil {
		return false
	}
	_, readable := p.given.text()
	return !readable
}

// admission is whether a proof is judged, and at what cost.
type admission struct {
	warm  bool         // the password is known to be right
	guess *guard.Guess // of the password while it is judged; nil: it is none
	// crowded: too much waits for the memory that a hash needs, and it was not checked.
	crowded bool
}

// checked is what checking a proof gave.
type checked struct {
	credential rights.Credential
	code       rights.Code
	secret     string // that a hidden proof was found to be of; with it the server proves itself (RFC 2548)
}

// outcome is what came of a question.
type outcome struct {
	hold   time.Duration // how long a refusal is held back
	secret string        // as of checked
	// written is the record, of the decision or of what a device reports (recorded), which is on disk before
	// there is an answer; failed says why that was not even begun.
	written  ledger.Written
	recorded bool
	failed   error
}

// report is what a device says that somebody did.
type report struct {
	kind   ledger.Kind
	detail string        // what the device adds
	ago    time.Duration // how long ago it happened
}

// asks returns the word for a question: an elevation is asked as a login that wants a level (RFC 8907, section
// 5.4.2.6).
func (q *question) asks() site.Question {
	if q.Purpose == site.Login && q.Wants > 0 {
		return site.Elevation.Question()
	}
	return q.Purpose.Question()
}
