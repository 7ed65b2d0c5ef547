package diagnose

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

const designed = `
keys: {k: file k}
servers:
  - {name: tern, protocol: tacacs, address: 192.0.2.9, key: k, timeout: 1s}
  - {name: gull, protocol: radius, address: 192.0.2.8, key: k, timeout: 1s}
groups: [{name: g, servers: [tern]}, {name: r, servers: [gull]}]
lists:
  - {name: l, authenticate: login, methods: [group g]}
  - {name: lr, authenticate: login, methods: [group r, local]}
accounts: [{name: keeper, level: 15, password: $6$a$b}]
devices:
  - {name: sw-1, addresses: [192.0.2.1], access: {ssh: {login: l}}}
  - {name: ap-1, addresses: [192.0.2.2], accounts: [keeper], access: {ssh: {login: lr}}, found: {ports: {gull: {authentication: 1645}}}}
people: [{name: ines, teams: [net], password: $6$a$b}, {name: odd, teams: [net], password: $6$a$b, disabled: true}]
roles: [{name: all, level: 15}]
grants: [{who: team net, role: all}]
`

func parsedSite(t *testing.T, text string) *site.Site {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return s
}

func names(v Verdict) []string {
	all := []string{}
	for _, c := range v.Causes {
		all = append(all, c.Cause)
	}
	return all
}

// Every entry of the catalogue has its words, and can win by its own signs.
func TestTheCatalogueIsWhole(t *testing.T) {
	t.Parallel()
	for _, k := range catalogue {
		require.NotEmpty(t, k.says, k.cause)
		require.NotEmpty(t, k.repair, k.cause)
		require.NotEmpty(t, k.layer, k.cause)
		p := failurePoint{kind: k.at, asked: "login"}
		if k.cause == AccountingPort || k.cause == RecordNotKept {
			p.asked = "record-sessions"
		}
		for what, weight := range k.signs {
			if weight > 0 {
				p.signs = append(p.signs, Sign{What: what, Text: string(what)})
			}
		}
		require.Equal(t, k.cause, weigh(p)[0].cause, "at %s with %v", k.at, p.signs)
		require.Less(t, weigh(p)[0].confidence, 1.0)
	}
}

func TestMoreEvidenceSharpensTheAnswer(t *testing.T) {
	t.Parallel()
	p := failurePoint{kind: unheardPoint, asked: "login", signs: signs{{What: silentSign}}}
	before := weigh(p)[0]
	p.signs = append(p.signs, Sign{What: heardNothingSign}, Sign{What: heardOthersSign})
	after := weigh(p)[0]
	require.Equal(t, Unreachable, after.cause)
	require.Greater(t, after.confidence, before.confidence)
	p.signs = append(p.signs, Sign{What: openSign}, Sign{What: unfitSign})
	require.Equal(t, KeyDiffers, weigh(p)[0].cause)
}

func TestTheDesignAloneSaysWhatItMakesOfALogin(t *testing.T) {
	t.Parallel()
	s := parsedSite(t, designed)
	e := evidence.Evidence{Site: s, Now: at}
	for _, c := range []struct {
		symptom Symptom
		want    []string
	}{
		{Symptom{Device: "sw-1", Person: "odd", Access: "ssh", Saw: "refused"}, []string{DisabledOrExpired}},
		{Symptom{Device: "sw-1", Person: "ines", Access: "ssh", Saw: "refused"}, []string{Unreachable, NoFallback}},
		{Symptom{Device: "sw-1", Person: "inse", Access: "ssh"}, []string{UnknownPerson}},
		{Symptom{Device: "ap-1"}, []string{WrongPort}},
	} {
		v := Explain(e, c.symptom)
		require.True(t, v.Found)
		require.Equal(t, c.want, names(v), "%+v", c.symptom)
		require.Contains(t, v.Causes[0].Evidence[0], "site")
	}
	require.False(t, Explain(e, Symptom{Device: "none"}).Found)
}

func TestCountersAloneNameWhatTheyCan(t *testing.T) {
	t.Parallel()
	count := func(question site.Question, sent, accepted int, lost map[reason.Reason]int) evidence.Count {
		return evidence.Count{Device: "sw-1", Server: "tern", Question: question, Sent: sent, Accepted: accepted,
			Lost: lost}
	}
	for _, c := range []struct {
		counts []evidence.Count
		want   []string
	}{
		// no login is seen in it
		{[]evidence.Count{count("login", 9, 9, nil)}, []string{NotKnown}},
		// some loss is life
		{[]evidence.Count{count("login", 100, 97, map[reason.Reason]int{"silent": 3})}, []string{NotKnown}},
		{[]evidence.Count{count("login", 4, 0, map[reason.Reason]int{"closed": 4})}, []string{ServerOff}},
		{[]evidence.Count{count("login", 4, 0, map[reason.Reason]int{"key-differs": 4})}, []string{KeyDiffers}},
		{[]evidence.Count{count("login", 4, 4, nil), count(
			"record-sessions", 8, 0, map[reason.Reason]int{"silent": 8})},
			[]string{AccountingPort}},
	} {
		v := Explain(evidence.Evidence{Counts: c.counts, Now: at}, Symptom{})
		require.True(t, v.Found)
		require.Equal(t, c.want, names(v), "%+v", c.counts)
	}
}

// Counters have no time: they are no answer to a question about one login that
// was not seen.
func TestCountersSayNothingOfALoginThatWasNotSeen(t *testing.T) {
	t.Parallel()
	e := evidence.Evidence{Traces: []evidence.Trace{login("ines", "in", "", "tern", 15, group("accepted", "", "tern"))},
		Counts: []evidence.Count{{Device: "sw-1", Server: "tern", Question: "login", Sent: 4,
			Lost: map[reason.Reason]int{"silent": 4}}}}
	require.False(t, Explain(e, Symptom{At: at.Add(-24 * time.Hour)}).Found)
	require.False(t, Explain(e, Symptom{Device: "sw-2"}).Found)
	require.True(t, Explain(e, Symptom{}).Healthy)
}

func TestQuestionsPutOnPurposeAreEvidence(t *testing.T) {
	t.Parallel()
	probe := func(kind evidence.ProbeKind, result evidence.ProbeResult) evidence.Probe {
		return evidence.Probe{Time: at, Server: "gull", As: "ap-1", Kind: kind, Result: result,
			Text: string(kind) + " " + string(result)}
	}
	for _, c := range []struct {
		probes []evidence.Probe
		want   []string
	}{
		{[]evidence.Probe{probe(evidence.ProbeStatus, evidence.ProbeAlive),
			probe(evidence.ProbeAccountingStatus, evidence.ProbeAlive),
			probe(evidence.ProbeLogin, evidence.ProbeRefused)},
			[]string{NotKnown}}, // the servers are well, and no login was seen
		{[]evidence.Probe{probe(evidence.ProbeStatus, evidence.ProbeSilent),
			probe(evidence.ProbeLogin, evidence.ProbeSilent)}, []string{Unreachable}},
		{[]evidence.Probe{probe(evidence.ProbeStatus, evidence.ProbeClosed)}, []string{ServerOff}},
		{[]evidence.Probe{probe(evidence.ProbeStatus, evidence.ProbeAlive),
			probe(evidence.ProbeLogin, evidence.ProbeUnfit)},
			[]string{KeyDiffers}},
		{[]evidence.Probe{probe(evidence.ProbeStatus, evidence.ProbeAlive),
			probe(evidence.ProbeAccountingStatus, evidence.ProbeSilent),
			probe(evidence.ProbeLogin, evidence.ProbeRefused)},
			[]string{AccountingPort}},
	} {
		v := Explain(evidence.Evidence{Probes: c.probes, Now: at}, Symptom{Device: "ap-1"})
		require.True(t, v.Found)
		require.Equal(t, c.want, names(v), "%+v", c.probes)
	}
	// What a device could not hear, and now answers with the site's key: the device's own is another.
	silent := login("ines", "refused", "list-ended", "", 0,
		group("unavailable", "no-answer", "", try("tern", "key-differs")), local("unavailable", "no-such-account"))
	v := Explain(evidence.Evidence{Traces: []evidence.Trace{silent},
		Probes: []evidence.Probe{{Time: at, Server: "tern", As: "sw-1", Kind: evidence.ProbeLogin,
			Result: evidence.ProbeRefused, Text: "it answers"}}}, Symptom{})
	require.Equal(t, KeyDiffers, v.Causes[0].Cause)
	require.Contains(t, v.Causes[0].Evidence, "asked now: it answers")
}

func TestClocksThatDifferAreMeasuredAndSaid(t *testing.T) {
	t.Parallel()
	bad := login("ines", "refused", "refused-by-server", "tern", 0, group("refused", "refused-by-server", "tern"))
	noted := event("ines", "login", evidence.Refused, "wrong-password", "the password is wrong")
	packet := evidence.Exchange{Protocol: "tacacs", Device: "sw-1", Server: "tern", Person: "ines", Question: "login",
		Answer: evidence.Refused, Key: evidence.KeyFits}
	noted.Time, packet.Time = at.Add(-2*time.Hour-3*time.Second), at.Add(10*time.Minute)
	v := Explain(evidence.Evidence{Traces: []evidence.Trace{bad}, Events: []evidence.Event{noted},
		Exchanges: []evidence.Exchange{packet}}, Symptom{})
	require.Equal(t, WrongPassword, v.Causes[0].Cause)
	require.Equal(t, []string{"the servers' clock is 2h0m3s behind the devices'",
		"the clock of the capture is 10m0s ahead of the devices'"}, v.Clocks)
	noted.Time = at
	v = Explain(evidence.Evidence{Traces: []evidence.Trace{bad}, Events: []evidence.Event{noted}}, Symptom{})
	require.Empty(t, v.Clocks)
}

func TestAServerThatIsBackAndLeftAloneIsResting(t *testing.T) {
	t.Parallel()
	first := login("ines", "refused", "list-ended", "", 0, group("unavailable", "no-answer", "", try("tern", "closed")),
		local("unavailable", "no-such-account"))
	second := login("ines", "refused", "list-ended", "", 0,
		evidence.TraceStep{Purpose: "login", List: "crew", Method: "group shore", Result: "unavailable",
			Reason: "all-dead", Rested: []string{"tern"}}, local("unavailable", "no-such-account"))
	second.Time = at.Add(30 * time.Second)
	back := event("tobin", "login", evidence.Accepted, "accepted", "tobin has the role lookout")
	back.Time, back.Device = at.Add(20*time.Second), "sw-2"
	v := Explain(evidence.Evidence{Traces: []evidence.Trace{first, second}, Events: []evidence.Event{back}}, Symptom{})
	require.Equal(t, []string{Resting}, names(v))
	require.Contains(t, v.Causes[0].Evidence, "tern answered sw-2 at 03:00:20")
}

func TestEverythingIsGroupedByCauseTheWorstFirst(t *testing.T) {
	t.Parallel()
	e := evidence.Evidence{}
	for i, device := range []string{"sw-1", "sw-2", "sw-3"} {
		bad := login("ines", "refused", "list-ended", "", 0,
			group("unavailable", "no-answer", "", try("tern", "closed")))
		bad.Device, bad.Time = device, at.Add(time.Duration(i)*time.Minute)
		e.Traces = append(e.Traces, bad, bad)
	}
	well := login("tobin", "in", "", "tern", 1, group("accepted", "", "tern"))
	e.Traces = append(e.Traces, well)
	s := All(e, Symptom{})
	require.Equal(t, []int{7, 1}, []int{s.Logins, s.Healthy})
	require.Len(t, s.Groups, 2)
	require.Equal(t, []any{ServerOff, "server tern, for 3 devices", 6, "ines", false},
		[]any{s.Groups[0].Cause.Cause, s.Groups[0].Where, s.Groups[0].Logins, s.Groups[0].People[0],
			s.Groups[0].Follows})
	require.Equal(t, []any{NoFallback, true}, []any{s.Groups[1].Cause.Cause, s.Groups[1].Follows})
	require.Equal(t, Summary{Groups: []Group{}, Logins: 1, Healthy: 1},
		All(evidence.Evidence{Traces: []evidence.Trace{well}}, Symptom{}))
}

func TestPacketsThatNobodyCanReadAreNoFault(t *testing.T) {
	t.Parallel()
	hidden := evidence.Exchange{Time: at, Protocol: "tacacs", Client: "192.0.2.1:4000", ServerAddress: "192.0.2.9:49",
		Question: "login", Answer: "unreadable", Key: evidence.KeyUnknown, Marks: []evidence.Mark{evidence.MarkHidden},
		Remarks: []string{"the key is not known"}}
	v := Explain(evidence.Evidence{Exchanges: []evidence.Exchange{hidden}}, Symptom{})
	require.Equal(t, []string{NotKnown}, names(v))
	require.Contains(t, v.Causes[0].Next[0], "-key-file")
}

func TestASymptomChoosesByWhatWasSeenAndWhen(t *testing.T) {
	t.Parallel()
	slow := login("ines", "in", "", "tern", 15, group("accepted", "", "tern", try("gull", "silent")))
	slow.Seconds = 6
	low := login("ines", "in", "", "tern", 1, group("accepted", "", "tern"))
	low.Time = at.Add(time.Hour)
	refused := login("ines", "refused", "refused-by-server", "tern", 0, group("refused", "refused-by-server", "tern"))
	refused.Time = at.Add(2 * time.Hour)
	e := evidence.Evidence{Traces: []evidence.Trace{slow, low, refused}}
	require.Equal(t, Unreachable, Explain(e, Symptom{Saw: "slow"}).Causes[0].Cause)
	require.Equal(t, NoRights, Explain(e, Symptom{Saw: "low-level"}).Causes[0].Cause)
	require.Equal(t, WrongPassword, Explain(e, Symptom{Saw: "refused"}).Causes[0].Cause)
	require.True(t, Explain(e, Symptom{At: at.Add(time.Hour)}).Healthy)
}

// Every reason that a device, a server, a directory or an asker can give has a
// sign and a sentence, and the pages list it.
func TestEveryReasonHasASignASentenceAndAPage(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../../docs/json.md")
	require.NoError(t, err)
	for _, k := range reason.All {
		require.Equal(t, k.Text, k.Reason.Sentence())
		require.Regexp(t, `^[A-Z].*\.$`, k.Text)
		require.Contains(t, string(page), "| `"+string(k.Reason)+"` | "+k.Text+" |")
		if k.Well {
			continue
		}
		require.NotEqual(t, shown{}, signsOf[k.Reason], "%s has no sign", k.Reason)
	}
	require.Len(t, signsOf, len(reason.All)-3, "all but accepted, recorded and given up")
	require.Empty(t, reason.Reason("made-up").Sentence())
}

// Every cause of the catalogue is on the page that begins with a symptom.
func TestEveryCauseHasAPage(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../../docs/a-login-fails.md")
	require.NoError(t, err)
	for _, k := range catalogue {
		require.Contains(t, string(page), "`"+k.cause+"`")
	}
}

// What a server drops without an answer is never called a healthy login, and it
// is named for what it is.
func TestADroppedRequestIsNamed(t *testing.T) {
	t.Parallel()
	for why, want := range map[reason.Reason]string{
		reason.NoMessageAuthenticator: MessageAuthenticatorMissing, reason.TooMany: RateLimited,
		reason.Malformed: Malformed,
		reason.TLS:       TLSRefused, reason.KeyDiffers: KeyDiffers, reason.WrongPort: WrongPort,
		reason.CannotTake: ServerOverloaded,
	} {
		e := event("ines", site.AskLogin, evidence.Dropped, why, "a text")
		require.Equal(t, []string{want}, names(Explain(evidence.Evidence{Events: []evidence.Event{e}}, Symptom{})),
			"by events alone")
		v := login("ines", walk.OutcomeRefused, reason.ListEnded, "", 0,
			group(walk.Unavailable, reason.NoAnswer, "", try("tern", reason.Silent)))
		require.Contains(t, names(Explain(evidence.Evidence{Traces: []evidence.Trace{v}, Events: []evidence.Event{e}},
			Symptom{})), want, "beside what the device noted")
	}
}

// A server of another version may have a reason that is not known here.
func TestWhatAServerDroppedIsNeverWell(t *testing.T) {
	t.Parallel()
	for _, answer := range []evidence.Answer{evidence.Dropped, evidence.Failed, evidence.Refused} {
		for _, asked := range []site.Question{site.AskLogin, site.AskSession, site.AskCommands,
			site.AskRecordSessions} {
			v := Explain(evidence.Evidence{Events: []evidence.Event{
				event("ines", asked, answer, "new-here", "a text")}},
				Symptom{})
			require.False(t, v.Healthy, "%s %s", asked, answer)
			require.NotEmpty(t, v.Causes)
		}
	}
}

// Another person's success, before or after, is no sign of this person's login.
func TestAnotherPersonsSuccessIsNoSign(t *testing.T) {
	t.Parallel()
	before := login("tobin", walk.OutcomeIn, "", "tern", 1, group(walk.Accepted, "", "tern"))
	before.Time = at.Add(-time.Minute)
	refused := login("ines", walk.OutcomeRefused, reason.RefusedByServer, "tern", 0,
		group(walk.Refused, reason.RefusedByServer, "tern"))
	texts := func(e evidence.Evidence) string {
		v := Explain(e, Symptom{Person: "ines"})
		require.NotEmpty(t, v.Causes)
		return strings.Join(append(v.Causes[0].Evidence, v.Causes[0].Against...), "\n")
	}
	require.NotContains(t, texts(evidence.Evidence{Traces: []evidence.Trace{before, refused}}),
		"let in by a server before")
	own := before
	own.Person = "ines"
	require.Contains(t, texts(evidence.Evidence{Traces: []evidence.Trace{own, refused}}),
		"ines was let in by a server before")
	local := own
	local.By = "local"
	require.NotContains(t, texts(evidence.Evidence{Traces: []evidence.Trace{local, refused}}),
		"let in by a server before")
	other := event("tobin", site.AskLogin, evidence.Accepted, reason.Accepted, "a role")
	no := event("ines", site.AskLogin, evidence.Refused, reason.WrongPassword, "the password is wrong")
	v := Explain(evidence.Evidence{Events: []evidence.Event{other, no}}, Symptom{Person: "ines"})
	require.Equal(t, []string{WrongPassword}, names(v))
	v = Explain(evidence.Evidence{Events: []evidence.Event{other, no}}, Symptom{Person: "tobin"})
	require.True(t, v.Found && v.Healthy)
}
