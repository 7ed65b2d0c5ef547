package foresee

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

func reckoner(t testing.TB, path string) Forecaster {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: text})
	require.NoError(t, err)
	return Forecaster{Site: s, Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
}

const (
	drafted  = "../../../demo/as-drafted/site.yaml"
	reviewed = "../../../demo/as-reviewed/site.yaml"
)

// find returns the one case of a person that holds when the servers are silent.
func find(t *testing.T, f Forecaster, device, way, person string, silent ...string) Case {
	d := f.Site.Device(device)
	who, ok := f.Find(d, person)
	require.True(t, ok)
	dark := map[*site.Server]bool{}
	for _, name := range silent {
		dark[f.Site.Server(name)] = true
	}
	var found []Case
	for _, c := range f.Cases(d, d.Way(way), who) {
		if c.Holds(dark) {
			found = append(found, c)
		}
	}
	require.Len(t, found, 1, "states exclude each other and cover everything")
	return found[0]
}

func TestTheReviewedDemoSiteComesOutAsItsStoryTells(t *testing.T) {
	t.Parallel()
	f := reckoner(t, reviewed)
	all := []string{"sanderling", "tern", "plover"}
	for _, c := range []struct {
		device, way, person string
		silent              []string
		outcome             walk.Outcome
		level               int
		by                  string
		wait                time.Duration
	}{
		{"north-sw-1", "ssh", "ines.marsh", nil, walk.OutcomeIn, 15, "tern", 0},
		{"north-sw-1", "ssh", "ines.marsh", []string{"tern"}, walk.OutcomeIn, 15, "plover", time.Second},
		{"north-sw-1", "ssh", "ines.marsh", []string{"tern", "plover"}, walk.OutcomeRefused, 0, "", 2 * time.Second},
		{"north-sw-1", "ssh", "harbourmaster", nil, walk.OutcomeRefused, 0, "tern", 0},
		{"north-sw-1", "ssh", "harbourmaster", []string{"tern", "plover"}, walk.OutcomeIn, 15, "local",
			2 * time.Second},
		{"north-sw-1", "console", "harbourmaster", []string{"tern", "plover"}, walk.OutcomeIn, 15, "local",
			2 * time.Second},
		{"north-sw-1", "ssh", "tobin.reed", nil, walk.OutcomeIn, 1, "tern", 0},
		{"north-sw-1", "web", "tobin.reed", nil, walk.OutcomeRefused, 0, "tern", 0},
		{"north-sw-1", "web", "ines.marsh", nil, walk.OutcomeIn, 15, "tern", 0},
		{"north-sw-1", "ssh", "odd.larsen", nil, walk.OutcomeRefused, 0, "tern", 0},
		{"mv-avocet-rtr", "ssh", "ines.marsh", nil, walk.OutcomeIn, 15, "sanderling", 0},
		{"mv-avocet-rtr", "ssh", "ines.marsh", []string{"sanderling"}, walk.OutcomeIn, 15, "tern", 2 * time.Second},
		{"mv-avocet-rtr", "ssh", "master", all, walk.OutcomeIn, 15, "local", 4 * time.Second},
		{"mv-avocet-rtr", "ssh", "unknown", all, walk.OutcomeRefused, 0, "", 4 * time.Second},
		{"mv-avocet-rtr", "ssh", "anyone", all, walk.OutcomeRefused, 0, "local", 4 * time.Second},
		{"mv-avocet-rtr", "ssh", "wren.auditor", nil, walk.OutcomeRefused, 0, "sanderling", 0},
	} {
		got := find(t, f, c.device, c.way, c.person, c.silent...)
		require.Equal(t, []any{c.outcome, c.level, c.by, c.wait}, []any{got.Outcome, got.Level, got.By, got.Wait}, "%v",
			c)
	}
}

func TestTheDraftIsOpenAndStuckWhereItIs(t *testing.T) {
	t.Parallel()
	f := reckoner(t, drafted)
	require.Equal(t, walk.OutcomeOpen, find(t, f, "ashore-ap-1", "ssh", "unknown", "sanderling").Outcome)
	require.Equal(t, walk.OutcomeOpen, find(t, f, "ashore-ap-1", "ssh", "odd.larsen", "sanderling").Outcome,
		"no valid credentials: disabled")
	require.Equal(t, walk.OutcomeRefused, find(t, f, "ashore-ap-1", "ssh", "unknown").Outcome)
	require.Equal(t, reason.GivesUpFirst,
		find(t, f, "mv-avocet-rtr", "ssh", "master", "sanderling", "tern", "plover").Reason)
	stuck := find(t, f, "mv-avocet-rtr", "ssh", "ines.marsh", "tern", "plover")
	require.True(t, stuck.Stuck)
	require.Equal(t, reason.ListEnded, stuck.StuckWhy)
	held := find(t, f, "mv-curlew-rtr", "ssh", "ines.marsh")
	require.Equal(t, "tern", held.By, "sanderling cannot read the key that the device holds")
	require.Equal(t, 15*time.Second, held.Wait)
}

// brute walks every combination of states of every server.
func brute(f Forecaster, d *site.Device, w *site.Way, who Who, servers []*site.Server) map[string]Case {
	cases := map[string]Case{}
	for bits := range 1 << len(servers) {
		var chosen []Condition
		for i, s := range servers {
			state := Up
			if bits&(1<<i) != 0 {
				state = Down
			}
			chosen = append(chosen, Condition{s, state})
		}
		cases[fmt.Sprint(bits)] = f.one(d, w, who, chosen)
	}
	return cases
}

func TestPropertyMergingEqualStatesLosesNoneAndAddsNone(t *testing.T) {
	t.Parallel()
	for _, path := range []string{drafted, reviewed} {
		f := reckoner(t, path)
		for _, d := range f.Site.Devices {
			for _, w := range d.Ways {
				for _, who := range f.Whos(d) {
					merged := f.Cases(d, w, who)
					for key, whole := range brute(f, d, w, who, f.Site.Servers) {
						dark := map[*site.Server]bool{}
						for _, c := range whole.When {
							dark[c.Server] = c.State == Down
						}
						fits := 0
						for _, c := range merged {
							if c.Holds(dark) {
								fits++
								require.Equal(t, []any{whole.Outcome, whole.Level, whole.By, whole.Wait, whole.Reason,
									whole.Stuck,
									len(whole.Steps)},
									[]any{c.Outcome, c.Level, c.By, c.Wait, c.Reason, c.Stuck, len(c.Steps)},
									"%s %s %s %s", d.Name, w.Name(),
									who.Name, key)
							}
						}
						require.Equal(t, 1, fits, "exactly one case for each state")
					}
				}
			}
		}
	}
}

func TestEqualDevicesAndPeopleAreWorkedOutOnceAndComeOutTheSame(t *testing.T) {
	t.Parallel()
	f := reckoner(t, reviewed)
	shapes := f.Shapes(f.Site.Devices)
	require.Less(t, len(shapes), len(f.Site.Devices))
	for _, sh := range shapes {
		for _, d := range sh.Devices {
			merged := sh.For(d)
			i := 0
			for _, w := range d.Ways {
				for _, who := range f.Whos(d) {
					for _, c := range f.Cases(d, w, who) {
						got := merged[i]
						i++
						require.Equal(t, []any{d, w, who.Name, c.Outcome, c.Level, c.By, c.Wait},
							[]any{got.Device, got.Way, got.Who.Name, got.Outcome, got.Level, got.By, got.Wait})
					}
				}
			}
			require.Len(t, merged, i)
		}
	}
}

func TestPropertySilenceNeverOpensTheReviewedSite(t *testing.T) {
	t.Parallel()
	f := reckoner(t, reviewed)
	for _, sh := range f.Shapes(f.Site.Devices) {
		for _, c := range sh.Cases {
			require.NotEqual(t, walk.OutcomeOpen, c.Outcome)
			require.NotEqual(t, walk.OutcomeLow, c.Outcome)
			require.False(t, c.Stuck, "%s %s %s %v", c.Device.Name, c.Way.Name(), c.Who.Name, c.When)
		}
	}
}
