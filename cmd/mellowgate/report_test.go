package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"mellowgate/internal/live/lab/labtest"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
)

// page reads an HTML page: it must be well formed as far as its elements close,
// load nothing, and hold no secret of the demo.
func page(t *testing.T, c call, text string) string {
	_, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	elsewhere := regexp.MustCompile(`src=|href="[^#]|url\(|<script|@import`)
	require.NotRegexp(t, elsewhere, text, "nothing is loaded from elsewhere")
	for _, folder := range []string{"demo/as-reviewed/keys", "demo/as-reviewed/passwords"} {
		files, err := os.ReadDir(filepath.Join(c.dir, folder))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			secret, err := os.ReadFile(filepath.Join(c.dir, folder, f.Name()))
			require.NoError(t, err)
			require.NotContains(t, text, strings.TrimSpace(string(secret)))
		}
	}
	require.NotContains(t, text, "$argon2id$")
	return text
}

func TestAReportIsOnePageOfTheSite(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "report", "demo/as-drafted")
	require.Zero(t, r.status, r.err)
	text := page(t, c, r.out)
	for _, part := range []string{"Saltmarsh Ferries: who gets in", "open-when-silent",
		`<b class="bad">5</b>errors in the design`, "mv-curlew-rtr", `class="edge bad"`, "<td class=\"bad\">nobody</td>",
		"team network", "5 errors, 7 warnings, 2 notes"} {
		require.Contains(t, text, part)
	}
	require.Regexp(t, `demo/as-drafted, revision [0-9a-f]{12}\.`, text)
	for _, device := range []string{"ashore-ap-1", "hq-fw-1", "mv-avocet-rtr", "mv-curlew-rtr", "mv-godwit-rtr",
		"north-rtr-1", "north-sw-1", "south-sw-1"} {
		require.Contains(t, text, `<td data-h="device">`+device+"</td>")
	}
	require.Regexp(t, `hq-fw-1</td>.*class="careful">console</span>, tern, plover</td>`, text, "at worst, and when")
	links := regexp.MustCompile(`href="#([^"]+)"`).FindAllStringSubmatch(text, -1)
	require.Greater(t, len(links), 15)
	for _, link := range links {
		require.Equal(t, 1, strings.Count(text, ` id="`+link[1]+`"`), "%s leads to one place", link[1])
	}
	require.Contains(t, text, `<a href="#no-way-back">no-way-back</a>`)
	require.NotContains(t, text, "What went wrong lately")
	require.NotContains(t, text, "The drill")

	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	wrong := c
	wrong.stdin = "not the password\n"
	require.Equal(t, 1, wrong.run(t, "login", "-state", "st", "-device", "north-sw-1", "-person", "ines.marsh").status)
	drilled := c.run(t, "drill", "-json", "-device", "hq-fw-1", "-person", "ines.marsh", "-network",
		labtest.Network(t).String(),
		"demo/as-reviewed")
	require.Zero(t, drilled.status, drilled.err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "drill.json"), []byte(drilled.out), 0o600))
	r = c.run(t, "report", "-state", "st", "-drill", "drill.json", "-write", "report.html", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	written, err := os.ReadFile(filepath.Join(c.dir, "report.html"))
	require.NoError(t, err)
	text = page(t, c, string(written))
	for _, part := range []string{"Nothing found: 8 devices", "1 login, 0 of them with nothing wrong", "wrong-password",
		"logins came out as foreseen, with real packets", "Every one is as it was written", "newest record 1, "} {
		require.Contains(t, text, part)
	}
	for args, says := range map[string]string{
		"-write report.html demo/as-reviewed":                "is there already; name a new file",
		"-drill demo/as-reviewed/site.yaml demo/as-reviewed": "holds no drill",
		"-drill none demo/as-reviewed":                       "the drill cannot be read",
		"-state none demo/as-reviewed":                       "none is not a state folder",
		"-since soon demo/as-reviewed":                       "-since is \"soon\""} {
		r := c.run(t, append([]string{"report"}, strings.Fields(args)...)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, says)
	}
	require.Equal(t, 130, lab.end(t))
}
