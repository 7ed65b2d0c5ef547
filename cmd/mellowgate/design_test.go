package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestANewSiteIsSafeAndRunsInALab(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	c.newSite(t, "my site")
	r := c.run(t, "check", "my site")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "nothing found")
	info, err := os.Stat(filepath.Join(c.dir, "my site", "keys", "gate.key"))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	again := c.run(t, "new", "my site")
	require.Equal(t, 2, again.status)
	require.Contains(t, again.err, "there already")

	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "my site")
	r = c.run(t, "login", "-state", "st", "-device", "switch-1", "-person", "first.admin", "-password-file",
		"my site/passwords/first.admin", "-command", "save")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "as expected: in at level 15")
	require.Equal(t, 130, lab.end(t))
}

func TestASiteWithoutDevicesProvesNothingAndRuns(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), []byte("site: Empty\n"), 0o600))
	r := c.run(t, "check")
	require.Zero(t, r.status)
	require.Contains(t, r.out, "the site has no device, so nothing is proven")
	require.Zero(t, c.run(t, "foresee").status)
	require.Zero(t, c.run(t, "lab", "-for", "10ms", "-network", network(t), "-state", "st").status)
	require.Equal(t, 2, c.run(t, "serve").status)
	require.Equal(t, 1, c.run(t, "why", "-state", "st").status)
}
