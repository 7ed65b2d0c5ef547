// Package findings finds what is unsafe in a site. A finding about who gets in
// is always proven by a foreseen case; the package has no rules of thumb about
// method lists of its own.
//
// To add a finding: give it a page in pages.go, with the change to the smallest
// site that shows it; write a function that is handed a foreseen shape (or the
// whole site) and adds it; and put the function into shapeChecks or siteChecks.
package findings

import (
	"fmt"
	"slices"
	"strings"
	"time"

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
	always   bool // it holds even while every server is up
}

// Facts are what cannot be seen in the site itself.
type Facts struct {
	Guessed map[*site.Account]string // accounts whose password was guessed, with what it is: "its own name"
	Exposed []Exposed                // files with secrets that others can read
	Shown   []Certificate            // those of servers over TLS
	Only    *site.Device             // the one device that is asked about, nil for every one
}

// Certificate is that of a server over TLS, as its file has it.
type Certificate struct {
	Server  *site.Server
	Problem string    // why it cannot be used, "" where it can
	Ends    time.Time // zero where it is not known
	Names   bool      // it bears the name or the address of the server
	Bears   string    // what it bears
}

// Exposed is a file with secrets that others can read.
type Exposed struct {
	Path  string
	Mode  string // such as -rw-r--r--
	Place site.Place
}

// Report is what checking a site gave.
type Report struct {
	Findings []Finding
	Accepted int // findings that the site accepts, and that are not among Findings
	Proven   Proof
}

// Proof counts what was worked out.
type Proof struct{ Devices, Ways, States, Cases int }

// Count returns the number of findings of a severity.
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
func Check(f foresee.Forecaster, facts Facts) Report {
	f.SkipSecond = true
	c := &checker{reckoner: f, facts: facts, at: map[string]int{}, reached: map[*site.List]uint64{}}
	states := map[string]bool{}
	devices := f.Site.Devices
	if facts.Only != nil {
		devices = []*site.Device{facts.Only}
	}
	for shape := range f.Each(devices) {
		c.proven.Devices += len(shape.Devices)
		c.proven.Ways += len(shape.Devices) * len(shape.Devices[0].Ways)
		for _, cs := range shape.Cases {
			c.proven.Cases += len(shape.Devices) * len(cs.SameOutcome)
			states[stateKey(cs)] = true
		}
		for _, check := range shapeChecks {
			check(c, shape)
		}
		dependsOnAspect(c, shape)
	}
	c.proven.States = len(states)
	for _, check := range siteChecks {
		check(c)
	}
	c.gather()
	c.join()
	c.tellUnknown()
	r := Report{Proven: c.proven}
	r.Findings, r.Accepted = c.accept()
	if facts.Only != nil && len(f.Site.Devices) > 1 { // what is of the rest of the site was not asked
		r.Findings = slices.DeleteFunc(r.Findings, func(
			x Finding) bool {
			return !slices.Contains(x.Devices, facts.Only)
		})
		for i := range r.Findings {
			r.Findings[i].Devices = devices
		}
	}
	rank := map[Severity]int{Error: 0, Warning: 1, Note: 2}
	slices.SortStableFunc(r.Findings, func(a, b Finding) int {
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
	return r
}

func stateKey(c foresee.Case) string {
	var b strings.Builder
	for _, w := range c.When {
		b.WriteString(w.Server.Name + " " + string(w.State) + ";")
	}
	return b.String()
}

type checker struct {
	reckoner foresee.Forecaster
	facts    Facts
	findings []Finding
	at       map[string]int          // findings by what makes them the same
	holds    []map[*site.Device]bool // for each finding, the first device of each shape that it holds for
	reached  map[*site.List]uint64
	unknown  []unknownAspect
	proven   Proof
}

// add notes a finding. One with the same code and place, or about whole devices
// in the same words, is the same finding: the first words stay, and it only
// gains devices and ways in.
func (c *checker) add(f Finding) {
	if f.Severity == "" {
		f.Severity = severities[f.Code]
	}
	key := f.Code + fmt.Sprint(f.Place)
	if len(f.Devices) > 0 && f.Place == f.Devices[0].Place {
		key = f.Code + f.Text
	}
	i, known := c.at[key]
	if !known {
		c.at[key] = len(c.findings)
		c.holds = append(c.holds, map[*site.Device]bool{})
		i, f.Access = len(c.findings), slices.Clone(f.Access)
		if len(f.Devices) > 0 {
			c.holds[i][f.Devices[0]] = true
		}
		f.Devices = slices.Clone(f.Devices)
		c.findings = append(c.findings, f)
		return
	}
	have := &c.findings[i]
	if len(f.Devices) > 0 && !c.holds[i][f.Devices[0]] { // shapes have no device in common
		c.holds[i][f.Devices[0]] = true
		have.Devices = append(have.Devices, f.Devices...)
	}
	for _, a := range f.Access {
		if !slices.Contains(have.Access, a) {
			have.Access = append(have.Access, a)
		}
	}
}

// gather makes one finding of those that say the same of the same devices at
// several ways in, each of which is written at a place of its own: the first one
// stands for all.
func (c *checker) gather() {
	places := map[string]int{}
	kept := c.findings[:0]
	for _, f := range c.findings {
		if len(f.Devices) == 0 || len(f.Access) == 0 {
			kept = append(kept, f)
			continue
		}
		key := fmt.Sprintf("%s %s %s %s %p %d", f.Code, f.Severity, f.Text, f.Repair, f.Devices[0], len(f.Devices))
		i, known := places[key]
		if !known || !slices.Equal(kept[i].Devices, f.Devices) {
			places[key] = len(kept)
			kept = append(kept, f)
			continue
		}
		for _, a := range f.Access {
			if !slices.Contains(kept[i].Access, a) {
				kept[i].Access = append(kept[i].Access, a)
			}
		}
	}
	c.findings = kept
}

// because says which findings are the cause of being locked out: where one of
// them is found, that nobody gets in is its consequence and no finding of its
// own. So are those of becauseUp where they hold for every way in, and somebody
// is locked out even while every server is up.
var (
	because   = []string{"no-way-back", "no-account", "account-too-low", "gives-up-first", "session-stuck"}
	becauseUp = []string{"refused-though-granted", "lands-low", "template-missing", "cannot-verify"}
)

// join makes findings of one cause one finding.
func (c *checker) join() {
	causes, causesUp := map[*site.Device]int{}, map[*site.Device]int{}
	for i, f := range c.findings {
		for _, d := range f.Devices {
			switch {
			case slices.Contains(because, f.Code):
				first(causes, d, i)
				first(causesUp, d, i)
			case slices.Contains(becauseUp, f.Code) && f.everyWay(d):
				first(causesUp, d, i)
			}
		}
	}
	consequences := make([]bool, len(c.findings))
	for i, f := range c.findings {
		of := causes
		if f.always {
			of = causesUp
		}
		consequences[i] = (f.Code == "locked-out" || f.Code == "locked-out-remotely") && c.explained(f, of)
	}
	kept := make([]Finding, 0, len(c.findings))
	for i, f := range c.findings {
		if !consequences[i] {
			kept = append(kept, f)
		}
	}
	c.findings = kept
}

// first notes the first cause of a device.
func first(causes map[*site.Device]int, d *site.Device, i int) {
	if _, known := causes[d]; !known {
		causes[d] = i
	}
}

// everyWay reports whether an error holds for every way into a device.
func (f Finding) everyWay(d *site.Device) bool {
	return f.Severity == Error && !slices.ContainsFunc(d.Ways, func(w *site.Way) bool {
		return !slices.Contains(f.Access, w.Name())
	})
}

// explained reports whether every device of a finding has a cause among the
// others, and notes the consequence there.
func (c *checker) explained(f Finding, causes map[*site.Device]int) bool {
	at := map[int]bool{}
	for _, d := range f.Devices {
		i, known := causes[d]
		if !known {
			return false
		}
		at[i] = true
	}
	for i := range at {
		if cause := &c.findings[i]; f.Code == "locked-out" && !strings.Contains(cause.Text, consequence) {
			cause.Text += consequence
		}
	}
	return true
}

const consequence = " Then nobody with full rights gets in by any way."

// accept takes out the findings that the site accepts, and counts them. An
// acceptance whose time is over no longer counts.
func (c *checker) accept() ([]Finding, int) {
	accepted := 0
	kept := c.findings[:0]
	for _, f := range c.findings {
		for _, a := range c.reckoner.Site.Accepted {
			if a.Code != f.Code {
				continue
			}
			if !a.Until.IsZero() && !c.reckoner.Now.Before(a.Until) {
				f.Text += fmt.Sprintf(" It was accepted until %s (%s), and that is over.",
					a.Until.AddDate(0, 0, -1).Format(time.DateOnly), a.Why)
				continue
			}
			if a.Device.Name == "" {
				f.Devices, f.Code = nil, ""
				break
			}
			f.Devices = slices.DeleteFunc(f.Devices, func(d *site.Device) bool { return d.Name == a.Device.Name })
			if len(f.Devices) == 0 {
				f.Code = ""
				break
			}
		}
		if f.Code == "" {
			accepted++
			continue
		}
		kept = append(kept, f)
	}
	return kept, accepted
}

var siteChecks = []func(*checker){clearInFile, unused, deadMethods, grantsAndRules, keyStrength, exposed, weakAccounts,
	forgeable, sameGroupPlace, badAcceptance, sharedFallback, certificates, rulesThatCanBePassed, clearTextDirectory,
	shadowedClients, samePlace, labelSlips, hangsOnNames}

var shapeChecks = []func(*checker, foresee.Shape){
	lockedOut, recordsShutOut, deadEnds, accountTooLow, givesUpFirst, open, unheard, notSupported, cannotVerify,
	templateMissing, sameName,
	localFirst, sharedLogin, linesLeftOut, defaultSurprise,
	sharedFate, landsLow, refusedThoughGranted, admitsADirectory, portNamesUnsaid, ruleWithoutEffect, sourceUnset,
	readableOnTheWay,
	notRecorded,
	startsWithoutStops,
	recordsLost,
	recordedInClear, oneServer, slow, clearTextWay, fromLeftOut, oldSSH, shutWhenSwitchedOn, reach,
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
