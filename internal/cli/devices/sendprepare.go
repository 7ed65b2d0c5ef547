package devices

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/task/cliplan"
	"mellowgate/internal/task/rollout"
)

// devicesToSend returns the devices that are named, or left of the last run.
func devicesToSend(c *call.Call, f *sendFlags) ([]*site.Device, call.Loaded, error) {
	if !f.resume {
		return devicesOfSite(c, f.managing, false)
	}
	all, done, moment, err := rollout.Last(c.Context, f.keep)
	if err != nil {
		return nil, call.Loaded{}, call.UsageError(fmt.Errorf("-resume: %w", err))
	}
	left := rollout.Left(all, done)
	c.Note("the run of %s named %s; %d of them hold the design, %s", moment.Local().Format("2006-01-02 15:04:05 MST"),
		show.Count(len(all), "device"), len(done), leftWords(left))
	if len(c.Args) > 1 {
		return nil, call.Loaded{}, call.Usagef("-resume takes the devices of the last run: name none")
	}
	c.Args = append(left, c.Args...)
	if len(left) == 0 {
		_, l, err := devicesOfSite(c, f.managing, true)
		return nil, l, err
	}
	return devicesOfSite(c, f.managing, false)
}

func leftWords(left []string) string {
	if len(left) == 0 {
		return "none is left"
	}
	return strings.Join(left, ", ") + " left"
}

// order checks how several devices are to be worked on.
func (f *sendFlags) order(l call.Loaded, devices []*site.Device) (canary *site.Device, err error) {
	switch {
	case f.address != "" && len(devices) > 1:
		return nil, call.Usagef("-address is that of one device, and %d are named", len(devices))
	case f.atOnce < 1 || f.atOnce > mostAtOnce:
		return nil, call.Usagef("-at-once is from 1 to %d", mostAtOnce)
	case f.canary == "":
		return nil, nil
	}
	d, err := l.DeviceNamed(f.canary)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(devices, d) {
		return nil, call.Usagef("-canary %s: name it among the devices too", f.canary)
	}
	return d, nil
}

// foreseenIn returns what is foreseen of a login by netconf after the change with
// every server up, and an error where the person would not get in.
func foreseenIn(l call.Loaded, d *site.Device, person, teams string) (foreseen, error) {
	if person == "" {
		return foreseen{}, call.Usagef("who logs in? Name somebody with -person")
	}
	way := d.Managed()
	if way == nil {
		return foreseen{}, call.Usagef("%s has no way in by netconf in the site: after the change nobody could "+
			"confirm it", d.Name)
	}
	return foreseenBy(l, d, way, person, teams)
}

// foreseen is what foresee says of a device after the change.
type foreseen struct {
	who    foresee.Who
	person foresee.Case
	worst  time.Duration
	silent []string // who gets in with full rights when every server is silent, and by which ways in
}

// whenSilent returns who gets in with full rights when all servers are silent.
func whenSilent(r foresee.Forecaster, d *site.Device) []string {
	var all []string
	for _, sh := range r.Shapes([]*site.Device{d}) {
		silent := map[*site.Server]bool{}
		for _, s := range sh.Servers() {
			silent[s] = true
		}
		ways, waits := map[string][]string{}, map[string]time.Duration{}
		var names []string
		for _, k := range sh.For(d) {
			if name := k.Who.Name; k.Full() && k.Holds(silent) {
				names = call.AddNew(names, name)
				ways[name], waits[name] = append(ways[name], k.Way.Name()), max(waits[name], k.Wait)
			}
		}
		for _, name := range names {
			all = append(all, fmt.Sprintf("%s by %s, after at most %s", name, strings.Join(ways[name], ", "),
				waits[name]))
		}
	}
	return all
}

// windowOf is how long a change runs without a confirmation: room for every
// proof at the worst wait, and a minute.
func windowOf(worst time.Duration) time.Duration {
	return time.Minute + 6*worst.Round(time.Second)
}

// job is one device, ready to be worked on.
type job struct {
	d        *site.Device
	l        call.Loaded
	t        device.Target
	foreseen foreseen
	lines    *cliplan.Session // at its command line; nil: over NETCONF or RESTCONF
	prover   rollout.Prover
	lab      *labOf // nil outside of one
}

// open logs in as who makes the change. Once it runs that may be the person who proves
// it, and nobody else.
func (s *job) open(ctx context.Context) (device.Manager, error) {
	if s.prover.Changer == nil || s.t.RESTCONF { // over RESTCONF whoever is let in does each request
		return device.Manage(ctx, s.t)
	}
	session, err := device.Manage(ctx, *s.prover.Changer)
	if errors.Is(err, device.ErrRefused) {
		if other, also := device.Manage(ctx, s.t); also == nil {
			return other, nil
		}
	}
	return session, err
}

// changer returns who makes the change, where that is not the person who proves it.
func (f *sendFlags) changer(t device.Target) (*device.Target, error) {
	if f.now == "" {
		return nil, nil
	}
	if f.nowSecret == nil {
		secret, err := f.nowPassword(f.now)
		if err != nil {
			return nil, err
		}
		f.nowSecret = &secret
	}
	t.Person = f.now
	t.Auth = device.PasswordAuth(*f.nowSecret)
	t.Password = *f.nowSecret
	return &t, nil
}

// prepareSending finds out all that is needed for a device, and asks for what is
// to be asked for.
func prepareSending(c *call.Call, f *sendFlags, l call.Loaded, d *site.Device) (*job, error) {
	if access := f.commandLine(c, d, f.over); access != "" {
		return prepareLines(c, f, l, d, access)
	}
	s := &job{d: d, l: l}
	var err error
	if s.foreseen, err = foreseenIn(l, d, f.person, f.teams); err != nil {
		return nil, err
	}
	if s.t, err = f.targetOf(c, d); err != nil {
		return nil, err
	}
	s.prover = rollout.Prover{Reckoner: l.Reckoner(), Device: d, Target: s.t, Who: s.foreseen.who,
		Say: func(step string) { c.Note("%s: %s", d.Name, step) }}
	if s.prover.Changer, err = f.changer(s.t); err != nil {
		return nil, err
	}
	if s.prover.Fallback, err = f.fallbackOf(d); err != nil {
		return nil, err
	}
	if s.t.RESTCONF && !f.dry {
		if s.prover.Fallback == nil {
			return nil, call.Usagef("%s is managed over RESTCONF, where every request logs in anew: a change that "+
				"shuts %s out could not be put back. Give the password of its local account, which can: "+
				"-fallback-password-file", d.Name,
				f.person)
		}
		s.t.Others = append(s.t.Others, device.Identity{
			Person: s.prover.Fallback.Name, Password: s.prover.Fallback.Password})
		if f.now != "" {
			s.t.Others = append(s.t.Others, device.Identity{Person: f.now, Password: *f.nowSecret})
		}
	}
	places, lab := f.lab(c)
	if f.address == "" || !lab {
		f.watch(&s.prover)
	}
	if lab && f.address == "" {
		if s.lab, err = openLab(c, f, l, d, places); err != nil {
			return nil, err
		}
		if f.secret != nil {
			s.prover.Lab = s.lab.proofs(*f.secret)
		}
	}
	return s, nil
}

// fallbackOf returns the local account to prove, nil for none.
func (f *sendFlags) fallbackOf(d *site.Device) (*rollout.Fallback, error) {
	if f.fallback == "" && !f.fallbackGiven() {
		return nil, nil
	}
	name := f.fallback
	if name == "" {
		logins := d.Logins()
		i := slices.IndexFunc(logins, func(a *site.Account) bool { return a.Level == 15 })
		if i < 0 {
			return nil, call.Usagef("%s has no local account of level 15 in the site; name one with -fallback", d.Name)
		}
		name = logins[i].Name
	}
	if d.Account(name) == nil {
		var have []string
		for _, a := range d.Logins() {
			have = append(have, a.Name)
		}
		return nil, call.Usagef("%s has no local account %s in the site%s", d.Name, name, nearest.Suggest(name, have))
	}
	if f.fallbackSecret == nil {
		s, err := f.fallbackPassword("the local account " + name)
		if err != nil {
			return nil, err
		}
		f.fallbackSecret = &s
	}
	return &rollout.Fallback{Name: name, Password: *f.fallbackSecret}, nil
}
