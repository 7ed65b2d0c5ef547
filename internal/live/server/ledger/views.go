package ledger

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/site"
)

// Session is one session on a device, as its records tell.
type Session struct {
	Person  string     `json:"person"`
	Device  string     `json:"device"`
	Access  string     `json:"access"`
	From    string     `json:"from"`
	Level   int        `json:"level"`
	Session string     `json:"session"`
	Start   *time.Time `json:"start"` // nil: its begin was not recorded in this time
	End     *time.Time `json:"end"`   // nil: it is open, as far as the records tell
	Lost    bool       `json:"lost"`  // the device began anew without saying that this ended
}

// Seconds is how long a session was, or is by now.
func (s Session) Seconds(now time.Time) float64 {
	if s.Start == nil {
		return 0
	}
	if s.End != nil {
		now = *s.End
	}
	return now.Sub(*s.Start).Seconds()
}

// Sessions reads the sessions that the filter chooses, the oldest first. A
// device that starts again ends those that it had.
func Sessions(ctx context.Context, from Source, f Filter) ([]Session, error) {
	f.Sessions, f.Last = true, 0
	type key struct{ device, session, person string }
	var all []Session
	open := map[key]int{}
	begins := func(device string) {
		for k, i := range open {
			if k.device == device {
				all[i].Lost = true
				delete(open, k)
			}
		}
	}
	person := f.Person
	f.Person = "" // a device that begins anew has no person
	folded := site.FoldedName(person)
	err := from.Read(ctx, f, func(r Record) error {
		if person != "" && r.Kind != System && site.FoldedName(r.Person) != folded {
			return nil
		}
		k, moment := key{device: r.Device, session: r.Session, person: r.Person}, r.Time
		switch r.Kind {
		case System:
			if strings.HasSuffix(r.Command, " on") || strings.Contains(r.Command, "start") ||
				strings.Contains(r.Command, "reload") {
				begins(r.Device)
			}
		case SessionStart:
			open[k] = len(all)
			all = append(all, Session{Person: r.Person, Device: r.Device, Access: r.Access, From: r.From,
				Level:   r.Level,
				Session: r.Session, Start: &moment})
		case SessionStop:
			if i, ok := open[k]; ok {
				all[i].End = &moment
				delete(open, k)
				return nil
			}
			all = append(all, Session{Person: r.Person, Device: r.Device, Access: r.Access, From: r.From,
				Level:   r.Level,
				Session: r.Session, End: &moment})
		}
		return nil
	})
	return all, err
}

// Failure is how often a name was refused on a device for one reason.
type Failure struct {
	Person string    `json:"person"`
	Device string    `json:"device"`
	Access string    `json:"access"`
	From   string    `json:"from"`
	Reason string    `json:"reason"`
	Count  int       `json:"count"`
	First  time.Time `json:"first"`
	Last   time.Time `json:"last"`
}

// Failures reads what was refused, grouped by who, where, from where and why,
// the most often first.
func Failures(ctx context.Context, from Source, f Filter) ([]Failure, error) {
	f.Refused, f.Last = true, 0
	type key struct{ person, device, access, from, reason string }
	failures := map[key]*Failure{}
	err := from.Read(ctx, f, func(r Record) error {
		reason, _, _ := strings.Cut(r.Reason, ":")
		k := key{person: r.Person, device: r.Device, access: r.Access, from: r.From, reason: reason}
		v := failures[k]
		if v == nil {
			v = &Failure{Person: r.Person, Device: r.Device, Access: r.Access, From: r.From, Reason: reason,
				First: r.Time}
			failures[k] = v
		}
		v.Count++
		v.Last = r.Time
		return nil
	})
	some := make([]Failure, 0, len(failures))
	for _, v := range failures {
		some = append(some, *v)
	}
	slices.SortFunc(some, func(a, b Failure) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), a.First.Compare(b.First), cmp.Compare(a.Person, b.Person),
			cmp.Compare(a.Device, b.Device))
	})
	return some, err
}

// Work is what a person typed, across devices.
type Work struct {
	Person   string    `json:"person"`
	Commands int       `json:"commands"`
	Refused  int       `json:"refused"`
	Devices  []string  `json:"devices"`
	First    time.Time `json:"first"`
	Last     time.Time `json:"last"`
	Newest   string    `json:"newest"` // the last command
}

// Works reads how much each person typed, and where, the most first.
func Works(ctx context.Context, from Source, f Filter) ([]Work, error) {
	f.Kinds, f.Last = []string{string(Command), string(Decision)}, 0
	works := map[string]*Work{}
	devices := map[string]map[string]bool{}
	err := from.Read(ctx, f, func(r Record) error {
		if r.Command == "" {
			return nil
		}
		v := works[r.Person]
		if v == nil {
			v = &Work{Person: r.Person, First: r.Time}
			works[r.Person], devices[r.Person] = v, map[string]bool{}
		}
		if r.Kind == Decision {
			v.Refused++
		} else {
			v.Commands++
		}
		v.Last, v.Newest = r.Time, r.Command
		devices[r.Person][r.Device] = true
		return nil
	})
	some := make([]Work, 0, len(works))
	for name, v := range works {
		v.Devices = slices.Sorted(maps.Keys(devices[name]))
		some = append(some, *v)
	}
	slices.SortFunc(some, func(a, b Work) int {
		return cmp.Or(cmp.Compare(b.Commands, a.Commands), cmp.Compare(a.Person, b.Person))
	})
	return some, err
}

// looksEvery is how often Follow looks for new records.
const looksEvery = 300 * time.Millisecond

// Follow calls do for every record that the filter chooses, and then for each
// new one, until the context ends. What is new is known by the number of a record in its
// chain: clocks of several places differ, and records may wait before they come.
func Follow(ctx context.Context, from Source, f Filter, do func(Record) error) error {
	heads, err := from.Heads(ctx)
	if err != nil {
		return err
	}
	read := map[string]int64{} // the newest record of each chain that needs no look any more
	for _, h := range heads {
		read[h.Chain] = h.Sequence
	}
	err = from.Read(ctx, f, func(r Record) error {
		if r.Sequence > read[r.Chain] { // it came meanwhile: it is new
			return nil
		}
		return do(r)
	})
	f.Last = 0
	f.Since = time.Time{}
	f.byChain = true
	for err == nil {
		timer := time.NewTimer(looksEvery)
		select {
		case <-ctx.Done():
			timer.Stop()
			return nil
		case <-timer.C:
		}
		err = newer(ctx, from, f, read, do)
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// newer calls do for what is new in each chain, by time, and notes how far it was read.
func newer(ctx context.Context, from Source, f Filter, read map[string]int64, do func(Record) error) error {
	heads, err := from.Heads(ctx)
	if err != nil {
		return err
	}
	var records []Record
	for _, h := range heads {
		if h.Sequence <= read[h.Chain] {
			continue
		}
		f.chain, f.beyond = h.Chain, read[h.Chain]
		if err := from.Read(ctx, f, func(r Record) error {
			records = append(records, r)
			h.Sequence = max(h.Sequence, r.Sequence)
			return nil
		}); err != nil {
			return err
		}
		read[h.Chain] = h.Sequence
	}
	slices.SortStableFunc(records, func(a, b Record) int { return a.Time.Compare(b.Time) })
	for _, r := range records {
		if err := do(r); err != nil {
			return err
		}
	}
	return nil
}
