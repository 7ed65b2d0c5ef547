package evidence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestOurOwnQuestionsAreNoneOfTheDevice(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	own := []OwnQuestion{{Time: at, From: "192.0.2.1:4000"}}
	when := map[string]time.Time{"just before": at.Add(-500 * time.Millisecond), "at once": at.Add(time.Millisecond),
		"to the end": at.Add(ownFor - time.Millisecond)}
	for name, t0 := range when {
		e := Evidence{Events: []Event{{Time: t0, Client: "192.0.2.1", Port: 4000}},
			Exchanges: []Exchange{{Time: t0, Client: "192.0.2.1:4000"}}}
		got := e.WithoutOwn(own)
		require.Empty(t, got.Events, name)
		require.Empty(t, got.Exchanges, name)
		require.Len(t, e.Events, 1, "what was given stays as it was")
		require.Equal(t, e, e.WithoutOwn(nil))
	}
	for name, v := range map[string]Event{"another port": {Time: at, Client: "192.0.2.1", Port: 4001},
		"another host": {Time: at, Client: "192.0.2.2", Port: 4000}, "no host": {Time: at, Client: "", Port: 4000},
		"long before": {Time: at.Add(-2 * time.Second), Client: "192.0.2.1", Port: 4000},
		"long after":  {Time: at.Add(ownFor + time.Second), Client: "192.0.2.1", Port: 4000}} {
		require.Len(t, Evidence{Events: []Event{v}}.WithoutOwn(own).Events, 1, name)
	}
}

func TestMoreEvidenceIsAddedToEachKind(t *testing.T) {
	t.Parallel()
	one := Evidence{Traces: make([]Trace, 1), Events: make([]Event, 2), Exchanges: make([]Exchange, 3),
		Log: make([]LogLine, 4)}
	got := one.With(one)
	require.Equal(t, []int{2, 4, 6, 8}, []int{len(got.Traces), len(got.Events), len(got.Exchanges), len(got.Log)})
}
