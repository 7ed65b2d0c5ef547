package check

import (
	"fmt"
	"io"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
)

// explainFinding prints the page of a finding, or the list of them.
func explainFinding(c *call.Call, code string) error {
	style := c.Style()
	if code == "all" {
		var rows [][]string
		for _, p := range findings.Pages() {
			rows = append(rows, []string{p.Code, style.Paint(call.SeverityTone[p.Severity], string(p.Severity)),
				p.About})
		}
		style.Table(c.Out, []string{"finding", "severity", "what it means"}, rows, 2)
		return nil
	}
	if now, renamed := site.CurrentWord(code); renamed {
		c.Say("%s is now called %s.\n", code, now)
		if _, finding := findings.PageOf(now); !finding {
			c.Say("It is a word of the site file: docs/site-file.md. mellowgate migrate writes it into a site.\n")
			return nil
		}
		c.Say("\n")
		code = now
	}
	p, known := findings.PageOf(code)
	if !known {
		var codes []string
		for _, p := range findings.Pages() {
			codes = append(codes, p.Code)
		}
		return call.Usagef("there is no finding %q%s\ncheck -explain all lists them", code,
			nearest.Suggest(code, codes))
	}
	c.Say("%s  %s\n\n", style.Paint(show.Strong, p.Code),
		style.Paint(call.SeverityTone[p.Severity], string(p.Severity)))
	style.Wrap(c.Out, "", p.About)
	if p.Good == "" {
		c.Say("\nIt is found with %s.\n", p.Outside)
	} else {
		c.Say("\nIt is found here:\n    %s\nand not here:\n    %s\n", indented(p.Shows), indented(p.Good))
	}
	c.Say("\nTo keep it and not be told of it again, with the reason, in the site file:\n    accept: [{code: %s, "+
		"why: \"...\", until: 2027-12-31}]\n", p.Code)
	return nil
}

func indented(text string) string { return strings.ReplaceAll(text, "\n", "\n    ") }

// printDefaults prints what holds on devices and was not written there: lists
// that come from the device-wide defaults, keys of profiles, and unsaid values
// of servers.
func printDefaults(w io.Writer, style show.Style, l call.Loaded) {
	var rows [][]string
	for _, s := range l.Servers {
		port := fmt.Sprintf("port %d", s.Port)
		if s.TwoPorts() {
			port = fmt.Sprintf("ports %d and %d", s.AuthenticationPort, s.AccountingPort)
		}
		rest := "never rests"
		if s.DeadTime > 0 {
			rest = "rests " + s.DeadTime.String()
		}
		rows = append(rows, []string{s.Name, string(s.Protocol), port, "waits " + s.Timeout.String(),
			show.Count(s.Attempts, "try"), rest})
	}
	style.Table(w, []string{"server", "protocol", "asked at", "timeout", "attempts", "dead-time"}, rows)
	_, _ = fmt.Fprintln(w)
	style.Table(w, []string{"devices", "access", "because of", "holds"}, defaultRows(l.Devices), 0, 1, 2, 3)
}

// defaultRows returns a row for each set of devices, ways in and origin.
func defaultRows(devices []*site.Device) [][]string {
	type line struct{ device, way, from, holds string }
	var lines []line
	for _, d := range devices {
		for _, way := range d.Ways {
			places := map[string]int{}
			for p := range site.PurposeCount {
				text, from := appliedBy(d, way, p)
				if text == "" {
					continue
				}
				text = p.String() + ": " + text
				if i, known := places[from]; known {
					lines[i].holds += ", " + text
					continue
				}
				places[from] = len(lines)
				lines = append(lines, line{device: d.Name, way: way.Name(), from: from, holds: text})
			}
		}
	}
	var rows [][]string
	indexOf := map[string]int{}
	join := func(key string, row []string, column int) {
		if i, known := indexOf[key]; known {
			rows[i][column] += ", " + row[column]
			return
		}
		indexOf[key] = len(rows)
		rows = append(rows, row)
	}
	for _, l := range lines { // one device's ways alike, and then devices alike
		join(l.device+"|"+l.from+"|"+l.holds, []string{l.device, l.way, l.from, l.holds}, 1)
	}
	single := rows
	rows, indexOf = nil, map[string]int{}
	for _, r := range single {
		join(strings.Join(r[1:], "|"), r, 0)
	}
	for _, r := range rows {
		r[0] = call.FewNames(strings.Split(r[0], ", "))
	}
	return rows
}

// appliedBy says what holds for a purpose without being named at the way in,
// and where that comes from.
func appliedBy(d *site.Device, w *site.Way, p site.Purpose) (text, from string) {
	switch w.Origins[p] {
	case site.Default:
		where := "the device"
		if d.Own.Defaults[p].Name == "" {
			where = "the profile " + d.Profile.Name
		}
		return w.Lists[p].Name, "defaults of " + where
	case site.BuiltIn:
		return string(d.Platform.Behaviour.BuiltInLogin), "built into the platform " + d.Platform.Name
	case site.Unobeyed:
		return "nothing", "the platform " + d.Platform.Name + " does not obey authorization on the console"
	}
	return "", ""
}
