// Package report has the command report, one page for a review or an audit.
package report

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/check"
	foreseecmd "mellowgate/internal/cli/foresee"
	"mellowgate/internal/cli/show"
	trialcmd "mellowgate/internal/cli/trial"
	"mellowgate/internal/cli/why"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/drawing"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task/gather"
)

//go:embed page/report.html
var reportPage string

// marks say without colour what a tone says.
var marks = map[string]string{"good": "\u2713", "careful": "!", "bad": "\u2715"}

func Command() *call.Command {
	return &call.Command{
		Name: "report", Args: "[SITE]", Short: "one HTML page for a review or an audit",
		Long: `Makes one page of the whole site: what happens in each outage, what check finds and what that means, the
design drawn, every device, and who may do what. It names the revision of the site, which is that of its files: a
change sheet of the same revision is of the same design. With -state also what went wrong lately, by cause, and which
records are kept, with a proof that none was changed. With -drill also the result of a drill, from a file that drill
-json wrote.

The page loads nothing from elsewhere, is fit for a telephone and for print, and follows the light or dark of the
reader's system. No colour stands alone: a mark says the same.
It holds no secret: keys and passwords are not in it.`,
		Examples: []call.Example{
			{Call: "mellowgate report demo/as-drafted > report.html", Shows: "the design alone"},
			{Call: "mellowgate report -state mellowgate-state -write report.html demo/as-reviewed",
				Shows: "with what was noted in a lab, into a file"},
		},
		Prepare: func(c *call.Call) func() error {
			dir := c.Flags.String("state", "", "the state `folder` of serve or of a lab, for failures and records")
			drilled := c.Flags.String("drill", "", "a `file` that drill -json wrote")
			write := c.Flags.String("write", "", "write the page into this new `file`; else it is printed")
			since := c.Flags.String("since", "24h", "failures from this `time` on: 2h, 03:10, 2026-11-23")
			return func() error { return makeReport(c, *dir, *drilled, *write, *since) }
		},
	}
}

// reported is what the page shows.
type reported struct {
	Site, About, Made, From, Revision, State, Version, Summary, People string
	Tiles                                                              []tile
	Drawing                                                            drawing.Drawing
	Matrix                                                             reportedMatrix
	Findings                                                           []reportedFinding
	Meanings                                                           []findings.Page // of the codes that were found
	Devices                                                            []reportedDevice
	Grants                                                             []reportedGrant
	Drill                                                              *reportedDrill
	Causes                                                             *reportedCauses
	Records                                                            *reportedRecords
}

// reportedDevice is a device with how it stands in its worst outage.
type reportedDevice struct{ Name, Kind, Addresses, Ways, Accounts, Worst, When, Tone string }

type tile struct{ Number, Text, Tone string }

type reportedMatrix struct {
	Headings []string
	Rows     []reportedRow
	Legend   string
}

type reportedRow struct {
	Devices string
	Cells   []tile
}

type reportedFinding struct{ Code, Severity, Where, Text, Holds, Repair, Tone string }

type reportedGrant struct {
	Who, Where, Through, From, Hours, Role string
	Level                                  int
}

type reportedDrill struct {
	Text, Tone string
	Mismatches []trialcmd.DrillRunJSON
}

type reportedCauses struct {
	Text   string
	Groups []reportedCause
}

type reportedCause struct {
	Cause, Where, Says, Last string
	Logins                   int
}

type reportedRecords struct {
	Text, Proof, Tone string
	Kinds             []reportedKind
	Chains            []ledger.Head
}

type reportedKind struct {
	Kind, First, Last string
	Count             int
}

// tones are the classes of the page for each tone.
var tones = map[show.Tone]string{show.Good: "good", show.Careful: "careful", show.Bad: "bad"}

func makeReport(c *call.Call, dir, drilled, write, since string) error {
	l, err := c.Load(false)
	if err != nil {
		return err
	}
	from, err := call.PointOfTime("-since", since, time.Now())
	if err != nil {
		return err
	}
	r := reportOf(c, l)
	if drilled != "" {
		if r.Drill, err = reportDrill(drilled); err != nil {
			return call.UsageError(err)
		}
	}
	if dir != "" {
		if err := reportState(c, &r, l, dir, from); err != nil {
			return err
		}
	}
	page, err := call.OnBase("report", reportPage, template.FuncMap{
		"offset": func(n, by int) int { return n + by },
		"line":   func(y, i int) int { return y + 38 + 17*i },
		"mark":   func(tone string) string { return marks[tone] },
	})
	if err != nil {
		return call.TaskError(err)
	}
	var b bytes.Buffer
	if err := page.Execute(&b, r); err != nil {
		return call.TaskError(err)
	}
	text := show.Safe(strings.ToValidUTF8(b.String(), "\uFFFD")) // names come from wherever somebody could type
	if write == "" {
		_, err = io.WriteString(c.Out, text)
		return err
	}
	file, err := os.OpenFile(write, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return why.NotMade(write, err)
	}
	defer func() { _ = file.Close() }()
	if _, err := io.WriteString(file, text); err != nil {
		return call.TaskError(err)
	}
	c.Note("%s has the report", write)
	return nil
}

// reportOf is what the design alone gives.
func reportOf(c *call.Call, l call.Loaded) reported {
	found := check.Check(c, l, nil, false)
	shapes := l.Reckoner().Shapes(l.Devices)
	r := reported{Site: l.Name, About: l.About, Made: time.Now().Format("2006-01-02 15:04 MST"), From: l.Path,
		Revision: sitefile.Revision(l.Path), Devices: devicesOf(shapes), Version: call.Version,
		Summary: sentence(check.ReportSummary(found)), Drawing: drawing.Of(l.Site, shapes)}
	if r.Site == "" {
		r.Site = "This site"
	}
	errors, tone := found.Count(findings.Error), "good"
	if found.Count(findings.Warning) > 0 {
		tone = "careful"
	}
	if errors > 0 {
		tone = "bad"
	}
	r.Tiles = []tile{{Number: fmt.Sprint(errors), Text: plural(errors, "error") + " in the design", Tone: tone},
		{Number: fmt.Sprint(found.Count(findings.Warning)), Text: plural(found.Count(findings.Warning), "warning"),
			Tone: ""},
		{Number: fmt.Sprint(len(l.Devices)), Text: plural(len(l.Devices), "device"), Tone: ""},
		{Number: fmt.Sprint(len(l.Servers)), Text: plural(len(l.Servers), "server"), Tone: ""},
		{Number: fmt.Sprint(len(l.Site.People)), Text: "people", Tone: ""}}
	r.Matrix = matrixOf(shapes)
	for _, f := range found.Findings {
		r.Findings = append(r.Findings, reportedFinding{
			Code: f.Code, Severity: string(f.Severity), Where: l.Where(f.Place),
			Text: f.Text, Holds: check.HoldsFor(f), Repair: f.Repair, Tone: tones[call.SeverityTone[f.Severity]]})
		known := slices.ContainsFunc(r.Meanings, func(p findings.Page) bool { return p.Code == f.Code })
		if p, ok := findings.PageOf(f.Code); ok && !known {
			r.Meanings = append(r.Meanings, p)
		}
	}
	for _, g := range l.Grants {
		r.Grants = append(r.Grants, grantOf(g))
	}
	disabled := 0
	for _, p := range l.Site.People {
		if p.Disabled || p.Expired(time.Now()) {
			disabled++
		}
	}
	r.People = fmt.Sprintf("The site names %d people, %d of them not allowed any more.", len(l.Site.People), disabled)
	return r
}

// sentence makes a text begin as one, and end so.
func sentence(text string) string {
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// plural returns the bare noun for a number.
func plural(n int, one string) string {
	_, noun, _ := strings.Cut(show.Count(n, one), " ")
	return noun
}

// matrixOf is the outage matrix, with equal rows joined.
func matrixOf(shapes []foresee.Shape) reportedMatrix {
	columns := foreseecmd.Columns(shapes)
	m := reportedMatrix{Legend: foreseecmd.StandingLegend}
	for _, c := range columns {
		m.Headings = append(m.Headings, c.Heading)
	}
	places := map[string]int{}
	var devices [][]string
	for _, sh := range shapes {
		row, key := reportedRow{}, ""
		for _, c := range columns {
			s := sh.Standing(c.Outage)
			row.Cells = append(row.Cells, tile{Text: string(s), Tone: tones[foreseecmd.StandingTone[s]]})
			key += string(s) + "|"
		}
		i, known := places[key]
		if !known {
			i = len(m.Rows)
			places[key] = i
			m.Rows, devices = append(m.Rows, row), append(devices, nil)
		}
		for _, d := range sh.Devices {
			devices[i] = append(devices[i], d.Name)
		}
	}
	for i := range m.Rows {
		m.Rows[i].Devices = strings.Join(why.Some(devices[i], 12), ", ")
	}
	return m
}

// devicesOf are the devices by name, each with its worst standing and the first outage of it.
func devicesOf(shapes []foresee.Shape) []reportedDevice {
	var reportedDevices []reportedDevice
	order := map[string]int{"good": 0, "careful": 1, "bad": 2}
	for _, sh := range shapes {
		var worst reportedDevice
		for _, c := range foreseecmd.Columns(shapes) {
			s := sh.Standing(c.Outage)
			if tone := tones[foreseecmd.StandingTone[s]]; worst.Worst == "" || order[tone] > order[worst.Tone] {
				worst.Worst = string(s)
				worst.Tone = tone
				worst.When = c.Heading
			}
		}
		if worst.Tone == "good" {
			worst.When = ""
		}
		for _, d := range sh.Devices {
			r := worst
			addresses := []string{}
			ways := []string{}
			accounts := []string{}
			for _, a := range d.Addresses {
				addresses = append(addresses, a.String())
			}
			for _, w := range d.Ways {
				ways = append(ways, w.Name())
			}
			for _, a := range d.Accounts {
				accounts = append(accounts, a.Name)
			}
			r.Name = d.Name
			r.Addresses = strings.Join(addresses, ", ")
			r.Ways = strings.Join(ways, ", ")
			r.Accounts = strings.Join(accounts, ", ")
			if d.Platform != nil {
				r.Kind = d.Platform.Name
			}
			reportedDevices = append(reportedDevices, r)
		}
	}
	slices.SortFunc(reportedDevices, func(a, b reportedDevice) int { return strings.Compare(a.Name, b.Name) })
	return reportedDevices
}

func grantOf(g *site.Grant) reportedGrant {
	r := reportedGrant{Where: "everywhere", Through: "every way in", From: "anywhere", Hours: "always",
		Role: g.RoleRef.Name}
	var who, hours, from, where []string
	for _, w := range g.Who {
		if w.Team != "" {
			who = append(who, "team "+w.Team)
		} else {
			who = append(who, w.Person)
		}
	}
	r.Who = strings.Join(who, ", ")
	for label, values := range g.Where {
		where = append(where, label+": "+strings.Join(values, ", "))
	}
	if slices.Sort(where); len(where) > 0 {
		r.Where = strings.Join(where, "; ")
	}
	if len(g.Through) > 0 {
		r.Through = strings.Join(g.Through, ", ")
	}
	for _, p := range g.From {
		from = append(from, p.String())
	}
	if len(from) > 0 {
		r.From = strings.Join(from, ", ")
	}
	for _, h := range g.Hours {
		hours = append(hours, h.String())
	}
	if len(hours) > 0 {
		r.Hours = strings.Join(hours, "; ")
	}
	if g.Role != nil {
		r.Level = g.Role.Level
	}
	return r
}

// mostMismatches bounds those of a drill that the page lists.
const mostMismatches = 50

// reportDrill reads what drill -json wrote.
func reportDrill(file string) (*reportedDrill, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the drill cannot be read: %w", err)
	}
	var d struct {
		Runs           []trialcmd.DrillRunJSON `json:"runs"`
		Matched, Total int
		Seconds        float64
	}
	if err := json.Unmarshal(text, &d); err != nil || d.Total == 0 {
		return nil, fmt.Errorf("%s holds no drill; make one with: mellowgate drill -json SITE > FILE", file)
	}
	r := &reportedDrill{Text: fmt.Sprintf("%d of %d logins came out as foreseen, with real packets, in %.0f s.",
		d.Matched,
		d.Total, d.Seconds), Tone: "good"}
	if d.Matched < d.Total {
		r.Tone = "bad"
	}
	for _, run := range d.Runs {
		if !run.Match && len(r.Mismatches) < mostMismatches {
			r.Mismatches = append(r.Mismatches, run)
		}
	}
	return r, nil
}

// reportState adds what was noted: failures by cause, and records.
func reportState(c *call.Call, r *reported, l call.Loaded, dir string, since time.Time) error {
	folder, places, err := call.RunIn(dir)
	if err != nil {
		return err
	}
	r.State = dir
	done := c.Working("reading " + dir)
	defer done()
	e, notes, err := gather.Folder(folder, exchange.InPlaces(l.Site, l.Keys, places))
	if err != nil {
		return call.TaskError(err)
	}
	for _, n := range notes {
		c.Note("%s", n)
	}
	e.Site, e.Keys = l.Site, l.Keys
	s := diagnose.All(e.After(since), diagnose.Symptom{})
	r.Causes = &reportedCauses{Text: fmt.Sprintf("Since %s: %s, %d of them with nothing wrong.",
		since.Local().Format("2006-01-02 15:04 MST"), show.Count(s.Logins, "login"), s.Healthy)}
	for _, g := range s.Groups {
		r.Causes.Groups = append(r.Causes.Groups, reportedCause{Cause: g.Cause.Cause, Where: g.Where, Says: g.Says,
			Last: g.Last.Local().Format("01-02 15:04"), Logins: g.Logins})
	}
	r.Tiles = append(r.Tiles, tile{Number: fmt.Sprint(s.Logins - s.Healthy), Text: "logins with something wrong",
		Tone: map[bool]string{true: "careful"}[s.Logins > s.Healthy]})
	return reportRecords(c, r, dir)
}

// reportRecords adds the records that are kept, and whether they are whole.
func reportRecords(c *call.Call, r *reported, dir string) error {
	from, err := c.LedgerSource(dir, "", "")
	if err != nil {
		return err
	}
	kinds, total := map[ledger.Kind]*reportedKind{}, 0
	err = from.Read(c.Context, ledger.Filter{}, func(x ledger.Record) error {
		k, at := kinds[x.Kind], x.Time.Local().Format("2006-01-02 15:04:05")
		if k == nil {
			k = &reportedKind{Kind: string(x.Kind), First: at}
			kinds[x.Kind] = k
		}
		k.Count++
		k.Last = at
		total++
		return nil
	})
	if err != nil {
		return call.TaskError(err)
	}
	r.Records = &reportedRecords{Text: show.Count(total, "record") + " are kept.",
		Proof: "Every one is as it was written.", Tone: "good"}
	for _, name := range ledger.Kinds() {
		if k := kinds[ledger.Kind(name)]; k != nil {
			r.Records.Kinds = append(r.Records.Kinds, *k)
		}
	}
	proof, err := ledger.Verify(c.Context, from)
	if err != nil {
		return call.TaskError(err)
	}
	if r.Records.Chains = proof.Chains; len(proof.Breaks) > 0 {
		r.Records.Tone, r.Records.Proof = "bad", fmt.Sprintf(
			"They are not as they were written: %s", proof.Breaks[0].What)
	}
	return nil
}
