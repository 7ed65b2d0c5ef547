package gather

import (
	"context"
	"time"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/state"
)

const (
	lookEvery = 300 * time.Millisecond
	// keptFor is how long what was noted stays at hand: that a server was silent a
	// minute ago says why it rests now.
	keptFor = 15 * time.Minute
	// settles is how long a login is left alone that no device noted: more of it may come.
	settles = 2 * time.Second
)

// Following is how failed logins are followed.
type Following struct {
	Folder  *state.Folder
	Site    *site.Site // nil when not known
	Keys    site.Keys
	Base    string // the folder of the site
	Symptom diagnose.Symptom
	Each    func(diagnose.Verdict) // of each login that failed
	Started func()                 // nothing that comes from then on is missed
}

// told is what makes a login one that was told.
type told struct {
	device, person, access string
	at                     time.Time
}

// Follow tells the cause of each failed login as it happens, until ctx ends.
func Follow(ctx context.Context, f Following) error {
	tail := f.Folder.Tail()
	began := time.Now()
	if f.Started != nil {
		f.Started()
	}
	var have evidence.Evidence
	done := map[told]bool{}
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
		more, err := tail.Next()
		if err != nil {
			return err
		}
		more.Log, _ = Understood(more.Log, f.Site, f.Base)
		now := time.Now()
		if own, err := f.Folder.Own(); err == nil {
			more = more.WithoutOwn(own)
		}
		have = have.After(now.Add(-keptFor)).With(more)
		have.Site, have.Keys, have.Now = f.Site, f.Keys, now
		diagnose.Each(have, f.Symptom, func(v diagnose.Verdict) {
			s := v.Story
			key := told{device: s.Device, person: s.Person, access: s.Access, at: s.Time}
			if v.Healthy || v.Unseen || done[key] || s.Time.Before(began.Add(-settles)) ||
				s.Login == nil && now.Sub(s.Time) < settles {
				return
			}
			done[key] = true
			f.Each(v)
		})
	}
}
