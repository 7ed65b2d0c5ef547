package why

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// PrintVerdict prints the causes, and then the login as it went.
func PrintVerdict(c *call.Call, v diagnose.Verdict) {
	style := c.Style()
	s := v.Story
	switch {
	case v.Healthy && s.Login == nil && len(s.Events)+len(s.Exchanges)+len(s.Lines) == 0: // no login was seen
		c.Say("%s: nothing that is at hand speaks of a fault at %s\n", style.Paint(show.Good, "healthy"),
			show.Safe(s.Device))
	case v.Healthy:
		c.Say("%s: %s\n", style.Paint(show.Good, "healthy"), storyLine(v.Story))
	}
	for i, found := range v.Causes {
		switch {
		case found.Instead:
			c.Say("\n%s\n", style.Paint(show.Strong, "or:"))
		case found.Follows:
			c.Say("\n%s\n", style.Paint(show.Strong, "from which follows:"))
		case i > 0:
			c.Say("\n%s\n", style.Paint(show.Strong, "and:"))
		}
		if slices.ContainsFunc(v.Causes[:i],
			func(before diagnose.Cause) bool { return before.Cause == found.Cause && !found.Instead }) {
			c.Say("%s: %s, for the same reasons\n", style.Paint(show.Bad, found.Cause), show.Safe(found.Where))
			style.Item(c.Out, "  repair   ", show.Safe(found.Repair))
			continue
		}
		c.Say("%s: %s\n", style.Paint(show.Bad, found.Cause), show.Safe(found.Where))
		how := fmt.Sprintf(" (%.0f %% sure; layer: %s)", math.Round(100*found.Confidence), found.Layer)
		if found.Cause == diagnose.NotKnown {
			how = ""
		}
		style.Wrap(c.Out, "  ", show.Safe(found.Says)+how)
		for _, e := range found.Evidence {
			style.Item(c.Out, "  for      ", show.Safe(e))
		}
		for _, e := range found.Against {
			style.Item(c.Out, "  against  ", show.Safe(e))
		}
		style.Item(c.Out, "  repair   ", show.Safe(found.Repair))
		for _, n := range found.Next {
			if found.Instead {
				break // it stands with the first
			}
			style.Item(c.Out, "  look at  ", show.Safe(n))
		}
	}
	for _, text := range v.Clocks {
		c.Say("\n%s; all times here are of one clock\n", text)
	}
	printStory(c, v)
	if v.LaterHealthy != nil {
		c.Say("\na later login of the same kind, at %s, was healthy\n", v.LaterHealthy.Local().Format("15:04:05 MST"))
	}
}

// printStory prints the login as it went, from the best that is at hand.
func printStory(c *call.Call, v diagnose.Verdict) {
	style := c.Style()
	if v.Story.Login == nil {
		rows := timeline(v.Story)
		if len(rows) == 0 {
			return
		}
		c.Say("\n%s\n", style.Paint(show.Strong, "what was noted: "+storyLine(v.Story)))
		style.Table(c.Out, []string{"time", "by", "about", "what"}, rows, 3)
		return
	}
	if !v.Healthy {
		c.Say("\n%s\n", style.Paint(show.Strong, "the login: "+storyLine(v.Story)))
	}
	printSteps(c, *v.Story.Login)
	for _, t := range v.Story.Commands {
		c.Say("\n%s\n", style.Paint(show.Strong, show.Safe(fmt.Sprintf("then the command %q: refused", t.Command))))
		printSteps(c, t)
	}
}

// storyLine is a login in one line.
func storyLine(s diagnose.Story) string {
	who := s.Person
	if who == "" {
		who = "somebody"
	}
	line := fmt.Sprintf("%s at %s", who, s.Device)
	if s.Access != "" {
		line += " by " + s.Access
	}
	if !s.Time.IsZero() {
		line += ", " + s.Time.Local().Format("15:04:05 MST")
	}
	switch {
	case s.Login == nil:
	case s.Login.Outcome == walk.OutcomeIn:
		line += fmt.Sprintf(": in at level %d by %s after %.1f s", s.Login.Level, s.Login.By, s.Login.Seconds)
	default:
		line += fmt.Sprintf(": refused after %.1f s", s.Login.Seconds)
	}
	return show.Safe(line)
}

// mostNoted bounds the lines of a story that are printed.
const mostNoted = 20

// timeline puts what servers, packets and the log show of a login in order.
func timeline(s diagnose.Story) [][]string {
	type line struct {
		at   time.Time
		cols []string
	}
	var lines []line
	for _, e := range s.Events {
		lines = append(lines, line{at: e.Time,
			cols: []string{e.Server, string(e.Question), string(e.Answer) + ": " + cmp.Or(e.Text, string(e.Reason))}})
	}
	for _, x := range s.Exchanges {
		server := cmp.Or(x.Server, x.ServerAddress)
		what := fmt.Sprintf("%s after %.2f s", x.Answer, x.Seconds)
		if x.Answer == evidence.None {
			what = "no answer"
		}
		lines = append(lines, line{at: x.Time, cols: []string{"packets to " + server, string(x.Question),
			strings.Join(append([]string{what}, x.Remarks...), "; ")}})
	}
	for _, l := range s.Lines {
		lines = append(lines, line{at: l.Time,
			cols: []string{"log of " + l.Device, string(cmp.Or(l.Asked, site.AskLogin)), l.Text}})
	}
	slices.SortStableFunc(lines, func(a, b line) int { return a.at.Compare(b.at) })
	var rows [][]string
	for _, l := range lines[max(0, len(lines)-mostNoted):] {
		rows = append(rows, []string{l.at.Local().Format("15:04:05.0"), show.Safe(l.cols[0]), l.cols[1],
			show.Safe(l.cols[2])})
	}
	return rows
}

// printSteps prints the steps of a login, the one that failed marked.
func printSteps(c *call.Call, t evidence.Trace) {
	var rows [][]string
	for i, s := range t.Steps {
		mark := " "
		if t.Outcome == walk.OutcomeRefused && i == len(t.Steps)-1 {
			mark = ">"
		}
		result := string(s.Result)
		if s.Reason != "" {
			result += " (" + string(s.Reason) + ")"
		}
		rows = append(rows, []string{mark + " " + string(s.Purpose), s.List, s.Method, result,
			fmt.Sprintf("%.1f s", s.Seconds), show.Safe(triesText(s))})
	}
	c.Style().Table(c.Out, []string{"  purpose", "list", "method", "result", "took", "servers"}, rows, 5)
}

// triesText says the result of each server of a step.
func triesText(s evidence.TraceStep) string {
	var parts []string
	for i, t := range s.Tries {
		if i+1 < len(s.Tries) && s.Tries[i+1].Server == t.Server {
			continue
		}
		word := string(t.Result)
		if t.Result == walk.Unavailable {
			word = t.Message
		}
		tries := ""
		if t.Try > 1 {
			tries = fmt.Sprintf(" (%d tries)", t.Try)
		}
		parts = append(parts, t.Server+": "+word+tries)
	}
	for _, r := range s.Rested {
		parts = append(parts, r+": rests")
	}
	return strings.Join(parts, "; ")
}
