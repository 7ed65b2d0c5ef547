package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// A clock time that a day has twice, or not at all, is not guessed.
func TestTimesAtWhichSummerTimeBeginsAndEndsAreAskedBack(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	c.env = []string{"TZ=Europe/Dublin"}
	for at, says := range map[string]string{
		"2026-10-25T01:30": "01:30 is twice on 2026-10-25, as summer time ends; say which: 2026-10-25T01:30+01:00 " +
			"or 2026-10-25T01:30Z",
		"2026-03-29T01:30": "on 2026-03-29 the clocks of this host go past 01:30, as summer time begins",
	} {
		for _, args := range [][]string{{"ledger", "-since", at}, {"foresee", "-at", at, "demo/as-reviewed"},
			{"why", "-at", at, "-device", "north-sw-1", "demo/as-reviewed"}} {
			r := c.run(t, args...)
			require.Equal(t, 2, r.status, "%v: %s", args, r.err)
			require.Contains(t, unwrapped(r.err), says, "%v", args)
		}
	}
	for _, at := range []string{"2026-10-25T01:30Z", "2026-10-25T01:30+01:00", "2026-10-25T03:30"} {
		require.Zero(t, c.run(t, "foresee", "-at", at, "-device", "hq-fw-1", "demo/as-reviewed").status, at)
	}
}
