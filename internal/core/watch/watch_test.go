package watch

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

var noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)

func after(seconds int) time.Time { return noon.Add(time.Duration(seconds) * time.Second) }

// served is a server that gave so many answers, all within 2 ms but some within 20 ms.
func served(answers, slow, dropped float64) Served {
	return Served{Answers: answers, Dropped: dropped, Took: []Bucket{
		{UpTo: 2 * time.Millisecond, Count: answers - slow},
		{UpTo: 20 * time.Millisecond, Count: answers}, {UpTo: Unbounded, Count: answers}}}
}

func figures(of map[string]Served) Figures { return Figures{Servers: of} }

func TestAServerIsAsItWasInTheLastMinute(t *testing.T) {
	t.Parallel()
	tests := []struct {
		name string
		seen func(*Seen)
		want Server
	}{
		{"nothing came", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": served(50, 0, 3)}))
		}, Server{State: NotAsked}},
		{"answers, at the bounds of their times", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": served(50, 10, 0)}))
			s.Figures(after(50), figures(map[string]Served{"tern": served(100, 10, 0)}))
			s.Figures(after(60), figures(map[string]Served{"tern": served(250, 20, 0)}))
		}, Server{State: Answers, PerSecond: 15, P50: 2 * time.Millisecond, P99: 20 * time.Millisecond}},
		{"what came before the minute does not count", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": served(50, 10, 7)}))
			for i := 1; i <= 70; i++ {
				s.Figures(after(i), figures(map[string]Served{"tern": served(100, 10, 9)}))
			}
		}, Server{State: NotAsked}},
		{"questions without an answer", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": served(50, 0, 0)}))
			s.Figures(after(5), figures(map[string]Served{"tern": served(60, 0, 4)}))
		}, Server{State: Drops, PerSecond: 2, Dropped: 4, P50: 2 * time.Millisecond, P99: 2 * time.Millisecond}},
		{"a moment in which nothing comes is no new run", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": served(50, 0, 0)}))
			s.Figures(after(20), figures(map[string]Served{"tern": served(60, 0, 5)}))
			s.Figures(after(40), figures(map[string]Served{"tern": served(60, 0, 5)}))
		}, Server{State: Drops, Dropped: 5, P50: 2 * time.Millisecond, P99: 2 * time.Millisecond}},
		{"a new run counts from 0", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": served(500, 0, 0)}))
			s.Figures(after(5), figures(map[string]Served{"tern": served(4, 0, 0)}))
			s.Figures(after(6), figures(map[string]Served{"tern": served(6, 0, 0)}))
		}, Server{State: Answers, PerSecond: 2, P50: 2 * time.Millisecond, P99: 2 * time.Millisecond}},
		{"it has ended", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": served(0, 0, 0)}))
			s.Figures(after(5), figures(map[string]Served{"tern": served(10, 10, 0)}))
			s.NoFigures("nothing runs here")
		}, Server{State: Ended, P50: 20 * time.Millisecond, P99: 20 * time.Millisecond}},
		{"slower than the last bound", func(s *Seen) {
			s.Figures(after(0), figures(map[string]Served{"tern": {}}))
			s.Figures(after(2), figures(map[string]Served{"tern": {Answers: 10, Took: []Bucket{
				{UpTo: time.Second, Count: 6}, {UpTo: Unbounded, Count: 10}}}}))
		}, Server{State: Answers, PerSecond: 5, P50: time.Second, P99: Unbounded}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			var s Seen
			tt.seen(&s)
			tt.want.Name = "tern"
			require.Equal(t, []Server{tt.want}, s.Picture(after(70), Filter{}).Servers)
		})
	}
}

func TestNoMoreThanAMinuteOfFiguresIsKept(t *testing.T) {
	t.Parallel()
	var s Seen
	for i := range 500 {
		s.Figures(after(i), figures(map[string]Served{"tern": served(float64(i), 0, 0)}))
	}
	require.InDelta(t, 60, len(s.figures), 2)
}

func TestFaultsOfALabStandWithTheirServerUntilTheyAreLifted(t *testing.T) {
	t.Parallel()
	var s Seen
	s.Figures(noon, figures(map[string]Served{"tern": {}, "Plover": {}}))
	fault := func(answer evidence.Answer, text string) {
		s.Events(noon, []evidence.Event{{Question: evidence.FaultQuestion, Answer: answer, Text: text},
			{Question: site.AskLogin, Answer: evidence.Accepted, Text: text}}, 0)
	}
	fault(evidence.FaultSet, "tern silent")
	fault(evidence.FaultSet, "tern slow 3s")
	fault(evidence.FaultSet, "tern silent")
	fault(evidence.FaultLifted, "tern slow 3s")
	servers := s.Picture(noon, Filter{}).Servers
	require.Equal(t, "Plover", servers[0].Name)
	require.Empty(t, servers[0].Faults)
	require.Equal(t, []string{"silent"}, servers[1].Faults)
}

// noted is a login as a device noted it, that a server decided on.
func noted(device, person string, at time.Time, outcome walk.Outcome, causes ...diagnose.Cause) diagnose.Verdict {
	level := 15
	return diagnose.Verdict{Causes: causes, Healthy: len(causes) == 0, Story: diagnose.Story{
		Device: device, Person: person, Access: "ssh", Time: at,
		Login: &evidence.Trace{Outcome: outcome, Level: level, By: "tern", Seconds: 1.25},
		Events: []evidence.Event{{Time: at, Server: "tern", Question: site.AskLogin, Answer: evidence.Accepted,
			Level: &level, Place: "site.yaml:12:3"}}}}
}

func TestALoginIsSaidInOneRow(t *testing.T) {
	t.Parallel()
	cause := diagnose.Cause{Cause: "unreachable", Says: "nothing comes back"}
	byServers := noted("sw", "ines", noon, "")
	byServers.Story.Login = nil
	refused := byServers
	refused.Healthy, refused.Causes = false, []diagnose.Cause{{Cause: "wrong-password", Says: "it is wrong"}}
	refused.Story.Events = []evidence.Event{{Question: site.AskLogin, Answer: evidence.Challenged},
		{Question: site.AskLogin, Answer: evidence.Refused},
		{Question: site.AskRecordSessions, Answer: evidence.Recorded}}
	unseen := diagnose.Verdict{Unseen: true, Story: diagnose.Story{Device: "sw"}}
	tests := []struct {
		name                string
		v                   diagnose.Verdict
		outcome, cause, why string
		failed, trouble     bool
	}{
		{"well", noted("sw", "ines", noon, walk.OutcomeIn), "in", "", "level 15, by tern after 1.2 s, site.yaml:12:3",
			false, false},
		{"in with trouble", noted("sw", "ines", noon, walk.OutcomeIn, cause), "in", "unreachable", "nothing comes back",
			false, true},
		{"not in", noted("sw", "ines", noon, walk.OutcomeRefused, cause), "refused", "unreachable",
			"nothing comes back",
			true, false},
		{"as servers noted it", byServers, "accepted", "", "level 15, by tern, site.yaml:12:3", false, false},
		{"refused, as servers noted it", refused, "refused", "wrong-password", "it is wrong", true, false},
		{"a part", unseen, "no-answer", "", "", false, false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			l := LoginOf(tt.v)
			require.Equal(t, []any{tt.outcome, tt.cause, tt.why, tt.failed, tt.trouble},
				[]any{l.Outcome, l.Cause, l.Why, l.Failed, l.Trouble})
		})
	}
	require.Equal(t, "somebody", LoginOf(unseen).Person)
	// The record of a session says nothing of the login, and the newest answer with a place says most.
	told := byServers
	for _, e := range []evidence.Event{
		{Question: site.AskRecordSessions, Answer: evidence.Accepted, Server: "x", Place: "x"},
		{Question: site.AskSession, Answer: evidence.Accepted, Server: "plover", Place: "site.yaml:15:1"},
		{Question: site.AskLogin, Answer: evidence.Dropped, Server: "y"}} {
		told.Story.Events = append(told.Story.Events[:len(told.Story.Events):len(told.Story.Events)], e)
	}
	require.Equal(t, "by plover, site.yaml:15:1", LoginOf(told).Why)
	told.Story.Events = []evidence.Event{{Question: site.AskLogin, Answer: evidence.Accepted},
		{Question: site.AskLogin, Answer: evidence.Dropped}}
	require.Equal(t, string(evidence.Dropped), LoginOf(told).Outcome)
}

func TestLoginsAreInOrderOnceEachAndBounded(t *testing.T) {
	t.Parallel()
	var s Seen
	servers := noted("sw-1", "ines", after(2), "")
	servers.Story.Login = nil
	s.Login(servers)
	s.Login(noted("sw-2", "tobin", after(1), walk.OutcomeIn))
	s.Login(noted("sw-1", "ines", after(2), walk.OutcomeIn))
	logins := s.Picture(after(3), Filter{}).Logins
	require.Len(t, logins, 2)
	require.Equal(t, "in", logins[0].Outcome, "what the device noted stands in the place of what servers showed")
	require.Equal(t, "sw-2", logins[1].Device)
	for i := range 2 * mostLogins {
		s.Login(noted("sw-3", "ines", after(3+i), walk.OutcomeIn))
	}
	logins = s.Picture(after(3), Filter{}).Logins
	require.Len(t, logins, mostLogins)
	require.Equal(t, after(2+2*mostLogins), logins[0].Time, "the oldest are forgotten")
}

func TestAFilterChoosesLoginsAndCountsTheOthers(t *testing.T) {
	t.Parallel()
	var s Seen
	s.Login(noted("north-sw", "Ines", after(1), walk.OutcomeIn))
	s.Login(noted("south-sw", "tobin", after(2), walk.OutcomeRefused, diagnose.Cause{Cause: "wrong-password"}))
	s.Login(noted("south-sw", "odd", after(3), walk.OutcomeIn, diagnose.Cause{Cause: "unreachable"}))
	for text, want := range map[string]string{"": "odd tobin Ines", "SOUTH": "odd tobin", "ines": "Ines",
		"wrong-p": "tobin", "level": "Ines", "nobody": ""} {
		p := s.Picture(after(9), Filter{Text: text})
		require.Equal(t, want, peopleOf(p), text)
		require.Equal(t, 3, len(p.Logins)+p.Hidden, text)
	}
	require.Equal(t, "odd tobin", peopleOf(s.Picture(after(9), Filter{Wrong: true})))
	require.Equal(t, "tobin", peopleOf(s.Picture(after(9), Filter{Wrong: true, Text: "tobin"})))
}

func peopleOf(p Picture) string {
	var all []string
	for _, l := range p.Logins {
		all = append(all, l.Person)
	}
	return strings.Join(all, " ")
}

func TestACrowdIsSaidForAWhile(t *testing.T) {
	t.Parallel()
	var s Seen
	s.Events(noon, nil, 0)
	require.False(t, s.Picture(noon, Filter{}).Crowded)
	s.Events(noon, nil, 7)
	require.True(t, s.Picture(after(9), Filter{}).Crowded)
	require.False(t, s.Picture(after(10), Filter{}).Crowded)
}

func TestDevicesWithTroubleAreThoseOfAQuarterOfAnHour(t *testing.T) {
	t.Parallel()
	var s Seen
	bad := diagnose.Cause{Cause: "unreachable"}
	s.Login(noted("old", "ines", noon, walk.OutcomeRefused, bad))
	s.Login(noted("well", "ines", after(600), walk.OutcomeIn))
	s.Login(noted("sw-2", "ines", after(601), walk.OutcomeRefused, bad))
	s.Login(noted("sw-1", "ines", after(602), walk.OutcomeIn, bad))
	s.Login(noted("sw-2", "ines", after(603), walk.OutcomeRefused, bad))
	s.Login(noted("sw-2", "tobin", after(604), walk.OutcomeIn))
	devices := s.Picture(after(901), Filter{Text: "nobody"}).Devices
	require.Len(t, devices, 2, "a filter hides no device")
	require.Equal(t, Device{Name: "sw-2", Failed: 2, Last: devices[0].Last}, devices[0])
	require.Equal(t, "tobin", devices[0].Last.Person)
	require.Equal(t, Device{Name: "sw-1", Trouble: 1, Last: devices[1].Last}, devices[1])
}

func TestWhatIsWrongIsSaid(t *testing.T) {
	t.Parallel()
	var s Seen
	s.Figures(noon, figures(map[string]Served{"tern": served(5, 0, 0)}))
	s.Figures(after(1), Figures{Servers: map[string]Served{"tern": served(5, 0, 2)}, Checking: 3, Waiting: 4,
		Troubles: []string{"room: the disk is nearly full"}, Ends: map[string]time.Time{
			"sanderling": noon.Add(endsSoon - time.Hour), "plover": noon.Add(-time.Hour),
			"dunlin": noon.Add(endsSoon + time.Hour)}})
	s.NoSessions("the database is away")
	p := s.Picture(after(2), Filter{})
	require.Equal(t, []string{"room: the disk is nearly full",
		"plover: its certificate ended on 2026-03-04; no device trusts it: put a new one in its place",
		"sanderling: its certificate ends on 2026-04-03, in 29 days; put a new one in its place before",
		"tern: 2 questions had no answer in the last minute: a key or the address of a device differs, or it was " +
			"asked too much; look at the logins",
		"sessions: the database is away"}, p.Alerts)
	require.Equal(t, []float64{3, 4}, []float64{p.Checking, p.Waiting})
	s.Sessions([]Session{{Person: "ines", Since: noon}, {Person: "tobin", Since: after(1)}})
	s.NoFigures("it has ended")
	p = s.Picture(after(2), Filter{})
	require.Equal(t, []string{"it has ended"}, p.Alerts[:1])
	require.NotContains(t, strings.Join(p.Alerts, " "), "sessions")
	require.Equal(t, "tobin", p.Sessions[0].Person, "the newest first")
	require.Zero(t, p.Checking, "what is no longer known is not shown")
}

func TestMetricsAreRead(t *testing.T) {
	t.Parallel()
	f, err := Read(strings.NewReader(`# TYPE mellowgate_answers_total counter
mellowgate_answers_total{server="tern",answer="accepted",question="login"} 7
mellowgate_answers_total{server="tern",answer="refused",question="login"} 2
mellowgate_answers_total{server="tern",answer="dropped",question="login"} 1
# TYPE mellowgate_answer_seconds histogram
mellowgate_answer_seconds_bucket{server="tern",question="login",le="0.002"} 4
mellowgate_answer_seconds_bucket{server="tern",question="login",le="0.5"} 6
mellowgate_answer_seconds_bucket{server="tern",question="login",le="+Inf"} 7
mellowgate_answer_seconds_sum{server="tern",question="login"} 3
mellowgate_answer_seconds_count{server="tern",question="login"} 7
mellowgate_answer_seconds_bucket{server="tern",question="commands",le="0.002"} 2
mellowgate_answer_seconds_bucket{server="tern",question="commands",le="0.5"} 2
mellowgate_answer_seconds_bucket{server="tern",question="commands",le="+Inf"} 2
mellowgate_answer_seconds_sum{server="tern",question="commands"} 0
mellowgate_answer_seconds_count{server="tern",question="commands"} 2
# TYPE mellowgate_certificate_end_timestamp_seconds gauge
mellowgate_certificate_end_timestamp_seconds{server="tern"} 100
# TYPE mellowgate_passwords_checking gauge
mellowgate_passwords_checking 3
# TYPE mellowgate_records_waiting gauge
mellowgate_records_waiting 9
`))
	require.NoError(t, err)
	require.Equal(t, Figures{Servers: map[string]Served{"tern": {Answers: 9, Dropped: 1, Took: []Bucket{
		{UpTo: 2 * time.Millisecond, Count: 6}, {UpTo: 500 * time.Millisecond, Count: 8},
		{UpTo: Unbounded, Count: 9}}}},
		Checking: 3, Waiting: 9, Ends: map[string]time.Time{"tern": time.Unix(100, 0)}}, f)
	_, err = Read(strings.NewReader("<html>"))
	require.ErrorContains(t, err, "these are no metrics")
}
