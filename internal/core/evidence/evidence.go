// Package evidence is what is at hand of logins: what a device and the servers
// noted, captured packets, counters, log lines, answers to questions put on
// purpose; and where all this was found. It is the words in which those who note
// speak to those who judge. What it means is left to diagnose; where it lies on
// disk, to the state folder.
package evidence

import (
	"time"

	"mellowgate/internal/core/site"
)

// Evidence is everything known about some logins. Any part may be missing.
type Evidence struct {
	Traces    []Trace
	Events    []Event
	Exchanges []Exchange
	Counts    []Count
	Log       []LogLine
	Probes    []Probe
	Site      *site.Site // nil when not known
	Keys      site.Keys  // the values of its keys, as far as they are known
	Now       time.Time  // for what ends by time; zero: the time of the story
}

// Source is a kind of evidence.
type Source string

// The kinds of evidence.
const (
	FromTrace    Source = "trace"
	FromEvents   Source = "events"
	FromCapture  Source = "capture"
	FromCounters Source = "counters"
	FromLog      Source = "log"
	FromSite     Source = "site"
	FromProbe    Source = "probe"
)

// Sources tells which kinds of evidence are at hand.
func (e Evidence) Sources() map[Source]bool {
	return map[Source]bool{FromTrace: len(e.Traces) > 0, FromEvents: len(e.Events) > 0,
		FromCapture:  len(e.Exchanges) > 0,
		FromCounters: len(e.Counts) > 0, FromLog: len(e.Log) > 0, FromSite: e.Site != nil, FromProbe: len(e.Probes) > 0}
}

// Probe is the result of one question put on purpose.
type Probe struct {
	Time   time.Time   `json:"time"`
	Server string      `json:"server"`
	As     string      `json:"as"` // the device whose address and key were used, "" for this host
	Kind   ProbeKind   `json:"kind"`
	Result ProbeResult `json:"result"`
	Text   string      `json:"text"`
}

// ProbeKind is what was asked on purpose.
type ProbeKind string

// Kinds of probes: is the port open, is RADIUS alive, a login with a name that
// nobody has.
const (
	ProbeReach            ProbeKind = "reach"
	ProbeStatus           ProbeKind = "status"
	ProbeAccountingStatus ProbeKind = "accounting-status"
	ProbeLogin            ProbeKind = "login"
)

// ProbeResult is the result of a probe.
type ProbeResult string

// Results of probes.
const (
	ProbeOpen    ProbeResult = "open"
	ProbeClosed  ProbeResult = "closed"
	ProbeSilent  ProbeResult = "silent"
	ProbeNoWay   ProbeResult = "no-way"
	ProbeAlive   ProbeResult = "alive"
	ProbeRefused ProbeResult = "refused" // an authentic no: the key fits and the server knows who asks
	ProbeUnfit   ProbeResult = "key-differs"
	ProbeEnded   ProbeResult = "ended" // the connection, without an answer
	ProbeError   ProbeResult = "error"
	ProbeTLS     ProbeResult = "tls"
)

// After returns the part of the evidence that is from a time on; counters have
// none, and stay.
func (e Evidence) After(since time.Time) Evidence {
	e.Traces = after(e.Traces, since, func(v Trace) time.Time { return v.Time })
	e.Events = after(e.Events, since, func(v Event) time.Time { return v.Time })
	e.Exchanges = after(e.Exchanges, since, func(v Exchange) time.Time { return v.Time })
	e.Log = after(e.Log, since, func(v LogLine) time.Time { return v.Time })
	return e
}

// With returns the evidence with more that was noted.
func (e Evidence) With(more Evidence) Evidence {
	e.Traces = append(e.Traces, more.Traces...)
	e.Events = append(e.Events, more.Events...)
	e.Exchanges = append(e.Exchanges, more.Exchanges...)
	e.Log = append(e.Log, more.Log...)
	return e
}

// Newest returns the evidence with that many of each kind at most, those that were
// noted last.
func (e Evidence) Newest(most int) Evidence {
	e.Traces, e.Events = last(e.Traces, most), last(e.Events, most)
	e.Exchanges, e.Log = last(e.Exchanges, most), last(e.Log, most)
	return e
}

func last[T any](values []T, most int) []T { return values[max(0, len(values)-most):] }

func after[T any](values []T, since time.Time, at func(T) time.Time) []T {
	var some []T
	for _, v := range values {
		if !at(v).Before(since) {
			some = append(some, v)
		}
	}
	return some
}
