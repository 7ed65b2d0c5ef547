package rights

import (
	"fmt"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// CodeStep is how long a one-time code is the newest (RFC 6238, section 4).
const CodeStep = 30 * time.Second

// Code is what checking a one-time code found.
type Code struct {
	Found bool // it is a code of the person, for some time not far from now
	Taken bool // it is accepted
	Used  bool // it, or a newer one, was taken before
	Lost  bool // it fits, and could not be noted as used
	Tired bool // so many were wrong that none is looked at for a while
	// Steps is how far the clock that made it is from the server's, in steps of
	// CodeStep: below 0 behind it, above 0 ahead of it.
	Steps int
}

// drift says how far the clocks are apart, "" where they agree.
func (c Code) drift() string {
	if c.Steps == 0 {
		return ""
	}
	side := "ahead of"
	if c.Steps < 0 {
		side = "behind"
	}
	return fmt.Sprintf("; the clock that made the one-time code is about %s %s the server's",
		time.Duration(max(c.Steps, -c.Steps))*CodeStep, side)
}

// secondFactor decides what a one-time code decides. It is false where that is
// nothing.
func secondFactor(p *site.Person, q Question) (Decision, bool) {
	if q.Purpose != site.Login {
		return Decision{}, false
	}
	switch q.Credential {
	case CodeWanted:
		if q.Prompts {
			return Decision{Asks: true, Reason: reason.CodeAsked, Place: p.Place,
				Text: "the password of " + p.Name + " is right; the one-time code is asked for"}, true
		}
		return refuse(reason.SecondFactor, p.Place,
			"the password of %s is right, and the one-time code is missing; this device sends passwords in a form "+
				"that cannot be asked for more, so type the code right after the password", p.Name), true
	case LateCode:
		return refuse(reason.SecondFactor, p.Place,
			"the answer of %s is for a question that is not open here: it came too late, a second time, or was put "+
				"by another server", p.Name), true
	case WrongCode:
		why := "the one-time code is wrong"
		switch {
		case q.Code.Tired:
			why = "five one-time codes were wrong within ten minutes, so none is looked at until these are over; " +
				"then use a new one"
		case q.Code.Used:
			why = "the one-time code, or a newer one, was used before; wait for the next"
		case q.Code.Lost:
			why = "the one-time code could not be noted as used, and so was not taken; look at the disk of the server"
		case q.Code.Found:
			why = "the one-time code is one of another time" + q.Code.drift() + "; set that clock, or this server's"
		}
		return refuse(reason.SecondFactor, p.Place, "the password of %s is right: %s", p.Name, why), true
	}
	return Decision{}, false
}
