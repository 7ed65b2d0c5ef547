package gather_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/gather"
)

// refusals are causes that only servers' events, or the site, tell apart: to
// packets, logs and traces all are an authentic no.
var refusals = []string{diagnose.WrongPassword, diagnose.UnknownPerson, diagnose.DisabledOrExpired,
	diagnose.SecondFactor, diagnose.NoGrant, diagnose.PasswordForm, diagnose.DirectoryNoEntry,
	diagnose.LocalWhileServerAnswers}

// silences are causes that look alike to who sees only that nothing comes back.
var silences = []string{diagnose.Unreachable, diagnose.ServerOff, diagnose.KeyDiffers, diagnose.ClientUnknown,
	diagnose.WrongPort, diagnose.TooSlow, diagnose.DirectoryDown, diagnose.DirectoryRefusesUs,
	diagnose.ServerSaysError, diagnose.Resting, diagnose.MixedProtocol}

// A device's own refusal looks the same whether its list is the one meant or not,
// and who got in by the local account shows in nothing but the device's notes.

// alike reports whether one kind of evidence alone cannot tell two causes apart.
func alike(want, got string) bool {
	for _, class := range [][]string{refusals, silences,
		{diagnose.AccountingPort, diagnose.RecordNotKept, diagnose.ServerSaysError, diagnose.Unreachable,
			diagnose.ServerOff},
		{diagnose.CommandStuck, diagnose.FallbackUsed, diagnose.Unreachable, diagnose.ServerOff},
		{diagnose.WrongList, diagnose.WrongPassword}} {
		if slices.Contains(class, want) && slices.Contains(class, got) {
			return true
		}
	}
	return false
}

// grade is how good an answer is.
type grade int

const (
	first  grade = iota // the first cause is right, and all causes are named
	among               // it is among the first three
	near                // sure of one that this evidence cannot tell from it
	unsure              // it says that it does not know, or finds no login
	missed              // it is sure of another
	alarm               // something is named where all is well
	grades
)

func gradeOf(want []string, v diagnose.Verdict, single bool) grade {
	var got []string
	for _, c := range v.Causes {
		got = append(got, c.Cause)
	}
	switch {
	case len(want) == 0 && len(got) == 0:
		return first
	case len(want) == 0 && got[0] == diagnose.NotKnown:
		return unsure
	case len(want) == 0:
		return alarm
	case len(got) == 0 || got[0] == diagnose.NotKnown:
		return unsure
	case got[0] == want[0] &&
		(single || !slices.ContainsFunc(want, func(w string) bool { return !slices.Contains(got, w) })):
		return first
	case slices.Contains(got[:min(3, len(got))], want[0]):
		return among
	case single && alike(want[0], got[0]):
		return near
	}
	return missed
}

// loadCase reads a case: its evidence, and what is to come out.
func loadCase(t *testing.T, dir string) (aCase, evidence.Evidence) {
	var c aCase
	text, err := os.ReadFile(filepath.Join(dir, "case.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &c))
	s, keys := parse(t, siteText(t, c.Parts))
	folder := &state.Folder{Dir: dir}
	d := exchange.Designed(s, keys)
	if places, err := folder.Places(); err == nil {
		d = exchange.InPlaces(s, keys, places)
	}
	e, notes, err := gather.Folder(folder, d)
	require.NoError(t, err)
	require.Empty(t, notes)
	e.Site, e.Keys = s, keys
	if e.Now, err = time.Parse(time.RFC3339, c.At); err != nil {
		t.Fatal(err)
	}
	return c, e
}

// kinds are the parts of the evidence that are tried, each with what it keeps.
var kinds = []struct {
	name string
	keep func(evidence.Evidence) evidence.Evidence
}{
	{"all", func(e evidence.Evidence) evidence.Evidence { return e }},
	{"trace", func(e evidence.Evidence) evidence.Evidence { return evidence.Evidence{Traces: e.Traces} }},
	{"events", func(e evidence.Evidence) evidence.Evidence { return evidence.Evidence{Events: e.Events} }},
	{"capture", func(e evidence.Evidence) evidence.Evidence { return evidence.Evidence{Exchanges: e.Exchanges} }},
	{"log", func(e evidence.Evidence) evidence.Evidence { return evidence.Evidence{Log: e.Log} }},
	{"counters", func(e evidence.Evidence) evidence.Evidence {
		return evidence.Evidence{
			Counts: e.Counts, Now: e.Now}
	}},
	{"device+site", func(e evidence.Evidence) evidence.Evidence {
		return evidence.Evidence{Traces: e.Traces, Log: e.Log, Counts: e.Counts, Site: e.Site, Keys: e.Keys}
	}},
	{"capture+site", func(e evidence.Evidence) evidence.Evidence {
		return evidence.Evidence{Exchanges: e.Exchanges, Site: e.Site, Keys: e.Keys}
	}},
}

// The score: per cause and kind of evidence, how often the first cause named is
// right. go test -v prints it.
func TestScore(t *testing.T) {
	t.Parallel()
	dirs, err := filepath.Glob(filepath.Join(casesDir, "*"))
	require.NoError(t, err)
	require.NotEmpty(t, dirs)
	table := map[string]map[string]*[grades]int{} // by cause and kind
	count := func(row, kind string, g grade) {
		if table[row] == nil {
			table[row] = map[string]*[grades]int{}
		}
		if table[row][kind] == nil {
			table[row][kind] = &[grades]int{}
		}
		table[row][kind][g]++
	}
	cases := map[string]int{}
	for _, dir := range dirs {
		c, e := loadCase(t, dir)
		what := "healthy"
		if len(c.Causes) > 0 {
			what = c.Causes[len(c.Causes)-1]
		}
		cases[what]++
		for _, k := range kinds {
			have := k.keep(e)
			if !present(have) {
				continue
			}
			v := diagnose.Explain(have, diagnose.Symptom{Device: c.Device, Person: c.Person})
			g := gradeOf(c.Causes, v, k.name != "all")
			count(what, k.name, g)
			part := "ALL tuned"
			if c.Held {
				part = "ALL held out"
			}
			count(part, k.name, g)
			if g > among && (k.name == "all" || g == alarm || g == missed) {
				var got []string
				for _, found := range v.Causes {
					got = append(got, fmt.Sprintf("%s %.2f", found.Cause, found.Confidence))
				}
				held := ""
				if c.Held {
					held = " (held out)"
				}
				t.Logf("%s, %s%s: want %v, got %v found=%v", filepath.Base(dir), k.name, held, c.Causes, got, v.Found)
			}
		}
	}
	rows := make([]string, 0, len(table))
	for row := range table {
		rows = append(rows, row)
	}
	slices.Sort(rows)
	var text strings.Builder
	fmt.Fprintf(&text, "%-28s", "first/three/alike/unsure/wrong/alarm")
	for _, k := range kinds {
		fmt.Fprintf(&text, " %-18s", k.name)
	}
	for _, row := range rows {
		fmt.Fprintf(&text, "\n%-28s", fmt.Sprintf("%s (%d)", row, cases[row]))
		for _, k := range kinds {
			if n := table[row][k.name]; n != nil {
				fmt.Fprintf(&text, " %-18s",
					fmt.Sprintf("%d/%d/%d/%d/%d/%d", n[first], n[among], n[near], n[unsure], n[missed], n[alarm]))
			} else {
				fmt.Fprintf(&text, " %-18s", "-")
			}
		}
	}
	t.Log("\n" + text.String())
	for _, part := range []string{"ALL tuned", "ALL held out"} {
		n := table[part]["all"]
		total := 0
		for _, v := range n {
			total += v
		}
		require.GreaterOrEqual(t, 100*n[first], 95*total, "%s: the first cause is right in %d of %d", part, n[first],
			total)
		for kind, v := range table[part] {
			require.Zero(t, v[alarm], "%s: a false alarm from %s", part, kind)
		}
	}
	for name, n := range cases {
		if name != "healthy" {
			require.GreaterOrEqual(t, n, 4, "four cases of each cause: %s", name)
		}
	}
}

func present(e evidence.Evidence) bool {
	return len(e.Traces)+len(e.Events)+len(e.Exchanges)+len(e.Log)+len(e.Counts) > 0
}
