package gather_test

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
)

// asNoted is what a device notes of a foreseen login.
func asNoted(c foresee.Case, at time.Time) evidence.Trace {
	t := evidence.Trace{Time: at, Device: c.Device.Name, Access: c.Way.Name(), Person: c.Who.Name,
		Kind:    evidence.TraceLogin,
		Outcome: walk.OutcomeIn, Level: c.Level, By: c.By, Reason: c.Reason, Seconds: c.Wait.Seconds()}
	if c.Outcome == walk.OutcomeRefused {
		t.Outcome = walk.OutcomeRefused
	}
	for _, s := range c.Steps {
		t.Steps = append(t.Steps, evidence.StepOf(s))
	}
	return t
}

// What the site says of a login, noted by the device just so, is healthy where every
// server answers and the person is in as the design means it, and never otherwise
// where somebody was refused.
func TestALoginThatWentAsDesignedRaisesNoAlarm(t *testing.T) {
	t.Parallel()
	sites, err := filepath.Glob("../../../cmd/mellowgate/testdata/sites/*.yaml")
	require.NoError(t, err)
	sites = append(sites, "../../../demo/as-reviewed/site.yaml", "../../../demo/as-drafted/site.yaml")
	at := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	for _, path := range sites {
		t.Run(filepath.Base(filepath.Dir(path))+"/"+filepath.Base(path), func(t *testing.T) {
			t.Parallel()
			s, _, err := sitefile.Load(path)
			require.NoError(t, err)
			keys, _ := secrets.Keys(s, filepath.Join(filepath.Dir(path), ".."), secrets.Unlock{})
			r := foresee.Forecaster{Site: s, Keys: keys, Now: at}
			for _, d := range s.Devices {
				for _, c := range r.Device(d) {
					judgeForeseen(t, c, evidence.Evidence{
						Traces: []evidence.Trace{asNoted(c, at)}, Site: s, Keys: keys, Now: at})
				}
			}
		})
	}
}

func judgeForeseen(t *testing.T, c foresee.Case, e evidence.Evidence) {
	t.Helper()
	if c.Who.Kind != foresee.Known && c.Who.Kind != foresee.Local {
		return
	}
	v := diagnose.Explain(e, diagnose.Symptom{})
	name := fmt.Sprintf("%s by %s, %s, %v: %s by %s (%s)", c.Device.Name, c.Way.Name(), c.Who.Name,
		c.Servers(foresee.Down),
		c.Outcome, c.By, c.Reason)
	low := c.Outcome == walk.OutcomeLow && c.Raised < c.Promised
	asked := false
	for _, step := range c.Steps {
		for _, y := range step.Tries {
			asked = asked || y.Reply.Result == walk.Unavailable
		}
	}
	switch {
	case c.Outcome == walk.OutcomeRefused:
		require.False(t, v.Healthy, name)
		require.NotEqual(t, diagnose.NotKnown, v.Causes[0].Cause, name)
	case c.Outcome == walk.OutcomeOpen:
	case !asked && !low:
		require.True(t, v.Healthy, "%s: %+v", name, v.Causes)
	case asked:
		require.False(t, v.Healthy, name)
	}
}
