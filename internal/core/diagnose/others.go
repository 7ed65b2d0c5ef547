package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// fromOthers finds the points of a login that no device traced: from what
// servers noted, from packets, from the device's log.
func (j *assessment) fromOthers() {
	j.pointsOfPackets()
	j.pointsOfEvents()
	j.pointsOfLog()
}

// pointsOfEvents finds what servers refused, dropped or could not answer.
func (j *assessment) pointsOfEvents() {
	for i, e := range j.story.Events {
		dropped := signsOf[e.Reason].dropped != ""
		left := e.Answer == evidence.Challenged && i == len(j.story.Events)-1 // nobody answered it
		switch {
		case (e.Answer == evidence.Dropped || e.Answer == evidence.Failed) && dropped:
			j.point(failurePoint{kind: unheardPoint, server: e.Server, asked: e.Question})
		case e.Answer == evidence.Dropped || e.Answer == evidence.Failed:
			j.unclear++ // for a reason that is new here: whatever it is, this login is not well
		case e.Answer == evidence.Refused && e.Question == site.AskCommands:
			j.point(failurePoint{kind: commandPoint, server: e.Server, command: e.Command})
		case e.Answer == evidence.Refused && e.Question == site.AskSession:
			j.point(failurePoint{kind: sessionPoint, server: e.Server,
				signs: signs{{What: sessionNo, From: evidence.FromEvents, Time: e.Time, Server: e.Server,
					Text: notedBy(e)}}})
		case e.Answer == evidence.Refused, left:
			j.point(failurePoint{kind: refusedPoint, server: e.Server})
		}
	}
}

// pointsOfPackets finds what a capture shows without an answer, and every no.
func (j *assessment) pointsOfPackets() {
	for i, x := range j.story.Exchanges {
		switch {
		case x.Has(evidence.MarkCut):
			j.cut = true
		case x.Hidden() && x.Protocol == "tls":
			j.overTLS = true
		case x.Hidden():
			j.hidden++
		case x.Has(evidence.MarkAborted):
		case x.Has(evidence.MarkUnheard):
			if j.unheard(x) {
				j.point(failurePoint{kind: unheardPoint, server: x.AskedOf(), asked: x.Question})
			}
		case x.Unanswered() && j.underWay(x):
			j.waiting = append(j.waiting, x)
		case x.Has(evidence.MarkStillOpen) && x.Seconds < j.patience(x.AskedOf()).Seconds():
			j.unended = append(j.unended, x)
		case x.Unanswered() && !j.joined(x):
			j.point(failurePoint{kind: unheardPoint, server: x.AskedOf(), asked: x.Question})
		case slices.Contains(x.Marks, evidence.MarkForged), slices.Contains(x.Marks, evidence.MarkStray),
			slices.Contains(x.Marks, evidence.MarkLate) && x.Answer != evidence.None:
			j.point(failurePoint{kind: unheardPoint, server: x.AskedOf(), asked: x.Question,
				signs: packetSigns(x, x.AskedOf())})
		case x.Answer == evidence.Refused && x.Question == site.AskCommands:
			j.point(failurePoint{kind: commandPoint, server: x.AskedOf(), command: x.Command,
				signs: signs{{What: refusedSign, From: evidence.FromCapture, Time: x.Time, Server: x.AskedOf(),
					Text: fmt.Sprintf("%s: an authentic no by %s to %q", clock(x.Time), x.AskedOf(), x.Command)}}})
		case x.Answer == evidence.Refused && x.Question == site.AskSession:
			j.point(failurePoint{kind: sessionPoint, server: x.AskedOf(),
				signs: signs{{What: sessionNo, From: evidence.FromCapture, Time: x.Time, Server: x.AskedOf(),
					Text: fmt.Sprintf("%s: the authorization of the session was refused by %s", clock(x.Time),
						x.AskedOf())}}})
		case x.Answer == evidence.Refused, x.Answer == evidence.Challenged && i == len(j.story.Exchanges)-1:
			j.point(failurePoint{kind: refusedPoint, server: x.AskedOf()})
		case x.Answer == evidence.Accepted && (x.Question == site.AskSession || x.Question == site.AskLogin &&
			x.Protocol == "radius" && j.levelIn(x)):
			j.lowGiven(x)
		case x.Answer == evidence.Accepted && x.Question == site.AskLogin && x.Protocol == "radius" && !j.levelIn(x):
			j.point(failurePoint{kind: lowPoint, server: x.AskedOf(),
				signs: signs{{What: noLevel, From: evidence.FromCapture, Time: x.Time, Server: x.AskedOf(),
					Text: fmt.Sprintf("%s: %s accepted, and sent no level: neither Management-Privilege-Level nor "+
						"Service-Type",
						clock(x.Time), x.AskedOf())}}})
		}
	}
}

// underWay reports whether the device may still be waiting for an answer.
func (j *assessment) underWay(x evidence.Exchange) bool {
	now := j.evidence.Now
	return !now.IsZero() && x.Answer == evidence.None && len(x.Marks) == 0 && now.After(x.Time) &&
		now.Sub(x.Time) < j.patience(x.AskedOf())
}

// unheard reports whether the answer to a question that came again was not heard
// to the end: the device went on to another server, or asked as often as it does and
// nothing followed. One answer that is lost on its way is made good by the next.
func (j *assessment) unheard(again evidence.Exchange) bool {
	repeats := 0
	for _, x := range j.story.Exchanges {
		switch {
		case x.Question == again.Question && x.Has(evidence.MarkUnheard):
			if repeats++; x.AskedOf() != again.AskedOf() {
				return true
			}
		case x.Time.After(again.Time) && x.Question == again.Question && x.AskedOf() != again.AskedOf():
			return true
		case x.Time.After(again.Time) && x.Question.Records() && !again.Question.Records():
			return false
		}
	}
	w := j.way()
	return repeats > 1 || w != nil && w.Lists[site.RecordSessions] != nil
}

// joined reports whether an exchange has no answer only because the capture begins
// or ends in its middle, or is a connection on which others were answered.
func (j *assessment) joined(x evidence.Exchange) bool {
	return slices.Contains(x.Marks, evidence.MarkJoined) && len(x.Marks) == 1
}

// levelIn reports whether an accepting answer carries rights.
func (j *assessment) levelIn(x evidence.Exchange) bool {
	if j.ownLevelFrom() {
		behaviour := j.evidence.Site.Device(j.story.Device).Platform.Behaviour
		return slices.ContainsFunc(x.Response, func(a evidence.NameValue) bool {
			return a.Name == behaviour.LevelFrom || a.Name == behaviour.AccountFrom
		})
	}
	return slices.ContainsFunc(x.Response, func(a evidence.NameValue) bool {
		return a.Name == "Management-Privilege-Level" || a.Name == "Service-Type" || strings.Contains(a.Name, "Level")
	})
}

// pointsOfLog finds what the device's log says of refusals and silence.
func (j *assessment) pointsOfLog() {
	for _, l := range j.story.Lines {
		at := signs{{What: logLine, From: evidence.FromLog, Time: l.Time,
			Text: fmt.Sprintf("the log at %s: %s", clock(l.Time), l.Text)}}
		switch {
		case l.What == evidence.LogNoAnswer:
			j.point(failurePoint{kind: unheardPoint, server: l.Server, asked: l.Asked})
		case l.What == evidence.LogIn && l.By == "local" && len(j.points) > 0:
			j.points = slices.Insert(j.points, 0, failurePoint{kind: fallbackPoint,
				signs: signs{{What: localInSign, From: evidence.FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.What != evidence.LogRefused:
		case l.Reason == reason.RefusedByServer:
			if !slices.ContainsFunc(j.points, func(p failurePoint) bool {
				return p.kind == refusedPoint ||
					p.kind == sessionPoint
			}) {
				j.point(failurePoint{kind: refusedPoint, server: l.By, signs: at})
			}
		case l.Reason == reason.WrongPassword, l.Reason == reason.LockedForNow:
			j.points = slices.Insert(j.points, 0, failurePoint{kind: localPoint, signs: at})
		case l.Reason == reason.BelowLevel:
			j.point(failurePoint{kind: belowPoint,
				signs: signs{{What: belowPages, From: evidence.FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.Reason == reason.TemplateMissing:
			j.point(failurePoint{kind: lowPoint,
				signs: signs{{What: templateSign, From: evidence.FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.Reason == reason.GivesUpFirst:
			j.point(failurePoint{kind: patiencePoint,
				signs: signs{{What: gaveUpSign, From: evidence.FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.Reason == reason.NotRecorded:
			j.point(failurePoint{kind: recordPoint,
				signs: signs{{What: notKeptSign, From: evidence.FromLog, Time: l.Time, Text: at[0].Text}}})
		case len(j.points) == 0:
			j.unclear++
		}
	}
}

// withoutStory judges what shows no single login: counters, questions of our
// own, or the design alone.
func withoutStory(e evidence.Evidence, symptom Symptom) Verdict {
	none := Verdict{Causes: []Cause{}}
	devices, x := symptom.devices(e), newIndex(e)
	var best Verdict
	for _, d := range devices {
		j := &assessment{evidence: e, index: x,
			story: Story{Device: d, Person: symptom.Person, Access: symptom.Access, Time: e.Now}, symptom: symptom}
		seen := len(e.Counts) > 0 || len(e.Probes) > 0
		for _, c := range e.Counts {
			lost := 0
			for _, n := range c.Lost {
				lost += n
			}
			if (c.Device == "" || c.Device == d) && lost > 0 && lost >= c.Accepted+c.Refused {
				j.point(failurePoint{kind: unheardPoint, server: c.Server, asked: c.Question})
			}
		}
		for _, b := range e.Probes {
			if b.As != "" && b.As != d {
				continue
			}
			if b.Result != evidence.ProbeOpen && b.Result != evidence.ProbeAlive && b.Result != evidence.ProbeRefused {
				asked := site.AskLogin
				if b.Kind == evidence.ProbeAccountingStatus {
					asked = site.AskRecordSessions
				}
				j.point(failurePoint{kind: unheardPoint, server: b.Server, asked: asked})
			}
		}
		if e.Site != nil {
			seen = j.pointsOfDesign() || seen
		}
		if !seen {
			continue
		}
		v := j.verdict()
		if !best.Found || best.Healthy && !v.Healthy {
			best = v
		}
	}
	if !best.Found {
		return none
	}
	return best
}

// devices returns the devices that a symptom can be about.
func (y Symptom) devices(e evidence.Evidence) []string {
	if y.Device != "" {
		return []string{y.Device}
	}
	var all []string
	for _, c := range e.Counts {
		if !slices.Contains(all, c.Device) {
			all = append(all, c.Device)
		}
	}
	for _, b := range e.Probes {
		if !slices.Contains(all, b.As) {
			all = append(all, b.As)
		}
	}
	return all
}
