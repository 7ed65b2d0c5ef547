package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// ByDesign says what the site makes of a login that is in no evidence. e is what there
// is of other logins: where servers were heard in it and none of this person, none was
// asked, and what the design says of their answers is not what happened.
func ByDesign(e evidence.Evidence, symptom Symptom) Verdict {
	v := Explain(evidence.Evidence{Site: e.Site, Keys: e.Keys, Probes: e.Probes, Now: e.Now}, symptom)
	if len(e.Events)+len(e.Exchanges) == 0 || symptom.Person == "" || len(v.Causes) == 0 {
		return v
	}
	first := v.Causes[0]
	asked := slices.ContainsFunc(catalogue,
		func(k knowledge) bool { return k.at == refusedPoint && k.cause == first.Cause })
	if !asked {
		return v
	}
	c := Cause{Cause: NotKnown, Where: first.Where, Layer: "protocol", Confidence: 0.1,
		Says: fmt.Sprintf("no server noted a question of %s, so none was asked, or none could hear it: what the "+
			"design says of such a login while servers answer (%s) is not what happened", symptom.Person, first.Cause),
		Evidence: []string{}, Against: []string{}, Repair: "nothing to repair yet: look further first",
		Next: []string{strings.ReplaceAll(next[evidence.FromTrace], "{device}", symptom.Device)}}
	v.Causes, v.Unseen = []Cause{c}, true
	return v
}

// pointsOfDesign finds what the site alone says of the login that a symptom
// describes: how it goes with every server up and, where that is not what was
// seen, in the smallest outage in which it is. It is false where the site does
// not know the device.
func (j *assessment) pointsOfDesign() bool {
	s := j.evidence.Site
	d := s.Device(j.story.Device)
	if d == nil {
		return false
	}
	now := j.story.Time
	if now.IsZero() {
		now = time.Unix(0, 0)
	}
	r := foresee.Forecaster{Site: s, Keys: j.evidence.Keys, Now: now}
	for _, w := range d.Ways {
		if j.story.Access != "" && w.Access != j.story.Access && w.Name() != j.story.Access {
			continue
		}
		if j.symptom.Person == "" {
			j.unheardByDesign(d, w)
			continue
		}
		who, known := r.Find(d, j.symptom.Person)
		if !known {
			if who, known = r.Find(d, "unknown"); !known {
				continue
			}
		}
		cases := r.Cases(d, w, who)
		if c, ok := fitting(cases, j.symptom); ok {
			j.story.Access = w.Name()
			j.ofCase(c)
		}
		return true
	}
	return true
}

// unheardByDesign finds servers that a way in can never hear.
func (j *assessment) unheardByDesign(d *site.Device, w *site.Way) {
	for p, l := range w.Lists {
		for _, server := range l.Servers() {
			if (foresee.Forecaster{Site: j.evidence.Site, Keys: j.evidence.Keys}).Unheard(
				d, server, site.Purpose(p)) != "" {
				j.point(failurePoint{kind: unheardPoint, server: server.Name, asked: site.Purpose(p).Question()})
			}
		}
	}
}

// fitting returns the case with the fewest silent servers that looks like the
// symptom.
func fitting(cases []foresee.Case, y Symptom) (foresee.Case, bool) {
	all := slices.Clone(cases)
	slices.SortStableFunc(all,
		func(a, b foresee.Case) int { return len(a.Servers(foresee.Down)) - len(b.Servers(foresee.Down)) })
	for _, c := range all {
		fits := false
		switch y.Saw {
		case "", "refused": // that servers are silent is a guess that nothing speaks for
			fits = c.Outcome == walk.OutcomeRefused && (allUp(c) || endsWithServers(c.Way)) ||
				y.Saw == "" && c.Outcome == walk.OutcomeLow && allUp(c)
		case "slow", "no-prompt":
			fits = c.Wait.Seconds() >= slowAfter
		case "low-level":
			fits = c.Outcome == walk.OutcomeLow
		}
		if fits {
			return c, true
		}
	}
	return foresee.Case{}, false
}

// endsWithServers reports whether nothing but servers can let anybody in by a way:
// then an outage keeps everybody out.
func endsWithServers(w *site.Way) bool {
	l := w.Lists[site.Login]
	return l != nil && len(l.Methods) > 0 && l.Methods[len(l.Methods)-1].Kind == site.ByGroup
}

// checked says what check finds about the device, the gravest first.
func (j *assessment) checked() []string {
	s := j.evidence.Site
	if s == nil || s.Device(j.story.Device) == nil {
		return nil
	}
	r := findings.Check(foresee.Forecaster{Site: s, Keys: j.evidence.Keys, Now: j.evidence.Now, Assume: true},
		findings.Facts{Only: s.Device(j.story.Device)})
	var some []string
	for _, f := range r.Findings {
		if f.Severity != findings.Note && len(some) < mostFound {
			some = append(some, fmt.Sprintf("check finds %s (%s): %s", f.Code, s.Where(f.Place), f.Text))
		}
	}
	return some
}

// mostFound bounds the findings that are told where the design is all there is.
const mostFound = 3

// ofCase makes the points of a foreseen login.
func (j *assessment) ofCase(c foresee.Case) {
	t := evidence.Trace{Device: c.Device.Name, Access: c.Way.Name(), Person: j.symptom.Person,
		Kind:    evidence.TraceLogin,
		Outcome: walk.OutcomeIn, Level: c.Level, By: c.By, Reason: c.Reason, Seconds: c.Wait.Seconds()}
	if c.Outcome == walk.OutcomeRefused {
		t.Outcome = walk.OutcomeRefused
	}
	for _, s := range c.Steps {
		step := evidence.TraceStep{Purpose: s.Purpose.Question(), Method: s.Method.String(), Result: s.Result,
			Reason: s.Reason, By: s.By, Seconds: s.Took.Seconds()}
		if s.List != nil {
			step.List = s.List.Name
		}
		for _, y := range s.Tries {
			step.Tries = append(step.Tries, evidence.TraceTry{Server: y.Server.Name, Try: y.N, Result: y.Reply.Result,
				Reason: y.Reply.Reason, Message: y.Reply.Message, Seconds: y.Reply.Took.Seconds()})
		}
		t.Steps = append(t.Steps, step)
	}
	moment := j.story.Time
	j.story.Login = &t
	j.fromDevice()
	if j.symptom.Saw == "slow" || j.symptom.Saw == "no-prompt" { // what it was waited for, and not how it ended
		j.points = slices.DeleteFunc(j.points, func(p failurePoint) bool {
			return p.kind != unheardPoint && p.kind != patiencePoint
		})
	}
	j.story.Login, j.story.Time = nil, moment
	for i := range j.points {
		for k := range j.points[i].signs {
			sign := &j.points[i].signs[k]
			sign.From, sign.Text = evidence.FromSite, fmt.Sprintf("foreseen from the site%s: %s", inCase(c), sign.Text)
		}
	}
}

func inCase(c foresee.Case) string {
	if silent := c.Servers(foresee.Down); len(silent) > 0 {
		return " with " + fmt.Sprint(silent) + " silent"
	}
	return ""
}
