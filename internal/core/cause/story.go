package cause

import (
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/site"
)

// Evidence is everything known about some logins. Any part may be missing.
type Evidence struct {
	Traces []Trace
	Events []Event
	Site   *site.Site // nil when not known
	Keys   site.Keys  // the values of its keys, as far as they are known
}

// Symptom chooses which login is meant. Empty fields choose any.
type Symptom struct {
	Device, Person, Access string
}

func (s Symptom) fits(device, person, access string) bool {
	return (s.Device == "" || s.Device == device) && (s.Person == "" || s.Person == person) &&
		(s.Access == "" || s.Access == access || strings.HasPrefix(access, s.Access+" "))
}

// Story is one login as it went: what the device noted of it and of the
// commands after it, and what the servers noted in that time.
type Story struct {
	Device, Person, Access string
	Time                   time.Time
	Login                  *Trace  // nil when no device noted it
	Commands               []Trace // those that the device refused, oldest first
	Events                 []Event // of this device and person, oldest first; those without a person too
	Before                 []Trace // what the device noted before, oldest first
}

// slack is how far apart the clocks of device and server may note one thing.
const slack = 2 * time.Second

// stories puts the evidence in order: one story for each login that a device
// noted or, where no device noted anything, for each that a server noted.
func stories(e Evidence) []Story {
	traces, events := slices.Clone(e.Traces), slices.DeleteFunc(slices.Clone(e.Events), func(e Event) bool { return e.Question == FaultQuestion })
	slices.SortStableFunc(traces, func(a, b Trace) int { return a.Time.Compare(b.Time) })
	slices.SortStableFunc(events, func(a, b Event) int { return a.Time.Compare(b.Time) })
	if len(traces) == 0 {
		return serverStories(events)
	}
	var all []Story
	for i, t := range traces {
		switch t.Kind {
		case TraceLogin:
			began := t.Time.Add(-time.Duration(t.Seconds*float64(time.Second)) - slack)
			all = append(all, Story{Device: t.Device, Person: t.Person, Access: t.Access, Time: t.Time, Login: &traces[i],
				Events: during(events, t.Device, t.Person, began, t.Time.Add(slack)), Before: before(traces[:i], t.Device)})
		case TraceCommand:
			if t.Outcome == "allowed" {
				continue
			}
			for j := len(all) - 1; j >= 0; j-- {
				if s := &all[j]; s.Device == t.Device && s.Login.Line == t.Line && s.Person == t.Person {
					s.Commands = append(s.Commands, t)
					s.Events = append(s.Events, during(events, t.Device, t.Person, t.Time.Add(-time.Duration(t.Seconds*float64(time.Second))-slack), t.Time.Add(slack))...)
					break
				}
			}
		}
	}
	return all
}

func during(events []Event, device, person string, from, to time.Time) []Event {
	var some []Event
	for _, e := range events {
		if e.Device == device && (e.Person == "" || e.Person == person) && !e.Time.Before(from) && !e.Time.After(to) {
			some = append(some, e)
		}
	}
	return some
}

func before(traces []Trace, device string) []Trace {
	var some []Trace
	for _, t := range traces {
		if t.Device == device {
			some = append(some, t)
		}
	}
	return some
}

// serverStories makes stories from servers' events alone.
func serverStories(events []Event) []Story {
	var all []Story
	for _, e := range events {
		if e.Answer == Recorded {
			continue
		}
		if n := len(all); n > 0 {
			last := &all[n-1]
			if last.Device == e.Device && (e.Person == last.Person || e.Person == "") && (e.Question != "login" || last.Events[len(last.Events)-1].Answer == Challenged) && e.Time.Sub(last.Time) < 2*time.Minute {
				last.Events = append(last.Events, e)
				continue
			}
		}
		device := e.Device
		if device == "" {
			device = e.Client
		}
		all = append(all, Story{Device: device, Person: e.Person, Access: e.Access, Time: e.Time, Events: []Event{e}})
	}
	return all
}

// event gives the newest event of the story that is about one of the given
// questions and fits the test.
func (s Story) event(fits func(Event) bool) (Event, bool) {
	for _, e := range slices.Backward(s.Events) {
		if fits(e) {
			return e, true
		}
	}
	return Event{}, false
}

// dropped gives the newest event with which a server dropped something of this
// device for one of some reasons.
func (s Story) dropped(server string, reasons ...string) (Event, bool) {
	return s.event(func(e Event) bool {
		return (e.Answer == Dropped || e.Answer == Failed) && slices.Contains(reasons, e.Reason) && (server == "" || e.Server == server)
	})
}
