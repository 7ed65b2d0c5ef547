package diagnose

import (
	"fmt"
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// rested is a server that was left alone. That is the cause as long as it lasts;
// where a question of our own finds that the server gives no answer still, what
// made it rest is.
func (j *assessment) rested(server string, asked site.Question) {
	if slices.ContainsFunc(j.points, func(p failurePoint) bool {
		return p.kind == unheardPoint &&
			p.server == server
	}) {
		return // it rests since a moment ago
	}
	try, trace, known := j.lastTry(server)
	if known && j.stillAway(server) {
		moment := tryTime(trace, server)
		text := fmt.Sprintf("%s left %s alone: it gave no answer at %s%s", j.story.Device, server, clock(moment),
			said(try.Message))
		j.point(failurePoint{kind: unheardPoint, server: server, asked: asked, signs: signs{tried(try, moment, text)}})
		return
	}
	p := failurePoint{kind: restedPoint, server: server, asked: asked,
		signs: signs{{What: leftAlone, From: evidence.FromTrace,
			Time: j.story.Time, Server: server, Text: "it gave no answer before"}}}
	since := time.Time{}
	if known {
		since = tryTime(trace, server)
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
func (j *assessment) lastTry(server string) (try evidence.TraceTry, trace evidence.Trace, found bool) {
	for _, t := range slices.Backward(j.story.Before) {
		for _, step := range slices.Backward(t.Steps) {
			for _, try := range slices.Backward(step.Tries) {
				if try.Server == server && try.Result == walk.Unavailable {
					return try, t, true
				}
			}
		}
	}
	return try, trace, false
}

// tryTime is when the newest try of a server in a trace ended without an answer.
func tryTime(t evidence.Trace, server string) time.Time {
	moment, last := beginning(t), t.Time
	for _, step := range t.Steps {
		for _, try := range step.Tries {
			moment = moment.Add(time.Duration(try.Seconds * float64(time.Second)))
			if try.Server == server && try.Result == walk.Unavailable {
				last = moment
			}
		}
	}
	return last
}

// restEnds is when a device asks a server again that gave no answer at a time,
// zero where that is not known.
func (j *assessment) restEnds(server string, since time.Time) time.Time {
	s := j.evidence.Site
	if s == nil || s.Server(server) == nil {
		return time.Time{}
	}
	d := s.Device(j.story.Device)
	if d == nil || d.Platform.Behaviour.RestEndsWithLast || d.Patience(s.Server(server)).DeadTime == 0 {
		return time.Time{}
	}
	return since.Add(d.Patience(s.Server(server)).DeadTime)
}

// stillAway reports whether a question of our own got no answer from a server.
func (j *assessment) stillAway(server string) bool {
	return slices.ContainsFunc(j.evidence.Probes, func(b evidence.Probe) bool {
		return b.Server == server && b.Kind != evidence.ProbeAccountingStatus &&
			b.Result != evidence.ProbeAlive && b.Result != evidence.ProbeRefused && b.Result != evidence.ProbeOpen
	})
}
