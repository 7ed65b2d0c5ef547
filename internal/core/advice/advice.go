// Package advice finds what is unsafe in a site. A finding about who gets in
// is always proven by a foreseen case; the package has no rules of thumb about
// method lists of its own.
//
// To add a finding: give it a code in codes, write a function that is handed a
// foreseen shape (or the whole site) and adds it, and put the function into
// shapeChecks or siteChecks.
package advice

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// Severity orders findings.
type Severity string

const (
	Error   Severity = "error"   // locks people out, or lets anyone in
	Warning Severity = "warning" // weakens the design
	Note    Severity = "note"    // worth knowing
)

// codes are the findings, with their severity.
var codes = map[string]Severity{
	"locked-out":          Error,
	"locked-out-remotely": Warning,
	"no-way-back":         Error,
	"no-account":          Error,
	"session-stuck":       Error,
	"commands-stuck":      Error,
	"gives-up-first":      Error,
	"open-when-silent":    Error,
	"open-always":         Error,
	"open-built-in":       Error,
	"key-differs":         Error,
	"clear-in-file":       Error,
	"same-name":           Warning,
	"not-recorded":        Warning,
	"one-server":          Warning,
	"unused":              Warning,
	"clear-text-way":      Warning,
}

// Codes gives every code with its severity.
func Codes() map[string]Severity {
	all := make(map[string]Severity, len(codes))
	for c, s := range codes {
		all[c] = s
	}
	return all
}

// Finding is one thing found: what would happen to whom and when, and the
// repair as a change to the file.
type Finding struct {
	Code     string
	Severity Severity
	Devices  []*site.Device // for which it holds; none: the site as a whole
	Access   []string       // the ways in
	Place    site.Place
	Text     string
	Repair   string
}

// Report is what checking a site gave.
type Report struct {
	Findings []Finding
	Proven   Proof
}

// Proof counts what was worked out.
type Proof struct{ Devices, Ways, Cases int }

// Count gives the number of findings of a severity.
func (r Report) Count(s Severity) int {
	n := 0
	for _, f := range r.Findings {
		if f.Severity == s {
			n++
		}
	}
	return n
}

// Check finds everything in a site.
func Check(f foresee.Reckoner) Report {
	c := &checker{reckoner: f, at: map[string]int{}}
	for _, check := range siteChecks {
		check(c)
	}
	for _, shape := range f.Shapes(f.Site.Devices) {
		c.proven.Devices += len(shape.Devices)
		c.proven.Ways += len(shape.Devices) * len(shape.Devices[0].Ways)
		for _, cs := range shape.Cases {
			c.proven.Cases += len(shape.Devices) * len(cs.Alike)
		}
		for _, check := range shapeChecks {
			check(c, shape)
		}
	}
	rank := map[Severity]int{Error: 0, Warning: 1, Note: 2}
	slices.SortStableFunc(c.findings, func(a, b Finding) int {
		if r := rank[a.Severity] - rank[b.Severity]; r != 0 {
			return r
		}
		if a.Place.Before(b.Place) {
			return -1
		}
		if b.Place.Before(a.Place) {
			return 1
		}
		return strings.Compare(a.Code, b.Code)
	})
	return Report{Findings: c.findings, Proven: c.proven}
}

type checker struct {
	reckoner foresee.Reckoner
	findings []Finding
	at       map[string]int // findings by what makes them the same
	proven   Proof
}

// add notes a finding. One with the same code and place is the same finding:
// the first words stay, and it only gains devices and ways in.
func (c *checker) add(f Finding) {
	if f.Severity == "" {
		f.Severity = codes[f.Code]
	}
	key := fmt.Sprint(f.Code, f.Place)
	i, known := c.at[key]
	if !known {
		c.at[key] = len(c.findings)
		c.findings = append(c.findings, f)
		return
	}
	have := &c.findings[i]
	for _, d := range f.Devices {
		if !slices.Contains(have.Devices, d) {
			have.Devices = append(have.Devices, d)
		}
	}
	for _, a := range f.Access {
		if !slices.Contains(have.Access, a) {
			have.Access = append(have.Access, a)
		}
	}
}

var siteChecks = []func(*checker){clearInFile, unused}

var shapeChecks = []func(*checker, foresee.Shape){
	lockedOut, deadEnds, givesUpFirst, open, keyDiffers, sameName, notRecorded, oneServer, clearTextWay,
}

// when puts the states of a case into words: "tern and plover are silent".
func when(c foresee.Case) string {
	silent, up := c.Split()
	if len(silent) > 0 {
		return are(silent, "silent")
	}
	if len(up) > 0 {
		return are(up, "up")
	}
	return "at any time"
}

func are(names []string, state string) string {
	verb := " is "
	if len(names) > 1 {
		verb = " are "
	}
	return "when " + join(names) + verb + state
}

// join makes "a, b and c".
func join(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

func serverNames(servers []*site.Server) []string {
	names := make([]string, len(servers))
	for i, s := range servers {
		names[i] = s.Name
	}
	return names
}

// methodsText writes the methods of a list as in the file, with more at the end.
func methodsText(l *site.List, more ...string) string {
	all := make([]string, 0, len(l.Methods)+len(more))
	for _, m := range l.Methods {
		all = append(all, m.String())
	}
	return "methods: [" + strings.Join(append(all, more...), ", ") + "]"
}
