package foresee

import (
	"fmt"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Condition is one server in one state.
type Condition struct {
	Server *site.Server
	State  State
}

// Case is one foreseen login.
type Case struct {
	Device      *site.Device
	Way         *site.Way
	Who         Who
	SameOutcome []Who       // everybody for whom the login goes the same, Who first
	When        []Condition // the servers asked, each in one state; other servers do not matter
	Outcome     walk.Outcome
	Level       int
	By          string
	Reason      reason.Reason
	Wait        time.Duration // from the password to the prompt, at most the patience of the way in
	Needs       time.Duration // how long it would take without that
	Steps       []walk.Step
	Stuck       bool          // in, and no command works
	StuckWhy    reason.Reason // why the command did not
	Rules       []site.Rule   // the command rules that the device holds, which came with the login; nil: none
	Promised    int           // the level that the role or the account promises
	// Raised is the level after asking for level 15, where the way in has an
	// elevation list and the person is below it; else Level. RaiseWhy is why
	// it was not given.
	Raised     int
	RaiseWhy   reason.Reason
	RaiseTried bool // such an elevation was worked out
	Rests      bool // a server that gave no answer rests after the login
	// Depends says with which values of aspects that the site does not say it comes out
	// otherwise; nil until Depending looks for them.
	Depends []Depend
	// Again is the same login once more, a moment later, while servers rest.
	// It is nil where nothing rests, and when the reckoner works briefly.
	Again     *Again
	consulted []site.Aspect
}

// Again is how a second login comes out.
type Again struct {
	Outcome walk.Outcome
	Level   int
	By      string
	Reason  reason.Reason
	Wait    time.Duration
	Secret  *site.ElevationSecret // by which the login passed, nil where it did not pass by one
}

// SecretOf returns the shared secret by which the login, or the elevation, passed; nil where
// it did not pass by one. That secret is then what is typed, in place of a password.
func (c Case) SecretOf(p site.Purpose) *site.ElevationSecret { return secretOf(c.Steps, p) }

func secretOf(steps []walk.Step, p site.Purpose) *site.ElevationSecret {
	for _, step := range steps {
		if secret, ok := step.Method.Secret(); ok && step.Purpose == p && step.Result == walk.Accepted {
			return secret
		}
	}
	return nil
}

// Full reports whether the person has full rights: level 15, at once or by an
// elevation.
func (c Case) Full() bool {
	return (c.Outcome == walk.OutcomeIn || c.Outcome == walk.OutcomeLow) && c.Raised == 15
}

// Summary is a case in a few words: "in, level 15, by tern, after 2s".
func (c Case) Summary() string {
	text := string(c.Outcome)
	if c.Outcome != walk.OutcomeRefused {
		text += fmt.Sprintf(", level %d", c.Level)
		if c.Raised > c.Level {
			text += fmt.Sprintf(" (%d by elevation)", c.Raised)
		}
		if c.Stuck {
			text += ", no command works"
		}
	}
	if c.By != "" {
		text += ", by " + c.By
	} else if c.Reason != "" {
		text += ", " + string(c.Reason)
	}
	if c.Wait > 0 {
		text += ", after " + c.Wait.String()
	}
	return text
}

// Holds reports whether every condition of the case is met when the servers of
// silent are silent and all others are up.
func (c Case) Holds(silent map[*site.Server]bool) bool {
	for _, w := range c.When {
		if w.State != Up && w.State != Down || (w.State == Down) != silent[w.Server] {
			return false
		}
	}
	return true
}

// In reports whether the case is that of servers in these states; a server that
// is not named is up.
func (c Case) In(states map[*site.Server]State) bool {
	for _, w := range c.When {
		state, named := states[w.Server]
		if !named || state == NoRecords && !keepsRecords(w.Server, c.Way) {
			state = Up
		}
		if w.State != state {
			return false
		}
	}
	return true
}

// Split returns the names of the servers that are silent in the case, and of
// those that are up. Servers with another fault are in neither.
func (c Case) Split() (silent, up []string) { return c.Servers(Down), c.Servers(Up) }

// Servers returns the names of the servers that are in a state.
func (c Case) Servers(in State) []string {
	var names []string
	for _, w := range c.When {
		if w.State == in {
			names = append(names, w.Server.Name)
		}
	}
	return names
}
