package diagnose

import (
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Symptom chooses which login is meant. Empty fields choose any.
type Symptom struct {
	Device, Person, Access string
	Saw                    string    // refused | slow | low-level | no-prompt
	Read                   string    // what was read on the screen, or said of it
	At                     time.Time // about when
}

// Saws are the words for Symptom.Saw.
var Saws = []string{"refused", "slow", "low-level", "no-prompt"}

// slowAfter is from how many seconds on a login counts as slow.
const slowAfter = 3

// nearby is how far from Symptom.At a login may be.
const nearby = 15 * time.Minute

func (y Symptom) fits(s Story) bool {
	switch {
	case y.Device != "" && y.Device != s.Device, y.Person != "" && y.Person != s.Person && s.Person != "",
		y.Access != "" && s.Access != "" && y.Access != s.Access && !strings.HasPrefix(s.Access, y.Access+" "):
		return false
	case !y.At.IsZero() && (s.Time.Sub(y.At) > nearby || y.At.Sub(s.Time) > nearby):
		return false
	case s.Login == nil:
		return true
	}
	switch y.Saw {
	case "refused":
		return s.Login.Outcome == walk.OutcomeRefused || len(s.Commands) > 0
	case "slow", "no-prompt":
		return s.Login.Seconds >= slowAfter
	case "low-level":
		return s.Login.Outcome == walk.OutcomeIn && s.Login.Level < 15
	}
	return true
}

// Story is one login as it went: what the device noted of it and of the
// commands after it, and what everybody else noted in that time.
type Story struct {
	Device, Person, Access string
	Time                   time.Time
	Login                  *evidence.Trace     // nil when no device noted it
	Commands               []evidence.Trace    // those that the device refused, oldest first
	Later                  []evidence.Trace    // allowed commands and the goodbye
	Events                 []evidence.Event    // of this device and person, oldest first; those without a person too
	Exchanges              []evidence.Exchange // of this device, oldest first
	Lines                  []evidence.LogLine  // of this device
	Before                 []evidence.Trace    // what the device noted before, oldest first

}

// slack is how far apart the clocks of device and server may note one thing.
const slack = 2 * time.Second

// stories puts the evidence in order: one story for each login that a device
// noted and, where it noted nothing or nothing yet, for each that servers, packets
// or the device's log show.
func stories(e evidence.Evidence, x *index) []Story {
	all := traced(e, x)
	if len(all) == 0 {
		return gathered(e)
	}
	more := gathered(unclaimed(e))
	if len(more) == 0 {
		return all
	}
	all = append(all, more...)
	slices.SortStableFunc(all, func(a, b Story) int { return a.Time.Compare(b.Time) })
	return all
}

// unclaimed returns the evidence of devices that noted nothing, or from after what
// they noted last: a login that is under way has no trace yet.
func unclaimed(e evidence.Evidence) evidence.Evidence {
	last := map[string]time.Time{}
	for _, t := range e.Traces {
		if moment := t.Time.Add(slack); moment.After(last[t.Device]) {
			last[t.Device] = moment
		}
	}
	open := func(device string, at time.Time) bool { return device != "" && at.After(last[device]) }
	some := evidence.Evidence{Site: e.Site, Keys: e.Keys, Now: e.Now}
	for _, v := range e.Events {
		if v.Person != "" && v.Question == site.AskLogin && open(v.Device, v.Time) {
			some.Events = append(some.Events, v)
		}
	}
	for _, v := range e.Exchanges {
		if v.Question == site.AskLogin && open(v.Device, v.Time) {
			some.Exchanges = append(some.Exchanges, v)
		}
	}
	for _, v := range e.Log {
		if _, traced := last[v.Device]; !traced {
			some.Log = append(some.Log, v)
		}
	}
	return some
}

// traced makes a story of each login that a device noted.
func traced(e evidence.Evidence, x *index) []Story {
	if len(e.Traces) == 0 {
		return nil
	}
	traces := slices.Clone(e.Traces)
	slices.SortStableFunc(traces, func(a, b evidence.Trace) int { return a.Time.Compare(b.Time) })
	var all []Story
	before := map[string][]evidence.Trace{}
	for i, t := range traces {
		from, to := around(traces, i)
		if t.Kind == evidence.TraceLogin {
			s := Story{Device: t.Device, Person: t.Person, Access: t.Access, Time: t.Time, Login: &traces[i],
				Before: last(before[t.Device], mostBefore)}
			s.add(x, from, to)
			all = append(all, s)
			before[t.Device] = append(before[t.Device], t)
			continue
		}
		before[t.Device] = append(before[t.Device], t)
		for j := len(all) - 1; j >= 0; j-- {
			s := &all[j]
			if s.Device != t.Device || s.Login.Line != t.Line || s.Person != t.Person {
				continue
			}
			if t.Kind == evidence.TraceCommand && t.Outcome != walk.OutcomeAllowed {
				s.Commands = append(s.Commands, t)
			} else {
				s.Later = append(s.Later, t)
			}
			s.add(x, from, to)
			break
		}
	}
	return all
}

// around is the time in which others noted what belongs to a trace: a little
// more than its own, and nothing of the same person's traces beside it.
func around(traces []evidence.Trace, i int) (from, to time.Time) {
	t := traces[i]
	from, to = beginning(t).Add(-slack), t.Time.Add(slack)
	same := func(o evidence.Trace) bool { return o.Device == t.Device && o.Person == t.Person }
	for k := i - 1; k >= 0 && traces[k].Time.After(from); k-- {
		if same(traces[k]) {
			from = traces[k].Time
			break
		}
	}
	for k := i + 1; k < len(traces) && beginning(traces[k]).Before(to); k++ {
		if same(traces[k]) && beginning(traces[k]).After(t.Time) {
			to = beginning(traces[k])
			break
		}
	}
	return from, to
}

func beginning(t evidence.Trace) time.Time {
	return t.Time.Add(-time.Duration(t.Seconds * float64(time.Second)))
}

// typesCode is how long somebody may take to type a one-time code.
const typesCode = time.Minute

// add takes in what others noted in a time.
func (s *Story) add(x *index, from, to time.Time) {
	early := from.Add(-typesCode)
	if n := len(s.Before); n > 0 && s.Before[n-1].Time.After(early) && s.Before[n-1].Person == s.Person {
		early = s.Before[n-1].Time
	}
	ours := func(person string) bool { return person == "" || person == s.Person }
	for _, v := range between(x.ofDevice[s.Device], eventTime, early, to) {
		// the time in which a person types a code is not the device's
		if ours(v.Person) && (!v.Time.Before(from) || v.Answer == evidence.Challenged && v.Time.After(early)) {
			s.Events = append(s.Events, v)
		}
	}
	for _, v := range between(x.asked[s.Device], exchangeTime, from, to) {
		if ours(v.Person) {
			s.Exchanges = append(s.Exchanges, v)
		}
	}
	for _, v := range between(x.lines[s.Device], lineTime, from, to) {
		if ours(v.Person) {
			s.Lines = append(s.Lines, v)
		}
	}
}

// mostBefore is how many traces of a device before a login are kept with it.
const mostBefore = 64

// last returns the last values of a list, of which nothing can be overwritten
// through it.
func last[T any](values []T, most int) []T {
	return values[max(0, len(values)-most):len(values):len(values)]
}

// found is one thing that somebody noted, on its way into a story.
type found struct {
	time           time.Time
	device, person string
	access         string
	source         evidence.Source
	begins         bool // it can be the first of a login
	decides        bool // it is a yes or a no to a login
	unheard        bool // and the device did not hear it
	put            func(*Story)
}

// pause is after how long without anything a story is over.
const pause = 30 * time.Second

// gathered makes stories of what servers, packets and logs show.
func gathered(e evidence.Evidence) []Story {
	var signsFound []found
	for _, v := range e.Events {
		if v.Question == evidence.FaultQuestion || v.Answer == evidence.Recorded && v.Question == site.AskRecordSystem {
			continue
		}
		device := v.Device
		if device == "" {
			device = v.Client
		}
		signsFound = append(signsFound, found{time: v.Time, device: device, person: v.Person, access: v.Access,
			source:  evidence.FromEvents,
			begins:  v.Question == site.AskLogin || v.Question == "" || v.Answer == evidence.Dropped,
			decides: v.Question == site.AskLogin && (v.Answer == evidence.Accepted || v.Answer == evidence.Refused),
			put:     func(s *Story) { s.Events = append(s.Events, v) }})
	}
	for _, v := range e.Exchanges {
		if v.Question == site.AskStatus || v.Question == site.AskRecordSystem || v.Question == site.AskDirectory {
			continue
		}
		signsFound = append(signsFound, found{time: v.Time, device: v.AskedBy(), person: v.Person, access: "",
			source:  evidence.FromCapture,
			begins:  (v.Question == site.AskLogin || v.Question == site.AskConnect) && !v.Has(evidence.MarkUnheard),
			decides: v.Question == site.AskLogin && (v.Answer == evidence.Accepted || v.Answer == evidence.Refused),
			unheard: v.Has(evidence.MarkUnheard) || v.Has(evidence.MarkLate),
			put:     func(s *Story) { s.Exchanges = append(s.Exchanges, v) }})
	}
	for _, v := range e.Log {
		if v.What == "" || v.What == evidence.LogAgain {
			continue
		}
		signsFound = append(signsFound, found{time: v.Time, device: v.Device, person: v.Person, access: v.Access,
			source: evidence.FromLog,
			begins: !v.Asked.Records(), decides: v.What == evidence.LogIn || v.What == evidence.LogRefused,
			put: func(s *Story) { s.Lines = append(s.Lines, v) }})
	}
	slices.SortStableFunc(signsFound, func(a, b found) int { return a.time.Compare(b.time) })
	var made []*gathering
	open := map[string]*gathering{}
	for _, f := range signsFound {
		g := open[f.device]
		if g == nil || !g.takes(f) {
			g = &gathering{Story: Story{Device: f.device}, decided: map[evidence.Source]bool{}}
			open[f.device] = g
			made = append(made, g)
		}
		g.take(f)
	}
	some := make([]Story, len(made))
	for i, g := range made {
		some[i] = g.Story
	}
	return some
}

// gathering is a story that is not over yet.
type gathering struct {
	Story
	decided map[evidence.Source]bool
}

// takes reports whether something belongs to the story.
func (g *gathering) takes(f found) bool {
	switch {
	case f.time.Sub(g.Time) > pause, f.person != "" && g.Person != "" && f.person != g.Person,
		f.begins && g.decided[f.source]:
		return false
	}
	return true
}

func (g *gathering) take(f found) {
	f.put(&g.Story)
	g.decided[f.source] = (g.decided[f.source] || f.decides) && !f.unheard
	g.Time = f.time
	if g.Person == "" {
		g.Person = f.person
	}
	if g.Access == "" {
		g.Access = f.access
	}
}
