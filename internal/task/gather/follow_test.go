package gather_test

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/gather"
)

// refused is what a server notes of a wrong password.
func refused(person string, at time.Time) evidence.Event {
	return evidence.Event{Time: at, Server: "tern", Protocol: site.TACACS, Client: "192.0.2.1", Device: "sw-1",
		Access: "ssh",
		Person: person, Question: site.AskLogin, Answer: evidence.Refused, Reason: reason.WrongPassword,
		Text: "the password is wrong"}
}

func TestEachFailedLoginIsToldOnceAsItHappens(t *testing.T) {
	t.Parallel()
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	defer func() { require.NoError(t, folder.Close()) }()
	folder.Event(refused("before", time.Now()))
	_, _, err = folder.Evidence() // it is written by now
	require.NoError(t, err)
	var mu sync.Mutex
	var told []string
	ctx, end := context.WithCancel(context.Background())
	ended, started := make(chan error), make(chan bool)
	go func() {
		ended <- gather.Follow(ctx, gather.Following{Folder: &state.Folder{Dir: folder.Dir},
			Symptom: diagnose.Symptom{Access: "ssh"}, Started: func() { close(started) },
			Each: func(v diagnose.Verdict) {
				mu.Lock()
				defer mu.Unlock()
				told = append(told, v.Story.Person+" "+v.Causes[0].Cause)
			}})
	}()
	<-started
	folder.Event(refused("ines", time.Now()))
	accepted := refused("tobin", time.Now())
	accepted.Answer, accepted.Reason = evidence.Accepted, reason.Accepted
	folder.Event(accepted)
	elsewhere := refused("odd", time.Now())
	elsewhere.Device, elsewhere.Access = "sw-2", "console"
	folder.Event(elsewhere)
	folder.Trace(evidence.Trace{Time: time.Now(), Device: "sw-3", Access: "ssh", Person: "keeper",
		Kind:    evidence.TraceLogin,
		Outcome: walk.OutcomeRefused, Reason: reason.LockedForNow, Steps: []evidence.TraceStep{{Purpose: site.AskLogin,
			Method: "local", Result: walk.Refused, Reason: reason.LockedForNow}}})
	now := func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string{}, told...)
	}
	require.Eventually(t, func() bool { return len(now()) >= 2 }, 20*time.Second, 5*time.Millisecond)
	require.Equal(t, []string{"keeper locked-for-now", "ines wrong-password"}, now(),
		"a device's own note at once, a server's when no more can come")
	end()
	require.NoError(t, <-ended)
}

// A crowd hides no failure, and those that went well do not stand still.
func TestOfACrowdTheFailuresAreToldAndSomeOfTheOthers(t *testing.T) {
	t.Parallel()
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	defer func() { require.NoError(t, folder.Close()) }()
	var mu sync.Mutex
	told := map[string]int{}
	newest, leftOut := time.Time{}, 0
	ctx, end := context.WithCancel(context.Background())
	ended, started := make(chan error), make(chan bool)
	go func() {
		ended <- gather.Follow(ctx, gather.Following{Folder: &state.Folder{Dir: folder.Dir}, All: true,
			Started: func() { close(started) },
			Came: func(_ evidence.Evidence, left gather.LeftOut) {
				mu.Lock()
				defer mu.Unlock()
				leftOut += left.All
			},
			Each: func(v diagnose.Verdict) {
				mu.Lock()
				defer mu.Unlock()
				told[v.Story.Person]++
				if v.Story.Time.After(newest) {
					newest = v.Story.Time
				}
			}})
	}()
	<-started
	began := time.Now()
	pace := time.NewTicker(time.Millisecond)
	defer pace.Stop()
	for i := 0; time.Since(began) < 4*time.Second; i++ { // a crowd for longer than a login is left alone
		<-pace.C
		for range 10 {
			e := refused("ines", time.Now())
			e.Answer, e.Reason = evidence.Accepted, reason.Accepted
			folder.Event(e)
		}
		if i%500 == 100 {
			folder.Event(refused("odd", time.Now()))
		}
	}
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return told["odd"] >= 2 && told["ines"] > 20 && newest.Sub(began) > time.Second && leftOut > 1000
	}, 20*time.Second, 10*time.Millisecond)
	end()
	require.NoError(t, <-ended)
}

func TestLinesThatDevicesSendAreReadByThePhrasebookOfTheirKind(t *testing.T) {
	t.Parallel()
	s, _, err := sitefile.Load("../../../demo/as-reviewed/site.yaml")
	require.NoError(t, err)
	at := time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	line := func(device, text string) evidence.LogLine {
		return evidence.LogLine{Time: at, Device: device, Text: text, Raw: true}
	}
	own := evidence.LogLine{Time: at, Device: "north-sw-1", Text: "Nov 20 03:09:01 north-sw-1 gate tern silent"}
	logLines := []evidence.LogLine{line("north-sw-1", "Nov 20 03:09:01 north-sw-1 gate tern silent"),
		line("north-sw-1", "Nov 20 03:09:02 north-sw-1 clock set by 0.2 s"), own,
		line("north-sw-1", "Nov 20 03:09:03 north-sw-1 own list said no to master by desk"), line("nobody", "x")}
	got, notes := gather.Understood(logLines, s, "../../../demo/as-reviewed")
	require.Empty(t, notes)
	require.Equal(t, evidence.LogLine{Time: at, Device: "north-sw-1", What: evidence.LogNoAnswer, Server: "tern",
		Asked: site.AskLogin, Reason: reason.Silent, Text: logLines[0].Text}, got[0])
	require.Equal(t, []evidence.LogLine{logLines[1], own, logLines[4]}, []evidence.LogLine{got[1], got[2], got[4]})
	require.Equal(t, evidence.LogLine{Time: at, Device: "north-sw-1", What: evidence.LogRefused, Person: "master",
		Access: "console", Reason: reason.WrongPassword, By: "local", Text: logLines[3].Text}, got[3])
	require.True(t, logLines[0].Raw, "what was given stays as it was")
	_, notes = gather.Understood(logLines, s, t.TempDir())
	require.Len(t, notes, 1, "the phrasebook is not there")
	none, _ := gather.Understood(logLines, nil, "")
	require.Equal(t, logLines, none)
}

func TestATextIsReadByItsPhrasebookOrRefusedWithARepair(t *testing.T) {
	t.Parallel()
	const demo = "../../../demo/"
	s, _, err := sitefile.Load(demo + "as-reviewed/site.yaml")
	require.NoError(t, err)
	d := exchange.Designed(s, nil)
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	book := demo + "phrasebooks/quay-switch.yaml"
	e, notes, err := gather.Files{Log: demo + "logs/north-sw-1.log", Phrases: book, Zone: "UTC"}.Read(nil, d)
	require.NoError(t, err)
	require.Empty(t, notes)
	var what []string
	for _, l := range e.Log {
		what = append(what, string(l.What)+" "+l.Person+" "+l.Server+" "+l.By+" "+string(l.Reason))
	}
	require.Equal(t, []string{"in ines.marsh tern tern ", "no-answer  tern  silent",
		"refused tobin.reed plover plover refused-by-server", "refused tobin.reed  local wrong-password",
		"answers-again  tern  "}, what)
	require.Equal(t, "03:02:44", e.Log[0].Time.UTC().Format(time.TimeOnly))

	e, _, err = gather.Files{Counters: demo + "logs/mv-avocet-rtr.log", Phrases: demo + "phrasebooks/hull-router.yaml",
		Device: "mv-avocet-rtr"}.Read(nil, d)
	require.NoError(t, err)
	require.Equal(t, evidence.Count{Device: "mv-avocet-rtr", Server: "radius 1", Question: site.AskLogin, Sent: 120,
		Accepted: 96, Refused: 12, Lost: map[reason.Reason]int{reason.Silent: 12}}, e.Counts[0])

	mixed := file("mixed.log", string(refused("ines", time.Now()).AppendLine(nil))+"started\n"+
		string(refused("tobin", time.Now()).AppendLine(nil)))
	e, notes, err = gather.Files{Log: mixed}.Read(nil, d)
	require.NoError(t, err)
	require.Len(t, e.Events, 2)
	require.Equal(t, []string{mixed + ": 1 of 3 lines are about something else"}, notes)

	empty := file("events.jsonl", "")
	e, notes, err = gather.Files{Events: empty}.Read(nil, d)
	require.NoError(t, err)
	require.Empty(t, e.Events)
	require.Equal(t, []string{empty + " is empty: nothing was noted there"}, notes)

	for says, f := range map[string]gather.Files{
		"by the phrasebook of its make: -phrases FILE": {Log: file("odd.log", "what is this\n")},
		"it may be of another make":                    {Log: file("other.log", "what is this\n"), Phrases: book},
		"the name of a zone is wanted":                 {Log: mixed, Zone: "Nowhere"},
		"two readings, the older one first":            {Counters: mixed + "," + mixed + "," + mixed},
		"holds no counters":                            {Counters: mixed},
		"not there.log":                                {Log: filepath.Join(dir, "not there.log")},
		"not there.txt":                                {Counters: filepath.Join(dir, "not there.txt")},
		"not there.pcap":                               {Capture: filepath.Join(dir, "not there.pcap")},
	} {
		_, _, err := f.Read(nil, d)
		require.ErrorContains(t, err, says)
	}
}
