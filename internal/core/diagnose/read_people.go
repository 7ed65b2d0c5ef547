package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// questionsOf are the questions whose answers decide a kind of point.
var questionsOf = map[pointKind][]site.Question{refusedPoint: {site.AskLogin},
	sessionPoint: {site.AskSession, site.AskLogin}, commandPoint: {site.AskCommands}, localPoint: {}, lowPoint: {}}

// lookDecisions adds what servers noted of their decision.
func (j *assessment) lookDecisions(p *failurePoint) {
	for i := len(j.story.Events) - 1; i >= 0; i-- {
		e := j.story.Events[i]
		what := signsOf[e.Reason].decided
		answered := e.Answer == evidence.Challenged &&
			slices.ContainsFunc(j.story.Events[i+1:],
				func(after evidence.Event) bool { return after.Question == e.Question && after.Server == e.Server })
		if what == "" || e.Answer == evidence.Accepted || answered ||
			!slices.Contains(questionsOf[p.kind], e.Question) ||
			p.command != "" && e.Command != p.command {
			continue
		}
		text := notedBy(e)
		if what == challengedSign {
			text = fmt.Sprintf("%s noted at %s: %s asked for a one-time code, and none was given", e.Server,
				clock(e.Time),
				e.Server)
		}
		p.signs = append(p.signs, Sign{What: what, From: evidence.FromEvents, Time: e.Time, Server: e.Server,
			Text:  text,
			Place: e.Place, Rule: e.Rule})
	}
	for _, x := range j.story.Exchanges {
		if !slices.Contains(questionsOf[p.kind], x.Question) {
			continue
		}
		switch {
		case x.Answer == evidence.Challenged && !slices.ContainsFunc(
			j.story.Exchanges, func(after evidence.Exchange) bool {
				return after.Question == site.AskLogin && after.Time.After(x.Time) && !after.Unanswered()
			}):
			p.signs = append(p.signs, Sign{What: challengedSign, From: evidence.FromCapture, Time: x.Time,
				Server: x.AskedOf(),
				Text:   fmt.Sprintf("%s: %s asked for a code, and none was given", clock(x.Time), x.AskedOf())})
		case x.Answer == evidence.Challenged:
			p.signs = append(p.signs, Sign{What: hasCodeSign, From: evidence.FromCapture, Time: x.Time,
				Server: x.AskedOf(),
				Text:   fmt.Sprintf("%s: %s asked for a code", clock(x.Time), x.AskedOf())})
		case x.Answer == evidence.Refused:
			p.signs = append(p.signs, Sign{What: refusedSign, From: evidence.FromCapture, Time: x.Time,
				Server: x.AskedOf(),
				Text:   fmt.Sprintf("%s: an authentic no by %s", clock(x.Time), x.AskedOf())})
		}
	}
	for _, l := range j.story.Lines {
		if l.Reason == reason.LockedForNow {
			p.signs = append(p.signs, Sign{What: lockedSign, From: evidence.FromLog, Time: l.Time,
				Text: fmt.Sprintf("the log at %s: %s", clock(l.Time), l.Text)})
		}
	}
	if t := j.story.Login; t != nil && t.Reason == reason.LockedForNow {
		p.signs = append(p.signs, Sign{What: lockedSign, From: evidence.FromTrace, Time: t.Time,
			Text: "the device noted: " + string(reason.LockedForNow)})
	}
	if p.kind == refusedPoint && j.rightBefore() {
		p.signs = append(p.signs, Sign{What: wasRightBefore, From: evidence.FromTrace,
			Text: fmt.Sprintf("%s was let in by a server before", j.story.Person)})
	}
}

// rightBefore reports whether the same name was let in by a server before.
func (j *assessment) rightBefore() bool {
	return slices.ContainsFunc(j.story.Before, func(t evidence.Trace) bool {
		return t.Kind == evidence.TraceLogin && t.Person == j.story.Person && t.Outcome == walk.OutcomeIn &&
			t.By != string(site.ByLocal)
	})
}

// lookPerson adds what the site knows of who tried, and of the device.
func (j *assessment) lookPerson(p *failurePoint) {
	name := j.story.Person
	if p.kind == refusedPoint && j.isLocal() {
		p.signs = append(p.signs, Sign{What: localNameSign, From: evidence.FromSite,
			Text: fmt.Sprintf("%s is a local account of %s", name, j.story.Device)})
	}
	s := j.evidence.Site
	if s == nil || name == "" || p.kind != refusedPoint {
		return
	}
	say := func(what Shows, text string) {
		p.signs = append(p.signs, Sign{What: what, From: evidence.FromSite, Text: text})
	}
	person := s.Person(name)
	if person == nil {
		if len(s.Directories) == 0 && len(s.People) > 0 {
			say(notInSiteSign, fmt.Sprintf("the site has nobody called %s%s", name, rights.LikeName(s, name)))
		}
		if like := rights.LikeName(s, name); like != "" {
			say(likeNameSign, fmt.Sprintf("the site has nobody called %s%s", name, like))
		}
		return
	}
	say(inSiteSign, fmt.Sprintf("the site has %s (%s)", name, s.Where(person.Place)))
	if person.OneTime != nil {
		say(hasCodeSign, fmt.Sprintf("%s has a one-time code in the site", name))
	}
	device := s.Device(j.story.Device)
	if device == nil {
		return
	}
	access, _, _ := strings.Cut(j.story.Access, " ")
	d := j.decision(s, device, access)
	text := fmt.Sprintf("the site says: %s (%s)", d.Text, s.Where(d.Place))
	switch {
	case d.Allow:
		say(grantSign, text)
	case d.Reason == reason.Disabled:
		say(notAllowedSign, text)
	case d.Reason == reason.NoGrant:
		say(noGrantSign, text)
	}
	server := s.Server(p.server)
	if server == nil || person.Password.Key != nil || person.Password.None {
		return
	}
	if form, seen := j.formSeen(); seen && !site.OneWay(form) {
		say(sentFormSign, fmt.Sprintf("the password came as %s, and the password of %s is a one-way hash (%s)", form,
			name,
			s.Where(person.Password.Place)))
	} else if form := device.Platform.Behaviour.PasswordAs.Of(server.Protocol); !seen && !site.OneWay(form) {
		say(wrongFormSign, fmt.Sprintf("%s sends passwords as %s, and the password of %s is a one-way hash (%s)",
			device.Name,
			form, name, s.Where(person.Password.Place)))
	}
}

// formSeen returns the form in which packets carried the password of the story.
func (j *assessment) formSeen() (form string, seen bool) {
	for _, x := range j.story.Exchanges {
		for _, a := range x.Request {
			switch {
			case x.Question != site.AskLogin:
			case a.Name == "form" && a.Value != "":
				return a.Value, true
			case a.Name == "User-Password":
				return site.PAP, true
			case a.Name == "CHAP-Password":
				return site.CHAP, true
			case strings.HasPrefix(a.Name, "MS-CHAP2-Response"):
				return site.MSCHAPv2, true
			}
		}
	}
	return "", false
}

// decision is what the site says of a login with the right password: by the way
// in or, where that is not known, by the one that says yes.
func (j *assessment) decision(s *site.Site, d *site.Device, access string) rights.Decision {
	var last rights.Decision
	for _, w := range d.Ways {
		if access != "" && w.Access != access {
			continue
		}
		last = rights.Decide(s, rights.Question{Purpose: site.Login, Device: d, Access: w.Access,
			Person:     j.story.Person,
			Credential: rights.Right}, j.story.Time)
		if last.Allow {
			break
		}
	}
	return last
}

// isLocal reports whether the name is known to be a local account of the device.
func (j *assessment) isLocal() bool {
	if s := j.evidence.Site; s != nil {
		if d := s.Device(j.story.Device); d != nil {
			return d.Account(j.story.Person) != nil && s.Person(j.story.Person) == nil
		}
	}
	return slices.ContainsFunc(j.story.Before, func(t evidence.Trace) bool {
		return t.Person == j.story.Person && t.By == string(site.ByLocal) && t.Outcome == walk.OutcomeIn
	})
}

// way returns the way in of the story by the site, nil where it knows none. A line
// says which range of lines it was.
func (j *assessment) way() *site.Way {
	s := j.evidence.Site
	if s == nil || s.Device(j.story.Device) == nil || j.story.Access == "" {
		return nil
	}
	d := s.Device(j.story.Device)
	for _, w := range d.Ways {
		if w.Name() == j.story.Access {
			return w
		}
	}
	access, _, _ := strings.Cut(j.story.Access, " ")
	return d.Way(access)
}

// designAsks reports whether the site has the way in ask servers at a login.
func (j *assessment) designAsks() bool {
	w := j.way()
	return w != nil && w.Lists[site.Login] != nil && len(w.Lists[site.Login].Servers()) > 0
}

// otherList finds a list that the device used and the site does not name.
func (j *assessment) otherList(steps []evidence.TraceStep) {
	w := j.way()
	if w == nil {
		return
	}
	for _, step := range steps {
		for p := site.Login; p < site.PurposeCount; p++ {
			if p.Question() != step.Purpose || p == site.Commands || p == site.RecordCommands {
				continue
			}
			meant, wanted := w.Lists[p], ""
			if meant != nil {
				wanted = meant.Name
			}
			if step.List == wanted || step.List == "" && p != site.Login {
				continue
			}
			text := fmt.Sprintf("the device used the list %s for %s, and the site says %s", named(step.List), p,
				named(wanted))
			sign := Sign{What: otherListSign, From: evidence.FromTrace, Time: j.story.Time, Text: text}
			if len(j.points) > 0 && j.points[0].kind != unheardPoint || j.story.Login.Outcome == walk.OutcomeRefused {
				j.points = slices.Insert(j.points, 0, failurePoint{
					kind: listPoint, list: step.List, signs: signs{sign}})
			}
			return
		}
	}
}

func named(list string) string {
	if list == "" {
		return "of its own (built-in)"
	}
	return list
}
