package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// oldSite has the words of 0.2 in every form in which they may stand.
const oldSite = `# kinds: the word of before in a comment stays
site: kinds and traits
keys: {k: clear a-key-of-twenty-two-letters}
servers: [{name: t, protocol: tacacs, address: 192.0.2.1, key: k}]
groups: [{name: g, servers: [t]}]
"kinds":   # with a remark
  - name: kind
    traits: {refusal: ends-list, "login-window": 20s, password-as: {tacacs: pap}}
lists: [{name: l, authenticate: login, methods: [group g, local]}]
accounts: [{name: keeper, level: 15, password: none}]
devices-from: devices.csv
devices:
  - {labels: {place: Küste}, name: sw-1, kind: kind, addresses: [192.0.2.11], access: {ssh: {login: l}}}
accept: [{code: depends-on-trait, why: known}]
`

func migrated(t *testing.T, site string) call {
	t.Helper()
	c := call{dir: t.TempDir()}
	for name, text := range map[string]string{"site.yaml": site,
		"devices.csv": "name;kind ;addresses\nsw-2;kind;192.0.2.12\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	return c
}

// A site of the version before is read, with one line that says so, and written in the words of this one.
func TestASiteOfTheVersionBeforeIsReadAndWrittenAnew(t *testing.T) {
	t.Parallel()
	c := migrated(t, oldSite)
	before := c.run(t, "foresee", "-json", "site.yaml")
	require.Zero(t, before.status, before.err)
	require.Equal(t, `site.yaml:6:1: "kinds" is now called "platforms", and 6 more; write the new words with: `+
		"mellowgate migrate site.yaml\n", before.err)
	dry := c.run(t, "migrate", "-dry-run", "site.yaml")
	require.Zero(t, dry.status, dry.err)
	require.Contains(t, dry.out, "site.yaml:8:34: login-window -> login-timeout\n")
	require.Contains(t, dry.out, "devices.csv:1:6: kind -> platform\n")
	require.Contains(t, dry.out, "7 words in 2 files would be changed; leave -dry-run out to change them\n")
	text, err := os.ReadFile(filepath.Join(c.dir, "site.yaml"))
	require.NoError(t, err)
	require.Equal(t, oldSite, string(text))

	done := c.run(t, "migrate", "site.yaml")
	require.Zero(t, done.status, done.err)
	require.Contains(t, done.out, "7 words in 2 files changed; as before: site.yaml.before, devices.csv.before\n"+
		"every login is foreseen as before\n")
	now, err := os.ReadFile(filepath.Join(c.dir, "site.yaml"))
	require.NoError(t, err)
	require.Equal(t, strings.NewReplacer(`"kinds":`, `"platforms":`, "    traits:", "    behaviour:", "login-window",
		"login-timeout", "password-as", "password-form", ", kind: kind", ", platform: kind", "depends-on-trait",
		"depends-on-behaviour").Replace(oldSite), string(now), "comments, order and layout stay")
	kept, err := os.ReadFile(filepath.Join(c.dir, "site.yaml.before"))
	require.NoError(t, err)
	require.Equal(t, oldSite, string(kept))
	table, err := os.ReadFile(filepath.Join(c.dir, "devices.csv"))
	require.NoError(t, err)
	require.Equal(t, "name;platform ;addresses\nsw-2;kind;192.0.2.12\n", string(table))
	after := c.run(t, "foresee", "-json", "site.yaml")
	require.Empty(t, after.err)
	require.Equal(t, before.out, after.out)
	again := c.run(t, "migrate", "site.yaml")
	require.Equal(t, []any{0, "site.yaml: every word is one of this version; nothing is changed\n"},
		[]any{again.status, again.out})
}

// The sites of the versions before are read and written anew, and mean what they meant.
func TestTheSitesOfVersionsBeforeMeanTheSame(t *testing.T) {
	t.Parallel()
	sites, err := filepath.Glob(here("testdata/versions/*.yaml"))
	require.NoError(t, err)
	require.Len(t, sites, 4)
	for _, path := range sites {
		t.Run(filepath.Base(path), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			c := migrated(t, string(text))
			before := c.run(t, "foresee", "-json", "site.yaml")
			require.Contains(t, before.err, "is now called")
			done := c.run(t, "migrate", "site.yaml")
			require.Zero(t, done.status, done.err)
			require.Contains(t, done.out, "every login is foreseen as before\n")
			after := c.run(t, "foresee", "-json", "site.yaml")
			require.NotContains(t, after.err, "is now called")
			require.Equal(t, before.out, after.out)
		})
	}
}

// A folder may have sites and phrasebooks: each is written anew where it has words of before.
func TestAFolderOfSitesAndPhrasebooksIsWrittenAnew(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	text, err := os.ReadFile(here("testdata/versions/0.2-as-drafted.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "demo/as-drafted/site.yaml"), text, 0o600))
	r := c.run(t, "migrate", "demo")
	require.Zero(t, r.status, r.err)
	for _, says := range []string{"demo/phrasebooks/quay-switch.yaml: every word is one of this version",
		"demo/as-reviewed: every word is one of this version", "kinds -> platforms\n",
		"23 words in 1 file changed; as before: demo/as-drafted/site.yaml.before\n"} {
		require.Contains(t, r.out, says)
	}
	require.NotContains(t, c.run(t, "migrate", "demo").out, "->")
	require.Equal(t, 2, c.run(t, "migrate", "demo/nowhere").status)
	book := filepath.Join(c.dir, "demo/phrasebooks/quay-switch.yaml")
	require.NoError(t, os.WriteFile(book, []byte("phrasebook: 1\nmake: [\n"), 0o600))
	broken := c.run(t, "migrate", "demo/phrasebooks/quay-switch.yaml")
	require.Equal(t, 2, broken.status)
	require.Contains(t, broken.err, "quay-switch.yaml:")
}

// What has both words for one thing is not guessed at, and nothing is changed.
func TestBothWordsForOneThingAreAMistake(t *testing.T) {
	t.Parallel()
	c := migrated(t, strings.Replace(oldSite, "devices-from:", "platforms: [{name: other}]\ndevices-from:", 1))
	for _, command := range []string{"check", "migrate"} {
		r := c.run(t, command, "site.yaml")
		require.Equal(t, 2, r.status)
		require.Contains(t, unwrapped(r.err), `"kinds" and "platforms" are the same key, which is now called `+
			`"platforms": the site file has both, the first in line 6; keep one`)
	}
	require.NoFileExists(t, filepath.Join(c.dir, "site.yaml.before"))
}

// An old word is known wherever somebody asks for it by its name.
func TestAnOldWordLeadsToTheNewOne(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "check", "-explain", "depends-on-trait")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "depends-on-trait is now called depends-on-behaviour.\n\ndepends-on-behaviour")
	r = c.run(t, "check", "-explain", "login-window")
	require.Contains(t, r.out, "login-window is now called login-timeout.\nIt is a word of the site file")
	r = c.run(t, "foresee", "-device", "hq-fw-1", "demo/as-reviewed")
	require.NotContains(t, r.err, "is now called")
}

// A flag of the version before does what it did, and says what it is called now.
func TestAFlagOfTheVersionBeforeIsTaken(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	for args, says := range map[string]string{
		"compare -over telnet -saved demo/saved -all demo/as-reviewed": "-over is now called -access\n",
		"login -patience=0s -address 127.0.0.1:1 -person ines":         "-patience is now called -timeout\n",
	} {
		r := c.run(t, strings.Fields(args)...)
		require.Contains(t, r.err, says)
		require.NotContains(t, r.err, "has no flag")
	}
	require.Contains(t, c.run(t, "check", "-patience", "1s").err, "check has no flag -patience")
}
