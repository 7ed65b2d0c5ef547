package lab_test

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/state"
)

// triesOf returns the result of each try of a login: server and reason.
func triesOf(t evidence.Trace) []string {
	var tries []string
	for _, s := range t.Steps {
		for _, try := range s.Tries {
			tries = append(tries, string(s.Purpose)+" "+try.Server+" "+string(try.Reason))
		}
	}
	return tries
}

func TestEachFaultDoesWhatItSaysUntilItIsLifted(t *testing.T) {
	t.Parallel()
	r := start(t)
	north := r.site.Device("north-sw-1")
	for _, c := range []struct {
		fault string
		tries []string // of the login, until somebody answers
	}{
		{"tern closed", []string{"login tern closed", "login plover "}},
		{"tern silent for north-sw-1", []string{"login tern silent", "login plover "}},
		{"tern key-differs", []string{"login tern unreadable", "login plover "}},
		{"tern client-unknown for north-sw-1", []string{"login tern ended", "login plover "}},
		{"tern error", []string{"login tern error", "login plover "}},
		{"tern slow 5s", []string{"login tern silent", "login plover "}},
		{"tern no-authentication", []string{"login tern error", "login plover "}},
	} {
		f, err := lab.ParseFault(r.site, c.fault)
		require.NoError(t, err)
		require.Equal(t, c.fault, f.String())
		r.Set(f)
		r.Wake(north)
		require.Equal(t, walk.OutcomeIn, r.login("north-sw-1", site.SSH, "tobin.reed", "").Outcome, c.fault)
		require.Equal(t, c.tries, triesOf(r.newest("north-sw-1"))[:2], c.fault)
		require.True(t, r.Lift(f))
		require.False(t, r.Lift(f))
	}
	r.Wake(north)
	require.Equal(t, walk.OutcomeIn, r.login("north-sw-1", site.SSH, "tobin.reed", "").Outcome)
	require.Equal(t, "login tern ", triesOf(r.newest("north-sw-1"))[0], "all is well again")

	set := func(text string) lab.Fault {
		f, err := lab.ParseFault(r.site, text)
		require.NoError(t, err)
		r.Set(f)
		return f
	}
	loses := set("north-sw-1 loses 100%")
	require.Equal(t, walk.OutcomeIn, r.login("north-sw-1", site.SSH, "harbourmaster", "").Outcome,
		"nothing arrives: the local account")
	r.Lift(loses)
	clock := set("clock -48h")
	r.Wake(north)
	r.login("north-sw-1", site.SSH, "ines.marsh", "")
	r.Lift(clock)
	records := r.records(ledger.Filter{Person: "ines.marsh"})
	require.WithinRange(t, records[len(records)-1].Time, time.Now().Add(-49*time.Hour), time.Now().Add(-47*time.Hour))

	e, _, err := r.state.Evidence()
	require.NoError(t, err)
	said := map[evidence.Answer]int{}
	for _, e := range e.Events {
		if e.Question == evidence.FaultQuestion {
			said[e.Answer]++
		}
	}
	require.Equal(t, map[evidence.Answer]int{evidence.FaultSet: 9, evidence.FaultLifted: 9}, said,
		"each change is an event")
}

func TestFaultsThatMakeNoSenseAreRefused(t *testing.T) {
	t.Parallel()
	r := start(t)
	for text, says := range map[string]string{
		"tren silent":               `there is no server "tren"; did you mean "tern"?`,
		"tern silnt":                `a server cannot be "silnt"; did you mean "silent"?`,
		"tern slow":                 "how slow? Such as 3s",
		"tern slow fast":            `"fast" is no time`,
		"tern silent now":           `"now" was not understood`,
		"tern silent for nort-sw-1": `there is no device "nort-sw-1"; did you mean "north-sw-1"?`,
		"sanderling error":          "RADIUS has no answer that says",
		"north-sw-1 loses much":     "how much is lost? Such as 30%",
		"north-sw-1 loses 300%":     "from 1% to 100% can be lost",
		"north-sw-1 hangs comit":    `did you mean "commit"?`,
		"north-sw-1 hangs":          "with what? One of cancel-commit",
		"north-sw-1 refuses":        "which element is refused?",
		"north-sw-1 refuses <x>":    "is no name of an element",
		"north-sw-1 lacks ietf":     "is none of ietf-system",
		"nort-sw-1 warns commit":    `did you mean "north-sw-1"?`,
		"clock later":               "by how much is the clock off?",
		"tern":                      "it is too short",
	} {
		_, err := lab.ParseFault(r.site, text)
		require.ErrorContains(t, err, says, text)
	}
}

func TestARunningLabTakesFaultsFromOutside(t *testing.T) {
	t.Parallel()
	r := start(t)
	ask := func(c lab.Change) lab.InEffect {
		answer, err := lab.Ask(context.Background(), *r.Places.Control, c)
		require.NoError(t, err)
		return answer
	}
	require.Equal(t, []string{"tern slow 3s", "plover silent"},
		ask(lab.Change{Set: []string{"tern slow 3s", "plover silent"}}).Faults)
	answer := ask(lab.Change{Set: []string{"plover closed", "tern nonsense"}})
	require.Contains(t, answer.Wrong, "nonsense")
	require.Len(t, answer.Faults, 2, "all of it or nothing")
	require.Contains(t, ask(lab.Change{Lift: []string{"tern closed"}}).Wrong, `no fault "tern closed" in effect`)
	require.Equal(t, []string{"plover silent"}, ask(lab.Change{Lift: []string{"tern slow"}}).Faults)
	require.Empty(t, ask(lab.Change{LiftAll: true}).Faults)

	wrong := *r.Places.Control
	wrong.Token = "another"
	_, err := lab.Ask(context.Background(), wrong, lab.Change{LiftAll: true})
	require.ErrorIs(t, err, lab.ErrNoLab)
}

func TestDevicesSayThatTheyStartAndStop(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`site: Recorded
keys: {k: file k}
servers: [{name: t, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 5s, run: true}, {name: r, protocol: radius, address: 192.0.2.2, key: k, timeout: 5s, run: true}]
groups: [{name: g, servers: [t]}, {name: h, servers: [r]}]
lists: [{name: y, account: system, methods: [group g]}, {name: z, account: system, methods: [group h]}]
devices:
  - {name: sw, addresses: [192.0.2.9], defaults: {record-system: y}, access: {ssh: {}}}
  - {name: ap, addresses: [192.0.2.10], defaults: {record-system: z}, access: {ssh: {}}}
`)})
	require.NoError(t, err)
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	l, err := lab.Start(lab.Config{Network: labtest.Network(t), Site: s,
		Keys:  site.Keys{"k": site.NewSecret("a-key-of-this-test-only")},
		State: folder})
	require.NoError(t, err)
	kept := func() (all []string) {
		require.NoError(t, ledger.Folder(folder.Records()).Read(context.Background(),
			ledger.Filter{Kinds: []string{"system"}},
			func(r ledger.Record) error {
				all = append(all, r.Device+": "+r.Command)
				return nil
			}))
		return all
	}
	require.Eventually(t, func() bool { return len(kept()) == 2 }, 30*time.Second, 5*time.Millisecond)
	require.ElementsMatch(t, []string{"sw: sys_acct: start", "ap: accounting on"}, kept())
	l.Shutdown()
	require.NoError(t, folder.Close())
	require.ElementsMatch(t,
		[]string{"sw: sys_acct: start", "ap: accounting on", "sw: sys_acct: stop", "ap: accounting off"}, kept())
}
