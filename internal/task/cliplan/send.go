package cliplan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/task/rollout"
)

// Session is one device that is changed at its command line.
type Session struct {
	Design
	// Open logs in anew as who changes the device.
	Open func(context.Context) (*login.Line, error)
	// Refused logs in with a wrong password, and reports whether that is refused.
	Refused func(context.Context) (bool, error)
	// Ready asks the servers of the design as the device would, where that can be done from here;
	// nil: it cannot.
	Ready  func(context.Context) error
	Window time.Duration // after which the device goes back by itself
	// WithoutWayBack changes also a device whose make has no timed way back.
	WithoutWayBack bool
	Keep           func(text []byte) (string, error) // keeps what was on it
	Agree          func(*Plan) bool
	Say            func(string)
	Person         string
	Access         string
}

// run is one device in work.
type run struct {
	Session
	ctx     context.Context
	talk    *talk.Talk
	line    *login.Line
	before  string
	plan    *Plan
	report  rollout.Report
	typed   []phrase.Step // those of which something was typed
	set     bool          // the timed way back is set
	backing bool          // what was typed is taken back
}

// Send types the lines from what the device holds to its design, in the safe order, and proves
// from new connections that it holds and lets in as designed. Where a line is refused or a
// proof fails, what was typed is taken back. The error is of what kept it from beginning.
func Send(ctx context.Context, s Session) (rollout.Report, error) {
	r := &run{Session: s, ctx: ctx, talk: s.Book.Talk(),
		report: rollout.Report{Outcome: rollout.Stopped, Proofs: []rollout.Proof{}}}
	defer func() {
		if r.line != nil {
			r.line.Close()
		}
	}()
	if err := r.all(); err != nil {
		r.report.Why = err.Error()
		return r.report, err
	}
	return r.report, nil
}

func (r *run) all() error {
	if r.talk == nil || r.talk.Show == "" {
		return errors.New("its phrasebook does not say how the device is talked to, and what shows what it holds " +
			"(talk)")
	}
	var err error
	if r.line, err = r.Open(r.ctx); err != nil {
		return err
	}
	if r.before, err = r.shown(r.line); err != nil {
		return err
	}
	if r.plan, err = r.Plan(r.before); err != nil {
		return err
	}
	switch {
	case len(r.plan.Steps) == 0:
		r.report.Outcome = rollout.Same
		return nil
	case len(r.plan.Typed) > 0:
		return fmt.Errorf("the lines want what the site does not have in clear: %s; keep it as a key (password: "+
			"key NAME), or type the sheet by hand", strings.Join(r.plan.Typed, ", "))
	case r.talk.WayBack == nil && !r.WithoutWayBack:
		return errors.New("the make has no timed way back, as far as its phrasebook says; with -without-way-back " +
			"the lines are typed all the same, with those that take them back at hand")
	case r.plan.Unsafe > 0 && r.talk.WayBack == nil:
		return fmt.Errorf("no order of the lines is safe (%d steps), and the make has no timed way back", r.plan.Unsafe)
	case r.talk.WayBack == nil && r.Ready != nil:
		if err := r.Ready(r.ctx); err != nil {
			return fmt.Errorf("the make has no timed way back, and the servers of the design do not all answer: %w",
				err)
		}
	}
	if !r.Agree(r.plan) {
		r.report.Outcome, r.report.Why = rollout.Declined, "nobody agreed"
		return nil
	}
	if r.report.Kept, err = r.Keep([]byte(r.before)); err != nil {
		return fmt.Errorf("what is on the device could not be kept: %w", err)
	}
	r.Say("what is on it is kept in " + r.report.Kept)
	if why := r.change(); why != nil {
		r.back(why)
		return nil
	}
	return r.keep()
}

// shown returns what the device shows of what it holds.
func (r *run) shown(line *login.Line) (string, error) {
	says, err := line.Do(r.talk.Show, r.talk.Show)
	if err != nil {
		return "", err
	}
	return strings.Join(append(says, ""), "\n"), nil
}

// do types a line that has no secret.
func (r *run) do(line string) error {
	_, err := r.line.Do(line, line)
	return err
}

// change types the lines and proves what came of them.
func (r *run) change() error {
	if !r.atCommit() {
		if err := r.setBack(); err != nil {
			return err
		}
	}
	if err := r.enter(); err != nil {
		return err
	}
	proven := false
	for _, step := range r.plan.Steps {
		if r.ctx.Err() != nil {
			return r.ctx.Err()
		}
		// what cannot be said again goes once somebody got in without it
		if step.Stuck != "" && !proven && r.talk.Effect == talk.AtOnce {
			proven = true
			if p := r.entersAnew(); len(r.typed) > 0 && !p.OK {
				r.report.Proofs = append(r.report.Proofs, p)
				return fmt.Errorf("not proven: %s: %s", p.What, p.Saw)
			}
		}
		r.typed = append(r.typed, step)
		if err := r.lines(step.Lines, false); err != nil {
			return err
		}
		// nothing but this session takes it back: each step is proven
		if r.talk.WayBack == nil && r.talk.Effect == talk.AtOnce {
			if p := r.entersAnew(); !p.OK {
				r.report.Proofs = append(r.report.Proofs, p)
				return fmt.Errorf("not proven: %s: %s", p.What, p.Saw)
			}
		}
	}
	if err := r.leave(); err != nil {
		return err
	}
	r.report.Steps = len(r.plan.Steps)
	r.Say(fmt.Sprintf("%d steps are typed", r.report.Steps))
	for _, prove := range []func() rollout.Proof{r.entersAnew, r.wrongPassword, r.holdsDesign} {
		p := prove()
		r.report.Proofs = append(r.report.Proofs, p)
		if !p.OK {
			return fmt.Errorf("not proven: %s: %s", p.What, p.Saw)
		}
		r.Say("proven: " + p.What)
	}
	return nil
}

// atCommit reports whether the lines take effect only at a commit, which the way back is the
// timed form of.
func (r *run) atCommit() bool { return r.talk.Effect == talk.AtCommit && r.talk.WayBack != nil }

// setBack sets the timed way back, where the make has one.
func (r *run) setBack() error {
	w := r.talk.WayBack
	if w == nil {
		return nil
	}
	if err := r.do(w.SetFor(r.Window)); err != nil {
		return err
	}
	r.set = true
	r.Say(fmt.Sprintf("the device goes back by itself %s from now", w.Lasts(r.Window)))
	return nil
}

func (r *run) enter() error {
	for _, line := range r.talk.Enter {
		if r.line.Configuring() {
			break
		}
		if err := r.do(line); err != nil {
			return err
		}
	}
	return nil
}

// leave ends where the device is configured; what takes effect only then does.
func (r *run) leave() error {
	switch {
	case r.atCommit() && !r.backing:
		if err := r.setBack(); err != nil {
			return err
		}
	case r.talk.Commit != "":
		if err := r.do(r.talk.Commit); err != nil {
			return err
		}
		r.set = r.set && !r.atCommit() // it is the commit that holds now
	}
	if r.talk.Effect == talk.AtSave && r.talk.Save != "" {
		if err := r.do(r.talk.Save); err != nil {
			return err
		}
	}
	for _, line := range r.talk.Leave {
		if !r.line.Configuring() {
			break
		}
		if err := r.do(line); err != nil {
			return err
		}
	}
	return nil
}

// lines types lines; with anyway, also those after one that is refused.
func (r *run) lines(sentences []*phrase.Sentence, anyway bool) error {
	typed, err := r.Book.Text(sentences, true)
	if err != nil {
		return err
	}
	shown, err := r.Book.Text(sentences, false)
	if err != nil {
		return err
	}
	for i, line := range typed {
		_, err := r.line.Do(line, shown[i])
		var no login.Refused
		if err != nil && !(anyway && errors.As(err, &no)) {
			return err
		}
	}
	return nil
}

// entersAnew logs in from a new connection, and looks that the device may be configured.
func (r *run) entersAnew() rollout.Proof {
	p := rollout.Proof{What: fmt.Sprintf("%s gets in by %s from a new connection, and may change the configuration",
		r.Person, r.Access), Person: r.Person, Access: r.Access}
	line, err := r.Open(r.ctx)
	if err == nil {
		defer line.Close()
		for _, enter := range r.talk.Enter {
			if _, err = line.Do(enter, enter); err != nil {
				break
			}
		}
		for _, leave := range r.talk.Leave {
			if err == nil {
				_, err = line.Do(leave, leave)
			}
		}
	}
	if p.OK = err == nil; err != nil {
		p.Saw = err.Error()
	}
	return p
}

func (r *run) wrongPassword() rollout.Proof {
	p := rollout.Proof{What: "a wrong password is refused", Person: r.Person, Access: r.Access}
	refused, err := r.Refused(r.ctx)
	switch {
	case err != nil:
		p.Saw = err.Error()
	case !refused:
		p.Saw = "it lets in with any password"
	default:
		p.OK = true
	}
	return p
}

// holdsDesign reads the device again, from the old session.
func (r *run) holdsDesign() rollout.Proof {
	p := rollout.Proof{What: "the old session still works, and the device holds the design"}
	text, err := r.shown(r.line)
	if err == nil {
		var left *Plan
		if left, err = r.Plan(text); err == nil && len(left.Steps) > 0 {
			err = fmt.Errorf("it does not hold %s", left.Steps[0].Record)
		}
	}
	if p.OK = err == nil; err != nil {
		p.Saw = err.Error()
	}
	return p
}

// keep calls the way back off, and saves.
func (r *run) keep() error {
	if r.set {
		if err := r.do(r.talk.WayBack.CallOff); err != nil {
			r.report.Outcome = rollout.Unsure
			r.report.Why = "the way back could not be called off, and the device goes back by itself: " + err.Error()
			return nil
		}
		r.set = false
	}
	r.report.Outcome = rollout.Kept
	if r.talk.Save != "" && r.talk.Effect != talk.AtSave {
		if err := r.do(r.talk.Save); err != nil {
			r.report.Why = "it holds, and could not be saved: " + err.Error()
			r.Say(r.report.Why)
			return nil
		}
		r.Say("saved")
	}
	return nil
}

// patienceBack is how long is tried to take a change back.
const patienceBack = 2 * time.Minute

// back takes back what was typed: from the session that typed it, else from a new one. What
// cannot be taken back so is left to the device, which goes back by itself where that is set.
func (r *run) back(why error) {
	r.report.Outcome = rollout.TakenBack
	r.report.Why = why.Error()
	r.backing = true
	r.Say("it is taken back: " + why.Error())
	ctx, stop := context.WithTimeout(context.WithoutCancel(r.ctx), patienceBack)
	defer stop()
	for try := range 2 {
		if try > 0 || r.line == nil || !r.answers() {
			if r.line != nil {
				r.line.Close()
			}
			var err error
			if r.line, err = r.Open(ctx); err != nil {
				r.report.Outcome = rollout.Unsure
				r.report.Why += "; no session came to take it back: " + err.Error()
				if r.set {
					r.report.Why += "; the device goes back by itself"
				}
				continue
			}
		}
		err := r.untype()
		if err == nil {
			r.report.Outcome, r.report.Why = rollout.TakenBack, why.Error()
			return
		}
		r.report.Outcome, r.report.Why = rollout.Unsure, why.Error()+"; taking it back: "+err.Error()
	}
	if r.line != nil {
		r.line.Close()
		r.line = nil
	}
	if r.set {
		r.awaited(why)
	}
}

// awaited waits until the device has gone back by itself: once its session is gone, or its
// time is over.
func (r *run) awaited(why error) {
	wait := r.talk.WayBack.Lasts(r.Window) + 30*time.Second
	if r.talk.WayBack.OnLoss {
		wait = 20 * time.Second
	}
	r.Say(fmt.Sprintf("waiting for the device to go back by itself, %s at most", wait.Round(time.Second)))
	ctx, stop := context.WithTimeout(context.WithoutCancel(r.ctx), wait)
	defer stop()
	for ctx.Err() == nil {
		if line, err := r.Open(ctx); err == nil {
			now, err := r.shown(line)
			line.Close()
			if err == nil && asBefore(r.Book, now, r.before) == nil {
				r.report.Outcome, r.report.Why = rollout.TakenBack, why.Error()+"; the device went back by itself"
				return
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(r.pause()):
		}
	}
}

// pause is how long is waited between two looks at a device that is to go back.
func (r *run) pause() time.Duration {
	if r.talk.WayBack.OnLoss {
		return 200 * time.Millisecond
	}
	return 5 * time.Second
}

// answers reports whether the old session still answers.
func (r *run) answers() bool {
	_, err := r.shown(r.line)
	return err == nil
}

// untype types the lines that take the steps back, the last first, and then what is still
// otherwise; and looks that the device is as it was.
func (r *run) untype() error {
	now, err := r.shown(r.line)
	if err != nil {
		return err
	}
	if asBefore(r.Book, now, r.before) == nil && !r.secrets() {
		return r.calledOff()
	}
	if err := r.enter(); err != nil {
		return err
	}
	for _, step := range slices.Backward(r.typed) {
		if err := r.lines(step.Undo, true); err != nil {
			return err
		}
	}
	if now, err = r.shown(r.line); err != nil {
		return err
	}
	rest, err := r.Book.Back(now, r.before)
	if err != nil {
		return err
	}
	for _, step := range rest.Steps {
		if err := r.lines(step.Lines, false); err != nil {
			return err
		}
	}
	if err := r.leave(); err != nil {
		return err
	}
	if now, err = r.shown(r.line); err != nil {
		return err
	}
	if err := asBefore(r.Book, now, r.before); err != nil {
		return err
	}
	for _, step := range r.typed {
		if step.Stuck != "" && r.set { // a secret that was hidden: only the device has it still
			return errors.New(step.Stuck)
		}
	}
	return r.calledOff()
}

// secrets reports whether a step that was typed changed a secret, which the device may hide.
func (r *run) secrets() bool {
	return slices.ContainsFunc(r.typed, func(s phrase.Step) bool { return s.Stuck != "" || s.HasSecret() })
}

func (r *run) calledOff() error {
	if !r.set {
		return nil
	}
	if err := r.do(r.talk.WayBack.CallOff); err != nil {
		return err
	}
	r.set = false
	return nil
}

// asBefore returns how what a device shows differs from what it showed before, nil where it
// does not.
func asBefore(book *phrase.Book, now, before string) error {
	rest, err := book.Back(now, before)
	if err == nil && len(rest.Steps) > 0 {
		err = fmt.Errorf("%s is not as it was", rest.Steps[0].Record)
	}
	if err == nil && len(rest.Stays) > 0 {
		err = fmt.Errorf("it is not as it was: %s", rest.Stays[0])
	}
	return err
}
