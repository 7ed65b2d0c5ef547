package learn

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/foresee"
	core "mellowgate/internal/core/learn"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/task/gather"
	"mellowgate/internal/wire/capture"
)

// make makes the logins of an experiment, and waits until no server is left alone.
func (r *run) make(ctx context.Context, e core.Experiment) ([]core.Seen, error) {
	var sightings []core.Seen
	for _, l := range e.Logins {
		if err := pause(ctx, l.After); err != nil {
			return nil, err
		}
		seen, err := r.login(ctx, l)
		if err != nil {
			return nil, err
		}
		r.report.Logins++
		if seen.In && !seen.Unclocked {
			r.report.Patience = max(r.report.Patience, seen.Wait)
		}
		sightings = append(sightings, seen)
	}
	return sightings, pause(ctx, e.Rest)
}

func pause(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// login makes one login while the servers are in its states.
func (r *run) login(ctx context.Context, l foresee.Login) (core.Seen, error) {
	states := map[*site.Server]foresee.State{}
	for _, c := range l.When {
		states[c.Server] = c.State
	}
	if err := r.players.Open(states); err != nil {
		return core.Seen{}, err
	}
	seen, err := r.enter(ctx, l)
	if err == nil && seen.In {
		r.settle(ctx, l, states)
	}
	packets := r.players.Close()
	if err != nil {
		return seen, err
	}
	exchanges, err := r.read(packets, l)
	if err != nil {
		return seen, err
	}
	var strangers []string
	seen.Asked, strangers = core.AskedIn(exchanges, l.Who.Typed())
	if len(strangers) > 0 && !r.InService {
		return seen, fmt.Errorf("%w: %s logged in to %s meanwhile. Take it out of service, or say -in-service",
			ErrInService,
			strings.Join(strangers, ", "), r.Device.Name)
	}
	return seen, nil
}

func (r *run) enter(ctx context.Context, l foresee.Login) (core.Seen, error) {
	password := learnersPassword
	switch l.Who.Kind {
	case foresee.Local:
		password = r.Password
	case foresee.Unknown:
		password = site.NewSecret("nobody-has-this-one")
	}
	a, err := r.Attempt(l.Way)
	if err != nil {
		if r.ByHand == nil {
			return core.Seen{}, err
		}
		return r.ByHand(ctx, l)
	}
	a.Person, a.Password = l.Who.Typed(), password
	did, err := login.Do(ctx, a)
	switch {
	case err != nil:
		return core.Seen{}, err
	case ctx.Err() != nil:
		return core.Seen{}, ctx.Err()
	case did.Outcome == walk.OutcomeNoAnswer || did.Outcome == walk.OutcomeUnsure:
		return core.Seen{}, fmt.Errorf("%s by %s gave no answer to a login: %s", r.Device.Name, l.Way.Name(),
			did.Detail)
	}
	seen := core.Seen{In: did.Outcome == walk.OutcomeIn, Level: core.NoLevel, Wait: did.Took}
	if seen.In && did.Level != login.UnknownLevel && site.HasShell(l.Way.Access) {
		seen.Level = did.Level
	}
	return seen, nil
}

// settle waits until the device has told the end of the session, as far as it tells it.
func (r *run) settle(ctx context.Context, l foresee.Login, states map[*site.Server]foresee.State) {
	list := l.Way.Lists[site.RecordSessions]
	if list == nil || list.NoStop {
		return
	}
	most := time.Duration(0)
	for _, s := range list.Servers() {
		p := r.Device.Patience(s)
		most += p.Timeout * time.Duration(max(1, p.Attempts))
		if states[s] == foresee.Up {
			break
		}
	}
	wanted := 1 // the record of the end, behind that of the start where there is one
	if list.Start {
		wanted = 2
	}
	r.players.Await(ctx, most+most/4, func(e evidence.Event) bool {
		if e.Question == site.AskRecordSessions && e.Answer == evidence.Recorded {
			wanted--
		}
		return wanted == 0
	})
}

// read decodes what was captured of a login, and measures it.
func (r *run) read(packets []byte, l foresee.Login) ([]evidence.Exchange, error) {
	open := func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(packets)), nil }
	exchanges, note, err := decode(open, "what was asked", r.Directory(), r.meter)
	if err == nil && note != "" {
		err = errors.New(note)
	}
	r.meter.Login(l.Way.Access, exchanges)
	return exchanges, err
}

// decode reads a capture twice: for the exchanges in it, and for their times.
func decode(open func() (io.ReadCloser, error), name string, d exchange.Directory, m *core.Meter) (
	exchanges []evidence.Exchange, note string, err error) {
	for _, read := range []func(io.Reader) error{
		func(in io.Reader) (err error) { exchanges, note, err = gather.Exchanges(in, name, d); return err },
		func(in io.Reader) error {
			source, err := capture.Open(in)
			if err == nil {
				_, _ = capture.Read(source, m) // what is damaged is in the note already
			}
			return err
		},
	} {
		in, err := open()
		if err == nil {
			err = errors.Join(read(in), in.Close())
		}
		if err != nil {
			return exchanges, note, err
		}
	}
	return exchanges, note, nil
}

// Read measures what a capture has of devices of a platform: how many questions they asked, and
// what these show. The note says where it ends in the middle.
func Read(open func() (io.ReadCloser, error), name string, d exchange.Directory, platform *site.Platform) (
	m core.Measured, questions int, note string, err error) {
	meter := core.NewMeter()
	exchanges, note, err := decode(open, name, d, meter)
	if err != nil {
		return m, 0, note, err
	}
	exchanges = slices.DeleteFunc(exchanges, func(x evidence.Exchange) bool {
		device := d.Site().Device(x.Device)
		return device == nil || device.Platform.Name != platform.Name
	})
	meter.Login("", exchanges)
	return meter.Measured(), len(exchanges), note, nil
}
