package cli

import (
	"fmt"
	"os"
	"strings"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/cause"
	"mellowgate/internal/live/state"
)

func whyCommand() *Command {
	return &Command{
		Name: "why", Args: "[SITE]", Short: "the cause of a failed login, with its evidence and the repair",
		Long: `Reads the state folder of a lab or of serve and judges the newest login that went wrong; -device, -person and
-through choose another. The first line is the cause and the place. On a healthy login it says so.

The events of the servers alone are enough, and so are the traces of the devices alone; both together say more.
Exit status 1 when there is no login to judge.`,
		Examples: []Example{
			{"mellowgate why", "the newest login that went wrong in the lab that runs here"},
			{"mellowgate why -person tobin.reed -device north-sw-1", "the newest one of this person on this device"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			dir := c.Flags.String("state", defaultState, "the state `folder` to read")
			var s cause.Symptom
			c.Flags.StringVar(&s.Device, "device", "", "the `device`")
			c.Flags.StringVar(&s.Person, "person", "", "the `name` that was used")
			c.Flags.StringVar(&s.Access, "through", "", "the `way` in: ssh or console")
			return func() error { return c.why(*dir, s) }
		},
	}
}

func (c *Call) why(dir string, symptom cause.Symptom) error {
	folder, err := state.Open(dir)
	if err != nil {
		return failure{ExitUsage, err}
	}
	places, err := folder.Places()
	if err != nil {
		return failure{ExitUsage, err}
	}
	var evidence cause.Evidence
	var notes []string
	if evidence.Traces, evidence.Events, notes, err = folder.Evidence(); err != nil {
		return cannot(err)
	}
	for _, n := range notes {
		c.note("%s", n)
	}
	path := places.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	}
	if _, err := os.Stat(path); err == nil || len(c.Args) > 0 {
		l, err := c.loadFrom(path, false)
		if err != nil {
			return err
		}
		evidence.Site, evidence.Keys = l.Site, l.Keys
	}
	v := cause.Explain(evidence, symptom)
	switch {
	case !v.Found && *c.json:
		err = show.JSON(c.Out, v)
	case !v.Found:
		c.note("%s holds no such login; look at the names with: mellowgate ledger -state %s", dir, dir)
	case *c.json:
		return show.JSON(c.Out, v)
	default:
		printVerdict(c, v)
		return nil
	}
	if err != nil {
		return err
	}
	return errNo
}

// printVerdict prints the causes, and then the login as it went.
func printVerdict(c *Call, v cause.Verdict) {
	style := c.style()
	if v.Healthy {
		c.say("%s: %s\n", style.Paint(show.Good, "healthy"), storyLine(v.Story))
	}
	for i, found := range v.Causes {
		if i == 1 {
			c.say("\n%s\n", style.Paint(show.Strong, "and then:"))
		}
		c.say("%s: %s\n", style.Paint(show.Bad, found.Cause), found.Where)
		style.Wrap(c.Out, "  ", found.Says+fmt.Sprintf(" (%.0f %% sure; layer: %s)", 100*found.Confidence, found.Layer))
		for _, e := range found.Evidence {
			style.Item(c.Out, "  for      ", e)
		}
		for _, e := range found.Against {
			style.Item(c.Out, "  against  ", e)
		}
		style.Item(c.Out, "  repair   ", found.Repair)
	}
	if v.Story.Login == nil {
		return
	}
	if !v.Healthy {
		c.say("\n%s\n", style.Paint(show.Strong, "the login: "+storyLine(v.Story)))
	}
	printSteps(c, *v.Story.Login)
	for _, t := range v.Story.Commands {
		c.say("\n%s\n", style.Paint(show.Strong, fmt.Sprintf("then the command %q: refused", t.Command)))
		printSteps(c, t)
	}
	if v.LaterHealthy != nil {
		c.say("\na later login of the same kind, at %s, was healthy\n", v.LaterHealthy.Local().Format("15:04:05 MST"))
	}
}

// storyLine is a login in one line.
func storyLine(s cause.Story) string {
	line := fmt.Sprintf("%s at %s", s.Person, s.Device)
	if s.Access != "" {
		line += " by " + s.Access
	}
	line += ", " + s.Time.Local().Format("15:04:05 MST")
	switch {
	case s.Login == nil:
	case s.Login.Outcome == "in":
		line += fmt.Sprintf(": in at level %d by %s after %.1f s", s.Login.Level, s.Login.By, s.Login.Seconds)
	default:
		line += fmt.Sprintf(": refused after %.1f s", s.Login.Seconds)
	}
	return show.Safe(line)
}

// printSteps prints the steps of a login, the one that failed marked.
func printSteps(c *Call, t cause.Trace) {
	var rows [][]string
	for i, s := range t.Steps {
		mark := " "
		if t.Outcome == "refused" && i == len(t.Steps)-1 {
			mark = ">"
		}
		result := s.Result
		if s.Reason != "" {
			result += " (" + s.Reason + ")"
		}
		rows = append(rows, []string{mark + " " + s.Purpose, s.List, s.Method, result, fmt.Sprintf("%.1f s", s.Seconds), show.Safe(triesText(s))})
	}
	c.style().Table(c.Out, []string{"  purpose", "list", "method", "result", "took", "servers"}, rows, 5)
}

// triesText says what came of each server of a step.
func triesText(s cause.TraceStep) string {
	var parts []string
	for i, t := range s.Tries {
		if i+1 < len(s.Tries) && s.Tries[i+1].Server == t.Server {
			continue
		}
		word := t.Result
		if t.Result == "unavailable" {
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
