package diagnose

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// evidenceOf is what is said for the causes of a verdict, one to a line.
func evidenceOf(v Verdict) string {
	all := []string{}
	for _, c := range v.Causes {
		all = append(all, c.Evidence...)
	}
	return strings.Join(all, "\n")
}

// unheard is a login to which no server gave an answer.
func unheard() evidence.Trace {
	return login("ines", walk.OutcomeRefused, reason.ListEnded, "", 0,
		group(walk.Unavailable, reason.NoAnswer, "", try("tern", reason.Silent)),
		local(walk.Unavailable, reason.NoSuchAccount))
}

func TestALocalListFirstIsNoFallback(t *testing.T) {
	t.Parallel()
	in := login("keeper", walk.OutcomeIn, "", "local", 15, local(walk.Accepted, ""),
		evidence.TraceStep{Purpose: site.AskSession, List: "s", Method: "group shore", Result: walk.Unavailable,
			Reason: reason.NoAnswer, Tries: []evidence.TraceTry{try("tern", reason.Silent)}})
	require.NotContains(t, names(Explain(evidence.Evidence{Traces: []evidence.Trace{in}}, Symptom{})), FallbackUsed)
}

// What a server noted of a login is found by the login's time. Another person's
// login at the same device does not cut it short; the same person's does.
func TestWhatBelongsToALoginEndsAtThePersonsNextOne(t *testing.T) {
	t.Parallel()
	refused := login("ines", walk.OutcomeRefused, reason.RefusedByServer, "tern", 0,
		group(walk.Refused, reason.RefusedByServer, "tern"))
	noted := event("ines", site.AskLogin, evidence.Refused, reason.WrongPassword, "the password of ines is wrong")
	noted.Time = at.Add(-1200 * time.Millisecond)
	beside := login("tobin", walk.OutcomeIn, "", "tern", 1, group(walk.Accepted, "", "tern"))
	beside.Time, beside.Seconds = at.Add(-time.Second), 0.1
	e := evidence.Evidence{Traces: []evidence.Trace{beside, refused}, Events: []evidence.Event{noted}}
	require.Equal(t, []string{WrongPassword}, names(Explain(e, Symptom{Person: "ines"})))
	e.Traces[0].Person = "ines"
	require.Equal(t, []string{WrongPassword, NoGrant}, names(Explain(e, Symptom{Person: "ines"})),
		"the event is of the login before, and shows that tern knows the name")
}

func TestACodeThatWasAskedForAndThenGivenIsNoCause(t *testing.T) {
	t.Parallel()
	asked := event("tobin", site.AskLogin, evidence.Challenged, reason.CodeAsked, "the password is right")
	wrong := event("tobin", site.AskLogin, evidence.Refused, reason.SecondFactor, "the one-time code is wrong")
	asked.Time = at.Add(-time.Second)
	e := evidence.Evidence{Events: []evidence.Event{asked, wrong}}
	require.Contains(t, evidenceOf(Explain(e, Symptom{})), "the one-time code is wrong")
	require.NotContains(t, evidenceOf(Explain(e, Symptom{})), "none was given")
	e.Events = e.Events[:1]
	require.Contains(t, evidenceOf(Explain(e, Symptom{})), "none was given")
}

func TestARestBeginsWithTheServersOwnTryThatFailed(t *testing.T) {
	t.Parallel()
	first := login("ines", walk.OutcomeIn, "", "gull", 15, group(walk.Accepted, "", "gull", try("tern", reason.Closed),
		evidence.TraceTry{Server: "gull", Try: 1, Result: walk.Accepted, Seconds: 5}))
	first.Seconds = 6
	second := login("ines", walk.OutcomeRefused, reason.ListEnded, "", 0, evidence.TraceStep{Purpose: site.AskLogin,
		List: "crew", Method: "group shore", Result: walk.Unavailable, Reason: reason.AllResting,
		Rested: []string{"tern"}},
		local(walk.Unavailable, reason.NoSuchAccount))
	second.Time = at.Add(10 * time.Second)
	v := Explain(evidence.Evidence{Traces: []evidence.Trace{first, second}}, Symptom{})
	require.Equal(t, Resting, v.Causes[0].Cause)
	require.Contains(t, v.Causes[0].Says, "tern gave no answer at 02:59:55 (closed)")
}

// A capture that is not in the order of time, with a server that answers just one
// other device.
func TestThatAServerAnswersOthersIsSeenInAnyOrder(t *testing.T) {
	t.Parallel()
	x := func(device string, after time.Duration, answer evidence.Answer) evidence.Exchange {
		return evidence.Exchange{Time: at.Add(after), Protocol: string(site.TACACS), Client: "192.0.2.1:40000",
			ServerAddress: "192.0.2.9:49", Device: device, Server: "tern", Person: "ines", Question: site.AskLogin,
			Answer: answer,
			Key:    evidence.KeyFits}
	}
	e := evidence.Evidence{Traces: []evidence.Trace{unheard()}, Exchanges: []evidence.Exchange{
		x("sw-2", 30*time.Minute, evidence.None), x("sw-2", time.Second, evidence.Accepted),
		x("sw-2", -30*time.Minute, evidence.None), x("sw-1", -time.Second, evidence.None)}}
	require.Contains(t, evidenceOf(Explain(e, Symptom{Device: "sw-1"})), "tern answers others in this capture")
	e.Exchanges[1].Answer = evidence.None
	require.Contains(t, evidenceOf(Explain(e, Symptom{Device: "sw-1"})), "tern answers nobody in this capture")
}

func TestALoginIsSoughtAQuarterOfAnHourAroundItsTime(t *testing.T) {
	t.Parallel()
	e := evidence.Evidence{Traces: []evidence.Trace{unheard()}}
	for _, far := range []time.Duration{nearby, -nearby} {
		require.True(t, Explain(e, Symptom{At: at.Add(far)}).Found)
	}
	for _, far := range []time.Duration{nearby + time.Second, -nearby - time.Second} {
		require.False(t, Explain(e, Symptom{At: at.Add(far)}).Found)
	}
}

func TestCountersOfOtherDevicesAndQuestionsAreLeftAside(t *testing.T) {
	t.Parallel()
	count := func(device string, asked site.Question, lost reason.Reason) evidence.Count {
		return evidence.Count{Device: device, Server: "tern", Question: asked, Sent: 9, Accepted: 9,
			Lost: map[reason.Reason]int{lost: 0}}
	}
	e := evidence.Evidence{Site: theSite(t), Counts: []evidence.Count{count("sw-1", site.AskLogin, ""),
		count("sw-9", site.AskSession, "")}}
	v := Explain(e, Symptom{Device: "sw-1"})
	require.Contains(t, evidenceOf(v), "the counters: tern answered 9 of 9 questions (login)")
	require.NotContains(t, evidenceOf(v), "session")

	lost := evidence.Count{Device: "sw-1", Server: "tern", Question: site.AskLogin, Sent: 9,
		Lost: map[reason.Reason]int{reason.Silent: 9}}
	said := "the counters: 9 of 9 questions to tern (login) failed: silent"
	e = evidence.Evidence{Counts: []evidence.Count{lost}}
	require.Contains(t, evidenceOf(Explain(e, Symptom{Device: "sw-1"})), said)
	require.NotContains(t, evidenceOf(Explain(e, Symptom{Device: "sw-9"})), said)
	e.Traces = []evidence.Trace{unheard()}
	require.NotContains(t, evidenceOf(Explain(e, Symptom{})), "the counters", "the login itself was noted")
}

func TestAQuestionPutAsAnotherDeviceIsNotOfThisOne(t *testing.T) {
	t.Parallel()
	e := evidence.Evidence{Traces: []evidence.Trace{unheard()}, Probes: []evidence.Probe{{Time: at, Server: "tern",
		As: "sw-9", Kind: evidence.ProbeReach, Result: evidence.ProbeClosed, Text: "the port refuses"}}}
	require.Equal(t, []string{Unreachable}, names(Explain(e, Symptom{})))
	for _, as := range []string{"sw-1", ""} {
		e.Probes[0].As = as
		require.Equal(t, []string{ServerOff}, names(Explain(e, Symptom{})), "as %q", as)
	}
}

func TestTheSecondServerThatKnowsNobodyFollowsTheFirstThatIsAway(t *testing.T) {
	t.Parallel()
	refused := login("ines", walk.OutcomeRefused, reason.RefusedByServer, "gull", 0,
		group(walk.Unavailable, reason.NoAnswer, "", try("tern", reason.Silent)),
		group(walk.Refused, reason.RefusedByServer, "gull"))
	noted := event("ines", site.AskLogin, evidence.Refused, reason.UnknownPerson, "nobody is called ines")
	noted.Server = "gull"
	e := evidence.Evidence{Traces: []evidence.Trace{refused}, Events: []evidence.Event{noted}}
	v := Explain(e, Symptom{})
	require.Equal(t, []string{Unreachable, UnknownPerson}, names(v))
	require.True(t, v.Causes[1].Follows)
	e.Events[0].Reason = reason.WrongPassword
	require.False(t, Explain(e, Symptom{}).Causes[0].Follows)
	require.Equal(t, WrongPassword, Explain(e, Symptom{}).Causes[0].Cause, "a server that knows the person decides")
}

func TestADeviceThatAsksNoServerThoughTheSiteSaysSo(t *testing.T) {
	t.Parallel()
	s := parsedSite(t, designed)
	alone := login("keeper", walk.OutcomeRefused, reason.WrongPassword, "local", 0,
		local(walk.Refused, reason.WrongPassword))
	e := evidence.Evidence{Traces: []evidence.Trace{alone}, Site: s}
	require.Contains(t, evidenceOf(Explain(e, Symptom{})), "no server was asked, and the site says that this way "+
		"in asks")
	e.Traces[0].Steps = append([]evidence.TraceStep{group(walk.Unavailable, reason.NoAnswer, "",
		try("tern", reason.Silent))}, alone.Steps...)
	require.NotContains(t, evidenceOf(Explain(e, Symptom{})), "no server was asked")
	e.Traces, e.Site = []evidence.Trace{alone}, nil
	require.NotContains(t, evidenceOf(Explain(e, Symptom{})), "no server was asked", "nothing says that it would")
}

func TestEachDecisionInALogIsALogin(t *testing.T) {
	t.Parallel()
	line := func(after time.Duration, what evidence.LogEvent) evidence.LogLine {
		return evidence.LogLine{Time: at.Add(after), Device: "sw-1", What: what, Person: "ines", Access: "ssh",
			Asked: site.AskLogin, Server: "tern", By: "tern", Text: "a line"}
	}
	e := evidence.Evidence{Log: []evidence.LogLine{line(0, evidence.LogRefused),
		line(2*time.Second, evidence.LogRefused),
		line(4*time.Second, evidence.LogAgain), line(5*time.Second, evidence.LogIn)}}
	logins := 0
	Each(e, Symptom{}, nil, func(Verdict) { logins++ })
	require.Equal(t, 3, logins)
}

func TestClocksFarApartMayWanderALittle(t *testing.T) {
	t.Parallel()
	ticks := func(offs ...time.Duration) (base, other []tick) {
		for i, off := range offs {
			when, what := at.Add(time.Duration(i)*time.Minute), string(rune('a'+i))
			base = append(base, tick{what: what, at: when})
			other = append(other, tick{what: what, at: when.Add(off)})
		}
		return base, other
	}
	for _, c := range []struct {
		offs  []time.Duration
		apart bool
	}{
		{[]time.Duration{time.Hour, time.Hour + 2*slack + time.Second}, true},
		{[]time.Duration{3 * slack, 3*slack + 2*slack}, true},
		{[]time.Duration{3 * slack, 3*slack + 2*slack + time.Second}, false},
		{[]time.Duration{0, 0}, false},
		{[]time.Duration{slack}, false},
	} {
		_, found := apart(ticks(c.offs...))
		require.Equal(t, c.apart, found, "%v", c.offs)
	}
}

func TestTheDevicesOwnLogTellsALoginByLocalFromAServersSilence(t *testing.T) {
	t.Parallel()
	line := func(after time.Duration, what evidence.LogEvent, by string) evidence.LogLine {
		return evidence.LogLine{Time: at.Add(after), Device: "sw-1", What: what, Person: "keeper", Access: "ssh",
			Asked: site.AskLogin, Server: "tern", By: by, Reason: reason.Silent, Text: "a line"}
	}
	in := line(time.Second, evidence.LogIn, "local")
	e := evidence.Evidence{Log: []evidence.LogLine{line(0, evidence.LogNoAnswer, ""), in}}
	require.Equal(t, []string{FallbackUsed, Unreachable}, names(Explain(e, Symptom{})))
	e.Log = []evidence.LogLine{in}
	require.NotContains(t, names(Explain(e, Symptom{})), FallbackUsed, "nothing says that a server was silent")
}

// Below the level of the pages somebody is refused; who is in has the level that is
// shown, and no cause where that is what the site promises.
func TestBelowALevelIsSaidOfWhoWasRefused(t *testing.T) {
	t.Parallel()
	low := login("ines", walk.OutcomeRefused, reason.BelowLevel, "tern", 1, group(walk.Accepted, "", "tern"))
	require.Equal(t, []string{BelowLevel}, names(Explain(evidence.Evidence{Traces: []evidence.Trace{low}}, Symptom{})))
	low.Outcome = walk.OutcomeIn
	require.Empty(t, names(Explain(evidence.Evidence{Traces: []evidence.Trace{low}}, Symptom{})))
	require.Equal(t, []string{NoRights}, names(Explain(evidence.Evidence{Traces: []evidence.Trace{low}},
		Symptom{Saw: "low-level"})), "somebody says that it is too low")
	low.Level = 15
	require.Empty(t, names(Explain(evidence.Evidence{Traces: []evidence.Trace{low}}, Symptom{Saw: "low-level"})),
		"no level is higher")
}

// A session's authorization counts for what is seen to its end.
func TestALogLineThatSaysInEndsALogin(t *testing.T) {
	t.Parallel()
	in := evidence.LogLine{Time: at, Device: "sw-1", What: evidence.LogIn, Person: "ines", Access: "ssh",
		Asked: site.AskLogin, By: "tern", Level: 15, Text: "ines is in"}
	v := Explain(evidence.Evidence{Log: []evidence.LogLine{in}}, Symptom{})
	require.True(t, v.Found)
	require.True(t, v.Healthy)
}

func TestAnEventAndAPacketOfALoginAreOneStory(t *testing.T) {
	t.Parallel()
	noted := event("ines", site.AskLogin, evidence.Refused, reason.WrongPassword, "the password of ines is wrong")
	asked := evidence.Exchange{Time: at, Protocol: "radius", Client: "192.0.2.1:40000", ServerAddress: "192.0.2.9:1812",
		Device: "sw-1", Server: "tern", Person: "ines", Question: site.AskLogin, Answer: evidence.Refused,
		Key: evidence.KeyFits}
	e := evidence.Evidence{Events: []evidence.Event{noted}, Exchanges: []evidence.Exchange{asked}}
	stories := 0
	Each(e, Symptom{}, nil, func(v Verdict) {
		stories++
		require.Len(t, v.Story.Events, 1)
		require.Len(t, v.Story.Exchanges, 1)
	})
	require.Equal(t, 1, stories)
	require.False(t, Explain(e, Symptom{Person: "tobin"}).Found, "the login of another is none of his")
}

func TestAStrangerCountsOnlyWhereItsQuestionsComeWithTheDevices(t *testing.T) {
	t.Parallel()
	stranger := evidence.Event{Time: at.Add(-500 * time.Millisecond), Server: "tern", Client: "192.0.2.77",
		Question: site.AskLogin, Answer: evidence.Dropped, Reason: reason.ClientUnknown,
		Text: "no device has the address"}
	e := evidence.Evidence{Traces: []evidence.Trace{unheard()}, Events: []evidence.Event{stranger}}
	require.Equal(t, []string{ClientUnknown}, names(Explain(e, Symptom{Device: "sw-1"})))
	later := stranger
	later.Time = at.Add(30 * time.Second)
	e.Events = append(e.Events, later)
	require.Equal(t, []string{Unreachable}, names(Explain(e, Symptom{Device: "sw-1"})), "it asks at other times too")
}

// What lies between a device and a server comes before what lies with people, and what
// follows from another comes last.
func TestTheGravestOfManyLoginsComesFirst(t *testing.T) {
	t.Parallel()
	for layer, first := range map[string]bool{"network": true, "transport": true, "protocol": true, "records": true,
		"identity": false, "rights": false} {
		require.Equal(t, first, weight(Group{Cause: Cause{Layer: layer}}) == 0, layer)
		require.Equal(t, 3, weight(Group{Cause: Cause{Layer: layer, Follows: true}}), layer)
	}
	require.Equal(t, 1, weight(Group{Cause: Cause{Layer: "design", Cause: NoFallback}}))
	require.Equal(t, 2, weight(Group{Cause: Cause{Layer: "design", Cause: LocalWhileServerAnswers}}))
}

func TestALoginIsSoughtByItsWayIn(t *testing.T) {
	t.Parallel()
	e := evidence.Evidence{Traces: []evidence.Trace{unheard()}}
	require.True(t, Explain(e, Symptom{Access: "ssh"}).Found)
	require.False(t, Explain(e, Symptom{Access: "console"}).Found)
	e.Traces[0].Access = ""
	require.True(t, Explain(e, Symptom{Access: "console"}).Found, "it does not say which way")
}
