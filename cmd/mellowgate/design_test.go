package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCheckOnBothStatesOfTheDemo(t *testing.T) {
	c := demoSite(t)
	r := c.run(t, "check", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "nothing found: 8 devices, 20 ways in")
	r = c.run(t, "check", "demo/as-drafted/site.yaml")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "error    open-when-silent  demo/as-drafted/site.yaml:")
	require.Contains(t, strings.Join(strings.Fields(r.out), " "), "the same but for two characters swapped")
	require.LessOrEqual(t, widest(r.out), 100)

	r = c.run(t, "check", "-json", "demo/as-drafted")
	require.Equal(t, 1, r.status)
	var report struct {
		Findings []struct {
			Code, Severity, Device, Access, File, Text, Repair string
			Line, Column                                       int
		}
		Errors, Warnings, Notes int
	}
	strictly(t, r.out, &report)
	require.Equal(t, len(report.Findings), report.Errors+report.Warnings+report.Notes)
	require.Equal(t, "demo/as-drafted/site.yaml", report.Findings[0].File)
	require.Positive(t, report.Findings[0].Line*report.Findings[0].Column)
}

func TestForeseeNarrowsAndFits(t *testing.T) {
	c := demoSite(t)
	r := c.run(t, "foresee", "demo/as-reviewed")
	require.Zero(t, r.status)
	require.LessOrEqual(t, widest(r.out), 100)
	r = c.run(t, "foresee", "-json", "-device", "mv-avocet-rtr", "-through", "ssh", "-person", "master", "-silent", "sanderling,tern,plover", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	var cases struct {
		Cases []struct {
			Device, Access, Person, Outcome, By string
			When                                []struct{ Server, State string }
			Level                               int
			WaitSeconds                         float64 `json:"wait_seconds"`
			Steps                               []struct {
				Purpose, Method, Result, Reason string
				Seconds                         float64
			}
		}
	}
	strictly(t, r.out, &cases)
	require.Len(t, cases.Cases, 1)
	one := cases.Cases[0]
	require.Equal(t, []any{"in", 15, "local", 4.0, 3}, []any{one.Outcome, one.Level, one.By, one.WaitSeconds, len(one.When)})
	require.Equal(t, "group sea", one.Steps[0].Method)

	for _, bad := range [][]string{{"-device", "mv-avocet"}, {"-person", "ines"}, {"-through", "shh"}, {"-silent", "trn"}} {
		r := c.run(t, append(append([]string{"foresee"}, bad...), "demo/as-reviewed")...)
		require.Equal(t, 2, r.status, bad)
		require.NotEmpty(t, r.err)
	}
	require.Contains(t, c.run(t, "foresee", "-silent", "trn", "demo/as-reviewed").err, `no server "trn"; did you mean "tern"?`)
}

func TestANewSiteIsSafeAndRunsInALab(t *testing.T) {
	c := call{dir: t.TempDir()}
	require.Zero(t, c.run(t, "new", "my site").status)
	r := c.run(t, "check", "my site")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "nothing found")
	info, err := os.Stat(filepath.Join(c.dir, "my site", "keys", "gate.key"))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	again := c.run(t, "new", "my site")
	require.Equal(t, 2, again.status)
	require.Contains(t, again.err, "there already")

	lab := c.start(t, "lab", "-state", "st", "-network", "127.96.0.0/24", "my site")
	r = c.run(t, "login", "-state", "st", "-device", "switch-1", "-person", "first.admin", "-password-file", "my site/passwords/first.admin", "-command", "save")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "as expected: in at level 15")
	require.Equal(t, 130, lab.end(t))
}

func TestASiteWithoutDevicesProvesNothingAndRuns(t *testing.T) {
	c := call{dir: t.TempDir()}
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), []byte("site: Empty\n"), 0o600))
	r := c.run(t, "check")
	require.Zero(t, r.status)
	require.Contains(t, r.out, "the site has no device, so nothing is proven")
	require.Zero(t, c.run(t, "foresee").status)
	require.Zero(t, c.run(t, "lab", "-for", "10ms", "-network", "127.88.0.0/24", "-state", "st").status)
	require.Equal(t, 2, c.run(t, "serve").status)
	require.Equal(t, 1, c.run(t, "why", "-state", "st").status)
}

func TestAKeyWithoutAValueIsComparedByName(t *testing.T) {
	c := demoSite(t)
	require.NoError(t, os.RemoveAll(filepath.Join(c.dir, "demo/as-reviewed/keys")))
	r := c.run(t, "check", "demo/as-reviewed")
	require.Zero(t, r.status)
	require.Contains(t, r.err, "keys are then compared by name only")
}
