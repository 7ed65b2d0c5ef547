package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowgate/internal/cli/clitest"

	"github.com/stretchr/testify/require"
)

// The change sheet of every device of the demo is tried in a lab, outage and all, and
// comes back ticked.
func TestTheSheetOfEachDeviceIsTriedAndTicked(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", network(t), "-state", "st", "demo/as-reviewed")
	t.Cleanup(func() { require.Equal(t, 130, lab.end(t)) })
	for _, device := range []string{"hq-fw-1", "north-rtr-1", "north-sw-1", "south-sw-1", "ashore-ap-1",
		"mv-avocet-rtr",
		"mv-curlew-rtr", "mv-godwit-rtr"} {
		t.Run(device, func(t *testing.T) {
			t.Parallel()
			try := func(to string, more ...string) result {
				return c.run(t, append([]string{"login", "-state", "st", "-device", device, "-from-site",
					"demo/as-reviewed/passwords", "-write", to}, more...)...)
			}
			r := try(device + ".md")
			require.Zero(t, r.status, r.out+r.err)
			text, err := os.ReadFile(filepath.Join(c.dir, device+".md"))
			require.NoError(t, err)
			ticked := strings.Count(string(text), "\n- [x] ")
			require.GreaterOrEqual(t, ticked, 11)
			require.NotContains(t, string(text), "seen: ____")
			require.Contains(t, unwrapped(r.out), "logins of "+device+" were as expected")
			r = try(device+".md", "-json")
			require.Zero(t, r.status)
			var again struct{ Total, Before int }
			clitest.Strictly(t, r.out, &again)
			require.Equal(t, []any{0, ticked}, []any{again.Total, again.Before}, "it goes on where it stopped")
		})
	}
}

// A login that comes out otherwise is named on the sheet, and the sheet waits for it.
func TestASheetSaysWhereALoginCameOutOtherwise(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", network(t), "-state", "st", "demo/as-reviewed")
	try := func() result {
		return c.run(t, "login", "-state", "st", "-device", "north-rtr-1", "-from-site", "passwords", "-no-outage",
			"-write",
			"sheet.html")
	}
	require.NoError(t, os.CopyFS(filepath.Join(c.dir, "passwords"), os.DirFS(filepath.Join(c.dir,
		"demo/as-reviewed/passwords"))))
	right, err := os.ReadFile(filepath.Join(c.dir, "passwords/tobin.reed"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "passwords/tobin.reed"), []byte("wrong"), 0o600))
	require.NoError(t, os.Remove(filepath.Join(c.dir, "passwords/harbourmaster")))
	r := try()
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, unwrapped(r.out), "it stopped at the first that differs")
	require.Contains(t, unwrapped(r.out), "mellowgate why -state st -device north-rtr-1 -person tobin.reed")
	page, err := os.ReadFile(filepath.Join(c.dir, "sheet.html"))
	require.NoError(t, err)
	require.Contains(t, string(page), `<tr class="not-so">`)
	require.Contains(t, string(page), "NOT AS EXPECTED: refused, after")
	require.NotContains(t, string(page), strings.TrimSpace(string(right)))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "passwords/tobin.reed"), right, 0o600))
	r = try()
	require.Zero(t, r.status, r.err)
	require.Contains(t, unwrapped(r.out), "were as expected, and 1 before")
	require.Contains(t, unwrapped(r.out), "not tried: no file passwords/harbourmaster")
	require.Contains(t, unwrapped(r.out), "not tried: the outage")
	require.Zero(t, c.run(t, "lab", "-state", "st", "-set", "tern silent").status)
	r = try()
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "the sheet begins with nothing wrong: mellowgate lab -lift all")
	require.Equal(t, 130, lab.end(t))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "sheet.html.seen.json"), []byte("{"), 0o600))
	require.Contains(t, c.run(t, "login", "-address", "127.0.0.1:1", "-device", "north-rtr-1", "-from-site",
		"passwords",
		"-write", "sheet.html", "demo/as-reviewed").err, "is damaged")
}
