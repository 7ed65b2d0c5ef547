// Package send puts a design on a device so that nobody is locked out: what is
// there is read and kept, the change runs for a time only (a confirmed commit,
// RFC 6241 section 8.4), logins from new connections prove it, and only then it
// is confirmed. When a proof fails, or this program dies, the device takes the
// change back.
package send

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/beevik/etree"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/manage"
	"mellowgate/internal/wire/netconf"
)

// Device is a session on a device, as this package uses one.
type Device interface {
	Has(capability string) bool
	Read() (manage.Held, error)
	Lock(store string) error
	Discard() error
	EditCandidate(config *etree.Element) error
	Validate() error
	CommitConfirmed(within time.Duration, persist string) error
	Commit(persist string) error
	Cancel(persist string) error
	End()
}

// Proof is one thing that was tried while the change ran.
type Proof struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Saw  string `json:"saw"`
}

// Plan is what would be changed.
type Plan struct {
	Differences []drift.Difference
	NotCarried  []string // parts of the design that the device's models do not have
}

// Config is how a design is sent. Every function is needed.
type Config struct {
	Site   *site.Site
	Device *site.Device
	Keys   site.Keys
	// Open logs in from a new connection.
	Open func(context.Context) (Device, error)
	// Keep writes what is on the device before the change, and says where.
	Keep func(manage.Held) (string, error)
	// Agree is shown what would be changed, and decides.
	Agree func(Plan) bool
	// Prove tries logins from new connections while the change runs.
	Prove func(context.Context) []Proof
	// Say is told each step.
	Say func(step string)
	// Window is how long the change runs without a confirmation: longer than the
	// proofs can take.
	Window time.Duration
	// Unseen is how long it is tried to see that a change was taken back; default
	// 20 s.
	Unseen time.Duration
}

// Outcomes of sending.
const (
	Same      = "same"       // the device holds it already
	Declined  = "declined"   // nobody agreed, or a dry run
	Kept      = "kept"       // confirmed
	TakenBack = "taken-back" // it ran, a proof failed, and it is taken back
	Stopped   = "stopped"    // it never ran
	Unsure    = "unsure"     // it ran, and whether it was taken back could not be seen
)

// Report is what came of it.
type Report struct {
	Outcome string  `json:"outcome"`
	Why     string  `json:"why"` // of every outcome but same and kept
	Kept    string  `json:"kept"`
	Plan    Plan    `json:"-"`
	Proofs  []Proof `json:"proofs"`
}

// ErrNoWayBack is a device that cannot take a change back by itself.
var ErrNoWayBack = errors.New("the device offers no candidate with confirmed commit (RFC 6241, sections 8.3 and 8.4): it could not take a change back by itself")

// confirmedCommit10 is the first version of confirmed commit, which has no
// cancel.
const confirmedCommit10 = "urn:ietf:params:netconf:capability:confirmed-commit:1.0"

const usuallyUnseen = 20 * time.Second

// Run sends a design to its device. The error says why it stopped before
// anything ran; what came later is in the report.
func Run(ctx context.Context, c Config) (Report, error) {
	r := Report{Outcome: Stopped, Proofs: []Proof{}}
	stop := func(err error) (Report, error) {
		r.Why = err.Error()
		return r, err
	}
	lasting := context.WithoutCancel(ctx) // a change that runs is ended in good order
	old, err := c.Open(lasting)
	if err != nil {
		return stop(err)
	}
	defer old.End()
	if !old.Has(netconf.Candidate) || !old.Has(netconf.ConfirmedCommit) && !old.Has(confirmedCommit10) {
		return stop(ErrNoWayBack)
	}
	held, err := old.Read()
	if err != nil {
		return stop(err)
	}
	want, config, left := manage.Wanted(c.Device, c.Keys, held.Models)
	r.Plan = Plan{drift.Compare(want, held.Facts, manage.Where(c.Site, c.Device)), left}
	if len(r.Plan.Differences) == 0 {
		r.Outcome = Same
		return r, nil
	}
	if !c.Agree(r.Plan) {
		r.Outcome, r.Why = Declined, "nobody agreed"
		return r, nil
	}
	if r.Kept, err = c.Keep(held); err != nil {
		return stop(fmt.Errorf("what is on the device could not be kept: %w", err))
	}
	if ctx.Err() != nil {
		return stop(ctx.Err())
	}
	for _, store := range []string{"running", "candidate"} {
		if err := old.Lock(store); err != nil {
			return stop(fmt.Errorf("the datastore %s cannot be locked: %w", store, err))
		}
	}
	if err := prepare(old, held, config); err != nil {
		_ = old.Discard()
		return stop(err)
	}
	c.Say(fmt.Sprintf("the change runs now, and comes back by itself after %s, or when this program ends", c.Window))
	if err := old.CommitConfirmed(c.Window, ""); err != nil {
		return c.takeBack(lasting, old, held, r, fmt.Errorf("the commit failed: %w", err), false)
	}
	if why := c.prove(ctx, old, &r); why != nil {
		return c.takeBack(lasting, old, held, r, why, false)
	}
	if err := old.Commit(""); err != nil {
		return c.takeBack(lasting, old, held, r, fmt.Errorf("the confirmation failed: %w", err), true)
	}
	r.Outcome = Kept
	c.Say("confirmed: the change stays")
	return r, nil
}

// prepare puts the design into the candidate, and lets the device check it.
// First go the orders of methods that are there, which a merge would only add
// to. Servers and groups are replaced as a whole; accounts that the site does not
// have stay.
func prepare(s Device, held manage.Held, config *etree.Element) error {
	c := outdated(held)
	if len(c.ChildElements()) > 0 {
		if err := s.EditCandidate(c); err != nil {
			return fmt.Errorf("what is on the device cannot be cleared in the candidate: %w", err)
		}
	}
	if err := s.EditCandidate(whole(config)); err != nil {
		return fmt.Errorf("the device does not take the design: %w", err)
	}
	if s.Has(netconf.Validate) || s.Has("urn:ietf:params:netconf:capability:validate:1.0") {
		if err := s.Validate(); err != nil {
			return fmt.Errorf("the device finds the design not valid: %w", err)
		}
	}
	return nil
}

// prove tries everything that is to be true of a change that runs.
func (c Config) prove(ctx context.Context, old Device, r *Report) error {
	note := func(p Proof) error {
		r.Proofs = append(r.Proofs, p)
		word := "proven"
		if !p.OK {
			word = "not so"
		}
		c.Say(fmt.Sprintf("%s: %s (%s)", word, p.What, p.Saw))
		if !p.OK {
			return fmt.Errorf("not proven: %s: %s", p.What, p.Saw)
		}
		return nil
	}
	for _, p := range c.Prove(ctx) {
		if err := note(p); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return errors.New("it was ended")
	}
	p := Proof{What: "the device holds the design, and the old session is still open", OK: true, Saw: "read again"}
	now, err := old.Read()
	if err != nil {
		p.OK, p.Saw = false, err.Error()
		return note(p)
	}
	want, _, _ := manage.Wanted(c.Device, c.Keys, now.Models)
	for _, d := range drift.Compare(want, now.Facts, manage.Where(c.Site, c.Device)) {
		if d.Kind != drift.Extra {
			p.OK, p.Saw = false, d.String()
		}
	}
	return note(p)
}

// same tells whether two readings of a device are equal.
func same(a, b drift.Facts) bool {
	return len(drift.Compare(a, b, func(drift.About, string) string { return "" })) == 0
}

// holds tells whether a device holds the design; what it holds besides does not
// matter.
func (c Config) holds(h manage.Held) bool {
	want, _, _ := manage.Wanted(c.Device, c.Keys, h.Models)
	return !slices.ContainsFunc(drift.Compare(want, h.Facts, manage.Where(c.Site, c.Device)), func(d drift.Difference) bool { return d.Kind != drift.Extra })
}

// takeBack cancels a change, and looks from a new connection whether the device
// is as it was. Where the confirmation was asked for, and its answer lost, the
// device may have kept the change: its session is over, and it still holds it.
func (c Config) takeBack(ctx context.Context, old Device, before manage.Held, r Report, why error, confirming bool) (Report, error) {
	r.Why = why.Error()
	c.Say("taking the change back: " + r.Why)
	if old.Has(netconf.ConfirmedCommit) {
		_ = old.Cancel("") // where it fails, the end of the session does it
	}
	old.End()
	if c.Unseen == 0 {
		c.Unseen = usuallyUnseen
	}
	ctx, cancel := context.WithTimeout(ctx, c.Unseen)
	defer cancel()
	r.Outcome = Unsure
	for ctx.Err() == nil {
		s, err := c.Open(ctx)
		if err == nil {
			now, failure := s.Read()
			s.End()
			switch {
			case failure != nil:
			case same(before.Facts, now.Facts):
				r.Outcome = TakenBack
				c.Say("taken back: a new connection finds the device as it was")
				return r, nil
			case confirming && c.holds(now):
				r.Outcome = Kept
				c.Say("the answer to the confirmation was lost; a new connection finds that the change stays")
				return r, nil
			}
		}
		timer := time.NewTimer(min(200*time.Millisecond, c.Unseen/10))
		select {
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
	}
	c.Say(fmt.Sprintf("it could not be seen that the device is as it was; it comes back by itself within %s", c.Window))
	return r, nil
}
