package cli_test

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheChangeSheetStandsInTheSafeOrderAndSaysWhatEachLoginMustShow(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "sheet", "mv-avocet-rtr", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	last := 0
	for _, part := range []string{"Keep a session open", "timed way back",
		"Make the local account master with level 15",
		"Server sanderling: radius, 192.0.2.23, ports 1812 and 1813, the key ship-key",
		"Group shore, in this order: tern, plover.", "List deck for login: group sea, then group shore, then local.",
		"Let ssh use: login deck",
		"- [ ] ssh, ines.marsh, right password: in, level 15, by sanderling; seen:",
		"- [ ] ssh, tobin.reed, right password: in, level 1,",
		"- [ ] ssh, any name, wrong password: refused,",
		"- [ ] ssh, master, right password: refused, by sanderling;", "The outage, on purpose",
		"- [ ] ssh, master, right password: in, level 15, by local, after 4s (0s while servers rest);",
		"Let console use: login deck", "Records", "Save on the device.", "End the timer."} {
		at := strings.Index(r.out, part)
		require.Greater(t, at, last, part)
		last = at
	}
	r = c.run(t, "sheet", "mv-avocet-rtr", "demo/as-drafted")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "check finds 2 errors for mv-avocet-rtr (gives-up-first, commands-stuck)")
	r = c.run(t, "sheet", "mv-avocet", "demo/as-reviewed")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, `did you mean "mv-avocet-rtr"?`)
	require.Equal(t, 2, c.run(t, "steps").status)

	r = c.run(t, "sheet", "-html", "mv-avocet-rtr", "demo/as-reviewed")
	require.Zero(t, r.status)
	require.NotContains(t, r.out, "http", "the page needs nothing from elsewhere")
	require.Contains(t, r.out, `<input type="checkbox"`)
	require.Regexp(t, `revision</dt><dd>[0-9a-f]{12} of demo/as-reviewed`, r.out)
	d := xml.NewDecoder(strings.NewReader(r.out))
	d.Strict = false
	d.AutoClose = xml.HTMLAutoClose
	d.Entity = xml.HTMLEntity
	for {
		if _, err := d.Token(); err != nil {
			require.Equal(t, "EOF", err.Error())
			break
		}
	}
}

func TestADesignIsRenderedAsDataOrByATemplate(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "render", "-model", "ietf", "north-sw-1", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, `"ietf-system-tacacs-plus:tacacs-plus"`)
	require.Contains(t, r.out, "the-value-of-the-key-shore-key")
	require.Contains(t, r.err, "not carried: crew-commands: the model has no commands list")
	r = c.run(t, "render", "-model", "openconfig", "-format", "xml", "-with-keys", "mv-avocet-rtr", "demo/as-reviewed")
	require.Zero(t, r.status)
	key, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/keys/ship.key"))
	require.NoError(t, err)
	require.Contains(t, r.out, "<secret-key>"+strings.TrimSpace(string(key))+"</secret-key>")
	require.NotContains(t, r.err, strings.TrimSpace(string(key)))

	own := filepath.Join(c.dir, "own.tmpl")
	require.NoError(t, os.WriteFile(own,
		[]byte("device {{.Name}}\n{{range .Servers}}server {{.Name}} {{.Address}} key {{key .Key}}\n{{end}}{{range "+
			".Lists}}{{.Name}}: {{join .Methods \", \"}}\n{{end}}"), 0o600))
	r = c.run(t, "render", "-template", own, "north-sw-1", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "device north-sw-1\nserver tern 192.0.2.21 key the-value-of-the-key-shore-key\n")
	require.Contains(t, r.out, "crew: group shore, local\n")
	require.NoError(t, os.WriteFile(own, []byte("{{.Platform}} {{.Kind}}"), 0o600))
	require.Equal(t, "pier-switch pier-switch",
		strings.TrimSpace(c.run(t, "render", "-template", own, "north-sw-1", "demo/as-reviewed").out))
	require.NoError(t, os.WriteFile(own, []byte("{{.Nmae}}"), 0o600))
	r = c.run(t, "render", "-template", own, "north-sw-1", "demo/as-reviewed")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "own.tmpl:1:")
	for _, bad := range [][]string{{"-model", "other"}, {"-format", "yaml"}, {"-template", "none.tmpl"}} {
		require.Equal(t, 2, c.run(t, append(append([]string{"render"}, bad...), "north-sw-1",
			"demo/as-reviewed")...).status,
			bad)
	}
	r = c.run(t, "new", "-schema")
	require.Zero(t, r.status)
	var schema struct {
		Properties map[string]any
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &schema))
	require.Contains(t, schema.Properties, "elevation-secrets")
	shipped, err := os.ReadFile(here("../../docs/site.schema.json"))
	require.NoError(t, err)
	require.Equal(t, r.out, string(shipped), "make it again: go run ./cmd/mellowgate new -schema > "+
		"docs/site.schema.json")
}
