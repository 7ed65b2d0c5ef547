package watch

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Login is one login as it came.
type Login struct {
	Time                   time.Time
	Device, Person, Access string
	// Outcome is that of the device where it noted the login, else the answer of the
	// server.
	Outcome string
	Failed  bool   // not in
	Trouble bool   // in, and something went wrong on the way
	Cause   string // of what went wrong, "" where it is not known
	Why     string // the cause in a sentence; else what let in
	Verdict diagnose.Verdict
}

// LoginOf returns what a verdict says of a login.
func LoginOf(v diagnose.Verdict) Login {
	s := v.Story
	l := Login{Time: s.Time, Device: s.Device, Person: cmp.Or(s.Person, "somebody"), Access: s.Access, Verdict: v}
	bad := !v.Healthy && !v.Unseen
	if s.Login != nil {
		l.Outcome = string(s.Login.Outcome)
		if s.Login.Outcome == walk.OutcomeIn {
			l.Why = fmt.Sprintf("level %d, by %s after %.1f s", s.Login.Level, s.Login.By, s.Login.Seconds)
		}
	}
	decided := decision(s.Events)
	if decided != nil {
		l.Outcome = cmp.Or(l.Outcome, string(decided.Answer))
		if l.Why == "" && decided.Answer == evidence.Accepted {
			l.Why = "by " + decided.Server
			if decided.Level != nil {
				l.Why = fmt.Sprintf("level %d, by %s", *decided.Level, decided.Server)
			}
		}
		if !bad && decided.Place != "" {
			l.Why = strings.TrimPrefix(l.Why+", "+decided.Place, ", ")
		}
	}
	if l.Outcome == "" {
		l.Outcome = string(walk.OutcomeNoAnswer)
	}
	in := l.Outcome == string(walk.OutcomeIn) || l.Outcome == string(evidence.Accepted)
	l.Failed, l.Trouble = bad && !in, bad && in
	if bad && len(v.Causes) > 0 {
		l.Cause, l.Why = v.Causes[0].Cause, v.Causes[0].Says
	}
	return l
}

// decision is the event by which a server decided on a login, nil where there is none.
// The newest one with a place in the site says most.
func decision(events []evidence.Event) *evidence.Event {
	var last *evidence.Event
	for i, e := range events {
		if e.Question != site.AskLogin && e.Question != site.AskSession {
			continue
		}
		if e.Answer == evidence.Accepted || e.Answer == evidence.Refused || e.Answer == evidence.Failed ||
			e.Answer == evidence.Dropped {
			if last == nil || e.Place != "" || last.Place == "" {
				last = &events[i]
			}
		}
	}
	return last
}

// Device is one device with logins that failed, or with trouble.
type Device struct {
	Name            string
	Failed, Trouble int // of the last quarter of an hour
	Last            Login
}

// Filter chooses logins. The zero value chooses all.
type Filter struct {
	Text  string // in any of the words of a login, upper and lower case alike
	Wrong bool   // only those that failed, or had trouble
}

func (f Filter) fits(l Login) bool {
	if f.Wrong && !l.Failed && !l.Trouble {
		return false
	}
	words := strings.ToLower(strings.Join([]string{l.Device, l.Person, l.Access, l.Outcome, l.Cause, l.Why}, " "))
	return strings.Contains(words, strings.ToLower(f.Text))
}
