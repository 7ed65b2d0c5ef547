// Package drill tries what was foreseen: it runs a site's servers, and for each
// login and each state of the servers a stand-in of the device, and logs in
// with real packets. What is seen is compared with what foresee said.
//
// Time is scaled down: waits, rests and patience of the copy of the site that
// is run are a fraction of the real ones, and what is foreseen is foreseen for
// that copy. Passwords of the copy are made up and quick to check.
package drill

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/routine"
)

// Options are what is tried and how. Site and Keys are a copy of the site that
// nobody else uses: it is changed. The zero value of the rest works.
type Options struct {
	Site   *site.Site
	Keys   site.Keys
	Choose func(foresee.Case) bool // default: every case
	Faults bool                    // every state of a server, not only up and silent
	Factor int                     // by how much time is scaled down; default 10
	AtOnce int                     // trials at the same time, most of which wait; default 256
	Rate   int                     // trials begun in a second; default 250
	Done   func(done, total int)   // progress; called from many goroutines
	// Lab is how the trials are run; its Network is where, by default the site's
	// lab.network.
	Lab    lab.Config
	meddle func(*lab.Lab) // for tests: what nobody foresees
}

// Story is how a login went: foreseen, or seen.
type Story struct {
	Outcome walk.Outcome         // in or refused
	Level   int                  // of one who is in
	Raised  int                  // of one who is in, after an elevation where one was tried; else Level
	By      string               // who let the person in, or refused
	Reason  reason.Reason        // why not
	Wait    float64              // seconds, unscaled
	Detail  string               // what a client says of it, where no device noted anything
	Steps   []evidence.TraceStep // what was asked, in order
}

// Run is one login that was tried.
type Run struct {
	Case     foresee.Case
	Again    bool // the second login, a moment later
	Foreseen Story
	Seen     Story
	Match    bool
	Why      string // what does not match
	Retried  bool   // it did not match while many others ran, and was tried again
}

// Report is all of a drill.
type Report struct {
	Runs    []Run
	Matched int
	Skipped map[string]int // logins that were not tried, by reason
	Took    time.Duration
}

// trial is one login to try.
type trial struct {
	c foresee.Case
}

// Start runs a drill to its end, or to the end of the context.
func Start(ctx context.Context, o Options) (Report, error) {
	if o.Factor == 0 {
		o.Factor = 10
	}
	if o.AtOnce == 0 {
		o.AtOnce = 256
	}
	if o.Rate == 0 {
		o.Rate = 250
	}
	if most := roomFor(o.Lab.Network, o.Site); o.AtOnce > most {
		o.AtOnce = most
	}
	passwords, err := rehearse(o.Site, o.Keys, o.Factor)
	if err != nil {
		return Report{}, err
	}
	for i, b := range o.Lab.Behaves {
		if patience, err := time.ParseDuration(b.Value); b.Aspect == site.AspectLoginWindow && err == nil {
			o.Lab.Behaves[i].Value = (patience / time.Duration(o.Factor)).String()
		}
	}
	d := &drill{Options: o, passwords: passwords, report: Report{Skipped: map[string]int{}}}
	trials := d.trials()
	if len(trials) == 0 {
		return d.report, nil
	}
	dir, err := os.MkdirTemp("", "mellowgate-drill-")
	if err != nil {
		return d.report, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	folder, err := state.Create(filepath.Join(dir, "state"))
	if err != nil {
		return d.report, err
	}
	defer func() { _ = folder.Close() }()
	config := o.Lab
	config.Site = o.Site
	config.Keys = o.Keys
	config.State = folder
	config.Extras = o.AtOnce
	if d.lab, err = lab.Start(config); err != nil {
		return d.report, err
	}
	defer d.lab.Shutdown()
	if o.meddle != nil {
		o.meddle(d.lab)
	}
	began := time.Now()
	if err := d.all(ctx, trials); err != nil {
		return d.report, err
	}
	d.report.Took = time.Since(began)
	for _, r := range d.report.Runs {
		if r.Match {
			d.report.Matched++
		}
	}
	return d.report, ctx.Err()
}

// roomFor returns how many trials at the same time have addresses of their own.
func roomFor(network netip.Prefix, s *site.Site) int {
	if !network.IsValid() {
		network = s.Lab.Network
	}
	room := 1<<(32-network.Bits()) - 64 - len(s.Servers) - 2*len(s.Devices)
	return max(1, room/max(1, len(s.Devices)))
}

type drill struct {
	Options
	passwords passwords
	lab       *lab.Lab
	report    Report
}

// trials returns every login that is to be tried, in the order of the site.
func (d *drill) trials() []trial {
	f := foresee.Forecaster{Site: d.Site, Keys: d.Keys, Now: time.Now(), Faults: d.Faults,
		Soon: foresee.Soon / time.Duration(d.Factor)}
	var all []trial
	for _, device := range d.Site.Devices {
		for _, c := range f.Behaving(device, device.As(d.Lab.Behaves)).For(device) {
			if d.Choose != nil && !d.Choose(c) {
				continue
			}
			if why := d.cannot(c); why != "" {
				d.report.Skipped[why]++
				continue
			}
			all = append(all, trial{c: c})
		}
	}
	return all
}

// cannot says why a login cannot be tried here, "" where it can.
func (d *drill) cannot(c foresee.Case) string {
	if !login.Has(c.Way.Access) {
		return "stand-ins have no way in by " + c.Way.Access
	}
	return ""
}

// all tries all trials, several at once; those that did not match again, at a
// lower rate; and those that still do not, alone: a busy machine answers late.
func (d *drill) all(ctx context.Context, trials []trial) error {
	runs := make([][]Run, len(trials))
	todo := make([]int, len(trials))
	for i := range todo {
		todo[i] = i
	}
	done := 0
	for pass, slower := range []int{1, 3, 9} {
		tell := func() {}
		if pass == 0 && d.Done != nil {
			var mu sync.Mutex
			tell = func() {
				mu.Lock()
				defer mu.Unlock()
				done++
				d.Done(done, len(trials))
			}
		}
		if err := d.pass(ctx, trials, runs, todo, max(1, d.Rate/slower), tell); err != nil || ctx.Err() != nil {
			return err
		}
		todo = slices.DeleteFunc(todo,
			func(i int) bool { return !slices.ContainsFunc(runs[i], func(r Run) bool { return !r.Match }) })
		if len(todo) < fewLeft {
			break
		}
	}
	certain := 0
	for _, i := range todo {
		if certain == enough { // it is not the machine
			break
		}
		certain++
		for range mostRetries {
			var err error
			if runs[i], err = d.try(ctx, trials[i], 0); err != nil {
				return err
			}
			for j := range runs[i] {
				runs[i][j].Retried = true
			}
			if !slices.ContainsFunc(runs[i], func(r Run) bool { return !r.Match }) {
				certain--
				break
			}
		}
	}
	for _, some := range runs {
		d.report.Runs = append(d.report.Runs, some...)
	}
	return nil
}

// fewLeft is below how many trials that did not match no further pass is made.
const fewLeft = 20

// enough is how many trials that do not match alone either show that the machine
// is not what makes the others late.
const enough = 5

// pass tries some trials, so many begun in a second.
func (d *drill) pass(ctx context.Context, trials []trial, runs [][]Run, todo []int, perSecond int, tell func()) error {
	var next atomic.Int64
	var failed error
	var once sync.Once
	var workers routine.Group
	begin := rate.NewLimiter(rate.Limit(perSecond), 8) // so many at once that answers come late would be no drill
	// one that has nothing to try would wait for its turn all the same
	for n := range min(d.AtOnce, len(todo)) {
		workers.Go(func() {
			for begin.Wait(ctx) == nil {
				k := int(next.Add(1)) - 1
				if k >= len(todo) {
					return
				}
				some, err := d.try(ctx, trials[todo[k]], n)
				if err != nil {
					once.Do(func() { failed = err })
					return
				}
				for j := range some {
					some[j].Retried = runs[todo[k]] != nil
				}
				runs[todo[k]] = some
				tell()
			}
		})
	}
	workers.Wait()
	return failed
}

// mostRetries is how often a login is tried alone, at most, before it counts as a
// mismatch: that can be repeated, a late answer of a busy machine cannot.
const mostRetries = 4

// try tries one login, and the second one where servers then rest.
func (d *drill) try(ctx context.Context, t trial, n int) ([]Run, error) {
	traces := make(chan evidence.Trace, 64)
	extra, err := d.lab.Extra(t.c.Device, n, t.c.Way, func(t evidence.Trace) {
		if t.Kind == evidence.TraceLogin {
			traces <- t
		}
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", t.c.Device.Name, err)
	}
	defer extra.Close()
	for _, w := range t.c.When {
		if w.State != foresee.Up {
			extra.Afflict(w.Server, string(w.State))
		}
	}
	attempt := login.Attempt{Access: t.c.Way.Access, Address: extra.Address(), HostKey: extra.HostKey(),
		Trusted: extra.Trusted(), ServerName: t.c.Device.Name, Person: t.c.Who.Typed(),
		Password: d.passwords.login(t.c), Patience: 2 * time.Minute}
	if t.c.RaiseTried {
		attempt.Raise = &login.Raise{Level: 15, Password: d.passwords.raise(t.c)}
	}
	one := func(foreseen Story, again bool) (Run, error) {
		seen, err := login.Do(ctx, attempt)
		if err != nil {
			return Run{}, fmt.Errorf("%s by %s: %w", t.c.Device.Name, t.c.Way.Name(), err)
		}
		r := Run{Case: t.c, Again: again, Foreseen: foreseen}
		// A client whose patience is over is gone before the device has walked its lists.
		late := time.NewTimer(time.Duration(foreseen.Wait*float64(time.Second))/time.Duration(d.Factor) + traceWithin)
		defer late.Stop()
		select {
		case trace := <-traces:
			r.Seen = d.seen(seen, trace)
		case <-late.C:
			r.Seen = Story{Outcome: seen.Outcome, Level: seen.Level, Raised: seen.Raised, Detail: seen.Detail}
		}
		r.Why = mismatch(r.Foreseen, r.Seen, d.Factor)
		r.Match = r.Why == ""
		return r, nil
	}
	first, err := one(d.foreseen(t.c), false)
	if err != nil || t.c.Again == nil {
		return []Run{first}, err
	}
	attempt.Raise = nil
	// The record of the end of the first session may itself find servers silent:
	// what rests then is not what the second login was foreseen with.
	if first.Seen.Outcome == walk.OutcomeIn && t.c.Way.Lists[site.RecordSessions] != nil {
		return []Run{first}, nil
	}
	pause := time.NewTimer(foresee.Soon / time.Duration(d.Factor)) // a short dead-time may be over by then
	defer pause.Stop()
	select {
	case <-pause.C:
	case <-ctx.Done():
	}
	attempt.Password = d.passwords.loginAgain(t.c)
	second, err := one(d.foreseenAgain(t.c), true)
	return []Run{first, second}, err
}

// traceWithin is how long after the time that was foreseen a device, on a busy machine,
// may note what it did.
const traceWithin = 5 * time.Second

// foreseen puts a case into a story, unscaled.
func (d *drill) foreseen(c foresee.Case) Story {
	s := Story{Outcome: outcomeOf(c.Outcome), By: c.By, Reason: c.Reason,
		Wait: (c.Wait * time.Duration(d.Factor)).Seconds()}
	if s.Outcome == walk.OutcomeIn {
		s.Level, s.Raised = c.Level, c.Raised
	}
	for _, step := range c.Steps {
		s.Steps = append(s.Steps, evidence.StepOf(step))
	}
	return s
}

func (d *drill) foreseenAgain(c foresee.Case) Story {
	a := c.Again
	s := Story{Outcome: outcomeOf(a.Outcome), By: a.By, Reason: a.Reason,
		Wait: (a.Wait * time.Duration(d.Factor)).Seconds()}
	if s.Outcome == walk.OutcomeIn {
		s.Level, s.Raised = a.Level, a.Level
	}
	return s
}

// outcomeOf is what a client can see of an outcome.
func outcomeOf(o walk.Outcome) walk.Outcome {
	if o == walk.OutcomeRefused {
		return walk.OutcomeRefused
	}
	return walk.OutcomeIn
}

// seen puts what the client saw, and what the device noted, into a story.
func (d *drill) seen(seen login.Seen, t evidence.Trace) Story {
	s := Story{Outcome: seen.Outcome, Level: seen.Level, Raised: seen.Raised, By: t.By, Reason: t.Reason,
		Wait:  t.Seconds * float64(d.Factor),
		Steps: t.Steps}
	return s
}

// Tolerance of a wait that was seen against the one foreseen: a twentieth less
// for the jitter of retransmissions, and for a busy machine a quarter more and
// an eighth of a second of the scaled time.
const (
	lessShare = 0.06
	moreShare = 0.25
	moreTime  = 125 * time.Millisecond
)

// mismatch says what differs between what was foreseen and what was seen, ""
// when nothing does.
func mismatch(foreseen, seen Story, factor int) string {
	more := foreseen.Wait*(1+moreShare) + moreTime.Seconds()*float64(factor)
	switch {
	case foreseen.Outcome != seen.Outcome:
		return fmt.Sprintf("%s was foreseen, and %s was seen", foreseen.Outcome, seen.Outcome)
	case foreseen.Outcome == walk.OutcomeIn && foreseen.Level != seen.Level && seen.Level != login.UnknownLevel:
		return fmt.Sprintf("level %d was foreseen, and level %d was seen", foreseen.Level, seen.Level)
	case foreseen.Outcome == walk.OutcomeIn && foreseen.Raised != seen.Raised && seen.Raised != login.UnknownLevel &&
		seen.Level != login.UnknownLevel:
		return fmt.Sprintf("level %d after an elevation was foreseen, and level %d was seen", foreseen.Raised,
			seen.Raised)
	case foreseen.By != seen.By:
		return fmt.Sprintf("%s was foreseen to decide, and %s did", nobody(foreseen.By), nobody(seen.By))
	case seen.Wait < foreseen.Wait*(1-lessShare)-0.01 || seen.Wait > more:
		return fmt.Sprintf("a wait of %.1f s was foreseen, and %.1f s were seen", foreseen.Wait, seen.Wait)
	}
	return ""
}

func nobody(name string) string {
	if name == "" {
		return "nobody"
	}
	return name
}
