package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The first hour with a starter site: what is broken is taken into account, a
// question of our own is no login of a device, a server that is left alone is
// resting until its dead-time ends, and a lab that has ended is noticed.
func TestAFirstHourWithALab(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	c.newSite(t, "mine")
	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "mine")
	by := func(command string, args ...string) result {
		return c.run(t, append([]string{command, "-state", "st", "-person", "first.admin", "-password-file",
			"mine/passwords/first.admin"}, args...)...)
	}
	r := by("ask", "-server", "gate-1", "-as", "switch-1")
	require.Zero(t, r.status, r.err)
	require.Equal(t, "gate-1 silent\ngate-2 slow 100ms\n",
		c.run(t, "lab", "-state", "st", "-set", "gate-1 silent", "-set", "gate-2 slow 100ms").out)
	r = by("login", "-device", "switch-1")
	require.Zero(t, r.status, r.out)
	require.Contains(t, r.out, "as expected: in at level 15, with gate-1 silent\n")
	r = c.run(t, "why", "-state", "st")
	require.True(t, strings.HasPrefix(r.out, "unreachable: switch-1 to server gate-1\n"), r.out)
	require.NotContains(t, r.out, "too-slow")
	require.NotContains(t, r.out, "clock")

	r = c.run(t, "lab", "-state", "st", "-lift", "all")
	require.Regexp(t, `^no fault is in effect\ngate-1 is still left alone by switch-1 until \d\d:\d\d:\d\d, when its dead-time `+
		`ends\n$`, r.out)
	r = by("login", "-device", "switch-1")
	require.Zero(t, r.status, r.out)
	require.Regexp(t, `as expected: in at level 15, with gate-1 left alone until \d\d:\d\d:\d\d\n`, r.out)
	r = c.run(t, "why", "-state", "st")
	require.Regexp(t, `^resting: switch-1 to server gate-1\n  switch-1 leaves gate-1 alone until \d\d:\d\d:\d\d: gate-1 gave no `+
		`answer at \d\d:\d\d:\d\d \(silent\)`, r.out)

	// Every server silent: the person is refused, as is foreseen, and the local account gets in.
	c.run(t, "lab", "-state", "st", "-set", "gate-1 closed", "-set", "gate-2 closed")
	require.Contains(t, by("login", "-device", "switch-2").out,
		"as expected: refused, with gate-1 closed and gate-2 closed\n")
	r = c.run(t, "login", "-state", "st", "-device", "switch-2", "-person", "wayback", "-password-file",
		"mine/passwords/wayback")
	require.Contains(t, r.out, "as expected: in at level 15, with gate-1")
	r = by("login", "-device", "switch-2", "-expect", "in")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out,
		"not as expected: in was expected\nnext: mellowgate why -state st -device switch-2 -person first.admin\n")
	c.run(t, "lab", "-state", "st", "-set", "gate-1 no-authentication")
	r = by("login", "-device", "switch-2")
	require.Contains(t, r.err,
		"in the lab is in effect: gate-1 no-authentication; what that does to a login is not foreseen")
	require.Contains(t, r.out, "nothing was foreseen")

	lab.end(t)
	for _, r := range []result{by("login", "-device", "switch-1"), by("ask", "-server", "gate-1", "-as", "switch-1"),
		by("compare", "switch-1"), by("send", "switch-1"),
		by("login", "-device", "switch-1", "-from-site", "mine/passwords")} {
		require.Equal(t, 3, r.status, r.err)
		require.Contains(t, r.err,
			"the lab of the state folder st has ended; start it again: mellowgate lab -state st ")
	}
	require.NoError(t, os.Rename(filepath.Join(c.dir, "st"), filepath.Join(c.dir, "mellowgate-state")))
	r = c.run(t, "ask", "-server", "gate-1", "-question", "session", "-person", "first.admin", "mine/nowhere")
	require.Contains(t, r.err, "a lab ran here and has ended; the servers of the site itself are asked")
}
