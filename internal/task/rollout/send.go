// Package rollout puts a design on devices so that nobody is locked out: what is
// there is read and kept, the change runs for a time only (a confirmed commit,
// RFC 6241 section 8.4), logins from new connections prove it, and only then it
// is confirmed. When a proof fails, or this program dies, the device takes the
// change back.
package rollout

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/wire/netconf"
)

// Device is a session on a device, as this package uses one.
type Device = device.Manager

// Proof is one thing that was tried while the change ran.
type Proof struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Saw  string `json:"saw"`
	// Person and Access are of the login that was tried: "" for no person, who
	// sends; for no way in, none was tried.
	Person string `json:"-"`
	Access string `json:"-"`
}

// Plan is what would be changed.
type Plan struct {
	Differences []drift.Difference
	NotCarried  []string // parts of the design that the device's models do not have
	Stays       []string // what is on the device besides, and is left alone
	Notes       []string // about the device
	Data        string   // what is sent, as data without its secrets
	WayBack     string   // how it comes back, where the device cannot take it back by itself
}

// Config is how a design is sent. Every function but ProveFallback is needed.
type Config struct {
	Site   *site.Site
	Device *site.Device
	Keys   site.Keys
	// Access is the way in by which the device is managed.
	Access string
	// Open logs in from a new connection.
	Open func(context.Context) (Device, error)
	// Keep writes what is on the device before the change, and says where.
	Keep func(device.Held) (string, error)
	// Agree is shown what would be changed, and decides.
	Agree func(Plan) bool
	// ProveFallback tries the local accounts, once they are on the device and
	// before anything else is.
	ProveFallback func(context.Context, device.Held) []Proof
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
	// WithoutWayBack lets a device be changed that cannot take a change back by
	// itself: then this program puts back what was there.
	WithoutWayBack bool
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

// Report is the result of it.
type Report struct {
	Outcome string  `json:"outcome"`
	Why     string  `json:"why"` // of every outcome but same and kept
	Kept    string  `json:"kept"`
	Plan    Plan    `json:"-"`
	Steps   int     `json:"steps"` // that were typed at the command line; 0 where none was
	Proofs  []Proof `json:"proofs"`
	// Accounts tells that the local accounts were confirmed in a step of their
	// own: they stay, whatever came of the rest.
	Accounts bool `json:"accounts_stay"`
}

// ErrNoWayBack is a device that cannot take a change back by itself.
var ErrNoWayBack = errors.New("it cannot take a change back by itself")

// ErrUncommitted is a device with changes in its candidate that somebody has not
// committed.
var ErrUncommitted = errors.New("its candidate holds changes that nobody has committed: commit or discard them " +
	"there first, they would run with this change")

// ErrChanged is a device that somebody changed since it was read.
var ErrChanged = errors.New("somebody changed it since it was read: what was shown is not what would happen; run " +
	"it again")

var (
	errEnded   = errors.New("it was ended")
	errTooLong = errors.New("the proofs took longer than the change may run without a confirmation")
)

const usuallyUnseen = 20 * time.Second

// run is one run on one device.
type run struct {
	Config
	ctx     context.Context // ends when it is to end
	lasting context.Context // does not
	old     Device          // the session that stays open
	way     way
	report  Report
	config  *etree.Element // the design, in the models that the device has
	heard   []string       // the device's warnings
}

// Run sends a design to its device. The error says why it stopped before
// anything ran; what came later is in the report.
func Run(ctx context.Context, c Config) (Report, error) {
	if c.Unseen == 0 {
		c.Unseen = usuallyUnseen
	}
	r := &run{Config: c, ctx: ctx, lasting: context.WithoutCancel(ctx),
		report: Report{Outcome: Stopped, Proofs: []Proof{}}}
	if err := r.all(); err != nil {
		r.report.Why = err.Error()
		return r.report, err
	}
	return r.report, nil
}

func (r *run) all() (err error) {
	if r.old, err = r.Open(r.lasting); err != nil {
		return err
	}
	defer r.old.End()
	if r.way, err = wayOf(r.old, r.WithoutWayBack); err != nil {
		return err
	}
	r.Say("reading what is on it")
	held, err := r.old.Read(running)
	if err != nil {
		return err
	}
	if err := r.plan(held); err != nil {
		return err
	}
	if len(r.report.Plan.Differences) == 0 {
		r.report.Outcome = Same
		return nil
	}
	if r.way.putsBack() {
		r.report.Plan.WayBack = "the device cannot take this back by itself: when a proof fails this program puts " +
			"back what was there, and when it dies before, nobody does"
		if _, ok := r.old.(editsAtOnce); ok {
			r.report.Plan.WayBack += "; over RESTCONF it must be let in again for that: as the person or as the " +
				"local account"
		}
	}
	if r.way.putsBack() && !held.Facts.Shows() && len(held.Facts) > 0 {
		return fmt.Errorf("%w, and does not show its secrets, so that this program could not put back what is "+
			"there either",
			ErrNoWayBack)
	}
	if !r.Agree(r.report.Plan) {
		r.report.Outcome, r.report.Why = Declined, "nobody agreed"
		return nil
	}
	if r.report.Kept, err = r.Keep(held); err != nil {
		return fmt.Errorf("what is on the device could not be kept: %w", err)
	}
	r.Say("what is on it is kept in " + r.report.Kept)
	stages := r.stages(held)
	for i, s := range stages {
		if i > 0 {
			if held, err = r.old.Read(running); err != nil {
				return err
			}
		}
		if err := r.stage(s, held); err != nil || r.report.Outcome != Kept {
			return err
		}
		if i < len(stages)-1 {
			r.report.Outcome, r.report.Accounts = Stopped, true
		}
	}
	return nil
}

// stage is a part of the design that is put there and proven by itself.
type stage struct {
	what  string
	about func(drift.Difference) bool // what it settles
	edits []*etree.Element            // one after the other
	prove func(context.Context, device.Held) []Proof
}

func ofAccounts(d drift.Difference) bool { return d.About == drift.Account }
func ofAll(drift.Difference) bool        { return true }

// stages returns the steps to the design: the local accounts first, for they are
// the way back in, and then the rest.
func (r *run) stages(held device.Held) []stage {
	fallback := func(ctx context.Context, h device.Held) []Proof {
		if r.ProveFallback == nil {
			return nil
		}
		return r.ProveFallback(ctx, h)
	}
	whole := stage{what: "the design", about: ofAll, edits: edits(held, r.config),
		prove: func(ctx context.Context, _ device.Held) []Proof { return r.Prove(ctx) }}
	accounts := slices.ContainsFunc(r.report.Plan.Differences, ofAccounts)
	only := !slices.ContainsFunc(r.report.Plan.Differences, func(d drift.Difference) bool { return !ofAccounts(d) })
	switch {
	case !accounts:
		return []stage{whole}
	case only:
		whole.prove = func(ctx context.Context, h device.Held) []Proof {
			some := fallback(ctx, h)
			if slices.ContainsFunc(some, func(p Proof) bool { return !p.OK }) {
				return some
			}
			return append(some, r.Prove(ctx)...)
		}
		return []stage{whole}
	}
	return []stage{{what: "the part with the local accounts", about: ofAccounts,
		edits: []*etree.Element{onlyUsers(r.config)}, prove: fallback}, whole}
}

// stage puts one part there, proves it, and confirms it or takes it back. The
// error says why it stopped before it ran.
func (r *run) stage(s stage, held device.Held) error {
	if r.ctx.Err() != nil {
		return r.ctx.Err()
	}
	if err := r.lock(held); err != nil {
		return err
	}
	if err := r.prepare(s); err != nil {
		return err
	}
	// Some devices heed a lock of the configuration that runs even when they are
	// to take a change back: it is given back before the change runs.
	if r.way.confirmed {
		if err := r.old.Unlock(running); err != nil {
			return r.discarded(fmt.Errorf("the datastore running cannot be unlocked: %w", err))
		}
	}
	if r.ctx.Err() != nil {
		return r.discarded(r.ctx.Err())
	}
	began := time.Now()
	if err := r.start(s); err != nil {
		return r.takeBack(held, err, false)
	}
	if err := r.proven(s); err != nil {
		return r.takeBack(held, err, false)
	}
	if r.way.confirmed && time.Since(began) >= r.Window { // a commit now would be a new one
		return r.takeBack(held, errTooLong, false)
	}
	if err := r.way.keep(r.old); err != nil {
		return r.takeBack(held, fmt.Errorf("the confirmation failed: %w", err), true)
	}
	r.report.Outcome = Kept
	r.Say("confirmed: " + s.what + " stays")
	for _, store := range r.way.stores() {
		_ = r.old.Unlock(store) // the end of the session does it too
	}
	return nil
}

// lock locks what is worked on, and looks that nobody else's changes are in it,
// nor any that came since it was read.
func (r *run) lock(held device.Held) error {
	for _, store := range r.way.stores() {
		if err := r.old.Lock(store); err != nil {
			return fmt.Errorf("the datastore %s cannot be locked: %w", store, lockedBy(err))
		}
	}
	if _, ok := r.old.(editsAtOnce); ok {
		r.Say("there is no lock over RESTCONF: what somebody else changes meanwhile is noticed, and refused")
	} else {
		r.Say("locked, so that nobody else changes it now")
	}
	now, err := r.old.Read(running)
	if err != nil {
		return err
	}
	if !same(held.Facts, now.Facts) {
		return ErrChanged
	}
	if !slices.Contains(r.way.stores(), candidate) {
		return nil
	}
	next, err := r.old.Read(candidate)
	if err == nil && !same(now.Facts, next.Facts) {
		err = ErrUncommitted
	}
	return err
}

// lockedBy says what a lock that is denied comes to.
func lockedBy(err error) error {
	var said *netconf.Error
	if !errors.As(err, &said) || said.Tag != "lock-denied" {
		return err
	}
	if id := said.Info["session-id"]; id != "" && id != "0" {
		return fmt.Errorf("session %s on the device has it: wait, or have that session ended (%w)", id, err)
	}
	return fmt.Errorf("something else on the device has it, or changes wait there that nobody has committed (%w)", err)
}

// prepare puts a part of the design where it can be committed, and lets the
// device check it. Some devices take the candidate for unchanged once they have
// validated it, and a commit then does nothing: it is filled again after that.
func (r *run) prepare(s stage) error {
	if r.way.direct {
		return nil // what is written runs at once: that comes later
	}
	if err := r.fill(s); err != nil {
		return err
	}
	r.Say(s.what + " is in the candidate")
	if !r.old.Has(netconf.Validate) && !r.old.Has(netconf.Validate10) {
		return nil
	}
	if err := r.old.Validate(); err != nil {
		return r.discarded(fmt.Errorf("the device finds %s not valid: %w", s.what, err))
	}
	r.warned()
	r.Say("the device finds it valid")
	if err := r.old.Discard(); err != nil {
		return fmt.Errorf("the candidate cannot be emptied: %w", err)
	}
	return r.fill(s)
}

// fill makes the edits of a part in the candidate.
func (r *run) fill(s stage) error {
	for _, e := range s.edits {
		if err := r.old.Edit(candidate, e); err != nil {
			return r.discarded(fmt.Errorf("the device does not take %s: %w", s.what, err))
		}
		r.warned()
	}
	return nil
}

// discarded empties the candidate after something went wrong.
func (r *run) discarded(err error) error {
	if slices.Contains(r.way.stores(), candidate) {
		_ = r.old.Discard()
	}
	return err
}

// warned tells what the device warns of.
func (r *run) warned() {
	for _, text := range r.old.Warned() {
		if !slices.Contains(r.heard, text) {
			r.heard = append(r.heard, text)
			r.Say("the device warns: " + text)
		}
	}
}

// start lets a part of the design run.
func (r *run) start(s stage) error {
	r.Say(s.what + " runs from now on" + r.way.comesBack(r.Window))
	if err := r.way.run(r.old, s, r.Window); err != nil {
		return fmt.Errorf("the commit failed: %w", err)
	}
	r.warned()
	return nil
}

// proven tries everything that is to be true of a change that runs.
func (r *run) proven(s stage) error {
	note := func(p Proof) error {
		r.report.Proofs = append(r.report.Proofs, p)
		word := "proven"
		if !p.OK {
			word = "not so"
		}
		r.Say(fmt.Sprintf("%s: %s (%s)", word, p.What, p.Saw))
		if !p.OK {
			return fmt.Errorf("not proven: %s: %s", p.What, p.Saw)
		}
		return nil
	}
	held, now := r.held(s)
	if err := note(held); err != nil {
		return err
	}
	for _, p := range s.prove(r.ctx, now) {
		if !p.OK && r.ctx.Err() != nil {
			break
		}
		if err := note(p); err != nil {
			return err
		}
	}
	if r.ctx.Err() != nil {
		return errEnded
	}
	if again, _ := r.held(s); !again.OK {
		return note(again)
	}
	return nil
}

// held proves by the old session that a part of the design runs.
func (r *run) held(s stage) (Proof, device.Held) {
	p := Proof{What: "the device holds " + s.what + ", and the old session is still open", OK: true, Saw: "read again"}
	now, err := r.old.Read(running)
	if err != nil {
		p.OK = false
		p.Saw = err.Error()
		p.Access = r.Access
		return p, now
	}
	var all []string
	for _, d := range r.lacks(now, s.about) {
		all = append(all, d.String())
	}
	if len(all) > 0 {
		p.OK, p.Saw = false, strings.Join(all, "; ")
	}
	return p, now
}
