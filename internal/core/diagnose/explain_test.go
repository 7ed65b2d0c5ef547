package diagnose

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

var at = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)

func level(n int) *int { return &n }

func try(server string, why reason.Reason) evidence.TraceTry {
	return evidence.TraceTry{Server: server, Try: 1, Result: "unavailable", Reason: why, Message: "no answer",
		Seconds: 1}
}

func group(result walk.Result, why reason.Reason, by string, tries ...evidence.TraceTry) evidence.TraceStep {
	return evidence.TraceStep{Purpose: "login", List: "crew", Method: "group shore", Result: result, Reason: why,
		By:    by,
		Tries: tries}
}

func local(result walk.Result, why reason.Reason) evidence.TraceStep {
	return evidence.TraceStep{Purpose: "login", List: "crew", Method: "local", Result: result, Reason: why, By: "local"}
}

func login(person string, outcome walk.Outcome, why reason.Reason, by string, lvl int,
	steps ...evidence.TraceStep) evidence.Trace {
	return evidence.Trace{Time: at, Device: "sw-1", Access: "ssh", Line: "ssh0", Person: person,
		Kind:    evidence.TraceLogin,
		Outcome: outcome, Reason: why, By: by,
		Level: lvl, Seconds: 1, Steps: steps}
}

func event(person string, question site.Question, answer evidence.Answer, why reason.Reason,
	text string) evidence.Event {
	return evidence.Event{Time: at, Server: "tern", Protocol: "tacacs", Client: "192.0.2.1", Device: "sw-1",
		Access:   "ssh",
		Person:   person,
		Question: question, Answer: answer, Reason: why, Text: text}
}

func theSite(t *testing.T) *site.Site {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers: [{name: tern, protocol: tacacs, address: 192.0.2.9, key: k}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
devices: [{name: sw-1, addresses: [192.0.2.1], accounts: [keeper]}]
`)})
	require.NoError(t, err)
	return s
}

// told is a login as it went, and the causes in their order: with all the
// evidence, with the device's alone, and with the servers' alone. An empty list
// is a healthy login; nil is not asked.
type told struct {
	name             string
	traces           []evidence.Trace
	events           []evidence.Event
	all, dev, server []string
}

func tales() []told {
	silent := group("unavailable", "no-answer", "", try("tern", "silent"))
	return []told{
		{"healthy", []evidence.Trace{login("ines", "in", "", "tern", 15, group("accepted", "", "tern"))},
			[]evidence.Event{{Time: at, Server: "tern", Device: "sw-1", Person: "ines", Question: "login",
				Answer: evidence.Accepted, Level: level(15)}},
			[]string{}, []string{}, []string{}},
		{"wrong password", []evidence.Trace{login("ines", "refused", "refused-by-server", "tern", 0,
			group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("ines", "login", evidence.Refused, "wrong-password",
				"the password given for ines is wrong")},
			[]string{WrongPassword}, []string{WrongPassword, UnknownPerson, NoGrant}, []string{WrongPassword}},
		{"unknown person", []evidence.Trace{login("inse", "refused", "refused-by-server", "tern", 0,
			group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("inse", "login", evidence.Refused, "unknown-person", "nobody is called inse")},
			[]string{UnknownPerson}, []string{WrongPassword, UnknownPerson, NoGrant}, []string{UnknownPerson}},
		{"disabled", []evidence.Trace{login("odd", "refused", "refused-by-server", "tern", 0,
			group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("odd", "login", evidence.Refused, "disabled-or-expired", "odd is disabled")},
			[]string{DisabledOrExpired}, nil, []string{DisabledOrExpired}},
		{"no grant", []evidence.Trace{login("tobin", "refused", "refused-by-server", "tern", 0,
			group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("tobin", "login", evidence.Refused, "no-grant", "no grant lets tobin in")},
			[]string{NoGrant},
			nil, []string{NoGrant}},
		{"a local account while a server answers", []evidence.Trace{
			login("keeper", "refused", "refused-by-server", "tern", 0,
				group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("keeper", "login", evidence.Refused, "unknown-person", "nobody is called keeper")},
			[]string{LocalWhileServerAnswers}, []string{LocalWhileServerAnswers}, []string{LocalWhileServerAnswers}},
		{"unreachable", []evidence.Trace{login("ines", "refused", "list-ended", "", 0, silent,
			local("unavailable", "no-such-account"))}, []evidence.Event{},
			[]string{Unreachable}, []string{Unreachable}, nil},
		{"no fallback", []evidence.Trace{login("ines", "refused", "list-ended", "", 0, silent)}, []evidence.Event{},
			[]string{Unreachable, NoFallback}, []string{Unreachable, NoFallback}, nil},
		{"server off", []evidence.Trace{login("ines", "refused", "list-ended", "", 0,
			group("unavailable", "no-answer", "", try("tern", "closed")), local("unavailable", "no-such-account"))},
			[]evidence.Event{}, []string{ServerOff}, []string{ServerOff}, nil},
		{"fallback used", []evidence.Trace{login("keeper", "in", "", "local", 15, silent, local("accepted", ""))},
			[]evidence.Event{},
			[]string{FallbackUsed, Unreachable}, []string{FallbackUsed, Unreachable}, nil},
		{"local account, wrong password", []evidence.Trace{
			login("keeper", "refused", "wrong-password", "local", 0, silent,
				local("refused", "wrong-password"))}, []evidence.Event{},
			[]string{WrongPassword, Unreachable}, []string{WrongPassword, Unreachable}, nil},
		{"another TACACS+ key", []evidence.Trace{login("ines", "refused", "list-ended", "", 0,
			group("unavailable", "no-answer", "", try("tern", "key-differs")),
			local("unavailable", "no-such-account"))},
			[]evidence.Event{event("", "login", evidence.Dropped, "key-differs",
				"the lengths in the body do not add up")},
			[]string{KeyDiffers}, []string{KeyDiffers}, []string{KeyDiffers}},
		{"another RADIUS key is silence to the device, and known to the server",
			[]evidence.Trace{login("ines", "refused", "list-ended", "", 0, silent,
				local("unavailable", "no-such-account"))},
			[]evidence.Event{event("ines", "login", evidence.Dropped, "key-differs",
				"the Message-Authenticator does not verify")},
			[]string{KeyDiffers}, []string{Unreachable}, []string{KeyDiffers}},
		{"asker unknown", []evidence.Trace{login("ines", "refused", "list-ended", "", 0,
			group("unavailable", "no-answer", "", try("tern", "client-unknown")),
			local("unavailable", "no-such-account"))},
			[]evidence.Event{{Time: at, Server: "tern", Client: "192.0.2.77", Question: "login",
				Answer: evidence.Dropped,
				Reason: "client-unknown", Text: "no device has the address"}},
			[]string{ClientUnknown}, []string{ClientUnknown, KeyDiffers}, []string{ClientUnknown}},
		{"in and yet one server unreadable", []evidence.Trace{login("ines", "in", "", "plover", 15,
			group("accepted", "", "plover", try("tern", "key-differs")))}, []evidence.Event{},
			[]string{KeyDiffers}, []string{KeyDiffers}, nil},
		{"no rights", []evidence.Trace{login("ines", "in", "", "tern", 1, group("accepted", "", "tern"))},
			[]evidence.Event{{Time: at, Server: "tern", Device: "sw-1", Person: "ines", Question: "login",
				Answer: evidence.Accepted, Level: level(15), Text: "ines has the role all"}},
			[]string{NoRights}, []string{}, []string{}},
		{"session refused", []evidence.Trace{login("ines", "refused", "refused-by-server", "tern", 0,
			group("accepted", "", "tern"),
			evidence.TraceStep{Purpose: "session", List: "s", Method: "group shore", Result: "refused",
				Reason: "refused-by-server", By: "tern"})}, []evidence.Event{},
			[]string{SessionRefused}, []string{SessionRefused}, nil},
		{"the server says error", []evidence.Trace{login("ines", "refused", "list-ended", "", 0,
			group("unavailable", "no-answer", "", try("tern", "error")), local("unavailable", "no-such-account"))},
			[]evidence.Event{}, []string{ServerSaysError}, []string{ServerSaysError}, nil},
		{"a certificate is refused", []evidence.Trace{login("ines", "refused", "list-ended", "", 0,
			group("unavailable", "no-answer", "", evidence.TraceTry{
				Server: "tern", Try: 1, Result: "unavailable", Reason: "tls",
				Message: "TLS: unknown authority"}), local("unavailable", "no-such-account"))},
			[]evidence.Event{event("", "", evidence.Dropped, "tls", "the TLS handshake failed")}, []string{TLSRefused},
			[]string{TLSRefused}, []string{TLSRefused}},
		{"below the level of a page", []evidence.Trace{login("ines", "refused", "below-level", "tern", 0,
			group("accepted", "", "tern"))}, []evidence.Event{}, []string{BelowLevel}, []string{BelowLevel}, nil},
		{"second factor", []evidence.Trace{login("tobin", "refused", "refused-by-server", "tern", 0,
			group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("tobin", "login", evidence.Refused, "second-factor", "the one-time code is wrong")},
			[]string{SecondFactor}, nil, []string{SecondFactor}},
		{"a code that was asked for and not given", []evidence.Trace{
			login("tobin", "refused", "refused-by-server", "tern", 0,
				group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("tobin", "login", evidence.Challenged, "code-asked",
				"the password of tobin is right")},
			[]string{SecondFactor}, nil, []string{SecondFactor}},
		{"password form", []evidence.Trace{login("ines", "refused", "refused-by-server", "tern", 0,
			group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("ines", "login", evidence.Refused, "password-form", "CHAP cannot be checked")},
			[]string{PasswordForm}, nil, []string{PasswordForm}},
		{"no entry in the directory", []evidence.Trace{login("ebba", "refused", "refused-by-server", "tern", 0,
			group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("ebba", "login", evidence.Refused, "directory-no-entry", "nobody is called ebba")},
			[]string{DirectoryNoEntry}, nil, []string{DirectoryNoEntry}},
		{"a local account while a directory answers",
			[]evidence.Trace{login("keeper", "refused", "refused-by-server", "tern", 0,
				group("refused", "refused-by-server", "tern"))},
			[]evidence.Event{event("keeper", "login", evidence.Refused, "directory-no-entry",
				"nobody is called keeper")},
			[]string{LocalWhileServerAnswers}, nil, []string{LocalWhileServerAnswers}},
		{"the directory is down", []evidence.Trace{login("ebba", "refused", "list-ended", "", 0,
			group("unavailable", "no-answer", "", try("tern", "error")), local("unavailable", "no-such-account"))},
			[]evidence.Event{event("ebba", "login", evidence.Failed, "directory-down", "dunlin does not answer")},
			[]string{DirectoryDown}, []string{ServerSaysError}, []string{DirectoryDown}},
		{"the directory refuses us",
			[]evidence.Trace{login("ebba", "refused", "list-ended", "", 0, silent,
				local("unavailable", "no-such-account"))},
			[]evidence.Event{event("ebba", "login", evidence.Failed, "directory-refuses-us",
				"dunlin refuses who searches")},
			[]string{DirectoryRefusesUs}, []string{Unreachable}, []string{DirectoryRefusesUs}},
		{"questions to the port for the other kind",
			[]evidence.Trace{login("ines", "refused", "list-ended", "", 0, silent,
				local("unavailable", "no-such-account"))},
			[]evidence.Event{event("ines", "login", evidence.Dropped, "wrong-port",
				"Access-Request came to the port for the other kind")}, []string{WrongPort}, []string{Unreachable},
			[]string{WrongPort}},
		{"a template account that is not there", []evidence.Trace{
			login("ines", "refused", "template-missing", "tern", 0,
				group("accepted", "", "tern"))}, []evidence.Event{}, []string{TemplateMissing},
			[]string{TemplateMissing},
			nil},
		{"no record, no session", []evidence.Trace{login("ines", "refused", "not-recorded", "tern", 0,
			group("accepted", "", "tern"))}, []evidence.Event{}, []string{RecordNotKept}, []string{RecordNotKept}, nil},
		{"nothing tells", []evidence.Trace{login("ines", "refused", "", "tern", 0, group("accepted", "", "tern"))},
			[]evidence.Event{}, []string{NotKnown}, []string{NotKnown}, nil},
		{"gives up first", []evidence.Trace{login("keeper", "refused", "gives-up-first", "local", 0, silent,
			local("accepted", ""))}, []evidence.Event{},
			[]string{Unreachable, TooSlow}, []string{Unreachable, TooSlow}, nil},
		{"an address that the way in does not take", []evidence.Trace{login("ines", "refused", "not-from-here", "", 0)},
			[]evidence.Event{}, []string{NotFromHere}, []string{NotFromHere}, nil},
		{"a name that the list is not for", []evidence.Trace{login("ines", "refused", "not-listed", "", 0,
			evidence.TraceStep{Purpose: "login", List: "crew", Method: "only", Result: "refused",
				Reason: "not-listed"})},
			[]evidence.Event{}, []string{WrongList}, []string{WrongList}, nil},
	}
}

func TestCausesAreNamedFromAnyEvidence(t *testing.T) {
	t.Parallel()
	for _, c := range tales() {
		t.Run(c.name, func(t *testing.T) {
			s := theSite(t)
			for _, e := range []struct {
				kind string
				have evidence.Evidence
				want []string
			}{
				{"all", evidence.Evidence{Traces: c.traces, Events: c.events, Site: s}, c.all},
				{"device", evidence.Evidence{Traces: c.traces, Site: s}, c.dev},
				{"server", evidence.Evidence{Events: c.events, Site: s}, c.server},
			} {
				if e.want == nil {
					continue
				}
				v := Explain(e.have, Symptom{})
				require.True(t, v.Found)
				names := []string{}
				for _, found := range v.Causes {
					names = append(names, found.Cause)
					require.NotEmpty(t, found.Repair)
					require.NotEmpty(t, found.Where)
					require.NotEmpty(t, found.Evidence)
					require.NotEmpty(t, found.Says)
					require.Greater(t, found.Confidence, 0.0)
					require.Less(t, found.Confidence, 1.0)
				}
				require.Equal(t, e.want, names, e.kind)
				require.Equal(t, len(e.want) == 0, v.Healthy)
			}
		})
	}
}

func command(line string, outcome walk.Outcome, why reason.Reason, by string, step evidence.TraceStep) evidence.Trace {
	step.Purpose = "commands"
	return evidence.Trace{Time: at.Add(time.Second), Device: "sw-1", Access: "ssh", Line: "ssh0", Person: "tobin",
		Kind: evidence.TraceCommand, Command: line,
		Outcome: outcome, Reason: why, By: by, Level: 1, Steps: []evidence.TraceStep{step}}
}

func TestARefusedCommandIsNamedWithItsRule(t *testing.T) {
	t.Parallel()
	in := login("tobin", "in", "", "tern", 1, group("accepted", "", "tern"))
	refused := command("look secrets", "refused", "refused-by-server", "tern",
		evidence.TraceStep{List: "c", Method: "group shore", Result: "refused", By: "tern"})
	e := event("tobin", "commands", evidence.Refused, "command-refused", `the rule "refuse look secrets **" refuses it`)
	e.Command = "look secrets"
	e.Place = "site.yaml:9:9"
	e.Time = refused.Time
	v := Explain(evidence.Evidence{Traces: []evidence.Trace{in, refused}, Events: []evidence.Event{e}}, Symptom{})
	require.Equal(t, CommandRefused, v.Causes[0].Cause)
	require.Contains(t, v.Causes[0].Evidence[1], "site.yaml:9:9")
	require.Contains(t, v.Causes[0].Repair, "add an allow rule to the role", "no rule decided")
	e.Rule = "refuse look secrets **"
	require.Contains(t, Explain(evidence.Evidence{Traces: []evidence.Trace{in, refused}, Events: []evidence.Event{e}},
		Symptom{}).Causes[0].Repair, "before this one")
	v = Explain(evidence.Evidence{Traces: []evidence.Trace{in, refused}}, Symptom{})
	require.Equal(t, CommandRefused, v.Causes[0].Cause)
	require.NotEmpty(t, v.Causes[0].Against)

	stuck := command("save", "refused", "list-ended", "",
		evidence.TraceStep{List: "c", Method: "group shore", Result: "unavailable",
			Tries: []evidence.TraceTry{try("tern", "silent")}})
	v = Explain(evidence.Evidence{Traces: []evidence.Trace{in, stuck}}, Symptom{})
	require.Equal(t, []string{CommandStuck, Unreachable}, []string{v.Causes[0].Cause, v.Causes[1].Cause})
}

func TestAServerThatIsLeftAloneIsRestingUntilItsDeadTimeEnds(t *testing.T) {
	t.Parallel()
	first := login("ines", "refused", "list-ended", "", 0, group("unavailable", "no-answer", "", try("tern", "closed")),
		local("unavailable", "no-such-account"))
	second := login("keeper", "in", "", "local", 15,
		evidence.TraceStep{Purpose: "login", List: "crew", Method: "group shore", Result: "unavailable",
			Reason: "all-dead", Rested: []string{"tern"}}, local("accepted", ""))
	second.Time = at.Add(10 * time.Second)
	v := Explain(evidence.Evidence{Traces: []evidence.Trace{second, first}}, Symptom{})
	require.Equal(t, []string{FallbackUsed, Resting}, []string{v.Causes[0].Cause, v.Causes[1].Cause})
	require.Equal(t, "sw-1 leaves tern alone for now: tern gave no answer at 03:00:00 (closed)", v.Causes[1].Says)

	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers: [{name: tern, protocol: tacacs, address: 192.0.2.9, key: k, dead-time: 1m}]
devices: [{name: sw-1, addresses: [192.0.2.1]}]
`)})
	require.NoError(t, err)
	e := evidence.Evidence{Traces: []evidence.Trace{second, first}, Site: s, Now: at.Add(20 * time.Second)}
	v = Explain(e, Symptom{})
	require.Equal(t, "sw-1 leaves tern alone until 03:01:00: tern gave no answer at 03:00:00 (closed)",
		v.Causes[1].Says)
	e.Now = at.Add(2 * time.Minute)
	require.Contains(t, Explain(e, Symptom{}).Causes[1].Says, "alone, until 03:01:00, which is over by now: ")

	// A question of our own that gets no answer either: what made it rest is the cause still.
	e.Probes = []evidence.Probe{{Time: at.Add(30 * time.Second), Server: "tern", Kind: evidence.ProbeReach,
		Result: evidence.ProbeClosed, Text: "the port refuses"}}
	v = Explain(e, Symptom{})
	require.Equal(t, []string{FallbackUsed, ServerOff}, []string{v.Causes[0].Cause, v.Causes[1].Cause})
	require.Contains(t, v.Causes[1].Evidence[0], "left tern alone: it gave no answer at 03:00:00")
}

func TestASymptomChoosesTheLogin(t *testing.T) {
	t.Parallel()
	bad := login("ines", "refused", "list-ended", "", 0, group("unavailable", "no-answer", "", try("tern", "closed")))
	good := login("ines", "in", "", "tern", 15, group("accepted", "", "tern"))
	good.Time = at.Add(time.Minute)
	other := login("tobin", "in", "", "tern", 1, group("accepted", "", "tern"))
	e := evidence.Evidence{Traces: []evidence.Trace{bad, good, other}}
	v := Explain(e, Symptom{Person: "ines"})
	require.Equal(t, ServerOff, v.Causes[0].Cause)
	require.Equal(t, good.Time, *v.LaterHealthy)
	require.True(t, Explain(e, Symptom{Person: "tobin", Device: "sw-1", Access: "ssh"}).Healthy)
	require.False(t, Explain(e, Symptom{Person: "nobody"}).Found)
	require.False(t, Explain(evidence.Evidence{}, Symptom{}).Found)
}

func TestHowKeysDifferIsSaidWhenTheSiteKnowsBoth(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, typed: file t}
servers: [{name: tern, protocol: tacacs, address: 192.0.2.9, key: k}]
devices: [{name: sw-1, addresses: [192.0.2.1], found: {keys: {tern: typed}}}]
`)})
	require.NoError(t, err)
	e := evidence.Evidence{Traces: []evidence.Trace{login("ines", "refused", "list-ended", "", 0,
		group("unavailable", "no-answer", "", try("tern", "key-differs")))}, Site: s,
		Keys: site.Keys{"k": site.NewSecret("a-good-key"), "typed": site.NewSecret("a-good-kye")}}
	v := Explain(e, Symptom{})
	require.Equal(t, "the site says that sw-1 holds another key (site.yaml:4:69): the same except for two "+
		"characters swapped", v.Causes[0].Evidence[1])
	e.Keys = nil
	require.Contains(t, Explain(e, Symptom{}).Causes[0].Evidence[1], "its value is not known here")
}
