package foresee

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// StandingTone is the colour of each standing, and standingText what the legend
// says.
var StandingTone = map[foresee.Standing]show.Tone{foresee.ByPeople: show.Good, foresee.ByAccount: show.Careful,
	foresee.ByConsole: show.Careful,
	foresee.Nobody:    show.Bad, foresee.Ajar: show.Bad}

const StandingLegend = "people: people with full rights get in remotely; local: only a local account does; " +
	"console: full rights on the console only; nobody: nobody reaches full rights; open: anyone gets in"

// Columns returns the outages of the servers that matter to any of the shapes.
func Columns(shapes []foresee.Shape) []call.Column {
	var servers []*site.Server
	for _, sh := range shapes {
		for _, s := range sh.Servers() {
			if !slices.Contains(servers, s) {
				servers = append(servers, s)
			}
		}
	}
	slices.SortFunc(servers, func(a, b *site.Server) int {
		if a.Place.Before(b.Place) {
			return -1
		}
		return 1
	})
	var columns []call.Column
	for _, o := range foresee.Outages(servers) {
		var silent []string
		for _, s := range servers {
			if o[s] {
				silent = append(silent, s.Name)
			}
		}
		heading := strings.Join(silent, ", ")
		switch {
		case len(silent) == 0:
			heading = "all up"
		case len(silent) == len(servers) && len(servers) > 1:
			heading = "all silent"
		}
		columns = append(columns, call.Column{Outage: o, Heading: heading})
	}
	return columns
}

// printMatrix prints devices by outage; devices with the same row share it.
func printMatrix(w io.Writer, style show.Style, shapes []foresee.Shape) {
	columns := Columns(shapes)
	headings := []string{"silent:"}
	wrap := []int{0}
	for i, c := range columns {
		headings = append(headings, c.Heading)
		wrap = append(wrap, i+1)
	}
	var rows [][]string
	places := map[string]int{}
	for _, sh := range shapes {
		row, key := []string{""}, ""
		for _, c := range columns {
			s := sh.Standing(c.Outage)
			row = append(row, style.Paint(StandingTone[s], string(s)))
			key += string(s) + "|"
		}
		var devices []string
		for _, d := range sh.Devices {
			devices = append(devices, d.Name)
		}
		if i, known := places[key]; known {
			rows[i][0] += ", " + strings.Join(devices, ", ")
			continue
		}
		places[key] = len(rows)
		row[0] = strings.Join(devices, ", ")
		rows = append(rows, row)
	}
	for _, r := range rows {
		r[0] = call.FewNames(strings.Split(r[0], ", "))
	}
	style.Table(w, headings, rows, wrap...)
	_, _ = fmt.Fprintln(w)
	style.Wrap(w, "", StandingLegend)
}

type standingJSON struct {
	Device   string           `json:"device"`
	Silent   []string         `json:"silent"`
	Standing foresee.Standing `json:"standing"`
}

func matrixJSON(shapes []foresee.Shape) any {
	standings := []standingJSON{}
	for _, c := range Columns(shapes) {
		silent := []string{}
		for s := range c.Outage {
			silent = append(silent, s.Name)
		}
		slices.Sort(silent)
		for _, sh := range shapes {
			for _, d := range sh.Devices {
				standings = append(standings, standingJSON{
					Device: d.Name, Silent: silent, Standing: sh.Standing(c.Outage)})
			}
		}
	}
	return struct {
		Matrix []standingJSON `json:"matrix"`
	}{standings}
}

// printCompare prints what changes from another version of the site to this one.
func printCompare(c *call.Call, path string, l call.Loaded, f Narrowing) error {
	if f.silent != "" {
		return call.Usagef("-compare looks at every state; narrow it with -device, -label, -access or -person")
	}
	before, err := c.LoadFrom(path, false)
	if err != nil {
		return err
	}
	chosen, err := f.Devices(l)
	if err != nil && f.Device != "" {
		chosen, err = f.Devices(before) // it may be gone
	}
	if err != nil {
		return err
	}
	narrowed := f.Device != "" || len(f.Labels) > 0
	var changes []foresee.Change
	done := c.Working("comparing")
	all := foresee.Compare(before.Reckoner(), l.Reckoner())
	done()
	for _, ch := range all {
		if narrowed {
			ch.Devices = slices.DeleteFunc(slices.Clone(ch.Devices), func(name string) bool {
				return !slices.ContainsFunc(chosen, func(d *site.Device) bool { return d.Name == name })
			})
		}
		if f.Person != "" {
			ch.People = slices.DeleteFunc(slices.Clone(ch.People), func(name string) bool { return name != f.Person })
		}
		access, _, _ := strings.Cut(ch.Way, " ")
		if len(ch.Devices) > 0 && len(ch.People) > 0 && (f.Access == "" || f.Access == access) {
			changes = append(changes, ch)
		}
	}
	loses := slices.ContainsFunc(changes, func(ch foresee.Change) bool { return ch.Loses })
	if *c.AsJSON {
		err = show.JSON(c.Out, changesJSON(changes))
	} else {
		printChanges(c.Out, c.Style(), changes)
	}
	if err == nil && loses {
		return call.ErrVerdict
	}
	return err
}

func printChanges(w io.Writer, style show.Style, changes []foresee.Change) {
	if len(changes) == 0 {
		style.Wrap(w, "", "nothing changes for anybody, in any state")
		return
	}
	losing := 0
	shorter := 0
	longer := 0
	last := ""
	var rows [][]string
	flush := func() {
		if len(rows) > 0 {
			style.Wrap(w, "", style.Paint(show.Strong, last))
			style.Table(w, []string{"access", "person", "when", "before", "after"}, rows, 0, 1, 2, 3, 4)
			_, _ = fmt.Fprintln(w)
		}
		rows = nil
	}
	places := map[string]int{}
	for _, ch := range changes {
		if ch.WaitOnly() {
			if n := len(ch.Devices) * len(ch.People); ch.Before.Wait < ch.After.Wait {
				longer += n
			} else {
				shorter += n
			}
			continue
		}
		devices := call.FewNames(ch.Devices)
		if devices != last {
			flush()
			last, places = devices, map[string]int{}
		}
		row := []string{ch.Way, call.FewNames(ch.People), call.NamedText(ch.When), summaryOf(ch.Before),
			summaryOf(ch.After)}
		if ch.Loses {
			losing++
			row[4] = style.Paint(show.Bad, row[4]+" (loses full rights)")
		}
		key := strings.Join(row[1:], "|")
		if i, known := places[key]; known { // ways in that change alike
			rows[i][0] += ", " + ch.Way
			continue
		}
		places[key] = len(rows)
		rows = append(rows, row)
	}
	flush()
	if shorter+longer > 0 {
		style.Wrap(w, "", fmt.Sprintf("in %s only the wait changes: %d shorter, %d longer; -json has them",
			show.Count(shorter+longer, "login"), shorter, longer))
	}
	if losing == 0 {
		style.Wrap(w, "", style.Paint(show.Good, "nobody with full rights loses a way in"))
		return
	}
	style.Wrap(w, "", style.Paint(show.Bad, "somebody with full rights loses a way in: see the rows that say so"))
}

func summaryOf(c *foresee.Case) string {
	if c == nil {
		return "not there"
	}
	return c.Summary()
}

type changeJSON struct {
	Devices []string        `json:"devices"`
	Access  string          `json:"access"`
	People  []string        `json:"people"`
	When    []conditionJSON `json:"when"`
	Before  *caseJSON       `json:"before"`
	After   *caseJSON       `json:"after"`
	Loses   bool            `json:"loses"`
}

func changesJSON(changes []foresee.Change) any {
	shownChanges := []changeJSON{}
	one := func(c *foresee.Case) *caseJSON {
		if c == nil {
			return nil
		}
		j := caseOf(*c)
		return &j
	}
	for _, ch := range changes {
		j := changeJSON{Devices: ch.Devices, Access: ch.Way, People: ch.People, When: []conditionJSON{},
			Before: one(ch.Before), After: one(ch.After), Loses: ch.Loses}
		for _, n := range ch.When {
			j.When = append(j.When, conditionJSON{Server: n.Server, State: string(n.State)})
		}
		shownChanges = append(shownChanges, j)
	}
	return struct {
		Changes []changeJSON `json:"changes"`
	}{shownChanges}
}
