package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var makeExamples = flag.Bool("make-examples", false, "write docs/json-examples.md anew; read what has changed in it")

// examplesHead begins the page.
const examplesHead = `# JSON: an example of each

*All pages: [README.md](README.md)*

What each name means stands in [json.md](json.md). These are real results of the demo, made by a test
(§go test ./cmd/mellowgate -run JSONExamples -make-examples§): of each list only the first value is shown, and times,
addresses of the lab, hashes and durations are made the same in every run.
`

// exampleCalls are run as they are shown, in this order.
var exampleCalls = []struct{ about, call string }{
	{"check", "check -json demo/as-drafted"},
	{"check, of a site with mistakes", "check -json mistaken.yaml"},
	{"foresee", "foresee -json -device mv-avocet-rtr -access ssh -person master demo/as-reviewed"},
	{"foresee -matrix", "foresee -json -matrix -device mv-avocet-rtr demo/as-reviewed"},
	{"foresee -load", "foresee -json -load demo/as-reviewed"},
	{"foresee -compare", "foresee -json -compare demo/as-drafted demo/as-reviewed"},
	{"keys list", "keys list -json demo/as-reviewed"},
	{"keys compare", "keys compare -json shore-key ship-key demo/as-reviewed"},
	{"ask", "ask -json -server tern -as north-sw-1 -person ines.marsh -password-file " +
		"demo/as-reviewed/passwords/ines.marsh demo/as-reviewed"},
	{"ask -count", "ask -json -server sanderling -as mv-avocet-rtr -question status -count 20 demo/as-reviewed"},
	{"ask -explain", "ask -json -explain -as north-sw-1 -person tobin.reed demo/as-reviewed"},
	{"login", "login -json -device north-sw-1 -person tobin.reed -password-file " +
		"demo/as-reviewed/passwords/tobin.reed -command 'look secrets'"},
	{"login, with a wrong password", "login -json -device north-sw-1 -person ines.marsh -password-file " +
		"demo/as-reviewed/passwords/tobin.reed"},
	{"why", "why -json -person ines.marsh"},
	{"why -all", "why -all -json"},
	{"listen", "listen -json"},
	{"ledger", "ledger -json -last 1"},
	{"ledger failures", "ledger failures -json"},
	{"ledger sessions", "ledger sessions -json"},
	{"ledger commands", "ledger commands -json"},
	{"ledger verify", "ledger verify -json"},
	{"ledger heads", "ledger heads -json"},
	{"lab -set", "lab -json -set 'plover silent'"},
	{"lab -lift", "lab -json -lift all"},
	{"compare", "compare -json -read demo/saved/mv-curlew-rtr.txt mv-curlew-rtr demo/as-reviewed"},
	{"phrasebook try", "phrasebook try -json demo/phrasebooks/quay-switch.yaml demo/saved/north-sw-1.txt"},
	{"phrasebook check", "phrasebook check -json demo/phrasebooks/quay-switch.yaml demo/saved/north-sw-1.txt"},
	{"learn -plan", "learn -json -plan -device hq-fw-1 pier-switch demo/as-reviewed"},
	{"version", "version -json"},
}

func TestJSONExamplesAreWhatComes(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "mistaken.yaml"), []byte("site: S\nserver: []\n"), 0o600))
	c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	var page bytes.Buffer
	page.WriteString(strings.ReplaceAll(examplesHead, "§", "`"))
	for _, e := range exampleCalls {
		r := c.run(t, words(e.call)...)
		require.Contains(t, []int{0, 1, 2}, r.status, "%s: %s", e.call, r.err)
		var v any
		d := json.NewDecoder(strings.NewReader(r.out)) // of JSON Lines the first one
		d.UseNumber()
		require.NoError(t, d.Decode(&v), "%s: %s", e.call, r.err)
		text, err := json.MarshalIndent(same("", v), "", "  ")
		require.NoError(t, err)
		plain := strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(text))
		fmt.Fprintf(&page, "\n## %s\n\n```\nmellowgate %s\n```\n\n```json\n%s\n```\n", e.about, e.call, plain)
	}
	const path = "../../docs/json-examples.md"
	if *makeExamples {
		require.NoError(t, os.WriteFile(path, page.Bytes(), 0o600))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, string(want), page.String(), "make it again, and read what has changed: -make-examples")
}

// unstable are the parts of texts that differ from run to run, and what stands for them.
var unstable = []struct {
	is   *regexp.Regexp
	same string
}{
	{regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)`), "2026-03-04T03:09:01Z"},
	{regexp.MustCompile(`\b\d\d:\d\d:\d\d\b`), "03:09:01"},
	{regexp.MustCompile(`\b127\.\d+\.\d+\.\d+:\d+`), "127.77.0.10:49"},
	{regexp.MustCompile(`\b127\.\d+\.\d+\.\d+`), "127.77.0.10"},
	{regexp.MustCompile(`\b[0-9a-f]{12,}\b`), "0f1e2d3c4b5a6978"},
	{regexp.MustCompile(`\b\d+\.\d+ s\b`), "0.1 s"},
	{regexp.MustCompile(`north-(sw|rtr)-1-[0-9a-f]+-\d+`), "north-sw-1-0a1b2c3d-1"},
}

// changing are the names whose values differ from run to run or from machine to machine.
var changing = map[string]any{"go": "go1.26", "system": "linux", "machine": "amd64", "version": "0.2.0",
	"revision": "0f1e2d3c4b5a6978", "changed": false, "session": "north-sw-1-0a1b2c3d-1", "node": "tern",
	"host": "gate-host", "serve_takes_questions": 16000, "made": "2026-03-04T03:09:01Z"}

// same returns a value of JSON with one value of each list, and without what differs from
// run to run.
func same(name string, v any) any {
	if fixed, is := changing[name]; is && v != nil {
		return fixed
	}
	switch v := v.(type) {
	case map[string]any:
		for key, inner := range v {
			v[key] = same(key, inner)
		}
		return v
	case []any:
		if len(v) > 1 {
			v = v[:1]
		}
		for i := range v {
			v[i] = same("", v[i])
		}
		return v
	case json.Number:
		if strings.Contains(v.String(), ".") || strings.HasSuffix(name, "seconds") || name == "min" || name == "max" {
			return 0.1
		}
		if n, _ := v.Int64(); n > 1<<20 || name == "count" && n > 1 {
			return 20
		}
	case string:
		for _, u := range unstable {
			v = u.is.ReplaceAllString(v, u.same)
		}
		return v
	}
	return v
}
