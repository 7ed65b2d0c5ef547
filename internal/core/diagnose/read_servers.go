package diagnose

import (
	"fmt"
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// look gathers what all evidence shows about a point.
func (j *assessment) look(p *failurePoint) {
	switch p.kind {
	case unheardPoint:
		j.lookEvents(p)
		j.lookPackets(p)
		j.lookDirectory(p)
		j.lookCounters(p)
		j.lookLog(p)
		j.lookProbes(p)
		j.lookDesign(p)
		if p.asked.Records() { // an error in answer to a record: it was not kept
			for i := range p.signs {
				if p.signs[i].What == saidErrorSign {
					p.signs[i].What = notKeptSign
				}
			}
		}
	case refusedPoint, localPoint, sessionPoint, commandPoint, lowPoint:
		j.lookDecisions(p)
		j.lookPerson(p)
	case restedPoint:
		j.lookProbes(p)
	}
}

// tried is the sign of a try that brought no answer.
func tried(t evidence.TraceTry, moment time.Time, text string) Sign {
	return Sign{What: signsOf[t.Reason].try, From: evidence.FromTrace, Time: moment, Server: t.Server, Text: text}
}

// notedBy is what a server noted, in words.
func notedBy(e evidence.Event) string {
	text := fmt.Sprintf("%s noted at %s: %s", e.Server, clock(e.Time), e.Text)
	if e.Place != "" {
		text += " (" + e.Place + ")"
	}
	return text
}

// lookEvents adds what the server itself noted.
func (j *assessment) lookEvents(p *failurePoint) {
	events := j.index.ofServer[p.server]
	known := len(events) > 0
	heard := false
	others := 0
	from, to := j.meanwhile()
	for _, e := range between(events, eventTime, from, to) {
		if e.Device != "" && e.Device != j.story.Device {
			others++
		}
	}
	for _, e := range slices.Backward(j.story.Events) {
		if e.Server != p.server {
			continue
		}
		what := signsOf[e.Reason].dropped
		switch {
		case (e.Answer == evidence.Dropped || e.Answer == evidence.Failed) && what != "":
			p.signs = append(p.signs,
				Sign{What: what, From: evidence.FromEvents, Time: e.Time, Server: e.Server, Text: notedBy(e)})
			heard = true
		case e.Question == p.asked && e.Answer != evidence.Dropped && e.Answer != evidence.Failed && j.inTime(e) == "":
			heard = true
		case e.Question == p.asked && e.Answer != evidence.Dropped && e.Answer != evidence.Failed:
			p.signs = append(p.signs, Sign{What: j.inTime(e), From: evidence.FromEvents, Time: e.Time, Server: e.Server,
				Text: fmt.Sprintf("%s noted its answer at %s (%s), and %s has none", e.Server, clock(e.Time), e.Answer,
					j.story.Device)})
			heard = true
		case e.Answer != evidence.Dropped:
			heard = true
			if p.asked.Records() && !e.Question.Records() {
				p.signs = append(p.signs, Sign{What: loginsAnswered, From: evidence.FromEvents, Time: e.Time,
					Server: e.Server,
					Text: fmt.Sprintf("%s answered %s of %s at %s", e.Server, aQuestion(e.Question), j.story.Device,
						clock(e.Time))})
			}
		}
	}
	if known && !heard {
		p.signs = append(p.signs, Sign{What: heardNothingSign, From: evidence.FromEvents, Server: p.server,
			Text: fmt.Sprintf("%s noted nothing from %s in that time", p.server, j.story.Device)})
	}
	if others > 0 {
		p.signs = append(p.signs, Sign{What: heardOthersSign, From: evidence.FromEvents, Server: p.server,
			Text: fmt.Sprintf("%s did hear other devices at that time or later: it runs", p.server)})
	}
	if p.asked.Records() && j.story.Login != nil {
		for _, s := range j.story.Login.Steps {
			if s.By == p.server && s.Purpose == site.AskLogin {
				p.signs = append(p.signs, Sign{What: loginsAnswered, From: evidence.FromTrace, Time: j.story.Time,
					Server: p.server,
					Text:   fmt.Sprintf("%s answered the login itself", p.server)})
			}
		}
	}
	// The server had no room for anybody: it does not know whose question it was.
	for _, e := range between(events, eventTime, from, to) {
		if e.Reason == reason.CannotTake {
			p.signs = append(p.signs,
				Sign{What: overloadedSign, From: evidence.FromEvents, Time: e.Time, Server: e.Server, Text: notedBy(e)})
			break
		}
	}
	j.lookStrangers(p, events)
	j.lookEarlier(p)
}

// window is the time of one try at a server.
type window struct{ from, to time.Time }

// tries returns when the device tried a server in vain in this story.
func (j *assessment) tries(server string) []window {
	var windows []window
	of := func(t evidence.Trace) {
		moment := beginning(t)
		for _, step := range t.Steps {
			for _, try := range step.Tries {
				end := moment.Add(time.Duration(try.Seconds * float64(time.Second)))
				if try.Server == server && try.Result == walk.Unavailable {
					windows = append(windows, window{from: moment, to: end})
				}
				moment = end
			}
		}
	}
	if j.story.Login != nil {
		of(*j.story.Login)
	} else {
		windows = j.asked(server)
	}
	for _, t := range j.story.Commands {
		of(t)
	}
	for _, t := range j.story.Later {
		of(t)
	}
	return windows
}

// asked returns when a capture shows that a server was asked in vain, and for how long
// the device waited.
func (j *assessment) asked(server string) []window {
	var windows []window
	patience := j.waits(server)
	for _, x := range j.story.Exchanges {
		if x.AskedOf() == server && x.Answer == evidence.None && x.Question != site.AskConnect {
			windows = append(windows, window{from: x.Time,
				to: x.Time.Add(patience * time.Duration(1+x.Retransmissions))})
		}
	}
	return windows
}

// clockSlip is how far two clocks that agree may note one thing apart.
const clockSlip = 100 * time.Millisecond

// inTime is the sign of an answer that a server noted and the device does not
// have: in time, it was lost on its way; after the last try, it came too late.
func (j *assessment) inTime(e evidence.Event) Shows {
	tries := j.tries(e.Server)
	if len(tries) == 0 {
		return answeredSign
	}
	for _, w := range tries {
		if e.Time.After(w.from.Add(-clockSlip)) && e.Time.Before(w.to.Add(-w.to.Sub(w.from)/10)) {
			return inTimeSign
		}
	}
	if e.Time.Before(tries[0].from) {
		return "" // to another question, before these
	}
	return lateSign
}

// beforeTries reports whether a time is before all tries at a server.
func (j *assessment) beforeTries(server string, moment time.Time) bool {
	tries := j.tries(server)
	return len(tries) > 0 && moment.Before(tries[0].from.Add(-clockSlip))
}

// lookStrangers adds what a server noted of an address that no device has. It may
// be this device behind another address, where its questions came just when the
// device asked, and only then; a packet of somebody else is no evidence.
func (j *assessment) lookStrangers(p *failurePoint, events []evidence.Event) {
	if slices.ContainsFunc(p.signs, func(s Sign) bool {
		return s.What == saysUnfitSign || s.What == answeredSign || s.What == inTimeSign || s.What == lateSign
	}) {
		return
	}
	windows := j.tries(p.server)
	for _, l := range j.story.Lines {
		if j.story.Login == nil && l.What == evidence.LogNoAnswer && l.Server == p.server {
			windows = append(windows, window{from: l.Time.Add(-slack), to: l.Time})
		}
	}
	strangers := map[string]int{} // how often each came while the device asked
	var newest evidence.Event
	for _, e := range between(events, eventTime, j.story.Time.Add(-time.Minute), j.story.Time.Add(time.Minute)) {
		if e.Device != "" || e.Reason != reason.ClientUnknown || e.Client == j.story.Device {
			continue
		}
		if slices.ContainsFunc(windows, func(w window) bool {
			return e.Time.After(w.from.Add(-clockSlip)) && e.Time.Before(w.to.Add(clockSlip))
		}) {
			strangers[e.Client]++
			newest = e
		} else {
			strangers[e.Client] -= len(windows) + 1 // it comes at other times too
		}
	}
	for client, n := range strangers {
		if n >= len(windows) && n > 0 && client == newest.Client {
			p.signs = append(p.signs,
				Sign{What: unknownSign, From: evidence.FromEvents, Time: newest.Time, Server: newest.Server,
					Text: notedBy(newest)})
		}
	}
}

// lookEarlier adds that a server answered this device shortly before.
func (j *assessment) lookEarlier(p *failurePoint) {
	for _, t := range slices.Backward(j.story.Before) {
		for _, step := range t.Steps {
			if step.By == p.server && t.Time.After(j.story.Time.Add(-time.Hour)) {
				p.signs = append(p.signs, Sign{What: answeredBefore, From: evidence.FromTrace, Time: t.Time,
					Server: p.server,
					Text:   fmt.Sprintf("%s answered %s at %s", p.server, j.story.Device, clock(t.Time))})
				return
			}
		}
	}
}

// meanwhile is the time of the story, and the minutes after it.
func (j *assessment) meanwhile() (from, to time.Time) {
	began := j.story.Time.Add(-slack)
	if l := j.story.Login; l != nil {
		began = beginning(*l)
	}
	return began, j.story.Time.Add(5 * time.Minute)
}

// noted reports whether anything is at hand that knows single logins.
func (j *assessment) noted() bool {
	return j.story.Login != nil || len(j.story.Events)+len(j.story.Exchanges)+len(j.story.Lines) > 0
}

// lookCounters adds what the device counted. Counters know of no time: where the
// login itself was noted, what happened before it is no sign of it.
func (j *assessment) lookCounters(p *failurePoint) {
	if j.noted() {
		return
	}
	for _, c := range j.evidence.Counts {
		if c.Server != p.server || c.Device != "" && c.Device != j.story.Device {
			continue
		}
		answers := c.Accepted + c.Refused
		if c.Question != p.asked {
			if p.asked.Records() && c.Question == site.AskLogin && answers > 0 {
				p.signs = append(p.signs, Sign{What: loginsAnswered, From: evidence.FromCounters, Server: p.server,
					Text: fmt.Sprintf("the counters: %s logins at %s were answered", portion(answers, c.Sent),
						p.server)})
			}
			continue
		}
		for why, n := range c.Lost {
			if what := signsOf[why].try; what != "" && n > 0 && answers < n {
				p.signs = append(p.signs, Sign{What: what, From: evidence.FromCounters, Server: p.server,
					Text: fmt.Sprintf("the counters: %s questions to %s (%s) failed: %s", portion(n, c.Sent),
						p.server, c.Question, why)})
			}
		}
	}
}

func portion(n, of int) string { return fmt.Sprintf("%d of %d", n, of) }

// lookLog adds what the device's log says.
func (j *assessment) lookLog(p *failurePoint) {
	for _, l := range j.story.Lines {
		if l.What != evidence.LogNoAnswer || l.Server != p.server || l.Asked.Records() != p.asked.Records() {
			continue
		}
		if what := signsOf[l.Reason].try; what != "" {
			p.signs = append(p.signs, Sign{What: what, From: evidence.FromLog, Time: l.Time, Server: l.Server,
				Text: fmt.Sprintf("the log at %s: %s", clock(l.Time), l.Text)})
		}
	}
}

// probeWords are the signs of the result of a question put on purpose.
var probeWords = map[evidence.ProbeResult]Shows{evidence.ProbeOpen: openSign, evidence.ProbeClosed: closedSign,
	evidence.ProbeSilent: probeSilentSign, evidence.ProbeNoWay: noWaySign, evidence.ProbeAlive: aliveSign,
	evidence.ProbeRefused: siteKeySign,
	evidence.ProbeUnfit:   unreadableSign, evidence.ProbeEnded: droppedConnSign, evidence.ProbeError: saidErrorSign,
	evidence.ProbeTLS: tlsSign}

// lookProbes adds the result of our own questions.
func (j *assessment) lookProbes(p *failurePoint) {
	for _, b := range j.evidence.Probes {
		if b.Server != p.server || b.As != "" && b.As != j.story.Device ||
			p.asked.Records() != (b.Kind == evidence.ProbeAccountingStatus) && b.Kind != evidence.ProbeReach {
			if b.Server == p.server && p.asked.Records() && b.Kind != evidence.ProbeReach &&
				(b.Result == evidence.ProbeAlive || b.Result == evidence.ProbeRefused) {
				p.signs = append(p.signs, Sign{What: loginsAnswered, From: evidence.FromProbe, Time: b.Time,
					Server: b.Server,
					Text:   "asked now: " + b.Text})
			}
			continue
		}
		what := probeWords[b.Result]
		if b.Kind == evidence.ProbeReach && b.Result == evidence.ProbeSilent {
			what = noConnectionSign
		}
		p.signs = append(p.signs,
			Sign{What: what, From: evidence.FromProbe, Time: b.Time, Server: b.Server, Text: "asked now: " + b.Text})
	}
}

// upAgain reports whether a server answered somebody after a moment.
func (j *assessment) upAgain(server string, since time.Time) (Sign, bool) {
	for _, e := range between(j.index.ofServer[server], eventTime, since, j.story.Time.Add(slack)) {
		if e.Device != j.story.Device && e.Time.After(since) &&
			(e.Answer == evidence.Accepted || e.Answer == evidence.Refused || e.Answer == evidence.Recorded) {
			return Sign{What: upAgainSign, From: evidence.FromEvents, Time: e.Time, Server: server,
				Text: fmt.Sprintf("%s answered %s at %s", server, e.Device, clock(e.Time))}, true
		}
	}
	for _, x := range between(j.index.askedOf[server], exchangeTime, since, j.story.Time.Add(slack)) {
		if x.AskedBy() != j.story.Device && x.Time.After(since) && !x.Unanswered() {
			return Sign{What: upAgainSign, From: evidence.FromCapture, Time: x.Time, Server: server,
				Text: fmt.Sprintf("%s answered %s at %s", server, x.AskedBy(), clock(x.Time))}, true
		}
	}
	for _, b := range j.evidence.Probes {
		if b.Server == server && (b.Result == evidence.ProbeAlive || b.Result == evidence.ProbeRefused ||
			b.Result == evidence.ProbeOpen) && b.Kind != evidence.ProbeAccountingStatus {
			return Sign{What: upAgainSign, From: evidence.FromProbe, Time: b.Time, Server: server, Text: "asked now: " +
					b.Text},
				true
		}
	}
	return Sign{}, false
}
