package cause

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/walk"
)

// fromOthers finds the points of a login that no device traced: from what
// servers noted, from packets, from the device's log.
func (j *judging) fromOthers() {
	j.pointsOfPackets()
	j.pointsOfEvents()
	j.pointsOfLog()
}

// pointsOfEvents finds what servers refused, dropped or could not answer.
func (j *judging) pointsOfEvents() {
	for i, e := range j.story.Events {
		_, dropped := eventWords[e.Reason]
		left := e.Answer == Challenged && i == len(j.story.Events)-1 // nobody answered it
		switch {
		case (e.Answer == Dropped || e.Answer == Failed) && dropped:
			j.point(point{kind: unheardPoint, server: e.Server, asked: e.Question})
		case e.Answer == Refuse && e.Question == "commands":
			j.point(point{kind: commandPoint, server: e.Server, command: e.Command})
		case e.Answer == Refuse && e.Question == "session":
			j.point(point{kind: sessionPoint, server: e.Server, signs: signs{{What: sessionAsked, From: FromEvents, Time: e.Time, Server: e.Server, Text: notedBy(e)}}})
		case e.Answer == Refuse, left:
			j.point(point{kind: refusedPoint, server: e.Server})
		}
	}
}

// pointsOfPackets finds what a capture shows without an answer, and every no.
func (j *judging) pointsOfPackets() {
	for i, x := range j.story.Exchanges {
		switch {
		case x.hidden():
			j.hidden++
		case x.unanswered() && !j.joined(x):
			j.point(point{kind: unheardPoint, server: x.asked(), asked: x.Question})
		case slices.Contains(x.Marks, MarkForged), slices.Contains(x.Marks, MarkStray), slices.Contains(x.Marks, MarkLate) && x.Answer != "none":
			j.point(point{kind: unheardPoint, server: x.asked(), asked: x.Question, signs: packetSigns(x, x.asked())})
		case x.Answer == Refuse && x.Question == "commands":
			j.point(point{kind: commandPoint, server: x.asked(), command: x.Command, signs: signs{{What: refusedSign, From: FromCapture, Time: x.Time, Server: x.asked(), Text: fmt.Sprintf("%s: an authentic no by %s to %q", clock(x.Time), x.asked(), x.Command)}}})
		case x.Answer == Refuse && x.Question == "session":
			j.point(point{kind: sessionPoint, server: x.asked(), signs: signs{{What: sessionAsked, From: FromCapture, Time: x.Time, Server: x.asked(), Text: fmt.Sprintf("%s: the authorization of the session was refused by %s", clock(x.Time), x.asked())}}})
		case x.Answer == Refuse, x.Answer == Challenged && i == len(j.story.Exchanges)-1:
			j.point(point{kind: refusedPoint, server: x.asked()})
		case x.Answer == Accept && x.Question == "login" && x.Protocol == "radius" && !j.levelIn(x):
			j.point(point{kind: lowPoint, server: x.asked(), signs: signs{{What: noLevel, From: FromCapture, Time: x.Time, Server: x.asked(), Text: fmt.Sprintf("%s: %s accepted, and sent no level: neither Management-Privilege-Level nor Service-Type", clock(x.Time), x.asked())}}})
		}
	}
}

// joined tells whether an exchange has no answer only because the capture begins
// or ends in its middle, or is a connection on which others were answered.
func (j *judging) joined(x Exchange) bool {
	return slices.Contains(x.Marks, MarkJoined) && len(x.Marks) == 1
}

// levelIn tells whether an accepting answer carries rights.
func (j *judging) levelIn(x Exchange) bool {
	return slices.ContainsFunc(x.Response, func(a NameValue) bool {
		return a.Name == "Management-Privilege-Level" || a.Name == "Service-Type" || strings.Contains(a.Name, "Level")
	})
}

// pointsOfLog finds what the device's log says of refusals and silence.
func (j *judging) pointsOfLog() {
	for _, l := range j.story.Lines {
		at := signs{{What: "log-line", From: FromLog, Time: l.Time, Text: fmt.Sprintf("the log at %s: %s", clock(l.Time), l.Text)}}
		switch {
		case l.What == LogNoAnswer:
			j.point(point{kind: unheardPoint, server: l.Server, asked: l.Asked})
		case l.What == LogIn && l.By == "local" && len(j.points) > 0:
			j.points = slices.Insert(j.points, 0, point{kind: fallbackPoint, signs: signs{{What: localInSign, From: FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.What != LogRefused:
		case l.Reason == string(walk.RefusedByServer):
			if !slices.ContainsFunc(j.points, func(p point) bool { return p.kind == refusedPoint || p.kind == sessionPoint }) {
				j.point(point{kind: refusedPoint, server: l.By, signs: at})
			}
		case l.Reason == string(walk.WrongPassword), l.Reason == LockedForNow:
			j.points = slices.Insert(j.points, 0, point{kind: localPoint, signs: at})
		case l.Reason == string(walk.BelowLevel):
			j.point(point{kind: lowPoint, signs: signs{{What: noLevel, From: FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.Reason == string(walk.TemplateMissing):
			j.point(point{kind: lowPoint, signs: signs{{What: templateSign, From: FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.Reason == string(walk.GivesUpFirst):
			j.point(point{kind: patiencePoint, signs: signs{{What: gaveUpSign, From: FromLog, Time: l.Time, Text: at[0].Text}}})
		case l.Reason == string(walk.NotRecorded):
			j.point(point{kind: recordPoint, signs: signs{{What: notKeptSign, From: FromLog, Time: l.Time, Text: at[0].Text}}})
		case len(j.points) == 0:
			j.unclear++
		}
	}
}

// withoutStory judges what shows no single login: counters, questions of our
// own, or the design alone.
func withoutStory(e Evidence, symptom Symptom) Verdict {
	none := Verdict{Causes: []Cause{}}
	devices, x := symptom.devices(e), newIndex(e)
	var best Verdict
	for _, d := range devices {
		j := &judging{evidence: e, index: x, story: Story{Device: d, Person: symptom.Person, Access: symptom.Access, Time: e.Now}, symptom: symptom}
		seen := len(e.Counts) > 0 || len(e.Probes) > 0
		for _, c := range e.Counts {
			lost := 0
			for _, n := range c.Lost {
				lost += n
			}
			if (c.Device == "" || c.Device == d) && lost > 0 && lost >= c.Accepted+c.Refused {
				j.point(point{kind: unheardPoint, server: c.Server, asked: c.Question})
			}
		}
		for _, b := range e.Probes {
			if b.As != "" && b.As != d {
				continue
			}
			if b.Result != ProbeOpen && b.Result != ProbeAlive && b.Result != ProbeRefused {
				asked := "login"
				if b.Kind == ProbeAccountingStatus {
					asked = "record-sessions"
				}
				j.point(point{kind: unheardPoint, server: b.Server, asked: asked})
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

// devices gives the devices that a symptom can be about.
func (y Symptom) devices(e Evidence) []string {
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
