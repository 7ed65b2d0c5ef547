package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
)

func foreseeCommand() *Command {
	return &Command{
		Name: "foresee", Args: "[SITE]", Short: "who gets in, at what level, by whom and after how long, in every outage",
		Long: `Works out every login of every person, local account, unknown name and wrong password, at every way in of every
device, for every combination of servers up and silent that makes a difference.

Outcomes: in; low (in, below the level that the role promises); refused; open (in without valid credentials). In the
table, devices, ways in and people for whom a login goes the same share a row; -json gives every case by itself, with
its steps.`,
		Examples: []Example{
			{"mellowgate foresee -device mv-avocet-rtr demo/as-reviewed", "one ship's router, in every outage"},
			{"mellowgate foresee -silent tern,plover -person ines.marsh demo/as-reviewed", "where one person still gets in when two servers are silent"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			var f narrowing
			c.Flags.StringVar(&f.device, "device", "", "only this `device`")
			c.Flags.StringVar(&f.person, "person", "", "only this `name`: a person, a local account, unknown or anyone")
			c.Flags.StringVar(&f.through, "through", "", "only this `way` in: console, ssh, telnet, web or api")
			c.Flags.StringVar(&f.silent, "silent", "", "only the outage in which these `servers` are silent and all others up: tern,plover; none: all up")
			return func() error {
				l, err := c.load(false)
				if err != nil {
					return err
				}
				shapes, err := f.shapes(l)
				if err != nil {
					return err
				}
				if *c.json {
					return show.JSON(c.Out, casesJSON(l.Site, shapes))
				}
				printCases(c.Out, c.style(), shapes)
				return nil
			}
		},
	}
}

// narrowing chooses some of the cases.
type narrowing struct{ device, person, through, silent string }

func (f narrowing) shapes(l loaded) ([]foresee.Shape, error) {
	devices := l.Devices
	if f.device != "" {
		d, err := l.device(f.device)
		if err != nil {
			return nil, err
		}
		devices = []*site.Device{d}
	}
	if f.through != "" && !slices.Contains(site.Accesses(), f.through) {
		return nil, wrong("there is no way in %q%s; they are %s", f.through, nearest.Suggest(f.through, site.Accesses()), strings.Join(site.Accesses(), ", "))
	}
	var silent map[*site.Server]bool
	if f.silent != "" {
		var err error
		if silent, err = l.servers(strings.TrimPrefix(f.silent, "none")); err != nil {
			return nil, err
		}
	}
	known := f.person == ""
	shapes := l.reckoner().Shapes(devices)
	for i := range shapes {
		if f.person != "" {
			var of []foresee.Case
			for _, c := range shapes[i].Cases {
				for _, who := range c.Alike {
					if who.Name == f.person {
						known = true
						c.Who, c.Alike = who, []foresee.Who{who}
						of = append(of, c)
					}
				}
			}
			shapes[i].Cases = of
		}
		shapes[i].Cases = slices.DeleteFunc(slices.Clone(shapes[i].Cases), func(c foresee.Case) bool {
			return f.through != "" && c.Way.Access != f.through || silent != nil && !c.Holds(silent)
		})
	}
	if !known {
		return nil, wrong("nobody is called %q: no person, and no local account of these devices%s", f.person, nearest.Suggest(f.person, everybody(l.Site)))
	}
	return shapes, nil
}

func everybody(s *site.Site) []string {
	names := []string{"unknown", "anyone"}
	for _, p := range s.People {
		names = append(names, p.Name)
	}
	for _, a := range s.Accounts {
		names = append(names, a.Name)
	}
	return names
}

// printCases prints a table for each device. Devices whose tables are the same
// share one; rows that differ in person or way in only are one row.
func printCases(w io.Writer, style show.Style, shapes []foresee.Shape) {
	type block struct {
		devices []string
		rows    [][]string
	}
	var blocks []*block
	at := map[string]*block{}
	for _, sh := range shapes {
		if len(sh.Cases) == 0 {
			continue
		}
		rows := caseRows(style, sh.Cases)
		key := fmt.Sprint(rows)
		if at[key] == nil {
			at[key] = &block{rows: rows}
			blocks = append(blocks, at[key])
		}
		for _, d := range sh.Devices {
			at[key].devices = append(at[key].devices, d.Name)
		}
	}
	for i, b := range blocks {
		if i > 0 {
			_, _ = fmt.Fprintln(w)
		}
		style.Wrap(w, "", style.Paint(show.Strong, strings.Join(b.devices, ", ")))
		style.Table(w, []string{"way in", "person", "when", "outcome", "level", "answered by", "wait"}, b.rows, 0, 1, 2)
	}
}

func caseRows(style show.Style, cases []foresee.Case) [][]string {
	var rows [][]string
	for _, r := range merge(cases) {
		c := r.example
		outcome := style.Paint(show.OutcomeTone(string(c.Outcome)), string(c.Outcome))
		rows = append(rows, []string{strings.Join(r.ways, ", "), strings.Join(r.people, ", "), whenText(c), outcome, levelText(c), byText(c), show.Seconds(c.Wait)})
	}
	return rows
}

type mergedRow struct {
	example      foresee.Case
	ways, people []string
}

// merge joins cases that differ in the person only, and then rows that differ
// in the way in only.
func merge(cases []foresee.Case) []*mergedRow {
	var byPerson, rows []*mergedRow
	at := map[string]*mergedRow{}
	for _, c := range cases {
		key := c.Way.Name() + "|" + outcomeKey(c)
		var people []string
		for _, who := range c.Alike {
			people = append(people, who.Name)
		}
		if r, ok := at[key]; ok {
			r.people = append(r.people, people...)
			continue
		}
		at[key] = &mergedRow{example: c, ways: []string{c.Way.Name()}, people: people}
		byPerson = append(byPerson, at[key])
	}
	at = map[string]*mergedRow{}
	for _, r := range byPerson {
		key := strings.Join(r.people, ",") + "|" + outcomeKey(r.example)
		if have, ok := at[key]; ok {
			have.ways = append(have.ways, r.ways...)
			continue
		}
		at[key] = r
		rows = append(rows, r)
	}
	return rows
}

func outcomeKey(c foresee.Case) string {
	return fmt.Sprint(whenText(c), c.Outcome, c.Level, byText(c), c.Wait, c.Stuck)
}

func whenText(c foresee.Case) string {
	silent, up := c.Split()
	switch {
	case len(silent) == 0 && len(up) == 0:
		return "always"
	case len(silent) == 0:
		return strings.Join(up, ", ") + " up"
	case len(up) == 0:
		return strings.Join(silent, ", ") + " silent"
	}
	return strings.Join(silent, ", ") + " silent; " + strings.Join(up, ", ") + " up"
}

func levelText(c foresee.Case) string {
	if c.Outcome == foresee.Refused {
		return "-"
	}
	text := fmt.Sprint(c.Level)
	if c.Stuck {
		text += " stuck"
	}
	return text
}

func byText(c foresee.Case) string {
	if c.By == "" {
		return "nobody (" + string(c.Reason) + ")"
	}
	if c.Outcome == foresee.Refused && c.Reason != "" && c.Reason != "refused-by-server" {
		return c.By + " (" + string(c.Reason) + ")"
	}
	return c.By
}

type stepJSON struct {
	Purpose string  `json:"purpose"`
	Method  string  `json:"method"`
	Result  string  `json:"result"`
	Seconds float64 `json:"seconds"`
	Reason  string  `json:"reason"`
}

type conditionJSON struct {
	Server string `json:"server"`
	State  string `json:"state"`
}

type caseJSON struct {
	Device      string          `json:"device"`
	Access      string          `json:"access"`
	Person      string          `json:"person"`
	When        []conditionJSON `json:"when"`
	Outcome     string          `json:"outcome"`
	Level       int             `json:"level"`
	By          string          `json:"by"`
	Reason      string          `json:"reason"`
	Stuck       bool            `json:"stuck"`
	WaitSeconds float64         `json:"wait_seconds"`
	Steps       []stepJSON      `json:"steps"`
}

func casesJSON(s *site.Site, shapes []foresee.Shape) any {
	cases := []caseJSON{}
	at := map[*site.Device]int{}
	for i, d := range s.Devices {
		at[d] = i
	}
	type one struct {
		device int
		c      foresee.Case
	}
	var all []one
	for _, sh := range shapes {
		for _, d := range sh.Devices {
			for _, c := range sh.For(d) {
				all = append(all, one{at[d], c})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b one) int { return a.device - b.device })
	for _, o := range all {
		cases = append(cases, caseOf(o.c))
	}
	return struct {
		Cases []caseJSON `json:"cases"`
	}{cases}
}

func caseOf(c foresee.Case) caseJSON {
	j := caseJSON{Device: c.Device.Name, Access: c.Way.Name(), Person: c.Who.Name, When: []conditionJSON{}, Outcome: string(c.Outcome),
		Level: c.Level, By: c.By, Reason: string(c.Reason), Stuck: c.Stuck, WaitSeconds: secondsOf(c.Wait), Steps: []stepJSON{}}
	for _, w := range c.When {
		j.When = append(j.When, conditionJSON{w.Server.Name, string(w.State)})
	}
	for _, s := range c.Steps {
		j.Steps = append(j.Steps, stepJSON{s.Purpose.String(), s.Method.String(), string(s.Result), secondsOf(s.Took), string(s.Reason)})
	}
	return j
}

func secondsOf(d time.Duration) float64 { return d.Round(time.Millisecond).Seconds() }
