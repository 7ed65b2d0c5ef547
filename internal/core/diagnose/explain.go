package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Cause is one thing that went wrong, with what speaks for it and against it.
type Cause struct {
	Cause      string   `json:"cause"`
	Where      string   `json:"where"`
	Server     string   `json:"server"` // the server that it is about, "" for none
	Layer      string   `json:"layer"`  // network | transport | protocol | identity | rights | records | design
	Confidence float64  `json:"confidence"`
	Says       string   `json:"says"` // one sentence
	Evidence   []string `json:"evidence"`
	Against    []string `json:"against"`
	Repair     string   `json:"repair"`
	Next       []string `json:"next"` // what to look at, where this is not sure
	// Follows is set on what follows from another cause of the verdict.
	Follows bool `json:"follows"`
	// Instead is set on a cause that it may be in place of the one before.
	Instead bool `json:"instead"`
}

// Verdict is what the evidence shows.
type Verdict struct {
	Causes  []Cause  `json:"causes"`
	Healthy bool     `json:"healthy"`
	Clocks  []string `json:"clocks,omitempty"` // clocks that differ, and by how much
	Story   Story    `json:"-"`
	Found   bool     `json:"-"` // whether there was a login to judge
	// LaterHealthy is when the same person was on the same device again, and
	// all was well; nil when that was not seen.
	LaterHealthy *time.Time `json:"later_healthy,omitempty"`
	// Unseen is set where nothing went wrong in what is at hand, and the login is
	// not in it to its end, or not as it was seen by eye.
	Unseen bool `json:"-"`
}

// Explain judges the newest login that fits the symptom and went wrong, else
// the newest that fits.
func Explain(e evidence.Evidence, symptom Symptom) Verdict {
	e, clocks := aligned(e)
	var newest, unseen, stranger *Verdict
	x := newIndex(e)
	for _, s := range slices.Backward(stories(e, x)) {
		if !symptom.fits(s) {
			continue
		}
		v := judge(e, x, s, symptom)
		v.Clocks = clocks
		switch {
		case v.Unseen && unseen == nil:
			unseen = &v
		case v.Healthy && newest == nil:
			newest = &v
		case !v.Healthy && !v.Unseen && symptom.Device == "" && isStranger(e, s):
			if stranger == nil {
				stranger = &v
			}
		case !v.Healthy && !v.Unseen:
			if newest != nil && newest.Story.Device == s.Device && newest.Story.Person == s.Person {
				v.LaterHealthy = &newest.Story.Time
			}
			return v
		}
	}
	switch {
	case newest != nil:
		return *newest
	case stranger != nil:
		return *stranger
	case unseen != nil:
		return *unseen
	case len(e.Traces)+len(e.Events)+len(e.Exchanges)+len(e.Log) == 0 || len(e.Probes) > 0:
		// Counters know no single login: where logins were noted, and none is meant,
		// they say nothing.
		return withoutStory(e, symptom)
	}
	return Verdict{Causes: []Cause{}}
}

// isStranger reports whether a story is of an address that is nothing to the site,
// and that does not say it is a device of it: what it gets from a server is no fault
// of a device's login.
func isStranger(e evidence.Evidence, s Story) bool {
	if e.Site == nil || s.Login != nil || e.Site.Device(s.Device) != nil {
		return false
	}
	j := &judging{evidence: e}
	return !slices.ContainsFunc(s.Exchanges, func(x evidence.Exchange) bool {
		d, _ := j.namesDevice(x)
		return d != "" || x.Key == evidence.KeyFits
	})
}

// OfEvent returns the cause that an event alone shows and its repair, "" for one of
// which nothing went wrong.
func OfEvent(e evidence.Event, s *site.Site) (cause, repair string) {
	switch e.Answer {
	case evidence.Refused, evidence.Dropped, evidence.Failed:
	default:
		return "", ""
	}
	v := Explain(evidence.Evidence{Events: []evidence.Event{e}, Site: s}, Symptom{})
	if len(v.Causes) == 0 || v.Causes[0].Cause == NotKnown {
		return "", ""
	}
	return v.Causes[0].Cause, v.Causes[0].Repair
}

// judge weighs one story.
func judge(e evidence.Evidence, x *index, s Story, symptom Symptom) Verdict {
	j := &judging{evidence: e, index: x, story: s, symptom: symptom}
	if s.Login == nil {
		j.fromOthers()
	} else {
		j.fromDevice()
	}
	return j.verdict()
}

func (j *judging) verdict() Verdict {
	v := Verdict{Causes: []Cause{}, Story: j.story, Found: true}
	for i := range j.points {
		j.look(&j.points[i])
	}
	slices.SortStableFunc(j.points, func(a, b point) int { // what others forge makes the rest doubtful
		return strings.Compare(forgedFirst[b.signs.has(forgedSign)], forgedFirst[a.signs.has(forgedSign)])
	})
	roots := 0
	for _, p := range j.points {
		some := chosen(p)
		if len(some) > 0 && some[0].confidence < faint {
			j.unclear++
			continue
		}
		for i, w := range some {
			c := j.cause(p, w)
			c.Follows, c.Instead = (follows[p.kind] || p.follows) && roots > 0, i > 0
			v.Causes = append(v.Causes, c)
		}
		roots++
	}
	v.Causes = together(v.Causes)
	if len(v.Causes) == 0 && (j.unclear > 0 || j.hidden > 0 && !j.walked().in) {
		v.Causes = append(v.Causes, j.notKnown())
	}
	if len(v.Causes) == 0 {
		if c := j.notSeen(); c != nil {
			v.Causes, v.Unseen = append(v.Causes, *c), c.Cause == NotKnown
		}
	}
	v.Healthy = len(v.Causes) == 0
	return v
}

var forgedFirst = map[bool]string{true: "forged"}

// notKnown is what is said where the evidence does not tell.
func (j *judging) notKnown() Cause {
	c := Cause{Cause: NotKnown, Where: j.where(), Layer: "protocol", Confidence: 0.1,
		Says:     "something went wrong, and what is at hand does not tell why",
		Evidence: []string{j.inWords()}, Against: []string{}, Repair: "nothing to repair yet: look further first",
		Next: j.missing()}
	if j.unclear == 0 {
		c.Says, c.Evidence = "what was asked and answered cannot be read without the key",
			[]string{fmt.Sprintf("questions whose content the key hides: %d", j.hidden)}
		c.Next = []string{"the same with the keys: name the site, or give -key-file FILE"}
		if j.evidence.Site != nil {
			c.Next = []string{"the files of the keys: mellowgate keys list SITE says which are not there"}
		}
	}
	return c
}

// missing says what to look at next, of what is not at hand.
func (j *judging) missing() []string {
	have, some := j.evidence.Sources(), []string{}
	for _, from := range nextOrder[unheardPoint] {
		if !have[from] && len(some) < 2 {
			some = append(some, strings.ReplaceAll(next[from], "{device}", j.story.Device))
		}
	}
	return some
}

// follows are points that come of others.
var follows = map[pointKind]bool{endedPoint: true, patiencePoint: true, recordPoint: true}

// together joins causes that are the same at the same place.
func together(all []Cause) []Cause {
	joined := []Cause{}
	for _, c := range all {
		i := slices.IndexFunc(joined, func(have Cause) bool { return have.Cause == c.Cause && have.Where == c.Where })
		if i < 0 {
			joined = append(joined, c)
			continue
		}
		for _, text := range c.Evidence {
			joined[i].Evidence = appendNew(joined[i].Evidence, text)
		}
		joined[i].Instead = joined[i].Instead && c.Instead
		joined[i].Confidence = max(joined[i].Confidence, c.Confidence)
	}
	return joined
}

type judging struct {
	evidence evidence.Evidence
	index    *index
	story    Story
	symptom  Symptom
	points   []point
	unclear  int                 // a refusal that no point explains
	hidden   int                 // packets that cannot be read without the key
	overTLS  bool                // a talk over TLS that went to its end
	cut      bool                // the capture keeps only a part of what was asked
	waiting  []evidence.Exchange // questions that may yet be answered
	unended  []evidence.Exchange // questions that the capture ends before
}

// point adds a point, or more signs to one that there is.
func (j *judging) point(p point) *point {
	for i := range j.points {
		have := &j.points[i]
		if have.kind == p.kind && have.server == p.server && have.asked.Records() == p.asked.Records() &&
			have.command == p.command {
			have.signs = append(have.signs, p.signs...)
			return have
		}
	}
	j.points = append(j.points, p)
	return &j.points[len(j.points)-1]
}

// where names the device and way in of the story.
func (j *judging) where() string {
	if j.story.Access == "" {
		return j.story.Device
	}
	return j.story.Device + " by " + j.story.Access
}

func (j *judging) inWords() string {
	if j.story.Login == nil {
		return "there is a refusal without a reason"
	}
	return "the device noted: " + string(j.story.Login.Reason)
}

// fromDevice finds the points of a login that the device noted.
func (j *judging) fromDevice() {
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
		j.point(point{kind: patiencePoint, wait: t.Seconds,
			signs: signs{{What: gaveUpSign, From: evidence.FromTrace, Time: t.Time,
				Text: fmt.Sprintf("the device gave up after %.1f s", t.Seconds)}}})
	case refused && t.Reason == reason.NotFromHere:
		j.point(point{kind: localPoint, signs: signs{{What: notFromHereSign, From: evidence.FromTrace, Time: t.Time,
			Text: "the person came from " + cmp.Or(t.From, "an address that it does not say")}}})
	case refused && decided.Result == walk.Refused &&
		(decided.Method == string(site.ByLocal) || decided.Method == string(site.ByOnly)):
		j.point(point{kind: localPoint, list: decided.List, signs: j.localRefusal(*t)})
		j.unanswered(t.Steps)
	case refused && decided.Result == walk.Refused && j.secondBest(t.Steps, decided):
		j.unanswered(t.Steps) // who would have let the person in was not there
		j.point(point{kind: refusedPoint, server: decided.By, list: decided.List, follows: true,
			signs: signs{{What: refusedSign, From: evidence.FromTrace, Time: t.Time, Server: decided.By,
				Text: fmt.Sprintf("the server %s said no", decided.By)}}})
	case refused && decided.Result == walk.Refused:
		j.point(point{kind: refusedPoint, server: decided.By, list: decided.List,
			signs: signs{{What: refusedSign, From: evidence.FromTrace, Time: t.Time, Server: decided.By,
				Text: fmt.Sprintf("the server %s said no", decided.By)}}})
		j.unanswered(t.Steps)
	case refused && last.Purpose == site.AskSession && last.Result != walk.Accepted:
		j.unanswered(t.Steps)
		what := sessionAsked
		if last.Result == walk.Refused && strings.HasPrefix(last.Method, "group ") {
			what = sessionNo
		}
		j.point(point{kind: sessionPoint, list: last.List, server: last.By,
			signs: signs{{What: what, From: evidence.FromTrace, Time: t.Time,
				Text: fmt.Sprintf("session: %s was %s (%s)", last.Method, last.Result, last.Reason)}}})
	case refused && t.Reason == reason.BelowLevel:
		j.point(point{kind: belowPoint, signs: signs{{What: belowPages, From: evidence.FromTrace, Time: t.Time,
			Text: fmt.Sprintf("%s came in with level %d", t.Person, t.Level)}}})
	case refused && t.Reason == reason.TemplateMissing:
		j.point(point{kind: lowPoint, signs: signs{noted(templateSign)}})
	case refused && t.Reason == reason.NotRecorded:
		j.unanswered(t.Steps)
		j.point(point{kind: recordPoint, signs: signs{noted(notKeptSign)}})
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
func (j *judging) secondBest(steps []evidence.TraceStep, decided evidence.TraceStep) bool {
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
func (j *judging) raise(t evidence.Trace) {
	why := string(t.Reason)
	if known := t.Reason.Sentence(); known != "" {
		why = strings.ToLower(known[:1]) + strings.TrimSuffix(known[1:], ".")
	}
	j.point(point{kind: raisePoint, signs: signs{{What: raiseRefused, From: evidence.FromTrace, Time: t.Time,
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
func (j *judging) localRefusal(t evidence.Trace) signs {
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
func (j *judging) ended(last evidence.TraceStep) {
	if slices.ContainsFunc(j.story.Login.Steps, func(s evidence.TraceStep) bool {
		return s.Purpose == last.Purpose && s.Method == string(site.ByLocal)
	}) {
		return // it asks local too, and the person has no account there: the servers are the cause
	}
	if strings.HasPrefix(last.Method, "group ") {
		j.point(point{kind: endedPoint, list: last.List,
			signs: signs{{What: noFallbackSign, From: evidence.FromTrace, Time: j.story.Time,
				Text: fmt.Sprintf("the last method, %s, was unavailable", last.Method)}}})
	}
}

// fallback is a login by the local account.
func (j *judging) fallback() {
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
		j.point(point{kind: nonePoint, list: list, signs: signs{{What: byNoneSign, From: evidence.FromTrace, Time: t.Time,
			Text: fmt.Sprintf("the device waited %.1f s for the servers first", t.Seconds)}}})
		j.unanswered(t.Steps)
		return
	}
	j.point(point{kind: fallbackPoint, signs: signs{{What: localInSign, From: evidence.FromTrace, Time: t.Time,
		Text: fmt.Sprintf("the device waited %.1f s for the servers first", t.Seconds)}}})
	j.unanswered(t.Steps)
}

// low finds out whether someone who got in got their level.
func (j *judging) low() {
	t := j.story.Login
	promised, says := -1, Sign{}
	if n, text, known := j.promised(); known {
		promised, says = n, Sign{What: levelPromised, From: evidence.FromSite, Time: t.Time, Text: text}
	}
	for _, e := range j.story.Events {
		if says.What == "" && e.Answer == evidence.Accepted && e.Level != nil && *e.Level > promised {
			promised, says = *e.Level, Sign{What: levelPromised, From: evidence.FromEvents, Time: e.Time, Server: e.Server,
				Text: fmt.Sprintf("%s accepted with level %d: %s", e.Server, *e.Level, e.Text)}
		}
	}
	asked := slices.ContainsFunc(t.Steps, func(s evidence.TraceStep) bool { return s.Purpose == site.AskSession })
	if j.symptom.Saw == "low-level" && promised < 15 {
		promised, says = 15, Sign{}
	}
	if promised <= t.Level {
		return
	}
	p := point{kind: lowPoint, signs: signs{{What: inLow, From: evidence.FromTrace, Time: t.Time,
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
func (j *judging) command(t evidence.Trace) {
	last := evidence.TraceStep{}
	for _, s := range t.Steps {
		if s.Purpose == site.AskCommands {
			last = s
		}
	}
	if last.Result == walk.Refused {
		j.point(point{kind: commandPoint, command: t.Command, server: last.By,
			signs: signs{{What: refusedSign, From: evidence.FromTrace, Time: t.Time, Server: last.By,
				Text: fmt.Sprintf("%s refused %q to %s", last.By, t.Command, t.Person)}}})
		return
	}
	j.point(point{kind: commandPoint, command: t.Command, list: last.List,
		signs: signs{{What: stuckSign, From: evidence.FromTrace, Time: t.Time,
			Text: fmt.Sprintf("the last method, %s, was unavailable", last.Method)}}})
	j.unanswered(t.Steps)
}

// unanswered finds every server that gave no answer, and those that were left
// alone because they gave none before.
func (j *judging) unanswered(steps []evidence.TraceStep) {
	for _, step := range steps {
		for i, t := range step.Tries {
			lastOfServer := i+1 == len(step.Tries) || step.Tries[i+1].Server != t.Server
			if t.Result == walk.Unavailable && t.Reason != reason.GivenUp && lastOfServer {
				came := "and got no answer"
				if t.Reason == reason.ServerError {
					came = "and it answered that it cannot answer"
				}
				text := fmt.Sprintf("%s asked %s %s "+came+"%s (%.1f s)", j.story.Device, t.Server, times(t.Try), said(t.Message),
					t.Seconds*float64(t.Try))
				j.point(point{kind: unheardPoint, server: t.Server, asked: step.Purpose,
					signs: signs{tried(t, j.story.Time, text)}})
			}
		}
		for _, r := range step.Rested {
			j.rested(r, step.Purpose)
		}
	}
}

// said returns what a device noted of a try beyond that there was no answer.
func said(message string) string {
	if message == "" || message == "no answer" {
		return ""
	}
	return ": " + message
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// rested is a server that was left alone. That is the cause as long as it lasts;
// where a question of our own finds that the server gives no answer still, what
// made it rest is.
func (j *judging) rested(server string, asked site.Question) {
	if slices.ContainsFunc(j.points, func(p point) bool { return p.kind == unheardPoint && p.server == server }) {
		return // it rests since a moment ago
	}
	try, of, known := j.lastTry(server)
	if known && j.stillAway(server) {
		at := tryTime(of, server)
		text := fmt.Sprintf("%s left %s alone: it gave no answer at %s%s", j.story.Device, server, clock(at),
			said(try.Message))
		j.point(point{kind: unheardPoint, server: server, asked: asked, signs: signs{tried(try, at, text)}})
		return
	}
	p := point{kind: restedPoint, server: server, asked: asked, signs: signs{{What: leftAlone, From: evidence.FromTrace,
		Time: j.story.Time, Server: server, Text: "it gave no answer before"}}}
	since := time.Time{}
	if known {
		since = tryTime(of, server)
		p.signs[0].Text = fmt.Sprintf("%s gave no answer at %s (%s)", server, clock(since), try.Reason)
		p.until = j.restEnds(server, since)
	}
	if again, ok := j.upAgain(server, since); ok {
		p.signs = append(p.signs, again)
	}
	j.point(p)
}

// lastTry returns the newest try of a server that got no answer before the
// story, and the trace that it is of.
func (j *judging) lastTry(server string) (try evidence.TraceTry, of evidence.Trace, found bool) {
	for _, t := range slices.Backward(j.story.Before) {
		for _, step := range slices.Backward(t.Steps) {
			for _, try := range slices.Backward(step.Tries) {
				if try.Server == server && try.Result == walk.Unavailable {
					return try, t, true
				}
			}
		}
	}
	return try, of, false
}

// tryTime is when the newest try of a server in a trace ended without an answer.
func tryTime(t evidence.Trace, server string) time.Time {
	at, last := beginning(t), t.Time
	for _, step := range t.Steps {
		for _, try := range step.Tries {
			at = at.Add(time.Duration(try.Seconds * float64(time.Second)))
			if try.Server == server && try.Result == walk.Unavailable {
				last = at
			}
		}
	}
	return last
}

// restEnds is when a device asks a server again that gave no answer at a time,
// zero where that is not known.
func (j *judging) restEnds(server string, since time.Time) time.Time {
	s := j.evidence.Site
	if s == nil || s.Server(server) == nil {
		return time.Time{}
	}
	d := s.Device(j.story.Device)
	if d == nil || d.Kind.Traits.RestEndsWithLast || d.Patience(s.Server(server)).DeadTime == 0 {
		return time.Time{}
	}
	return since.Add(d.Patience(s.Server(server)).DeadTime)
}

// stillAway reports whether a question of our own got no answer from a server.
func (j *judging) stillAway(server string) bool {
	return slices.ContainsFunc(j.evidence.Probes, func(b evidence.Probe) bool {
		return b.Server == server && b.Kind != evidence.ProbeAccountingStatus &&
			b.Result != evidence.ProbeAlive && b.Result != evidence.ProbeRefused && b.Result != evidence.ProbeOpen
	})
}

func clock(t time.Time) string { return t.Format("15:04:05") }
