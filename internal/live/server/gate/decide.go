package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/server/guard"
)

// decide answers a login, a session or a command, and notes it. The order of its steps is that of the rules: the
// name, the form of the proof, whether it is judged, who that is and whether the proof is right, what they may.
func (s *server) decide(q *question) rights.Decision {
	claimed, wrongly := s.spelling(q.claim)
	if q.claim = claimed; wrongly != nil {
		return s.conclude(q, *wrongly)
	}
	if !s.takes(q.form) {
		return s.refuseForm(q)
	}
	admitted, judged := s.admit(q)
	if q.admission = admitted; !judged {
		return s.conclude(q, tooManyGuesses)
	}
	looked := s.identify(q)
	q.Known = looked.known
	q.Credential = looked.credential
	q.Code = looked.code
	q.secret = looked.secret
	if looked.name != "" {
		q.spelled, q.Person = q.Person, looked.name
	}
	q.crowded = q.crowded || looked.crowded
	q.at = s.gate.config.Now() // a password hash takes its time
	if q.crowded {
		return s.conclude(q, crowded)
	}
	return s.conclude(q, s.within(q, looked, rights.Decide(s.Site, q.Question, q.at)))
}

var tooManyGuesses = rights.Decision{Reason: reason.WrongPassword,
	Text: fmt.Sprintf("more passwords were tried for this name than the %d a second that are judged; this one was not",
		guard.MostGuesses)}

var crowded = rights.Decision{Unsure: true, Reason: reason.TooMany,
	Text: "so many passwords wait to be checked that this one was not: limits: {hash-memory:} bounds them"}

// takes reports whether the server takes passwords in a form; "" is that of a question without one.
func (s *server) takes(form string) bool {
	return len(s.site.Forms) == 0 || form == "" || slices.Contains(s.site.Forms, form)
}

// identity is who somebody turned out to be, and what their proof is worth.
type identity struct {
	checked
	known   *site.Person // as a directory has them; nil: the site alone
	name    string       // that the directory has, "" where none was found there
	crowded bool         // the proof was not checked
	looked  string       // where it was looked, "" for nowhere
	failure error        // no directory that could know the person answered
}

// identify finds out who asks, in a directory or here, and checks what they gave for proof.
func (s *server) identify(q *question) identity {
	known, ask := s.needsDirectory(q)
	switch {
	case ask:
		return s.lookUp(context.WithoutCancel(s.gate.ctx), q)
	case q.Purpose == site.Login:
		found, tooFull := s.credential(q)
		return identity{checked: found, known: known, crowded: tooFull}
	}
	return identity{known: known, checked: checked{credential: q.Credential, code: q.Code}}
}

// within gives a decision about somebody whom nobody knows its reason, by what directories said.
func (s *server) within(q *question, looked identity, d rights.Decision) rights.Decision {
	if fromDirectory(s.Site, q, looked.failure) {
		d = rights.Decision{Reason: reason.UnknownPerson, Text: "the directory knows nobody called " + q.Person}
	}
	if d.Reason != reason.UnknownPerson {
		return d
	}
	if looked.failure == nil {
		like := rights.LikeName(s.Site, q.Person)
		if d.Text += like; looked.looked != "" {
			d.Text += "; looked in " + looked.looked
			if like == "" {
				d.Reason = reason.NoEntry
			}
		}
		return d
	}
	if q.Purpose == site.Login && !s.gate.confirmed.Has(q.Person) && !errors.Is(looked.failure, ldap.ErrSpelling) {
		// No answer would make the device leave this server alone: nobody may bring that about by typing a name.
		// Who asks for rights is in already, perhaps by an account of the device, and is not to lose them for a
		// directory.
		d.Text += "; " + looked.looked + "; no directory has ever had the name, so it is refused although one is away"
		return d
	}
	return unsure(looked.failure, looked.looked)
}

// fromDirectory reports whether the site limits a person whom no directory had, or
// none could be asked about.
func fromDirectory(s *site.Site, q *question, failure error) bool {
	p := s.Person(q.Person)
	return p != nil && p.FromDirectory && (q.Known == nil || failure != nil)
}

// admit returns how the proof of a login is judged; false where it is not: so many guesses for a name are, and no
// more. Whatever needs no judging is admitted.
func (s *server) admit(q *question) (admission, bool) {
	a := q.admission
	if q.Purpose != site.Login || q.replies == toChallenge || a.warm {
		return a, true
	}
	if a.warm = s.remembered(q); a.warm {
		return a, true
	}
	fresh := !s.gate.failures.Failed(s.source(q), q.at)
	a.guess = s.gate.guesses.Allow(site.FoldedName(q.Person), q.typed(), q.client.Addr().String(), fresh, q.at)
	return a, a.guess != nil
}

// remembered reports whether the password that was typed was right for the person not long ago, so that no slow
// hash is needed.
func (s *server) remembered(q *question) bool {
	person := s.Site.Person(q.Person)
	return person != nil && !q.hidden() && s.verified.Knows(person, q.typed(), q.at)
}

// quick reports whether a login is let in without a slow hash, by a password that was right not long ago, and
// without asking anybody else.
func (s *server) quick(q *question) bool {
	_, ask := s.needsDirectory(q)
	person := s.Site.Person(q.Person)
	return !ask && person != nil && person.OneTime == nil && s.remembered(q)
}

// credential checks what was given for proof. An unknown name costs as much time as a wrong password. It is not
// checked where too many wait for that.
func (s *server) credential(q *question) (found checked, crowded bool) {
	person := s.Site.Person(q.Person)
	switch {
	case person != nil && person.OneTime != nil && q.replies == tooLate:
		return checked{credential: rights.LateCode}, false
	case person != nil && person.OneTime != nil:
		found = s.withCode(q, person, func(typed string) bool {
			ok, tooFull := s.passwordIs(q, person.Password, typed)
			crowded = crowded || tooFull
			return ok
		})
		return found, crowded
	case q.hidden():
		return s.proven(q, person), false
	case q.warm:
		return checked{credential: rights.Right}, false
	}
	is, crowded := s.judgedOnce(q, person)
	if is && person != nil {
		return checked{credential: rights.Right}, crowded
	}
	if some, _, like := splitCode(q.typed()); like && s.codesUsed { // as long as for those who have a code
		_, tooFull := s.passwordIs(q, s.dummy, some)
		crowded = crowded || tooFull
	}
	return checked{credential: rights.Wrong}, crowded
}

// proven checks a proof that cannot be read, for which the password itself must be known.
func (s *server) proven(q *question, person *site.Person) checked {
	if person == nil {
		q.matches("no password at all")
		return checked{credential: rights.Wrong}
	}
	if person.Password.Key == nil {
		return checked{credential: rights.Uncheckable}
	}
	value, known := s.Keys[person.Password.Key.Name]
	if known && q.matches(value.Reveal()) {
		return checked{credential: rights.Right, secret: value.Reveal()}
	}
	return checked{credential: rights.Wrong}
}
