package cli_test

import (
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"

	"mellowgate/internal/cli/clitest"

	"github.com/stretchr/testify/require"
)

func TestFindingsAreWrittenForProgramsThatShowThem(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	var plain struct {
		Findings []struct{ Code, Severity, File, Text string } `json:"findings"`
		Errors   int                                           `json:"errors"`
	}
	r := c.run(t, "check", "-json", "demo/as-drafted")
	require.Equal(t, 1, r.status)
	clitest.Strictly(t, r.out, &plain)

	r = c.run(t, "check", "-format", "sarif", "demo/as-drafted")
	require.Equal(t, 1, r.status, "the status is that of the findings")
	var sarif struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &sarif))
	require.Equal(t, "2.1.0", sarif.Version)
	require.Len(t, sarif.Runs[0].Results, len(plain.Findings))
	rules := map[string]bool{}
	for _, rule := range sarif.Runs[0].Tool.Driver.Rules {
		rules[rule.ID] = true
	}
	for i, f := range sarif.Runs[0].Results {
		require.True(t, rules[f.RuleID], f.RuleID)
		require.Equal(t, plain.Findings[i].Code, f.RuleID)
		require.True(t, strings.HasPrefix(f.Message.Text, plain.Findings[i].Text))
		require.Contains(t, f.Message.Text, "Repair: ")
		require.Equal(t, plain.Findings[i].File, f.Locations[0].PhysicalLocation.ArtifactLocation.URI)
		require.Positive(t, f.Locations[0].PhysicalLocation.Region.StartLine)
	}

	r = c.run(t, "check", "-format", "junit", "demo/as-drafted")
	var suite struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Cases    []struct {
			Name    string    `xml:"name,attr"`
			Failure *struct{} `xml:"failure"`
		} `xml:"testcase"`
	}
	require.NoError(t, xml.Unmarshal([]byte(r.out), &suite))
	require.Equal(t, plain.Errors, suite.Failures)
	require.Len(t, suite.Cases, suite.Tests)
	passed := 0
	for _, one := range suite.Cases {
		if one.Failure == nil {
			passed++
		}
	}
	require.Equal(t, suite.Tests-suite.Failures, passed)

	r = c.run(t, "check", "-format", "annotations", "demo/as-drafted")
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	require.Len(t, lines, len(plain.Findings))
	for _, line := range lines {
		require.Regexp(t, `^::(error|warning|notice) file=demo/as-drafted/site.yaml,line=\d+,col=\d+,title=[a-z-]+::\S`, line)
	}
	for _, wrong := range [][]string{{"-format", "sarf"}, {"-format", "sarif", "-json"}, {"-csv", "-json"},
		{"-csv", "-explain", "unused"}} {
		require.Equal(t, 2, c.run(t, append(append([]string{"check"}, wrong...), "demo/as-drafted")...).status)
	}
}
