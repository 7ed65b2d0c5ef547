package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/testscale"
)

// The tutorial is one story: each call is run, in its order, in one folder.
func TestTheTutorialGoesAsItSays(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	const nothing = "^nothing found: 2 devices, 6 ways in, 3 states, 72 logins worked out"
	login := func(person string) string {
		return "mellowgate login -device switch-1 -person " + person + " -password-file my-site/passwords/" + person
	}
	cheap := func(t *testing.T, c call) { clitest.CheapHashes(t, filepath.Join(c.dir, "my-site")) }
	follow(t, c, "docs/tutorial.md", []printed{
		{call: "mellowgate new my-site", says: "my-site is a site to edit"},
		{call: "mellowgate check my-site", says: nothing, before: cheap},
		{call: "mellowgate check my-site", says: nothing},
		{call: "mellowgate foresee -device switch-1 my-site", says: "wayback .* gate-1, gate-2 silent +in +15 +local"},
		{call: "mellowgate lab my-site", as: "mellowgate lab -network " + network(t) + " my-site", says: "switch-2"},
		{call: login("first.admin"), says: "(?s)^first.admin at switch-1 by ssh: in at level 15 after 0.. s\n" +
			"as expected: in at level 15\n"},
		{call: "mellowgate lab -set 'gate-1 silent' -set 'gate-2 silent'", says: "gate-1 silent\ngate-2 silent"},
		{call: login("wayback"), says: "in at level 15(?s).*as expected: in at level 15, with gate-1 silent and " +
			"gate-2 silent"},
		{call: "mellowgate why", says: "gate-1(?s).*repair"},
		{call: "mellowgate lab -lift all", says: "is still left alone by switch-1 until"},
		{call: "mellowgate watch", status: 2, says: "draws on a terminal"},
	})
	text, err := os.ReadFile("../../docs/tutorial.md")
	require.NoError(t, err)
	require.Contains(t, string(text), "Eleven commands")
	for _, shown := range fence.FindAllStringSubmatch(string(text), -1) { // what is shown is what comes
		if first := strings.TrimSpace(strings.Split(shown[2], "\n")[0]); strings.HasPrefix(first, "nothing found") {
			require.Contains(t, c.run(t, "check", "my-site").out, first)
		}
	}
}

func TestEveryCallOfTheHowTosDoesWhatThePageSays(t *testing.T) {
	t.Parallel()
	testscale.Whole(t, "the calls of the README and of the guide")
	c := demoSite(t)
	const site = " demo/as-reviewed"
	c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	c.run(t, "login", "-device", "north-sw-1", "-person", "tobin.reed", "-password-file",
		"demo/as-reviewed/passwords/ines.marsh")
	at := func(call string) string {
		return strings.NewReplacer("main/site", "demo/as-drafted", " site", " demo/as-reviewed").Replace(call)
	}
	follow(t, c, "docs/take-over.md", []printed{
		{call: "mellowgate phrasebook new", as: "mellowgate phrasebook new my-make.yaml", says: "my-make.yaml"},
		{call: "mellowgate phrasebook try demo/phrasebooks/quay-switch.yaml demo/saved/north-sw-1.txt", says: "tern"},
		{call: "mellowgate demo -write demo", not: "the demo is there"},
		{call: "mellowgate new -from demo/saved -book demo/phrasebooks/quay-switch.yaml -book " +
			"demo/phrasebooks/hull-router.yaml estate", says: "estate"},
		{call: "mellowgate check estate", status: 1, says: "error"},
		{call: "mellowgate foresee -matrix estate", says: "(?i)all silent"},
		{call: "mellowgate compare -read demo/saved/mv-curlew-rtr.txt mv-curlew-rtr demo/as-reviewed", status: 1,
			says: "mv-curlew-rtr"},
		{call: "mellowgate foresee -compare demo/as-drafted demo/as-reviewed", status: 1, says: "full rights"},
	})
	require.FileExists(t, filepath.Join(c.dir, "estate", "questions.md"))
	require.FileExists(t, filepath.Join(c.dir, "estate", "site.schema.json"))
	follow(t, c, "docs/repository.md", []printed{
		{call: "mellowgate help keys", says: "seal NAME"},
		{call: "mellowgate check -format annotations site", as: at("mellowgate check -format annotations site"),
			says: "^$"},
		{call: "mellowgate check -format sarif site > findings.sarif", as: at("mellowgate check -format sarif site"),
			says: `"2.1.0"`},
		{call: "mellowgate check -format junit site > findings.xml", as: at("mellowgate check -format junit site"),
			says: "<testsuite"},
		{call: "mellowgate foresee -compare main/site site", as: at("mellowgate foresee -compare main/site site"),
			status: 1,
			says:   "full rights"},
		{call: "mellowgate report -write report.html site", as: "mellowgate report -write report.html" + site,
			says: "report.html has the report"},
		{call: "mellowgate new -schema > site.schema.json", as: "mellowgate new -schema", says: "json-schema.org"},
	})
	follow(t, c, "docs/monitoring.md", []printed{
		{call: "mellowgate watch -state /var/lib/mellowgate", as: "mellowgate watch", status: 2,
			says: "draws on a terminal"},
		{call: "mellowgate why -state /var/lib/mellowgate -all", as: "mellowgate why -all", says: "wrong-password"},
	})
	follow(t, c, "docs/keeping.md", []printed{
		{call: "mellowgate help keys", says: "seal NAME"},
		{call: "mellowgate ledger heads -json", says: `"newest": \d+`},
		{call: "mellowgate ledger verify -state mellowgate-state", says: "every record is as it was written"},
		{call: "mellowgate ledger export -state mellowgate-state -to copied", says: "copied"},
		{call: "mellowgate ledger verify -records copied", says: "every record is as it was written"},
		{call: "mellowgate ledger heads -json -state mellowgate-state", says: `"newest": \d+`},
		{call: "mellowgate check SITE", as: "mellowgate check" + site, says: "^nothing found"},
		{call: "mellowgate ledger verify -state STATE", as: "mellowgate ledger verify -state mellowgate-state",
			says: "every record is as it was written"},
	})
	follow(t, c, "docs/hardening.md", []printed{
		{call: "mellowgate check SITE", as: "mellowgate check" + site, says: "^nothing found"},
		{call: "mellowgate keys make", as: "mellowgate keys make -into another.key"},
		{call: "mellowgate help keys", says: "seal NAME"},
		{call: "mellowgate drill -faults -device hq-fw-1 demo/as-reviewed",
			as:   "mellowgate drill -faults -network " + another(t) + " -device hq-fw-1 -person ines.marsh" + site,
			says: "came out as foreseen"},
	})
	follow(t, c, "docs/jump-hosts.md", []printed{
		{call: "mellowgate help send", says: "-address"},
		{call: "mellowgate ask -server SERVER -as DEVICE -person YOU SITE", as: "mellowgate ask -server tern -as " +
			"north-sw-1 -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh" + site,
			says: "accepted by tern"},
	})
	follow(t, c, "docs/two-nodes.md", []printed{
		{call: "mellowgate serve -only tern -state /var/lib/mellowgate site",
			not: "a host of its own; tests of two nodes run it"},
		{call: "mellowgate serve -only plover -state /var/lib/mellowgate site", not: "a host of its own"},
		{call: "mellowgate foresee -silent tern", as: "mellowgate foresee -silent tern" + site, says: "plover"},
	})
	follow(t, c, "docs/findings.md", []printed{
		{call: "go run ./cmd/mellowgate help -reference findings > docs/findings.md",
			as: "mellowgate help -reference findings", says: "^# Findings"},
		{call: "mellowgate check -explain CODE", as: "mellowgate check -explain one-server", says: "It is found here"},
	})
}
