// Package learn finds out how a device behaves by experiments: it plays the servers that
// the device asks, logs in to it, and tells what was seen to the learner in core. It leaves
// the device as it was: it only logs in, and out.
package learn

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/foresee"
	core "mellowgate/internal/core/learn"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/server/fakeaaa"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/task"
)

// Config is how a device is reached and what is found out. Site is a copy that nobody else
// uses: its people become those of the experiments. Device is one of it.
type Config struct {
	Site     *site.Site
	Keys     site.Keys
	Device   *site.Device
	Account  string      // the local account of the way back
	Password site.Secret // its password
	Failures int         // logins in a row that may fail; default 3
	Again    bool        // what the site says is found out too
	Ways     []string    // the accesses that can be tried
	// Where gives where a server is played.
	Where func(*site.Server) gate.Place
	// Clients are the addresses that the device asks from, beside those of the site.
	Clients map[netip.Addr]*site.Device
	// Directory knows who is where in what is captured.
	Directory func() exchange.Directory
	// Attempt is how a way in is tried; its person and password are filled in.
	Attempt func(*site.Way) (login.Attempt, error)
	// ByHand is asked to log in where Attempt cannot, and what was seen. nil: such ways are
	// not among Ways.
	ByHand func(ctx context.Context, l foresee.Login) (core.Seen, error)
	// InService lets others ask the played servers meanwhile.
	InService bool
	// Known are results of an earlier run, by experiment; Kept is given each new one.
	Known []Done
	Kept  func(Done) error
	Say   func(string) // what happens, for people; default: nothing
}

// Done is one experiment that was made.
type Done struct {
	Experiment string      `json:"experiment"`
	Seen       []core.Seen `json:"seen"`
}

// Report is what was found out.
type Report struct {
	Claimed     map[site.Aspect]string
	Left        map[site.Aspect][]string // of aspects that are not claimed: what is still possible
	Proof       map[site.Aspect][]string // the experiments that show it, in words
	Odd         []string                 // what nothing explains
	Measured    core.Measured
	Experiments int
	Logins      int
	Took        time.Duration
	// Patience is how long a login waited that then got in: the way in waits so long at least.
	Patience time.Duration
}

// ErrNoWayBack is that the local account did not get in while no server answers: nothing
// else is tried.
var ErrNoWayBack = errors.New("the way back is not proven")

// ErrInService is that somebody else logs in to the device.
var ErrInService = errors.New("the device is in service")

// ErrOdd is a device that does, again and again, what no aspect explains.
var ErrOdd = errors.New("the device does what no behaviour that is known of explains, so nothing more is tried")

// mostWaysBack is by how many ways in the way back is tried to be proven.
const mostWaysBack = 2

// mostTimes is how often an experiment is made until something explains what is seen.
const mostTimes = 3

// mostOdd is how many experiments in a row may come out so.
const mostOdd = 4

// run is one run of Learn.
type run struct {
	Config
	learner *core.Learner
	players *fakeaaa.Players
	meter   *core.Meter
	report  Report
	odd     int // experiments in a row that nothing explains
}

// prepare makes the learner, and the people whom the played servers know.
func prepare(c Config) (*core.Learner, error) {
	core.Cast(c.Site, c.Device.Platform)
	c.Keys[core.LearnersKey] = learnersPassword
	c.Site.Service = site.DefaultService()
	c.Site.Service.Limits.FailureDelay = 0
	l, err := core.New(core.Options{Reckoner: foresee.Forecaster{Site: c.Site, Keys: c.Keys, Now: time.Now()},
		Device: c.Device, Account: c.Account, Ways: c.Ways, Again: c.Again, Failures: c.Failures})
	if err != nil {
		return nil, task.Wrong("%v", err)
	}
	return l, nil
}

// learnersPassword opens the played servers alone.
var learnersPassword = site.NewSecret(PasswordOfExperiments)

// PasswordOfExperiments is that of the people whom only the played servers know. It is no
// secret: it opens nothing else, and nothing once the experiment is over.
const PasswordOfExperiments = "open-for-an-experiment-only"

// Plan is what would be tried on a device that has the usual behaviour: how many logins, and
// how long it takes.
type Plan struct {
	Open   []site.Aspect
	Steps  []string
	Logins int
	Took   time.Duration
	Back   string // the login that proves the way back, "" where there is none
}

// MakePlan works out what would be tried.
func MakePlan(c Config) (Plan, error) {
	l, err := prepare(c)
	if err != nil {
		return Plan{}, err
	}
	p := Plan{Open: l.Open()}
	pretend := core.NewPretender(foresee.Forecaster{Site: c.Site, Keys: c.Keys, Now: time.Now()}, c.Device, c.Device)
	try := func(e core.Experiment) {
		before := pretend.Took
		seen := pretend.Try(e)
		p.Steps = append(p.Steps, fmt.Sprintf("%s (%s)", core.Describe(e, nil),
			(pretend.Took-before).Round(time.Second)))
		l.Saw(e, seen)
	}
	if back := l.Back(); len(back) > 0 {
		p.Back = core.Describe(back[0], nil)
		try(back[0])
	}
	for range mostExperiments {
		e, more := l.Next()
		if !more {
			break
		}
		try(e)
	}
	if e, _, can := l.DeadTime(); can {
		try(e)
	}
	heard := map[string][]string{}
	for _, access := range pretend.Heard() {
		heard[access] = []string{access}
	}
	for _, e := range l.Names(heard) {
		try(e)
	}
	p.Logins, p.Took = pretend.Logins(), pretend.Took
	return p, nil
}

// mostExperiments ends a run that finds no end.
const mostExperiments = 40

// Learn makes experiments until none tells anything more. After an error, or at the end of
// the context, the report has what was found out until then.
func Learn(ctx context.Context, c Config) (Report, error) {
	if c.Say == nil {
		c.Say = func(string) {}
	}
	if c.Kept == nil {
		c.Kept = func(Done) error { return nil }
	}
	l, err := prepare(c)
	if err != nil {
		return Report{}, err
	}
	r := &run{Config: c, learner: l, report: Report{Proof: map[site.Aspect][]string{}}, meter: core.NewMeter()}
	r.players = fakeaaa.New(fakeaaa.Config{Site: c.Site, Keys: c.Keys, Clients: c.Clients, Servers: c.Device.Servers(),
		Where: c.Where})
	defer r.players.Close()
	began := time.Now()
	err = r.all(ctx)
	r.report.Took = time.Since(began)
	r.report.Claimed, r.report.Odd = l.Claimed(), l.Odd()
	r.report.Left, r.report.Measured = map[site.Aspect][]string{}, r.meter.Measured()
	for _, t := range l.Open() {
		if _, claimed := r.report.Claimed[t]; !claimed {
			r.report.Left[t] = l.Left(t)
		}
	}
	return r.report, err
}

func (r *run) all(ctx context.Context) error {
	back := r.learner.Back()
	if len(back) == 0 {
		return fmt.Errorf("%w: on %s no local account with a known password gets in while every server is silent; "+
			"end the login list of one way in with local, and name the account with -account", ErrNoWayBack,
			r.Device.Name)
	}
	if err := r.wayBack(ctx, back); err != nil {
		return err
	}
	for range mostExperiments {
		e, more := r.learner.Next()
		if !more {
			break
		}
		if err := r.one(ctx, e); err != nil {
			return err
		}
	}
	if err := r.deadTime(ctx); err != nil {
		return err
	}
	for _, e := range r.learner.Names(r.meter.Measured().Names) {
		if _, known := r.known(e); known {
			continue
		}
		if err := r.one(ctx, e); err != nil {
			return err
		}
	}
	return nil
}

// deadTime measures for how long a server is left alone.
func (r *run) deadTime(ctx context.Context) error {
	e, server, can := r.learner.DeadTime()
	if !can {
		return nil
	}
	seen, err := r.obtain(ctx, e, 1)
	if err != nil {
		return err
	}
	if err := r.keep(e, seen); err != nil {
		return err
	}
	least, most := core.LeftAlone(e, server, seen)
	r.meter.LeftAlone(server.Name, least, most)
	return nil
}

// wayBack proves that the local account gets in while every server is silent, by the first way
// in by which it does. What else such a login shows counts only then: a password that is
// mistyped shows nothing of the device.
func (r *run) wayBack(ctx context.Context, back []core.Experiment) error {
	var failed []string
	like := ""
	for _, e := range back[:min(len(back), mostWaysBack)] {
		seen, err := r.obtain(ctx, e, 1)
		if err != nil {
			return err
		}
		if seen[len(seen)-1].In {
			if err := r.keep(e, seen); err != nil {
				return err
			}
			return r.take(e, seen)
		}
		failed = append(failed, core.Describe(e, seen))
		like = cmp.Or(like, r.learner.Like(e, seen))
	}
	why := "Is the password that of the account?"
	if like != "" {
		why += " If it is: a device with " + like + " does the same."
	}
	return fmt.Errorf("%w: %s. Nothing else was tried. %s", ErrNoWayBack, strings.Join(failed, "; "), why)
}

// known returns what an earlier run saw of an experiment.
func (r *run) known(e core.Experiment) ([]core.Seen, bool) {
	name := core.Describe(e, nil)
	i := slices.IndexFunc(r.Known, func(d Done) bool { return d.Experiment == name && len(d.Seen) == len(e.Logins) })
	if i < 0 {
		return nil, false
	}
	return r.Known[i].Seen, true
}

// keep keeps what was seen of an experiment, unless an earlier run did.
func (r *run) keep(e core.Experiment, seen []core.Seen) error {
	if _, known := r.known(e); known {
		return nil
	}
	return r.Kept(Done{Experiment: core.Describe(e, nil), Seen: seen})
}

// one makes an experiment, and learns from it.
func (r *run) one(ctx context.Context, e core.Experiment) error {
	seen, err := r.obtain(ctx, e, mostTimes)
	if err == nil {
		err = r.keep(e, seen)
	}
	if err != nil {
		return err
	}
	return r.take(e, seen)
}

// obtain makes an experiment, so often at most until something explains it, or takes what
// an earlier run saw of it.
func (r *run) obtain(ctx context.Context, e core.Experiment, times int) ([]core.Seen, error) {
	r.report.Experiments++
	seen, known := r.known(e)
	if !known {
		var err error
		for range times { // a machine that is busy just now may be late
			if seen, err = r.make(ctx, e); err != nil {
				return nil, err
			}
			if r.learner.Explained(e, seen) {
				break
			}
		}
	}
	r.Say(core.Describe(e, seen))
	return seen, nil
}

// take learns from what was seen.
func (r *run) take(e core.Experiment, seen []core.Seen) error {
	text, before := core.Describe(e, seen), r.learner.Claimed()
	if r.learner.Saw(e, seen) {
		r.odd = 0
	} else {
		r.Say("no behaviour that is known of explains this: nothing is learned from it")
		if r.odd++; r.odd == mostOdd {
			return fmt.Errorf("%w: %s", ErrOdd, text)
		}
	}
	for t, value := range r.learner.Claimed() {
		if _, had := before[t]; !had {
			r.report.Proof[t] = append(r.report.Proof[t], text)
			r.Say("so " + t.Written(value))
		}
	}
	return nil
}
