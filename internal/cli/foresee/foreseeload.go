package foresee

import (
	"fmt"
	"io"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/load"
	"mellowgate/internal/core/site"
)

// What a service was measured to take on two cores (docs/performance.md): questions a
// second that are each kept on disk before they are answered, and logins a second whose
// password has to be compared with its hash because nobody with that name has logged in
// since the service started.
const (
	serveTakes     = 16_000.0
	serveTakesCold = 60.0
)

type loadJSON struct {
	People   int              `json:"people"`
	Devices  int              `json:"devices"`
	Left     int              `json:"devices_without"`
	PerDay   ratesJSON        `json:"rates"`
	Servers  []serverLoadJSON `json:"servers"`
	Takes    float64          `json:"serve_takes_questions"`
	TakeCold float64          `json:"serve_takes_first_logins"`
}

type ratesJSON struct {
	Logins          int `json:"logins"`
	Commands        int `json:"commands"`
	Hours           int `json:"hours"`
	Busiest         int `json:"busiest_minute"`
	ProgramLogins   int `json:"program_logins"`
	ProgramCommands int `json:"program_commands"`
	AfterAnOutage   int `json:"after_an_outage"`
}

type serverLoadJSON struct {
	Server      string  `json:"server"`
	Devices     int     `json:"devices"`
	Day         float64 `json:"usual_day"`
	Busiest     float64 `json:"busiest_minute"`
	AfterOutage float64 `json:"after_an_outage"`
	Alone       float64 `json:"alone"`
	LoginsAlone float64 `json:"logins_alone"`
	Share       float64 `json:"share"`
	Questions   float64 `json:"questions_a_year"`
	Records     float64 `json:"records_a_year"`
	Octets      float64 `json:"octets_a_year"`
}

func loadOf(r load.Report, rates site.Rates) loadJSON {
	j := loadJSON{People: r.People, Devices: r.Devices, Left: r.Left, Servers: []serverLoadJSON{}, Takes: serveTakes,
		TakeCold: serveTakesCold, PerDay: ratesJSON{Logins: rates.Logins, Commands: rates.Commands, Hours: rates.Hours,
			Busiest: rates.Busiest, ProgramLogins: rates.ProgramLogins, ProgramCommands: rates.ProgramCommands,
			AfterAnOutage: rates.AfterAnOutage}}
	for _, s := range r.Servers {
		j.Servers = append(j.Servers, serverLoadJSON{Server: s.Server.Name, Devices: s.Devices, Day: s.Day,
			Busiest: s.Busiest, AfterOutage: s.AfterOutage, Alone: s.Alone, LoginsAlone: s.LoginsAlone,
			Share: max(s.Alone/serveTakes, s.LoginsAlone/serveTakesCold), Questions: s.InAYear.All(),
			Records: s.InAYear.Records + s.InAYear.Logins, Octets: s.OctetsOfAYear})
	}
	return j
}

// servers prints how much each server is asked by the devices that are chosen.
func servers(c *call.Call, l call.Loaded, r foresee.Forecaster, f Narrowing) error {
	devices, err := f.Devices(l)
	if err != nil {
		return err
	}
	report := load.Of(r, devices)
	if *c.AsJSON {
		return show.JSON(c.Out, loadOf(report, l.Rates))
	}
	printLoad(c.Out, c.Style(), loadOf(report, l.Rates), report.Estimated)
	return nil
}

// printLoad prints what each server is asked, and what was taken for it.
func printLoad(w io.Writer, style show.Style, j loadJSON, estimated bool) {
	var rows [][]string
	var full []string
	for _, s := range j.Servers {
		rows = append(rows, []string{s.Server, fmt.Sprint(s.Devices), perSecond(s.Day), perSecond(s.Busiest),
			perSecond(s.AfterOutage), perSecond(s.Alone), fmt.Sprintf("%.1f %%", 100*s.Share), amount(s.Records),
			octets(s.Octets)})
		if s.Share > 0.5 {
			full = append(full, s.Server)
		}
	}
	style.Table(w, []string{"server", "devices", "usual day", "busiest minute", "after an outage", "alone then",
		"of what serve takes", "records a year", "disk a year"}, rows, 0)
	people := fmt.Sprintf("%d people", j.People)
	if estimated {
		people += " (those of the site who have a grant; people of a directory are not counted: rates: {people: N} " +
			"says how many there are)"
	}
	p := j.PerDay
	style.Wrap(w, "", fmt.Sprintf("\nQuestions a second. Taken: %s, each with %s and %s in each, within %s; the "+
		"busiest minute has %d times their mean. Programs log in on each of %s %s in 24 hours, with %s. In the "+
		"minute after an outage everybody logs in %s, and every program once. rates in the site file says "+
		"other numbers.", people,
		show.Count(p.Logins, "login"), show.Count(p.Commands, "command"), show.Count(p.Hours, "hour"), p.Busiest,
		show.Count(j.Devices, "device"), call.Times(p.ProgramLogins), show.Count(p.ProgramCommands, "command"),
		call.Times(p.AfterAnOutage)))
	style.Wrap(w, "", fmt.Sprintf("\n\"alone then\" is that minute while every other server stays silent. serve "+
		"was measured to take %.0f questions a second that are each kept on disk, and %.0f first logins a second, "+
		"whose password is compared with its hash (two cores; docs/performance.md): the share is that of the "+
		"scarcer one.",
		j.Takes, j.TakeCold))
	if j.Left > 0 {
		style.Wrap(w, "", fmt.Sprintf("\nAt %s nobody gets in by a server: they are left out.",
			show.Count(j.Left, "device")))
	}
	if len(full) > 0 {
		style.Wrap(w, "", fmt.Sprintf("\nNear the limit after an outage: %s. Give the host more cores, or the "+
			"group one server more. Until all are in, logins wait in turn.", strings.Join(full, ", ")))
	}
}

func perSecond(n float64) string {
	switch {
	case n >= 100:
		return fmt.Sprintf("%.0f/s", n)
	case n >= 0.01 || n == 0:
		return fmt.Sprintf("%.2g/s", n)
	}
	return "< 0.01/s"
}

// amount is a number to two or three figures.
func amount(n float64) string {
	switch {
	case n >= 1e6:
		return fmt.Sprintf("%.1f million", n/1e6)
	case n >= 1000:
		return fmt.Sprintf("%.0f thousand", n/1000)
	}
	return fmt.Sprintf("%.0f", n)
}

func octets(n float64) string {
	switch {
	case n >= 1e9:
		return fmt.Sprintf("%.1f GB", n/1e9)
	case n >= 1e6:
		return fmt.Sprintf("%.0f MB", n/1e6)
	}
	return fmt.Sprintf("%.0f kB", n/1e3)
}
