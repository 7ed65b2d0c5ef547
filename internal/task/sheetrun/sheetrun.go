// Package sheetrun tries the logins of a change sheet, one after another, and notes on the
// sheet what was seen: those with every server up first, and last those of the outage. It
// knows nothing of how a device is reached, or of how its servers are taken away.
package sheetrun

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/sheet"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
)

// Config is how a sheet is tried. Every function is needed, but Outage.
type Config struct {
	Sheet *sheet.Sheet
	// Attempt returns the login to make for a test; why says why it cannot be tried, "" where
	// it can.
	Attempt func(t sheet.Test) (a login.Attempt, why string, err error)
	// Do makes the login.
	Do func(context.Context, login.Attempt) (login.Seen, error)
	// Fits compares what was seen with what is foreseen.
	Fits func(foresee.Case, login.Seen) bool
	// Outage takes every server of the device away, and gives them back. nil: the outage is
	// not tried.
	Outage func(ctx context.Context, dark bool) error
	// Noted is called after each test, with what was seen of it on the sheet.
	Noted func(t sheet.Test) error
	Now   func() time.Time
}

// Report is what came of it.
type Report struct {
	Tried, Matched int
	Before         int      // were seen as foreseen by an earlier run
	Untried        []string // why others were not tried, each once
	Differs        *sheet.Test
}

// ErrDiffers is a login that came out otherwise: nothing after it was tried.
var ErrDiffers = errors.New("a login came out otherwise than the sheet says")

// Run tries every login of the sheet that no earlier run has seen as foreseen, up to the
// first that comes out otherwise; then the error is ErrDiffers.
func Run(ctx context.Context, c Config) (r Report, err error) {
	if err := c.stage(ctx, &r, false); err != nil {
		return r, err
	}
	if !c.left(true) {
		return r, c.stage(ctx, &r, true) // all of it was seen before
	}
	if c.Outage == nil {
		r.untried("the outage")
		return r, nil
	}
	if err := c.Outage(ctx, true); err != nil {
		return r, err
	}
	err = c.stage(ctx, &r, true)
	return r, cmp.Or(err, c.Outage(context.WithoutCancel(ctx), false))
}

// tests calls do for the tests of a stage that are not seen as foreseen yet, until it
// returns an error.
func (c Config) tests(dark bool, do func(*sheet.Test) error) error {
	for i := range c.Sheet.Sections {
		for j := range c.Sheet.Sections[i].Tests {
			if t := &c.Sheet.Sections[i].Tests[j]; t.Dark == dark {
				if err := do(t); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// left reports whether a stage has tests that are not seen as foreseen.
func (c Config) left(dark bool) bool {
	return c.tests(dark, func(t *sheet.Test) error {
		if t.Seen.OK {
			return nil
		}
		return ErrDiffers
	}) != nil
}

func (c Config) stage(ctx context.Context, r *Report, dark bool) error {
	return c.tests(dark, func(t *sheet.Test) error {
		if t.Seen.OK {
			r.Before++
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return c.one(ctx, r, t)
	})
}

func (c Config) one(ctx context.Context, r *Report, t *sheet.Test) error {
	a, why, err := c.Attempt(*t)
	switch {
	case err != nil:
		return err
	case why != "":
		r.untried(why)
		return nil
	}
	seen, err := c.Do(ctx, a)
	if err != nil {
		return err
	}
	r.Tried++
	t.Seen = sheet.Seen{At: c.Now(), OK: c.Fits(t.Case, seen), Text: text(seen)}
	if err := c.Noted(*t); err != nil {
		return err
	}
	if !t.Seen.OK {
		r.Differs = t
		return ErrDiffers
	}
	r.Matched++
	return nil
}

func (r *Report) untried(why string) {
	for _, have := range r.Untried {
		if have == why {
			return
		}
	}
	r.Untried = append(r.Untried, why)
}

// text puts what was seen into the words of a sheet.
func text(s login.Seen) string {
	text := string(s.Outcome)
	if s.Outcome == walk.OutcomeIn {
		if s.Level != login.UnknownLevel {
			text += fmt.Sprintf(", level %d", s.Level)
		}
		if s.Raised > s.Level {
			text += fmt.Sprintf(", level %d after an elevation", s.Raised)
		}
		if s.PromptChanged {
			text += ", another prompt after an elevation"
		}
	}
	text += fmt.Sprintf(", after %.1f s", s.Took.Seconds())
	if s.Detail != "" {
		text += " (" + s.Detail + ")"
	}
	return text
}
