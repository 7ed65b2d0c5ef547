package main

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/testscale"
)

// reports are calls whose output is for people's eyes, in a folder with the demo
// site and a lab that ran.
var reports = []string{"help", "check demo/as-drafted", "check -explain all", "check -explain defaults demo/as-drafted",
	"check -explain no-way-back", "foresee demo/as-drafted", "foresee -matrix demo/as-drafted",
	"foresee -compare demo/as-drafted demo/as-reviewed", "sheet north-sw-1 demo/as-reviewed",
	"keys list demo/as-reviewed", "ask -explain -as north-sw-1 -person tobin.reed demo/as-reviewed",
	"ask -state st -server tern -as north-sw-1 -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh",
	"ask -state st -server tern -as north-sw-1 -person ines.marsh -password-file " +
		"demo/as-reviewed/passwords/ines.marsh -count 5",
	"login -state st -device north-sw-1 -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh",
	"login -state st -device north-sw-1 -from-site demo/as-reviewed/passwords demo/as-reviewed",
	"login -state st -device north-sw-1 -person ines.marsh -password-file demo/as-reviewed/passwords/tobin.reed",
	"compare -state st -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh -all demo/as-drafted",
	"why -state st", "why -state st -all", "ledger -state st", "ledger -state st failures", "ledger -state st sessions",
	"ledger -state st commands", "listen -state st", "lab -state st -faults"}

// label is what stands before a text in a report: its indent, or a heading.
var label = regexp.MustCompile(`^ *(\S{1,14}  +)?`)

// tooWide returns the lines of an output that are wider than a terminal although
// they could be shorter: a single word that is longer than its line cannot be.
func tooWide(out string, columns int) []string {
	var wide []string
	for line := range strings.SplitSeq(out, "\n") {
		rest := strings.TrimSpace(line[len(label.FindString(line)):])
		if len([]rune(line)) > columns && strings.Contains(strings.TrimSuffix(rest, ` \`), " ") {
			wide = append(wide, line)
		}
	}
	return wide
}

func TestNothingIsWiderThanItsTerminalAndNothingIsWrappedInAPipe(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	require.Empty(t, tooWide(lab.out.String(), 100_000))
	var helps []string
	for _, line := range strings.Split(c.run(t, "help").out, "\n") {
		if name := strings.Fields(line); strings.HasPrefix(line, "  ") && len(name) > 1 {
			helps = append(helps, "help "+name[0])
		}
	}
	require.Greater(t, len(helps), 15)
	for columns, calls := range map[int][]string{60: append(helps, reports...), 80: reports} {
		narrow := call{dir: c.dir, env: []string{fmt.Sprintf("COLUMNS=%d", columns)}}
		for n, words := range calls {
			if !testscale.One(n, 4) {
				continue
			}
			r := narrow.run(t, strings.Fields(words)...)
			require.LessOrEqual(t, r.status, 1, "%s: %s", words, r.err)
			require.Empty(t, tooWide(r.out, columns), "%s at %d columns", words, columns)
		}
	}
	// In a pipe a line is a whole one: what a program looks for stands on it.
	require.Contains(t, c.run(t, "check", "demo/as-drafted").out,
		"When sanderling is silent anyone gets in with any name and password: the list access-points reaches none.\n")
	matrix := c.run(t, "foresee", "-matrix", "demo/as-drafted").out
	require.Contains(t, matrix, "SILENT:")
	require.Regexp(t, `(?m)^mv-avocet-rtr, mv-godwit-rtr, mv-curlew-rtr +people`, matrix)
}
