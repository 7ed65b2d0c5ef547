package check

import (
	"encoding/xml"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/task/compare"
)

// findingsCSV is a line for each finding, with its devices and ways in joined.
func findingsCSV(w io.Writer, r checkJSON) error {
	var rows [][]string
	for _, f := range r.Findings {
		rows = append(rows, []string{string(f.Severity), f.Code, f.File, strconv.Itoa(int(f.Line)),
			strconv.Itoa(int(f.Column)), strings.Join(f.Devices, " "), strings.Join(f.Accesses, " "), f.Text, f.Repair})
	}
	return call.CSVTable(w, []string{"severity", "code", "file", "line", "column", "devices", "accesses", "text",
		"repair"},
		rows)
}

// CasesCSV is a line for each device, way in and person in each state.
func CasesCSV(w io.Writer, shapes []foresee.Shape) error {
	var rows [][]string
	for _, sh := range shapes {
		for _, d := range sh.Devices {
			for _, c := range sh.Cases {
				depends := make([]string, len(c.Depends))
				for i, x := range c.Depends {
					depends[i] = x.Aspect.Written(x.Value)
				}
				for _, who := range c.SameOutcome {
					rows = append(rows, []string{d.Name, c.Way.Name(), who.Name, call.WhenText(c), string(c.Outcome),
						strconv.Itoa(c.Level),
						strconv.Itoa(c.Raised), c.By, string(c.Reason), fmt.Sprintf("%g", call.SecondsOf(c.Wait)),
						strings.Join(depends, "; ")})
				}
			}
		}
	}
	return call.CSVTable(w, []string{"device", "access", "person", "when", "outcome", "level", "raised_level", "by",
		"reason",
		"wait_seconds", "depends"}, rows)
}

// ComparedCSV is a line for each difference of each device, and one for each that has none.
func ComparedCSV(w io.Writer, some []compare.Compared) error {
	var rows [][]string
	for _, r := range some {
		if len(r.Differences) == 0 {
			rows = append(rows, []string{r.Device, strconv.FormatBool(r.Read), r.Problem, "", "", "", "", "", "", "",
				""})
		}
		for _, d := range r.Differences {
			rows = append(rows, []string{r.Device, strconv.FormatBool(r.Read), r.Problem, string(d.About), d.Name,
				d.What,
				d.Kind, d.Want, d.Have, d.How, strconv.FormatBool(d.Known)})
		}
	}
	return call.CSVTable(w, []string{"device", "read", "problem", "about", "name", "what", "kind", "want", "have",
		"how",
		"known"}, rows)
}

// The formats of findings that other programs read.
const (
	formatSARIF       = "sarif"       // OASIS SARIF 2.1.0
	formatJUnit       = "junit"       // a suite of tests in XML: a finding is a failure
	formatAnnotations = "annotations" // a line for each finding, which a CI shows at its place
)

var findingFormats = []string{formatSARIF, formatJUnit, formatAnnotations}

// printFindings writes a report in one of these formats.
func printFindings(w io.Writer, format string, r checkJSON) error {
	switch format {
	case formatSARIF:
		return show.JSON(w, sarifOf(r))
	case formatJUnit:
		return junit(w, r)
	}
	for _, f := range r.Findings {
		level := map[findings.Severity]string{findings.Error: "error", findings.Warning: "warning",
			findings.Note: "notice"}[f.Severity]
		text := escaped.Replace(f.Text + " Repair: " + f.Repair)
		if _, err := fmt.Fprintf(w, "::%s file=%s,line=%d,col=%d,title=%s::%s\n", level, escapedValue.Replace(f.File),
			f.Line,
			f.Column, escapedValue.Replace(f.Code), show.Safe(text)); err != nil {
			return err
		}
	}
	return nil
}

// escaped keeps a text on its line, and escapedValue a value within it.
var (
	escaped      = strings.NewReplacer("%", "%25", "\r", "%0D", "\n", "%0A")
	escapedValue = strings.NewReplacer("%", "%25", "\r", "%0D", "\n", "%0A", ":", "%3A", ",", "%2C")
)

type (
	sarifText struct {
		Text string `json:"text"`
	}
	sarifRule struct {
		ID    string    `json:"id"`
		Short sarifText `json:"shortDescription"`
		Full  sarifText `json:"fullDescription"`
		As    struct {
			Level string `json:"level"`
		} `json:"defaultConfiguration"`
	}
	sarifResult struct {
		Rule      string          `json:"ruleId"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifLocation struct {
		Physical struct {
			Artifact struct {
				URI string `json:"uri"`
			} `json:"artifactLocation"`
			Region struct {
				Line   int `json:"startLine"`
				Column int `json:"startColumn"`
			} `json:"region"`
		} `json:"physicalLocation"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
)

// sarifOf makes a log of SARIF 2.1.0 of findings: a rule for each sort of finding that there is.
func sarifOf(r checkJSON) sarifLog {
	driver := sarifDriver{Name: "mellowgate", Version: call.Version, Rules: []sarifRule{}}
	levels := map[findings.Severity]string{findings.Error: "error", findings.Warning: "warning", findings.Note: "note"}
	for _, p := range findings.Pages() {
		rule := sarifRule{ID: p.Code, Short: sarifText{Text: firstSentence(p.About)}, Full: sarifText{Text: p.About}}
		rule.As.Level = levels[p.Severity]
		driver.Rules = append(driver.Rules, rule)
	}
	run := sarifRun{Tool: sarifTool{Driver: driver}, Results: []sarifResult{}}
	for _, f := range r.Findings {
		result := sarifResult{Rule: f.Code, Level: levels[f.Severity], Locations: []sarifLocation{},
			Message: sarifText{Text: f.Text + " Repair: " + f.Repair + "." + holdsText(f)}}
		if f.File != "" {
			var at sarifLocation
			at.Physical.Artifact.URI = filepath.ToSlash(f.File)
			at.Physical.Region.Line, at.Physical.Region.Column = max(1, int(f.Line)), max(1, int(f.Column))
			result.Locations = append(result.Locations, at)
		}
		run.Results = append(run.Results, result)
	}
	return sarifLog{Schema: sarifSchema, Version: "2.1.0", Runs: []sarifRun{run}}
}

const sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"

func firstSentence(text string) string {
	if first, _, more := strings.Cut(text, ". "); more {
		return first + "."
	}
	return text
}

// holdsText names the devices and ways in of a finding, "" for the site as a whole.
func holdsText(f findingJSON) string {
	if len(f.Devices) == 0 {
		return ""
	}
	text := " Holds for: " + strings.Join(f.Devices, ", ")
	if len(f.Accesses) > 0 {
		text += " by " + strings.Join(f.Accesses, ", ")
	}
	return text + "."
}

type (
	junitFailure struct {
		Type    string `xml:"type,attr"`
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		File    string        `xml:"file,attr,omitempty"`
		Line    int32         `xml:"line,attr,omitempty"`
		Failure *junitFailure `xml:"failure"`
		Out     string        `xml:"system-out,omitempty"`
	}
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
)

// junit writes findings as tests: each sort of finding is one that passes, where nothing of it
// was found; an error that was found is a failure, and what is less is told by its test.
func junit(w io.Writer, r checkJSON) error {
	suite := junitSuite{Name: "mellowgate check"}
	found := map[string]bool{}
	for _, f := range r.Findings {
		found[f.Code] = true
		c := junitCase{Class: "check." + string(f.Severity), Name: f.Code, File: f.File, Line: f.Line}
		text := fmt.Sprintf("%s:%d:%d: %s Repair: %s.%s", f.File, f.Line, f.Column, f.Text, f.Repair, holdsText(f))
		if f.Severity == findings.Error {
			c.Failure = &junitFailure{Type: f.Code, Message: f.Text, Text: text}
			suite.Failures++
		} else {
			c.Out = text
		}
		suite.Cases = append(suite.Cases, c)
	}
	for _, p := range findings.Pages() {
		if !found[p.Code] {
			suite.Cases = append(suite.Cases, junitCase{Class: "check." + string(p.Severity), Name: p.Code})
		}
	}
	suite.Tests = len(suite.Cases)
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	out := xml.NewEncoder(w)
	out.Indent("", "  ")
	if err := out.Encode(suite); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
