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
device, for every combination of servers up and silent that makes a difference. With -faults also for servers whose
port refuses, whose key differs, that do not know the device, or that say that they cannot answer.

Outcomes: in; low (in, below the level that the role promises); refused; open (in without valid credentials). In the
table, devices, ways in and people for whom a login goes the same share a row; "then" is a second login while servers
already rest. -json gives every case by itself, with its steps.

-matrix shows devices by outage: whether full rights are reached by people, by a local account only, on the console
only, or by nobody.

-compare BEFORE shows what changes for whom from the site BEFORE to this one. Exit status 1 when anyone with full
rights loses a way in, in any state.`,
		Examples: []Example{
			{"mellowgate foresee -device mv-avocet-rtr demo/as-reviewed", "one ship's router, in every outage"},
			{"mellowgate foresee -matrix demo/as-drafted", "where full rights are left, by device and outage"},
			{"mellowgate foresee -compare demo/as-drafted demo/as-reviewed", "what the review changes, and for whom"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			var f narrowing
			c.Flags.StringVar(&f.device, "device", "", "only this `device`")
			c.Flags.Var(&f.labels, "label", "only devices with this `LABEL=VALUE`; may be given several times")
			c.Flags.StringVar(&f.person, "person", "", "only this `name`: a person, a local account, unknown or anyone")
			c.Flags.StringVar(&f.through, "through", "", "only this `way` in: console, ssh, telnet, web, api or netconf")
			c.Flags.StringVar(&f.silent, "silent", "", "only the outage in which these `servers` are silent and all others up: tern,plover; none: all up")
			faults := c.Flags.Bool("faults", false, "every state of a server, not only up and silent")
			matrix := c.Flags.Bool("matrix", false, "devices by outage")
			before := c.Flags.String("compare", "", "what changes from the `site` given here to this one")
			return func() error {
				l, err := c.load(false)
				if err != nil {
					return err
				}
				r := l.reckoner()
				r.Faults = *faults
				switch {
				case *before != "" && (*matrix || *faults):
					return wrong("give one of -compare, -matrix and -faults")
				case *before != "":
					return c.compare(*before, l, f)
				case *matrix && (*faults || f.person != "" || f.through != "" || f.silent != ""):
					return wrong("-matrix shows every person, way in and outage; narrow it with -device or -label only")
				case *faults && f.silent != "":
					return wrong("-silent chooses one outage of servers up and silent, and -faults shows other states too; give one of them")
				}
				done := c.working(fmt.Sprintf("working out the logins of %s", show.Count(len(l.Devices), "device")))
				shapes, err := f.shapes(l, r)
				done()
				if err != nil {
					return err
				}
				switch {
				case *matrix && *c.json:
					return show.JSON(c.Out, matrixJSON(shapes))
				case *matrix:
					printMatrix(c.Out, c.style(), shapes)
				case *c.json:
					return show.JSON(c.Out, casesJSON(l.Site, shapes))
				default:
					printCases(c.Out, c.style(), shapes)
				}
				return nil
			}
		},
	}
}

// narrowing chooses some of the cases.
type narrowing struct {
	device, person, through, silent string
	labels                          names
}

// devices gives the devices that are chosen.
func (f narrowing) devices(l loaded) ([]*site.Device, error) {
	devices := l.Devices
	if f.device != "" {
		d, err := l.device(f.device)
		if err != nil {
			return nil, err
		}
		devices = []*site.Device{d}
	}
	for _, label := range f.labels {
		name, value, ok := strings.Cut(label, "=")
		if !ok {
			return nil, wrong("-label is %q; LABEL=VALUE is wanted, such as place=aboard", label)
		}
		devices = slices.DeleteFunc(slices.Clone(devices), func(d *site.Device) bool { return d.Labels[name] != value })
	}
	if len(devices) == 0 && len(f.labels) > 0 {
		return nil, wrong("no device of the site bears %s", strings.Join(f.labels, " and "))
	}
	return devices, nil
}

func (f narrowing) shapes(l loaded, r foresee.Reckoner) ([]foresee.Shape, error) {
	devices, err := f.devices(l)
	if err != nil {
		return nil, err
	}
	if f.through != "" && !slices.Contains(site.Accesses(), f.through) {
		return nil, wrong("there is no way in %q%s; they are %s", f.through, nearest.Suggest(f.through, site.Accesses()), strings.Join(site.Accesses(), ", "))
	}
	var silent map[*site.Server]bool
	if f.silent != "" {
		if silent, err = l.servers(strings.TrimPrefix(f.silent, "none")); err != nil {
			return nil, err
		}
	}
	known := f.person == ""
	shapes := r.Shapes(devices)
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
		style.Table(w, []string{"way in", "person", "when", "outcome", "level", "answered by", "wait", "then"}, b.rows, 0, 1, 2, 5)
	}
}

func caseRows(style show.Style, cases []foresee.Case) [][]string {
	var rows [][]string
	for _, r := range merge(cases) {
		c := r.example
		outcome := style.Paint(show.OutcomeTone(string(c.Outcome)), string(c.Outcome))
		rows = append(rows, []string{strings.Join(r.ways, ", "), strings.Join(r.people, ", "), r.when, outcome, levelText(c), byText(c), show.Seconds(c.Wait), againText(c)})
	}
	return rows
}

type mergedRow struct {
	example      foresee.Case
	ways, people []string
	when         string
	states       [][]string // of each server of example.When
}

// merge joins cases that differ in the person only, then rows that differ in
// the way in only, and then rows that differ in the states only, where these
// are all combinations of some states of each server.
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
		at[key] = &mergedRow{example: c, ways: []string{c.Way.Name()}, people: people, when: whenText(c), states: statesOf(c)}
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
	return mergeStates(rows)
}

// mergeStates joins rows whose states make a product, such as a server closed
// or in error, and another one up or silent.
func mergeStates(rows []*mergedRow) []*mergedRow {
	var groups [][]*mergedRow
	at := map[string]int{}
	for _, r := range rows {
		c := r.example
		key := fmt.Sprint(r.ways, r.people, c.Outcome, levelText(c), byText(c), c.Wait, againText(c))
		for _, w := range c.When {
			key += w.Server.Name + ","
		}
		i, known := at[key]
		if !known {
			i = len(groups)
			at[key] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], r)
	}
	var merged []*mergedRow
	for _, g := range groups {
		merged = append(merged, joinStates(g)...)
	}
	return merged
}

// joinStates joins rows that differ in the states of one server, again and
// again, until none do.
func joinStates(rows []*mergedRow) []*mergedRow {
	for i := 0; i < len(rows); i++ {
		for j := i + 1; j < len(rows); j++ {
			if rows[i].takeStates(rows[j]) {
				rows = slices.Delete(rows, j, j+1)
				i, j = -1, len(rows)
			}
		}
	}
	return rows
}

// takeStates adds the states of another row, where they differ in one server
// only.
func (r *mergedRow) takeStates(other *mergedRow) bool {
	at := -1
	for i := range r.states {
		if !slices.Equal(r.states[i], other.states[i]) {
			if at >= 0 {
				return false
			}
			at = i
		}
	}
	if at < 0 {
		return false
	}
	r.states[at] = append(slices.Clone(r.states[at]), other.states[at]...)
	var parts []string
	for i, w := range r.example.When {
		parts = append(parts, w.Server.Name+" "+orList(r.states[i]))
	}
	r.when = strings.Join(parts, "; ")
	return true
}

func orList(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// statesOf gives the state of each server of a case, as sets of one.
func statesOf(c foresee.Case) [][]string {
	states := make([][]string, len(c.When))
	for i, w := range c.When {
		states[i] = []string{string(w.State)}
	}
	return states
}

func outcomeKey(c foresee.Case) string {
	return fmt.Sprint(whenText(c), c.Outcome, levelText(c), byText(c), c.Wait, againText(c))
}

func whenText(c foresee.Case) string {
	when := make([]foresee.Named, len(c.When))
	for i, w := range c.When {
		when[i] = foresee.Named{Server: w.Server.Name, State: w.State}
	}
	return namedText(when)
}

// namedText puts states into words, those that are not up first.
func namedText(when []foresee.Named) string {
	var parts []string
	for _, state := range []foresee.State{foresee.Down, foresee.Closed, foresee.KeyDiffers, foresee.AskerUnknown, foresee.InError, foresee.Up} {
		var servers []string
		for _, w := range when {
			if w.State == state {
				servers = append(servers, w.Server)
			}
		}
		if len(servers) > 0 {
			parts = append(parts, strings.Join(servers, ", ")+" "+string(state))
		}
	}
	if len(parts) == 0 {
		return "always"
	}
	return strings.Join(parts, "; ")
}

func levelText(c foresee.Case) string {
	if c.Outcome == foresee.Refused {
		return "-"
	}
	text := fmt.Sprint(c.Level)
	if c.Raised > c.Level {
		text += fmt.Sprintf(" to %d", c.Raised)
	}
	if c.Stuck {
		text += " stuck"
	}
	return text
}

// againText is how a second login goes while servers rest, "" where it goes as
// the first.
func againText(c foresee.Case) string {
	switch {
	case c.Again == nil:
		return ""
	case c.Again.Outcome != c.Outcome || c.Again.Level != c.Level:
		return fmt.Sprintf("%s, %s", c.Again.Outcome, show.Seconds(c.Again.Wait))
	case c.Again.Wait == c.Wait:
		return ""
	}
	return show.Seconds(c.Again.Wait)
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

type againJSON struct {
	Outcome     string  `json:"outcome"`
	Level       int     `json:"level"`
	By          string  `json:"by"`
	Reason      string  `json:"reason"`
	WaitSeconds float64 `json:"wait_seconds"`
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
	Raised      int             `json:"raised_level"`
	Again       *againJSON      `json:"again"`
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
	j.Raised = c.Raised
	if a := c.Again; a != nil {
		j.Again = &againJSON{string(a.Outcome), a.Level, a.By, string(a.Reason), secondsOf(a.Wait)}
	}
	for _, w := range c.When {
		j.When = append(j.When, conditionJSON{w.Server.Name, string(w.State)})
	}
	for _, s := range c.Steps {
		j.Steps = append(j.Steps, stepJSON{s.Purpose.String(), s.Method.String(), string(s.Result), secondsOf(s.Took), string(s.Reason)})
	}
	return j
}

func secondsOf(d time.Duration) float64 { return d.Round(time.Millisecond).Seconds() }
