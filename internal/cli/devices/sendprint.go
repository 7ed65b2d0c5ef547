package devices

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/site"
	"mellowgate/internal/task/rollout"
)

// printPlan shows what would be changed on a device, and what is foreseen.
func printPlan(c *call.Call, f *sendFlags, s *job, p rollout.Plan) {
	style := c.Style()
	var out bytes.Buffer // in one piece: others may say something at the same time
	defer func() {
		if *c.AsJSON {
			_, _ = c.Err.Write(out.Bytes())
			return
		}
		_, _ = c.Out.Write(out.Bytes())
	}()
	_, _ = fmt.Fprintf(&out, "%s: %s\n", s.d.Name, show.Count(len(p.Differences), "difference"))
	for _, x := range p.Differences {
		style.Item(&out, "  - ", show.Safe(fmt.Sprintf("%s (%s)", x, x.Place)))
	}
	for _, text := range p.Stays {
		style.Item(&out, "  stays:       ", show.Safe(text))
	}
	for _, text := range p.NotCarried {
		style.Item(&out, "  not carried: ", text)
	}
	for _, text := range p.Notes {
		style.Item(&out, "  note:        ", show.Safe(text))
	}
	if p.WayBack != "" {
		style.Item(&out, "  way back:    ", p.WayBack)
	}
	if f.now != "" {
		style.Item(&out, "  who:         ", fmt.Sprintf("%s makes the change, %s proves it", f.now, s.t.Person))
	}
	s.foreseen.say(style, &out, s.t.Person, s.t.Access())
	if f.data {
		_, _ = fmt.Fprint(&out, show.Safe(p.Data))
	}
}

// say writes how whoever proves the change then gets in, and who does without any server.
func (f foreseen) say(style show.Style, w io.Writer, person, access string) {
	style.Item(w, "  foreseen:    ", fmt.Sprintf("%s by %s: %s", person, access, f.person.Summary()))
	silent := "nobody gets in with full rights"
	if len(f.silent) > 0 {
		silent = strings.Join(f.silent, "; ")
	}
	style.Item(w, "  foreseen:    ", "with every server silent: "+silent)
}

// tonesOfSent are the colours of outcomes.
var tonesOfSent = map[string]show.Tone{rollout.Kept: show.Good, rollout.Same: show.Good, rollout.TakenBack: show.Bad,
	rollout.Stopped: show.Bad, rollout.Unsure: show.Bad}

func printSent(c *call.Call, results []result, left []*site.Device) {
	style := c.Style()
	var rows [][]string
	for _, r := range results {
		rows = append(rows, []string{r.Device, style.Paint(tonesOfSent[r.Outcome], r.Outcome), show.Safe(r.Summary())})
	}
	if len(rows) > 0 {
		c.Say("\n")
		style.Table(c.Out, []string{"device", "outcome", ""}, rows, 2)
	}
	for _, r := range results {
		if len(r.Causes) == 0 && r.FailedLogin() != nil {
			c.Say("\n%s: look for the cause with: mellowgate why -device %s -person %s\n", r.Device, r.Device, r.Person)
		}
		for _, f := range r.Causes {
			c.Say("\n%s: %s: %s\n", r.Device, style.Paint(show.Bad, f.Cause), show.Safe(f.Where))
			style.Wrap(c.Out, "  ", show.Safe(f.Says))
			style.Item(c.Out, "  repair   ", show.Safe(f.Repair))
		}
	}
	if len(left) > 0 {
		c.Say("\nnot tried: %s; go on with -resume\n", strings.Join(deviceNames(left), ", "))
	}
}

// staleHolds says where the site still says that a device holds something else
// than the design, which is on it now.
func staleHolds(c *call.Call, l call.Loaded, results []result) error {
	truth, err := c.LoadFrom(l.Path, false)
	if err != nil {
		return err
	}
	for _, r := range results {
		if d := truth.Device(r.Device); d != nil && d.Found.Place.Known() &&
			(r.Outcome == rollout.Kept || r.Outcome == rollout.Same) {
			c.Say("%s: what found says in the site (%s) is not so any more: take that out\n", d.Name,
				truth.Where(d.Found.Place))
		}
	}
	return nil
}
