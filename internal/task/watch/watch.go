// Package watch follows a running service or lab for a screen: its figures, its events,
// its logins with their causes, and its open sessions.
package watch

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/watch"
	"mellowgate/internal/live/client/metricsclient"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/routine"
	"mellowgate/internal/task/gather"
)

// The times between two looks.
const (
	figuresEvery  = time.Second
	sessionsEvery = 5 * time.Second
	// sessionsOf is how old a session may be to be looked for.
	sessionsOf = 24 * time.Hour
)

// Watching is what is followed.
type Watching struct {
	gather.Following               // without Each, Started, All and Came
	Ledger           ledger.Source // where sessions are read; nil: nowhere
	// Tell is given each thing that was seen, to be noted. Several goroutines call it.
	Tell func(note func(*watch.Seen))
}

// Run follows until ctx ends, or the folder cannot be read.
func (w Watching) Run(ctx context.Context) error {
	w.All = true
	w.Came = func(e evidence.Evidence, left gather.LeftOut) {
		if moment := time.Now(); len(e.Events) > 0 {
			w.Tell(func(s *watch.Seen) { s.Events(moment, e.Events, left.All) })
		}
	}
	w.Each = func(v diagnose.Verdict) { w.Tell(func(s *watch.Seen) { s.Login(v) }) }
	group, ctx := errgroup.WithContext(ctx)
	group.Go(routine.Work(func() error { return gather.Follow(ctx, w.Following) }))
	group.Go(routine.Work(func() error { return every(ctx, figuresEvery, w.figures) }))
	if w.Ledger != nil {
		group.Go(routine.Work(func() error { return every(ctx, sessionsEvery, w.sessions) }))
	}
	return group.Wait()
}

// every does something now, and again and again until ctx ends.
func every(ctx context.Context, pause time.Duration, do func(context.Context)) error {
	ticker := time.NewTicker(pause)
	defer ticker.Stop()
	for {
		do(ctx)
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
	}
}

func (w Watching) figures(ctx context.Context) {
	f, err := metricsclient.Of(ctx, w.Folder)
	moment := time.Now()
	if ctx.Err() != nil {
		return
	}
	w.Tell(func(s *watch.Seen) {
		if err != nil {
			s.NoFigures(err.Error())
		} else {
			s.Figures(moment, f)
		}
	})
}

func (w Watching) sessions(ctx context.Context) {
	all, err := ledger.Sessions(ctx, w.Ledger, ledger.Filter{Since: time.Now().Add(-sessionsOf)})
	if ctx.Err() != nil {
		return
	}
	var open []watch.Session
	for _, s := range all {
		if s.End == nil && !s.Lost && s.Start != nil {
			open = append(open, watch.Session{Person: s.Person, Device: s.Device, Access: s.Access, Since: *s.Start})
		}
	}
	w.Tell(func(s *watch.Seen) {
		if err != nil {
			s.NoSessions(err.Error())
		} else {
			s.Sessions(open)
		}
	})
}
