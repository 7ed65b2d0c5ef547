package sitefile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatAProgramGivesReplacesAFileOnlyWhenItIsASiteWithoutAMistake(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path, script := filepath.Join(dir, "site.yaml"), filepath.Join(dir, "list.sh")
	require.NoError(t, os.WriteFile(path, []byte(`site: Test
devices-from: [{run: [./list.sh, now], into: devices.csv, every: 15m}]
`), 0o600))
	gives := func(lines ...string) {
		require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\n"+strings.Join(lines, "\n")+"\n"), 0o700))
	}
	refresh := func() ([]string, string) {
		changed, err := Refresh(t.Context(), path)
		if err != nil {
			return changed, err.Error()
		}
		return changed, ""
	}
	is := func(text string) {
		kept, err := os.ReadFile(filepath.Join(dir, "devices.csv"))
		require.NoError(t, err)
		require.Equal(t, text, string(kept))
	}
	const three = "name,addresses\nsw-1,192.0.2.1\nsw-2,192.0.2.2\nsw-3,192.0.2.3\n"
	gives(`test "$1" = now && printf '` + strings.ReplaceAll(three, "\n", `\n`) + `'`)
	changed, err := refresh()
	require.Empty(t, err)
	require.Equal(t, []string{"devices.csv"}, changed, "there was none before")
	is(three)
	s, _, bad := Load(path)
	require.NoError(t, bad)
	require.Len(t, s.Devices, 3)
	changed, err = refresh()
	require.Empty(t, changed)
	require.Empty(t, err)
	for _, c := range []struct{ gives, says string }{
		{`echo name,addresses; echo sw-1,here`, `it has mistakes, and the file stays as it was:` + "\n"},
		{`echo 'the door is shut' >&2; exit 3`, "the devices of devices.csv are not those that ./list.sh gives now: exit status 3 the door is shut"},
		{`echo name,addresses; echo sw-1,192.0.2.1`, "1 devices are left of 3, as after an export that broke off"},
		{`printf ''`, "0 devices are left of 3"},
	} {
		gives(c.gives)
		changed, err = refresh()
		require.Empty(t, changed)
		require.Contains(t, err, c.says)
		is(three)
	}
	gives("yes")
	_, err = refresh()
	require.Contains(t, err, "it gave more than ")
	require.NoError(t, os.Remove(script))
	_, err = refresh()
	require.Contains(t, err, "no such file")
	require.Len(t, Exports(path), 1)
	require.Empty(t, Exports(filepath.Join(dir, "none.yaml")))
}
