// Package check has the command check, and its findings in the forms of other programs.
package check

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/sitefile"
)

func Command() *call.Command {
	return &call.Command{
		Computes: true,
		Name:     "check", Args: "[SITE]", Short: "is the design safe? every way to be locked out, or to let anyone in",
		Long: `Reads the site, works out every login in every outage, and reports what would lock people out,
what would let anyone in, and what is weak, each with the place in the file and the repair.

A finding about who gets in is proven by a case that was worked out, never by a pattern. One that holds for many
devices is printed once; findings of one cause are one. The site silences a finding with accept, for a reason.
Exit status 1 when there is an error among the findings.

With -read TEXT it checks what a device has saved of itself, by the phrasebook of its make: alone, or in the place of
the device in SITE. Only what holds for that device is then said. Where not all of the text was understood nothing is
proven, and the exit status is 1.

Behaviour of a platform that the site does not say is not known: where one of its values would lock somebody out
or let somebody in, that is a finding (depends-on-behaviour). -assume leaves these out.

-format sarif is for programs that show findings beside a file (OASIS SARIF 2.1.0), -format junit for those that show
tests, where an error is a failure, and -format annotations for a CI that shows a line of output at its place in a file.

With -explain CODE it prints the page of one finding, with -explain all the list of them, and with -explain
defaults what was applied to each device by default, and from which profile.`,
		Examples: []call.Example{
			{Call: "mellowgate check demo/as-drafted", Shows: "the mistakes of the demo's first draft"},
			{Call: "mellowgate check -read demo/saved/south-sw-1.txt -book demo/phrasebooks/quay-switch.yaml",
				Shows: "what is wrong with what a device has saved"},
			{Call: "mellowgate check -explain gives-up-first", Shows: "what one finding means"},
			{Call: "mellowgate check -explain defaults demo/as-reviewed",
				Shows: "the defaults that apply though nobody wrote them"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			read := texts.ReadingFlags(c)
			device := c.Flags.String("device", "", "with -read: the `device` of SITE whose place the text takes")
			format := c.Flags.String("format", "",
				"print the findings in a `format` that other programs read: sarif, junit or annotations")
			table := c.Flags.Bool("csv", false, "print comma-separated values, with a line of names first")
			explain := c.Flags.String("explain", "",
				"print the page of the finding `CODE`; all: the list; defaults: what was applied by default")
			assume := AssumeFlag(c)
			refresh := c.Flags.Bool("refresh", false,
				"first run the programs that the site has its devices from (devices-from: run)")
			return func() error {
				switch {
				case *format != "" && !slices.Contains(findingFormats, *format):
					return call.Usagef("there is no format %q%s\nthe formats are %s", *format,
						nearest.Suggest(*format, findingFormats),
						strings.Join(findingFormats, ", "))
				case (*format != "" || *table) && (*c.AsJSON || *explain != "") || *format != "" && *table:
					return call.Usagef("give one of -json, -csv, -format and -explain")
				}
				if *explain != "" && *c.AsJSON {
					return call.Usagef("-explain prints a page to read, and has no JSON: give one of the two")
				}
				if *explain != "" && *explain != "defaults" {
					return explainFinding(c, *explain)
				}
				if *device != "" && read.Text == "" {
					return call.Usagef("-device is for -read TEXT: the device whose place the text takes; foresee " +
						"-device shows one device")
				}
				if *refresh {
					if err := c.Refresh(); err != nil {
						return err
					}
				}
				l, one, err := texts.LoadReading(c, read, *device)
				if err != nil {
					return err
				}
				if *explain == "defaults" {
					printDefaults(c.Out, c.Style(), l)
					return nil
				}
				report := Check(c, l, one, *assume)
				switch {
				case *format != "":
					err = printFindings(c.Out, *format, reportJSON(l.Site, report))
				case *table:
					err = findingsCSV(c.Out, reportJSON(l.Site, report))
				case *c.AsJSON:
					err = show.JSON(c.Out, reportJSON(l.Site, report))
				default:
					printReport(c.Out, c.Style(), l.Site, report)
					texts.TellInPart(c, read)
				}
				if err == nil && (report.Count(findings.Error) > 0 || read.InPart) {
					return call.ErrVerdict
				}
				return err
			}
		},
	}
}

// Check finds everything in a site, or what holds for one device of it, and notes what could
// not be tried.
func Check(c *call.Call, l call.Loaded, device *site.Device, assume bool) findings.Report {
	facts, untried := sitefile.Facts(c.Context, l.Site, l.Base, func(text string) { c.Note("%s", text) })
	if len(untried) > 0 {
		c.Note("not all easy passwords were tried for %s: the hashes take too long", strings.Join(untried, ", "))
	}
	defer c.Working(fmt.Sprintf("working out the logins of %s", show.Count(len(l.Devices), "device")))()
	facts.Only = device
	r := l.Reckoner()
	r.Assume = assume
	return findings.Check(r, facts)
}

// AssumeFlag is of the commands that say what depends on an aspect that is not known.
func AssumeFlag(c *call.Call) *bool {
	return c.Flags.Bool("assume", false,
		"take behaviour that a platform does not say for what the open standards give, or the safe side, and say "+
			"no more "+
			"of them")
}

// printReport prints findings for a person, errors first.
func printReport(w io.Writer, style show.Style, s *site.Site, r findings.Report) {
	const indent = "         "
	for _, f := range r.Findings {
		place, between := s.Where(f.Place), "  "
		if style.Width > 0 && len(indent+f.Code+between+place) > style.Width { // neither is ever cut
			between = "\n" + indent
		}
		_, _ = fmt.Fprintf(w, "%s  %s%s%s\n", style.Paint(
			call.SeverityTone[f.Severity], fmt.Sprintf("%-7s", f.Severity)),
			style.Paint(show.Strong, f.Code), between, style.Paint(show.Faint, place))
		style.Wrap(w, indent, f.Text)
		if on := HoldsFor(f); on != "" {
			style.Wrap(w, indent, "holds for: "+on)
		}
		style.Wrap(w, indent, "repair: "+f.Repair)
		_, _ = fmt.Fprintln(w)
	}
	style.Wrap(w, "", ReportSummary(r))
}

// ReportSummary is the last line of a report: what was found, or proven.
func ReportSummary(r findings.Report) string {
	scope := fmt.Sprintf("%s, %s in, %s, %s worked out", show.Count(r.Proven.Devices, "device"),
		waysText(r.Proven.Ways),
		show.Count(r.Proven.States, "state"), show.Count(r.Proven.Cases, "login"))
	if r.Proven.Devices == 0 {
		return fmt.Sprintf("the site has no device, so nothing is proven about who gets in; %s",
			show.Count(len(r.Findings), "other finding"))
	}
	if r.Accepted > 0 {
		scope += ", " + show.Count(r.Accepted, "finding") + " accepted by the site"
	}
	if len(r.Findings) == 0 {
		return "nothing found: " + scope + "; nobody is locked out, and nobody is let in without valid credentials"
	}
	return fmt.Sprintf("%s, %s, %s (%s)", show.Count(r.Count(findings.Error), "error"),
		show.Count(r.Count(findings.Warning), "warning"),
		show.Count(r.Count(findings.Note), "note"), scope)
}

func waysText(n int) string {
	if n == 1 {
		return "1 way"
	}
	return fmt.Sprintf("%d ways", n)
}

// HoldsFor names the devices and ways in of a finding.
func HoldsFor(f findings.Finding) string {
	const most = 6
	names := make([]string, 0, most)
	for i, d := range f.Devices {
		if i == most {
			names = append(names, fmt.Sprintf("%d more", len(f.Devices)-most))
			break
		}
		names = append(names, d.Name)
	}
	text := strings.Join(names, ", ")
	if len(f.Access) > 0 {
		text += " by " + strings.Join(f.Access, ", ")
	}
	return text
}

type findingJSON struct {
	Code     string            `json:"code"`
	Severity findings.Severity `json:"severity"`
	Device   string            `json:"device"`
	Devices  []string          `json:"devices"`
	Access   string            `json:"access"`
	Accesses []string          `json:"accesses"`
	File     string            `json:"file"`
	Line     int32             `json:"line"`
	Column   int32             `json:"column"`
	Text     string            `json:"text"`
	Repair   string            `json:"repair"`
}

type checkJSON struct {
	Findings []findingJSON `json:"findings"`
	Errors   int           `json:"errors"`
	Warnings int           `json:"warnings"`
	Notes    int           `json:"notes"`
	Accepted int           `json:"accepted"`
	Devices  int           `json:"devices"`
	Ways     int           `json:"ways"`
	States   int           `json:"states"`
	Logins   int           `json:"logins"`
}

func reportJSON(s *site.Site, r findings.Report) checkJSON {
	out := checkJSON{Findings: []findingJSON{}, Errors: r.Count(findings.Error), Warnings: r.Count(findings.Warning),
		Notes:   r.Count(findings.Note),
		Devices: r.Proven.Devices, Ways: r.Proven.Ways, States: r.Proven.States, Accepted: r.Accepted,
		Logins: r.Proven.Cases}
	for _, f := range r.Findings {
		j := findingJSON{Code: f.Code, Severity: f.Severity, Devices: []string{}, Accesses: slices.Clone(f.Access),
			Line: f.Place.Line, Column: f.Place.Column, Text: f.Text, Repair: f.Repair}
		for _, d := range f.Devices {
			j.Devices = append(j.Devices, d.Name)
		}
		if len(j.Devices) > 0 {
			j.Device = j.Devices[0]
		}
		if len(j.Accesses) > 0 {
			j.Access = j.Accesses[0]
		} else {
			j.Accesses = []string{}
		}
		if f.Place.Known() {
			j.File = s.Files[f.Place.File]
		}
		out.Findings = append(out.Findings, j)
	}
	return out
}
