package evidence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

func TestTheKindsOfEvidenceAtHandAreTold(t *testing.T) {
	t.Parallel()
	for from, e := range map[Source]Evidence{FromTrace: {Traces: make([]Trace, 1)},
		FromEvents:  {Events: make([]Event, 1)},
		FromCapture: {Exchanges: make([]Exchange, 1)}, FromCounters: {Counts: make([]Count, 1)},
		FromLog: {Log: make([]LogLine, 1)}, FromSite: {Site: &site.Site{}}, FromProbe: {Probes: make([]Probe, 1)}} {
		for _, other := range []Source{FromTrace, FromEvents, FromCapture, FromCounters, FromLog, FromSite, FromProbe} {
			require.Equal(t, other == from, e.Sources()[other], "%s of %s", other, from)
		}
	}
}

func TestEvidenceFromATimeOnKeepsWhatHasNoTime(t *testing.T) {
	t.Parallel()
	since := time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	before := since.Add(-time.Nanosecond)
	e := Evidence{Traces: []Trace{{Time: before}, {Time: since}}, Events: []Event{{Time: since}, {Time: before}},
		Exchanges: []Exchange{{Time: before}, {Time: since}}, Log: []LogLine{{Time: before}, {Time: since}},
		Counts: make([]Count, 2), Probes: make([]Probe, 2)}.After(since)
	require.Equal(t, []any{[]Trace{{Time: since}}, []Event{{Time: since}}, []Exchange{{Time: since}},
		[]LogLine{{Time: since}}, 2, 2}, []any{e.Traces, e.Events, e.Exchanges, e.Log, len(e.Counts), len(e.Probes)})
}

func TestWhoAskedWhomIsNamedByTheSiteOrByItsAddress(t *testing.T) {
	t.Parallel()
	x := Exchange{Client: "192.0.2.1:4000", ServerAddress: "[2001:db8::1]:49"}
	require.Equal(t, []string{"192.0.2.1", "2001:db8::1"}, []string{x.AskedBy(), x.AskedOf()})
	x.Device, x.Server = "sw-1", "tern"
	require.Equal(t, []string{"sw-1", "tern"}, []string{x.AskedBy(), x.AskedOf()})
	require.Equal(t, "somewhere", Host("somewhere"))
}

func TestAnExchangeThatCameToNothingIsUnanswered(t *testing.T) {
	t.Parallel()
	for answer, want := range map[Answer]bool{None: true, Unreadable: true, Failed: true, Accepted: false,
		Refused:    false,
		Challenged: false, Recorded: false} {
		require.Equal(t, want, Exchange{Answer: answer}.Unanswered(), answer)
	}
	hidden := Exchange{Answer: Unreadable, Marks: []Mark{MarkJoined, MarkHidden}}
	require.True(t, hidden.Hidden())
	require.False(t, hidden.Unanswered(), "it was answered, and cannot be read here")
	require.False(t, Exchange{Answer: Unreadable}.Hidden())
	waits := Exchange{Answer: None, Marks: []Mark{MarkHidden}}
	require.False(t, waits.Hidden())
	require.True(t, waits.Unanswered())
}

func TestAStepOfAWalkIsNotedWhole(t *testing.T) {
	t.Parallel()
	tern := &site.Server{}
	tern.Name = "tern"
	list := &site.List{}
	list.Name = "crew"
	got := StepOf(walk.Step{Purpose: site.Login, List: list, Method: site.Method{Kind: site.ByLocal},
		Result: walk.Accepted, Reason: reason.Accepted, By: "local", Took: 1500 * time.Millisecond,
		Rested: []*site.Server{tern},
		Tries: []walk.Try{{Server: tern, N: 2, Reply: walk.Reply{Result: walk.Unavailable, Reason: reason.NoAnswer,
			Message: "m", Took: time.Second}}}})
	require.Equal(t, TraceStep{Purpose: site.AskLogin, List: "crew", Method: "local", Result: walk.Accepted,
		Reason: reason.Accepted, By: "local", Seconds: 1.5, Rested: []string{"tern"},
		Tries: []TraceTry{{Server: "tern", Try: 2, Result: walk.Unavailable, Reason: reason.NoAnswer, Message: "m",
			Seconds: 1}}}, got)
	require.Empty(t, StepOf(walk.Step{}).List)
}

func TestADeviceIsFoundInItsPlaces(t *testing.T) {
	t.Parallel()
	p := Places{Devices: []DevicePlace{{Name: "sw-1"}, {Name: "sw-2", Source: "192.0.2.2"}}}
	for _, want := range p.Devices {
		got, ok := p.Device(want.Name)
		require.True(t, ok)
		require.Equal(t, want, got)
	}
	_, ok := p.Device("sw-3")
	require.False(t, ok)
}

func TestALevelIsInAnEventOnlyWhereThereIsOne(t *testing.T) {
	t.Parallel()
	zero := 0
	for want, level := range map[string]*int{"": nil, "0": &zero} {
		var got []string
		for _, f := range (Event{Level: level}).Fields() {
			if f.Name == "level" {
				got = append(got, f.Value)
			}
		}
		require.Equal(t, []string{want}, got)
	}
}
