package diagnose

import (
	"fmt"
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// tick is one moment that two of the evidence's sources noted.
type tick struct {
	what string // device, person and question: what both noted
	at   time.Time
}

// aligned returns the evidence with all times on one clock, that of the devices
// where they noted anything, and says which clocks differ. How far two clocks
// are apart is the middle of the differences between what both noted in the
// same order; where these differ much among themselves, nothing is said.
func aligned(e evidence.Evidence) (evidence.Evidence, []string) {
	var said []string
	var base []tick
	for _, t := range e.Traces {
		if t.Kind == evidence.TraceLogin {
			base = append(base, tick{what: t.Device + " " + t.Person, at: loginAnswered(t)})
		}
	}
	var events, packets []tick
	for _, v := range e.Events {
		if v.Question == site.AskLogin && v.Answer != evidence.Challenged && v.Person != "" {
			events = append(events, tick{what: v.Device + " " + v.Person, at: v.Time})
		}
	}
	for _, v := range e.Exchanges {
		if v.Question == site.AskLogin && v.Person != "" &&
			(v.Answer == evidence.Accepted || v.Answer == evidence.Refused) {
			packets = append(packets,
				tick{what: v.AskedBy() + " " + v.Person,
					at: v.Time.Add(time.Duration(v.Seconds * float64(time.Second)))})
		}
	}
	to := "the devices'"
	if len(base) == 0 {
		base, to = events, "the servers'"
	} else if off, ok := apart(base, events); ok {
		said = append(said, clockText("the servers' clock", off, to))
		e.Events = slices.Clone(e.Events)
		for i := range e.Events {
			e.Events[i].Time = e.Events[i].Time.Add(-off)
		}
	}
	if off, ok := apart(base, packets); ok {
		said = append(said, clockText("the clock of the capture", off, to))
		e.Exchanges = slices.Clone(e.Exchanges)
		for i := range e.Exchanges {
			e.Exchanges[i].Time = e.Exchanges[i].Time.Add(-off)
		}
	}
	return e, said
}

// loginAnswered is when the login of a trace was answered: what a device asks
// after that, and how long it waits for it, is no part of it.
func loginAnswered(t evidence.Trace) time.Time {
	moment := beginning(t)
	for _, step := range t.Steps {
		if step.Purpose != site.AskLogin {
			return moment
		}
		moment = moment.Add(time.Duration(step.Seconds * float64(time.Second)))
	}
	return t.Time
}

func clockText(whose string, off time.Duration, to string) string {
	way := "ahead of"
	if off < 0 {
		way, off = "behind", -off
	}
	return fmt.Sprintf("%s is %s %s %s", whose, off.Round(time.Second), way, to)
}

// apart estimates how far the clock of other is ahead of that of base. It is
// false where they agree, or where there is too little to tell.
func apart(base, other []tick) (time.Duration, bool) {
	byWhat := map[string][]time.Time{}
	for _, t := range base {
		byWhat[t.what] = append(byWhat[t.what], t.at)
	}
	mine := map[string][]time.Time{}
	for _, t := range other {
		mine[t.what] = append(mine[t.what], t.at)
	}
	var durations []time.Duration
	for what, times := range mine {
		theirs := byWhat[what]
		if len(theirs) != len(times) {
			continue // one of the two saw what the other did not
		}
		slices.SortFunc(theirs, time.Time.Compare)
		slices.SortFunc(times, time.Time.Compare)
		for i := range times {
			durations = append(durations, times[i].Sub(theirs[i]))
		}
	}
	if len(durations) == 0 {
		return 0, false
	}
	slices.Sort(durations)
	off := durations[len(durations)/2]
	if spread := durations[len(durations)-1] - durations[0]; spread > 2*slack && spread > off.Abs()/4 {
		return 0, false
	}
	return off, off.Abs() > slack
}
