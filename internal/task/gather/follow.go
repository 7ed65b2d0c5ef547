package gather

import (
	"context"
	"maps"
	"slices"
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
	// lately is how many octets of each file count as noted lately.
	lately = 1 << 17
	// most is how many events, and how many of all else, stay at hand: of a crowd
	// the newest.
	most = 5000
	// mostNo and mostOthers are how many events that say no, and how many others, are looked
	// at of those that came between two looks: to judge one login takes a millisecond where
	// the site is known.
	mostNo     = 100
	mostOthers = 50
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
	// All gives Each every login, those that went well and those of which only a part
	// is there too, and begins with what was noted lately.
	All bool
	// Came is told what was noted, before any login of it, and how many events were left
	// out of that: of a crowd only some are judged. Default: nobody is.
	Came func(came evidence.Evidence, left LeftOut)
}

// LeftOut is how many events of a crowd are not looked at: all of them, and of these
// those that say no.
type LeftOut struct{ All, No int }

// told is what makes a login one that was told.
type told struct {
	device, person, access string
	at                     time.Time
}

// toldsOf are the marks of a login: by its end, and by its begin, for its begin may be
// forgotten and more may come to its end.
func toldsOf(s diagnose.Story) [2]told {
	by := told{device: s.Device, person: s.Person, access: s.Access, at: s.Time}
	first := by
	if s.Login == nil && len(s.Events) > 0 {
		first.at = s.Events[0].Time
	}
	return [...]told{by, first}
}

// thinned returns the events of a crowd that are looked at: the newest that say no, what
// else there is of the same person on the same device, and the newest of the rest.
func thinned(events []evidence.Event) (some []evidence.Event, left LeftOut) {
	if len(events) <= mostNo+mostOthers {
		return events, LeftOut{}
	}
	type of struct{ device, person string }
	bad := map[of]bool{}
	others := 0
	told := 0
	for _, e := range slices.Backward(events) {
		if isNo(e) && told < mostNo {
			bad[of{e.Device, e.Person}] = true
			told++
		}
	}
	told = 0
	for _, e := range slices.Backward(events) {
		switch {
		case bad[of{e.Device, e.Person}] && told < 2*mostNo:
			told++
		case !isNo(e) && others < mostOthers:
			others++
		default:
			left.All++
			if isNo(e) {
				left.No++
			}
			continue
		}
		some = append(some, e)
	}
	slices.Reverse(some)
	return some, left
}

// isNo reports whether an event is of a question that did not go well.
func isNo(e evidence.Event) bool {
	return e.Answer == evidence.Refused || e.Answer == evidence.Failed || e.Answer == evidence.Dropped
}

// Follow tells the cause of each failed login as it happens, until ctx ends.
func Follow(ctx context.Context, f Following) error {
	tail, began := f.Folder.Tail(), time.Now()
	if f.All {
		tail, began = f.Folder.TailFrom(lately), time.Time{}
	}
	if f.Started != nil {
		f.Started()
	}
	var have evidence.Evidence
	done := map[told]bool{}
	waits := false // a login that may not be over
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
		var left LeftOut
		more.Events, left = thinned(more.Events)
		if f.Came != nil {
			f.Came(more, left)
		}
		if len(more.Events)+len(more.Traces)+len(more.Log) == 0 && !waits {
			continue // all that there is was judged
		}
		more.Log, _ = Understood(more.Log, f.Site, f.Base)
		now := time.Now()
		if own, err := f.Folder.Own(); err == nil {
			more = more.WithoutOwn(own)
		}
		have = have.After(now.Add(-keptFor)).With(more).Newest(most)
		have.Site = f.Site
		have.Keys = f.Keys
		have.Now = now
		waits = false
		maps.DeleteFunc(done, func(t told, _ bool) bool { return now.Sub(t.at) > 2*keptFor })
		want := func(s diagnose.Story) bool {
			marks := toldsOf(s)
			if done[marks[0]] || done[marks[1]] || s.Time.Before(began.Add(-settles)) {
				return false
			}
			over := s.Login != nil || now.Sub(s.Time) >= settles
			waits = waits || !over
			return over
		}
		diagnose.Each(have, f.Symptom, want, func(v diagnose.Verdict) {
			if f.All || !v.Healthy && !v.Unseen {
				for _, mark := range toldsOf(v.Story) {
					done[mark] = true
				}
				f.Each(v)
			}
		})
	}
}
