package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// fromDevice finds the points of a login that the device noted.
func (j *assessment) fromDevice() {
	t := j.story.Login
	last := evidence.TraceStep{}
	if len(t.Steps) > 0 {
		last = t.Steps[len(t.Steps)-1]
	}
	noted := func(what Shows) Sign {
		return Sign{What: what, From: evidence.FromTrace, Time: t.Time, Text: "the device noted: " + string(t.Reason)}
	}
	decided := decidingStep(*t)
	refused := t.Outcome == walk.OutcomeRefused
	switch {
	case refused && t.Reason == reason.GivesUpFirst:
		j.unanswered(t.Steps)
		j.point(failurePoint{kind: patiencePoint, wait: t.Seconds,
			signs: signs{{What: gaveUpSign, From: evidence.FromTrace, Time: t.Time,
				Text: fmt.Sprintf("the device gave up after %.1f s", t.Seconds)}}})
	case refused && t.Reason == reason.NotFromHere:
		j.point(failurePoint{kind: localPoint, signs: signs{
			{What: notFromHereSign, From: evidence.FromTrace, Time: t.Time,
				Text: "the person came from " + cmp.Or(t.From, "an address that it does not say")}}})
	case refused && decided.Result == walk.Refused &&
		(decided.Method == string(site.ByLocal) || decided.Method == string(site.ByOnly)):
		j.point(failurePoint{kind: localPoint, list: decided.List, signs: j.localRefusal(*t)})
		j.unanswered(t.Steps)
	case refused && decided.Result == walk.Refused && j.secondBest(t.Steps, decided):
		j.unanswered(t.Steps) // who would have let the person in was not there
		j.point(failurePoint{kind: refusedPoint, server: decided.By, list: decided.List, follows: true,
			signs: signs{{What: refusedSign, From: evidence.FromTrace, Time: t.Time, Server: decided.By,
				Text: fmt.Sprintf("the server %s said no", decided.By)}}})
	case refused && decided.Result == walk.Refused:
		j.point(failurePoint{kind: refusedPoint, server: decided.By, list: decided.List,
			signs: signs{{What: refusedSign, From: evidence.FromTrace, Time: t.Time, Server: decided.By,
				Text: fmt.Sprintf("the server %s said no", decided.By)}}})
		j.unanswered(t.Steps)
	case refused && last.Purpose == site.AskSession && last.Result != walk.Accepted:
		j.unanswered(t.Steps)
		what := sessionAsked
		if last.Result == walk.Refused && strings.HasPrefix(last.Method, "group ") {
			what = sessionNo
		}
		j.point(failurePoint{kind: sessionPoint, list: last.List, server: last.By,
			signs: signs{{What: what, From: evidence.FromTrace, Time: t.Time,
				Text: fmt.Sprintf("session: %s was %s (%s)", last.Method, last.Result, last.Reason)}}})
	case refused && t.Reason == reason.BelowLevel:
		j.point(failurePoint{kind: belowPoint, signs: signs{{What: belowPages, From: evidence.FromTrace, Time: t.Time,
			Text: fmt.Sprintf("%s came in with level %d", t.Person, t.Level)}}})
	case refused && t.Reason == reason.TemplateMissing:
		j.point(failurePoint{kind: lowPoint, signs: signs{noted(templateSign)}})
	case refused && t.Reason == reason.NotRecorded:
		j.unanswered(t.Steps)
		j.point(failurePoint{kind: recordPoint, signs: signs{noted(notKeptSign)}})
	case refused && t.Reason == reason.ListEnded:
		j.unanswered(t.Steps)
		j.ended(last)
	case !refused && t.By == string(site.ByLocal), !refused && t.By == string(site.ByNone):
		j.fallback()
	case !refused:
		j.low()
		j.unanswered(t.Steps) // in, and yet somebody waited
	default:
		j.unclear++
	}
	j.otherList(t.Steps)
	entry := j.points
	j.points = nil
	for _, c := range j.story.Commands {
		j.command(c)
	}
	if j.points = append(j.points, entry...); refused {
		j.points = entry
	}
	for _, later := range j.story.Later {
		if later.Kind == evidence.TraceRaise && later.Outcome == walk.OutcomeRefused {
			j.raise(later)
		}
		j.unanswered(later.Steps)
	}
	if refused && len(j.points) == 0 {
		j.unclear++
	}
}

// secondBest reports whether a group said no that is asked only because one before
// it gave no answer, and the design lets the person in by that one.
func (j *assessment) secondBest(steps []evidence.TraceStep, decided evidence.TraceStep) bool {
	before := false
	for _, s := range steps {
		if s.Purpose != site.AskLogin || s.By == decided.By && s.Result == decided.Result {
			break
		}
		before = before || strings.HasPrefix(s.Method, "group ") && s.Result == walk.Unavailable
	}
	if !before {
		return false
	}
	if c := j.foreseen(); c != nil && c.Outcome != walk.OutcomeRefused && c.By != decided.By {
		return true
	}
	return slices.ContainsFunc(j.story.Events, func(e evidence.Event) bool {
		return e.Server == decided.By && (e.Reason == reason.UnknownPerson || e.Reason == reason.NoEntry)
	})
}

// raise is an elevation that was refused.
func (j *assessment) raise(t evidence.Trace) {
	why := string(t.Reason)
	if known := t.Reason.Sentence(); known != "" {
		why = strings.ToLower(known[:1]) + strings.TrimSuffix(known[1:], ".")
	}
	j.point(failurePoint{kind: raisePoint, signs: signs{{What: raiseRefused, From: evidence.FromTrace, Time: t.Time,
		Text: "the device noted of the elevation: " + why}}})
}

// decidingStep returns the login step that said no, if one did.
func decidingStep(t evidence.Trace) evidence.TraceStep {
	for _, s := range t.Steps {
		if s.Purpose == site.AskLogin && t.Outcome == walk.OutcomeRefused && s.Result == walk.Refused {
			return s
		}
	}
	return evidence.TraceStep{}
}

// localRefusal is what the device's own refusal shows.
func (j *assessment) localRefusal(t evidence.Trace) signs {
	if t.Reason == reason.NotListed {
		return signs{{What: notListedSign, From: evidence.FromTrace, Time: t.Time,
			Text: "its login list is for other names only, and refuses " + t.Person + " without asking"}}
	}
	all := signs{{What: localRefused, From: evidence.FromTrace, Time: t.Time,
		Text: "the device compared it with its own account"}}
	asked := slices.ContainsFunc(t.Steps,
		func(s evidence.TraceStep) bool { return s.Purpose == site.AskLogin && len(s.Tries)+len(s.Rested) > 0 })
	if !asked && j.designAsks() {
		all = append(all, Sign{What: notAsked, From: evidence.FromTrace, Time: t.Time,
			Text: "no server was asked, and the site says that this way in asks servers"})
	}
	return all
}

// ended is a login list that ended without yes or no.
func (j *assessment) ended(last evidence.TraceStep) {
	if slices.ContainsFunc(j.story.Login.Steps, func(s evidence.TraceStep) bool {
		return s.Purpose == last.Purpose && s.Method == string(site.ByLocal)
	}) {
		return // it asks local too, and the person has no account there: the servers are the cause
	}
	if strings.HasPrefix(last.Method, "group ") {
		j.point(failurePoint{kind: endedPoint, list: last.List,
			signs: signs{{What: noFallbackSign, From: evidence.FromTrace, Time: j.story.Time,
				Text: fmt.Sprintf("the last method, %s, was unavailable", last.Method)}}})
	}
}

// fallback is a login by the local account.
func (j *assessment) fallback() {
	t := j.story.Login
	if !slices.ContainsFunc(t.Steps, func(s evidence.TraceStep) bool {
		return s.Purpose == site.AskLogin && strings.HasPrefix(s.Method, "group ") && s.Result == walk.Unavailable
	}) {
		return // the list has local first: as designed
	}
	if t.By == string(site.ByNone) {
		list := ""
		for _, s := range t.Steps {
			if s.Purpose == site.AskLogin {
				list = s.List
			}
		}
		j.point(failurePoint{kind: nonePoint, list: list, signs: signs{
			{What: byNoneSign, From: evidence.FromTrace, Time: t.Time,
				Text: fmt.Sprintf("the device waited %.1f s for the servers first", t.Seconds)}}})
		j.unanswered(t.Steps)
		return
	}
	j.point(failurePoint{kind: fallbackPoint, signs: signs{{What: localInSign, From: evidence.FromTrace, Time: t.Time,
		Text: fmt.Sprintf("the device waited %.1f s for the servers first", t.Seconds)}}})
	j.unanswered(t.Steps)
}

// low finds out whether someone who got in got their level.
func (j *assessment) low() {
	t := j.story.Login
	promised, says := -1, Sign{}
	if n, text, known := j.promised(); known {
		promised, says = n, Sign{What: levelPromised, From: evidence.FromSite, Time: t.Time, Text: text}
	}
	for _, e := range j.story.Events {
		if says.What == "" && e.Answer == evidence.Accepted && e.Level != nil && *e.Level > promised {
			promised, says = *e.Level, Sign{What: levelPromised, From: evidence.FromEvents, Time: e.Time,
				Server: e.Server,
				Text:   fmt.Sprintf("%s accepted with level %d: %s", e.Server, *e.Level, e.Text)}
		}
	}
	asked := slices.ContainsFunc(t.Steps, func(s evidence.TraceStep) bool { return s.Purpose == site.AskSession })
	if j.symptom.Saw == "low-level" && promised < 15 {
		promised, says = 15, Sign{}
	}
	if promised <= t.Level {
		return
	}
	p := failurePoint{kind: lowPoint, signs: signs{{What: inLow, From: evidence.FromTrace, Time: t.Time,
		Text: fmt.Sprintf("%s is in at level %d, let in by %s", t.Person, t.Level, t.By)}}}
	if says.What != "" {
		p.signs = append(p.signs, says)
	}
	if !asked {
		p.signs = append(p.signs, Sign{What: sessionNotAsked, From: evidence.FromTrace, Time: t.Time,
			Text: "the device asked for no session authorization"})
	} else {
		p.signs = append(p.signs, Sign{What: noLevel, From: evidence.FromTrace, Time: t.Time,
			Text: "the session's answer carried no level that the device reads"})
	}
	j.point(p)
}

// command is a refused command.
func (j *assessment) command(t evidence.Trace) {
	last := evidence.TraceStep{}
	for _, s := range t.Steps {
		if s.Purpose == site.AskCommands {
			last = s
		}
	}
	if last.Result == walk.Refused {
		j.point(failurePoint{kind: commandPoint, command: t.Command, server: last.By,
			signs: signs{{What: refusedSign, From: evidence.FromTrace, Time: t.Time, Server: last.By,
				Text: fmt.Sprintf("%s refused %q to %s", last.By, t.Command, t.Person)}}})
		return
	}
	j.point(failurePoint{kind: commandPoint, command: t.Command, list: last.List,
		signs: signs{{What: stuckSign, From: evidence.FromTrace, Time: t.Time,
			Text: fmt.Sprintf("the last method, %s, was unavailable", last.Method)}}})
	j.unanswered(t.Steps)
}

// unanswered finds every server that gave no answer, and those that were left
// alone because they gave none before.
func (j *assessment) unanswered(steps []evidence.TraceStep) {
	for _, step := range steps {
		for i, t := range step.Tries {
			lastOfServer := i+1 == len(step.Tries) || step.Tries[i+1].Server != t.Server
			if t.Result == walk.Unavailable && t.Reason != reason.GivenUp && lastOfServer {
				came := "and got no answer"
				if t.Reason == reason.ServerError {
					came = "and it answered that it cannot answer"
				}
				text := fmt.Sprintf("%s asked %s %s "+came+"%s (%.1f s)", j.story.Device, t.Server, times(t.Try),
					said(t.Message),
					t.Seconds*float64(t.Try))
				j.point(failurePoint{kind: unheardPoint, server: t.Server, asked: step.Purpose,
					signs: signs{tried(t, j.story.Time, text)}})
			}
		}
		for _, r := range step.Rested {
			j.rested(r, step.Purpose)
		}
	}
}
