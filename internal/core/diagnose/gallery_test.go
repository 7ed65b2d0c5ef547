package diagnose

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

var makeGallery = flag.Bool("make-gallery", false, "write testdata/gallery.txt anew; read what has changed in it")

// gallery writes down verdicts: in one line, and whole where the causes have not
// been named in these words before.
type gallery struct {
	strings.Builder
	seen map[string]bool
	hung map[string]evidence.Evidence
}

func (g *gallery) hang(name string, e evidence.Evidence, symptom Symptom) {
	v := Explain(e, symptom)
	fmt.Fprintf(g, "%s: found %t, healthy %t", name, v.Found, v.Healthy)
	for _, c := range v.Causes {
		fmt.Fprintf(g, "; %s %.3f", c.Cause, c.Confidence)
	}
	g.WriteByte('\n')
	for _, c := range v.Causes {
		key := c.Cause + c.Says + c.Repair + strings.Join(c.Evidence, "") + strings.Join(c.Against, "")
		if g.seen[key] {
			continue
		}
		g.seen[key] = true
		fmt.Fprintf(g, "  %s at %s of %q (%s) follows=%t instead=%t\n    %s\n", c.Cause, c.Where, c.Server, c.Layer,
			c.Follows, c.Instead, c.Says)
		for _, l := range c.Evidence {
			fmt.Fprintf(g, "    for %s\n", l)
		}
		for _, l := range c.Against {
			fmt.Fprintf(g, "    against %s\n", l)
		}
		for _, l := range c.Next {
			fmt.Fprintf(g, "    next %s\n", l)
		}
		fmt.Fprintf(g, "    do %s\n", c.Repair)
	}
}

// late hangs what is seen of a login, in an order that does not depend on how a
// map is walked.
func (g *gallery) late(name string, e evidence.Evidence) { g.hung[name] = e }

// All that each kind of evidence can show, one thing at a time and beside what
// the device noted, with the whole verdict: a change of a word, of a weight or
// of a repair shows here, to be read before it is taken.
func TestVerdictsAreAsWritten(t *testing.T) {
	t.Parallel()
	g := &gallery{seen: map[string]bool{}, hung: map[string]evidence.Evidence{}}
	s := theSite(t)
	for _, c := range tales() {
		g.hang(c.name, evidence.Evidence{Traces: c.traces, Events: c.events, Site: s}, Symptom{})
		g.hang(c.name+", by the device", evidence.Evidence{Traces: c.traces, Site: s}, Symptom{})
		g.hang(c.name+", by the servers", evidence.Evidence{Events: c.events, Site: s}, Symptom{Person: "ines"})
	}
	shut := login("ines", walk.OutcomeRefused, reason.ListEnded, "", 0,
		group(walk.Unavailable, reason.NoAnswer, "", try("tern", reason.Silent)),
		local(walk.Unavailable, reason.NoSuchAccount))
	for _, k := range reason.All {
		why := k.Reason
		for _, answer := range []evidence.Answer{evidence.Refused, evidence.Dropped, evidence.Failed} {
			for _, asked := range []site.Question{site.AskLogin, site.AskCommands, site.AskRecordSessions} {
				noted := event("ines", asked, answer, why, "what it says")
				name := fmt.Sprintf("event %s %s %s", asked, answer, why)
				g.hang(name, evidence.Evidence{Events: []evidence.Event{noted}, Site: s}, Symptom{})
				g.hang(name+" and a trace", evidence.Evidence{
					Events: []evidence.Event{noted}, Traces: []evidence.Trace{shut},
					Site: s}, Symptom{})
			}
		}
		for _, result := range []walk.Result{walk.Unavailable, walk.Refused} {
			step := group(result, why, "tern", try("tern", why))
			g.hang(fmt.Sprintf("login %s %s", result, why), evidence.Evidence{Site: s,
				Traces: []evidence.Trace{login("ines", walk.OutcomeRefused, why, "tern", 0, step)}}, Symptom{})
			g.hang(fmt.Sprintf("command %s %s", result, why), evidence.Evidence{Site: s, Traces: []evidence.Trace{
				login("tobin", walk.OutcomeIn, "", "tern", 1, group(walk.Accepted, "", "tern")),
				command("look", walk.OutcomeRefused, why, "tern", step)}}, Symptom{})
		}
		g.hang("counted "+string(why), evidence.Evidence{Counts: []evidence.Count{{Device: "sw-1", Server: "tern",
			Question: site.AskLogin, Sent: 6, Lost: map[reason.Reason]int{why: 6}, Mean: 0.5, Most: 2}}, Now: at},
			Symptom{})
		for _, what := range []evidence.LogEvent{evidence.LogIn, evidence.LogRefused, evidence.LogNoAnswer,
			evidence.LogAgain, ""} {
			g.hang(fmt.Sprintf("log %q %s", what, why), evidence.Evidence{Site: s, Log: []evidence.LogLine{{Time: at,
				Device: "sw-1", What: what, Person: "ines", Access: "ssh", Server: "tern", Asked: site.AskLogin,
				Reason: why,
				By:     "tern", Level: 15, Text: "a line"}}}, Symptom{})
		}
	}
	recorded := login("ines", walk.OutcomeIn, "", "tern", 15, group(walk.Accepted, "", "tern"), evidence.TraceStep{
		Purpose: site.AskRecordSessions, List: "crew-record", Method: "group shore", Result: walk.Unavailable,
		Reason: reason.NoAnswer, Tries: []evidence.TraceTry{try("tern", reason.Silent)}})
	for _, server := range []string{"tern", "gull"} {
		for _, asked := range []site.Question{site.AskLogin, site.AskRecordSessions} {
			for _, why := range []reason.Reason{reason.Silent, reason.Closed, reason.KeyDiffers, reason.Late} {
				for name, trace := range map[string]evidence.Trace{"": shut, ", a record": recorded} {
					about := fmt.Sprintf("%s %s %s%s", server, asked, why, name)
					g.late(about+" beside counters", evidence.Evidence{Traces: []evidence.Trace{trace}, Site: s,
						Counts: []evidence.Count{{Device: "sw-1", Server: server, Question: asked, Sent: 6, Accepted: 2,
							Lost: map[reason.Reason]int{why: 4}, Mean: 0.5, Most: 2},
							{Device: "sw-9", Server: server, Question: asked, Sent: 9,
								Lost: map[reason.Reason]int{reason.TLS: 9}}}})
					g.late(about+" beside a log", evidence.Evidence{Traces: []evidence.Trace{trace}, Site: s,
						Log: []evidence.LogLine{{Time: at, Device: "sw-1", What: evidence.LogNoAnswer, Server: server,
							Asked:  asked,
							Person: "ines", Reason: why, Text: "a line"}}})
					g.late(about+" beside events of others", evidence.Evidence{Traces: []evidence.Trace{trace}, Site: s,
						Events: []evidence.Event{{Time: at.Add(time.Second), Server: server, Device: "sw-9",
							Person:   "tobin",
							Question: asked, Answer: evidence.Accepted, Level: level(15), Reason: reason.Accepted},
							{Time: at.Add(-time.Second), Server: server, Device: "sw-1", Person: "tobin",
								Question: asked,
								Answer:   evidence.Refused, Reason: reason.WrongPassword, Text: "another person"}}})
				}
			}
		}
	}
	marks := []evidence.Mark{"", evidence.MarkNoWay, evidence.MarkPortClosed, evidence.MarkStray,
		evidence.MarkUnverified,
		evidence.MarkForged, evidence.MarkReused, evidence.MarkMalformed, evidence.MarkNoSynAck,
		evidence.MarkEndedEarly,
		evidence.MarkTLSOnClear, evidence.MarkClearOnTLS, evidence.MarkMixed, evidence.MarkLegacyPort,
		evidence.MarkLate,
		evidence.MarkNoServer, evidence.MarkClientUnknown, evidence.MarkJoined, evidence.MarkClearBody,
		evidence.MarkHidden,
		evidence.MarkAskedAgain, evidence.MarkUnheard, evidence.MarkElsewhere, evidence.MarkUnsigned,
		evidence.MarkUnacked,
		evidence.MarkBigLost, evidence.MarkTooBig, evidence.MarkCutOff, evidence.MarkAborted, evidence.MarkCut,
		evidence.MarkNoHost, evidence.MarkTLSAlert, evidence.MarkLostThere, evidence.MarkLostBack,
		evidence.MarkStillOpen}
	for _, answer := range []evidence.Answer{evidence.None, evidence.Unreadable, evidence.Refused, evidence.Accepted,
		evidence.Failed} {
		for _, fit := range []evidence.KeyFit{evidence.KeyFits, evidence.KeyUnfit, evidence.KeyUnknown} {
			for _, mark := range marks {
				x := evidence.Exchange{Time: at, Protocol: "tacacs", Client: "192.0.2.1:4000",
					ServerAddress: "192.0.2.9:49",
					Device:        "sw-1", Server: "tern", Person: "ines", Question: site.AskLogin, Answer: answer,
					Key: fit}
				if mark != "" {
					x.Marks, x.Remarks = []evidence.Mark{mark}, []string{"a remark"}
					x.Says = map[evidence.Mark]string{mark: "a remark"}
				}
				name := fmt.Sprintf("packet %s %s %q", answer, fit, mark)
				g.hang(name, evidence.Evidence{Exchanges: []evidence.Exchange{x}, Site: s}, Symptom{})
				g.hang(name+" and a trace", evidence.Evidence{Exchanges: []evidence.Exchange{x},
					Traces: []evidence.Trace{shut}, Site: s}, Symptom{})
				x.Question, x.Command = site.AskCommands, "look"
				g.hang(name+" of a command", evidence.Evidence{Exchanges: []evidence.Exchange{x}, Site: s}, Symptom{})
			}
		}
	}
	for _, kind := range []evidence.ProbeKind{evidence.ProbeReach, evidence.ProbeStatus, evidence.ProbeAccountingStatus,
		evidence.ProbeLogin} {
		for _, result := range []evidence.ProbeResult{evidence.ProbeOpen, evidence.ProbeClosed, evidence.ProbeSilent,
			evidence.ProbeNoWay, evidence.ProbeAlive, evidence.ProbeRefused, evidence.ProbeUnfit, evidence.ProbeEnded,
			evidence.ProbeError, evidence.ProbeTLS} {
			asked := []evidence.Probe{{Time: at, Server: "tern", As: "sw-1", Kind: kind, Result: result,
				Text: "it says so"}}
			name := fmt.Sprintf("probe %s %s", kind, result)
			g.hang(name, evidence.Evidence{Probes: asked, Now: at}, Symptom{Device: "sw-1"})
			g.hang(name+" and a trace", evidence.Evidence{Probes: asked, Traces: []evidence.Trace{shut}, Site: s},
				Symptom{})
		}
	}
	far := parsedSite(t, designed)
	for _, d := range far.Devices {
		for _, person := range []string{"ines", "odd", "tobin", "nobody", "keeper", ""} {
			for _, saw := range []string{"", "refused", "slow", "low-level"} {
				g.hang(fmt.Sprintf("design %s %q %q", d.Name, person, saw), evidence.Evidence{Site: far, Now: at},
					Symptom{Device: d.Name, Person: person, Saw: saw})
			}
		}
	}
	for _, c := range capturesOfOthers(t) {
		if strings.HasPrefix(c.name, "b-") {
			continue // the same kinds again
		}
		for _, saw := range []string{"", "refused", "slow", "low-level"} {
			g.hang(fmt.Sprintf("capture %s %q", c.name, saw), c.evidence, Symptom{Saw: saw})
		}
		bare := c.evidence
		bare.Site, bare.Keys = nil, nil
		g.hang("capture "+c.name+", without the site", bare, Symptom{})
		g.hang("capture "+c.name+" and a device without a login", c.evidence,
			Symptom{Device: "lock-sw", Person: "liv.moen"})
	}
	for _, person := range []string{"ines", "odd", "keeper"} {
		for _, e := range []evidence.Evidence{{}, {Events: []evidence.Event{
			event("tobin", site.AskLogin, evidence.Accepted,
				reason.Accepted, "")}}} {
			e.Site, e.Now = far, at
			v := ByDesign(e, Symptom{Device: "sw-1", Person: person, Saw: "refused"})
			fmt.Fprintf(g, "by design %s beside %d events: unseen %t; %v\n", person, len(e.Events), v.Unseen, v.Causes)
		}
	}
	g.hang("an hour before", evidence.Evidence{Traces: []evidence.Trace{shut}, Site: s},
		Symptom{At: at.Add(-time.Hour)})
	for _, name := range slices.Sorted(maps.Keys(g.hung)) {
		g.hang(name, g.hung[name], Symptom{})
	}
	file := filepath.Join("testdata", "gallery.txt")
	if *makeGallery {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(g.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, strings.Split(string(want), "\n"), strings.Split(g.String(), "\n"))
}
