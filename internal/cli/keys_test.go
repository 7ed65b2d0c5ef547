package cli_test

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age/armor"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/testscale"
)

func TestKeysAreMadeSealedListedAndCompared(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	one, two := c.run(t, "keys", "make").out, c.run(t, "keys", "make", "-length", "64").out
	require.Len(t, strings.TrimSpace(one), 32)
	require.Len(t, strings.TrimSpace(two), 64)
	require.Regexp(t, `^[a-zA-Z2-9]+\n$`, one)
	require.NotRegexp(t, `[lIO01o]`, one+two)
	require.Equal(t, 2, c.run(t, "keys", "make", "-length", "8").status)

	c.newSite(t, "mine")
	require.Zero(t, c.run(t, "keys", "identity", "id.txt").status)
	require.Zero(t, c.run(t, "keys", "identity", "other.txt").status)
	c.env = append(c.env, "MELLOWGATE_IDENTITY="+filepath.Join(c.dir, "id.txt"))
	r := c.run(t, "keys", "seal", "gate-key", "mine")
	require.Zero(t, r.status, r.err)
	site := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(site)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(site, []byte(strings.Replace(string(text), "file keys/gate.key", "sealed", 1)),
		0o600))
	value, err := os.ReadFile(filepath.Join(c.dir, "mine/keys/gate.key"))
	require.NoError(t, err)
	sealed, err := os.ReadFile(filepath.Join(c.dir, "mine/keys.sealed"))
	require.NoError(t, err)
	require.NotContains(t, string(sealed), strings.TrimSpace(string(value)))
	require.Contains(t, string(sealed), "BEGIN AGE ENCRYPTED FILE")

	require.Zero(t, c.run(t, "check", "mine").status)
	r = c.run(t, "keys", "list", "mine")
	require.Regexp(t, `gate-key +sealed +known +0 days +gate-1, gate-2`, r.out)
	require.Equal(t, string(value), c.run(t, "keys", "unseal", "-into", "-", "gate-key", "mine").out)
	require.Equal(t, 2, c.run(t, "keys", "unseal", "gate-key", "mine").status, "it never shows a secret unasked")

	c.env[len(c.env)-1] = "MELLOWGATE_IDENTITY=" + filepath.Join(c.dir, "other.txt")
	r = c.run(t, "check", "mine")
	require.Contains(t, r.err, "it is sealed for another identity, or the passphrase is wrong")
	c.env = c.env[:len(c.env)-1]
	require.Contains(t, c.run(t, "check", "mine").err, "name the identity file in $MELLOWGATE_IDENTITY")

	r = c.run(t, "keys", "compare", "shore-key", "ship-key", "demo/as-reviewed")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "shore-key and ship-key differ: ")
	require.Zero(t, c.run(t, "keys", "compare", "ship-key", "ship-key", "demo/as-reviewed").status)
	require.Contains(t, c.run(t, "keys", "compare", "ship-key", "shp-key", "demo/as-reviewed").err,
		`did you mean "ship-key"?`)
	require.Equal(t, 2, c.run(t, "keys", "lst").status)
}

func TestKeysAreSealedWithAPassphraseToo(t *testing.T) {
	t.Parallel()
	testscale.Whole(t, "what a passphrase does, in the package secrets")
	c := demoSite(t)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "phrase"), []byte("four plain words here\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "wrong"), []byte("four other words here\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), []byte("site: x\nkeys: {k: sealed}\n"), 0o600))
	r := c.run(t, "keys", "seal", "k")
	require.Equal(t, 3, r.status)
	require.Contains(t, r.err, "$MELLOWGATE_PASSPHRASE_FILE")
	c.env = append(c.env, "MELLOWGATE_PASSPHRASE_FILE=phrase")
	r = c.run(t, "keys", "seal", "k")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `k +sealed +known`, c.run(t, "keys", "list").out)
	file, err := os.ReadFile(filepath.Join(c.dir, "keys.sealed"))
	require.NoError(t, err)
	sealed, err := io.ReadAll(armor.NewReader(bytes.NewReader(file)))
	require.NoError(t, err)
	require.Regexp(t, `-> scrypt \S+ 18\n`, string(sealed), "to try a passphrase takes about a second")
	c.env[len(c.env)-1] = "MELLOWGATE_PASSPHRASE_FILE=wrong"
	require.Contains(t, c.run(t, "keys", "list").err, "the passphrase is wrong")
}

func TestAHashIsMadeOfAPasswordThatIsNotShown(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	c.stdin = "a long password of this test\n"
	for form, start := range map[string]string{"argon2id": "$argon2id$", "sha512-crypt": "$6$"} {
		r := c.run(t, "keys", "hash", "-form", form)
		require.Zero(t, r.status, r.err)
		require.True(t, strings.HasPrefix(r.out, `"`+start), r.out)
	}
	require.Equal(t, 2, c.run(t, "keys", "hash", "-form", "plain").status)
	c.stdin = "\n"
	require.Equal(t, 2, c.run(t, "keys", "hash").status)
}

func TestAKeyIsChangedWithoutAnOutage(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	change := func(verb string, more ...string) result {
		return c.run(t, append(append([]string{"keys"}, more...), "change", "shore-key", verb, "demo/as-reviewed")...)
	}
	require.Equal(t, 2, change("status").status, "it has not begun")
	r := change("begin")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "tern, plover take both from now on")
	text, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/site.yaml"))
	require.NoError(t, err)
	require.Contains(t, string(text), "key: {now: shore-key, next: shore-key-2}")
	require.Contains(t, string(text), "# head office", "comments stay")
	require.Zero(t, c.run(t, "check", "demo/as-reviewed").status)
	require.Equal(t, 2, change("begin").status, "it has begun already")

	// What the servers noted: one device with each key, the others not at all.
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "st"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "st/places.json"), []byte("{}"), 0o600))
	var lines []byte
	note := func(device, key string, at int64, server string) {
		line, err := json.Marshal(evidence.Event{Time: time.Unix(at, 0), Server: server, Device: device, Key: key})
		require.NoError(t, err)
		lines = append(append(lines, line...), '\n')
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, "st/events.jsonl"), lines, 0o600))
	}
	note("hq-fw-1", "shore-key", 100, "tern")
	note("north-rtr-1", "shore-key", 100, "tern")
	note("north-rtr-1", "shore-key-2", 200, "tern")
	note("north-rtr-1", "shore-key", 300, "plover")
	r = change("status", "-state", "st")
	require.Equal(t, 1, r.status, r.err)
	require.Regexp(t, `hq-fw-1 +tern +01-01 00:01:40 +the old key shore-key`, r.out)
	require.Regexp(t, `north-rtr-1 +tern +01-01 00:03:20 +the new key shore-key-2`, r.out)
	require.Regexp(t, `north-rtr-1 +plover +01-01 00:05:00 +the old key shore-key`, r.out, "a device has a key for each")
	require.Regexp(t, `north-sw-1 +tern +- +not seen yet`, r.out)
	require.Contains(t, unwrapped(r.out), "plover is asked only when tern gives no answer")
	require.Equal(t, 2, change("finish", "-state", "st").status)
	for _, d := range []string{"hq-fw-1", "north-sw-1", "south-sw-1", "ashore-ap-1", "mv-avocet-rtr", "mv-curlew-rtr",
		"mv-godwit-rtr", "north-rtr-1"} {
		note(d, "shore-key-2", 300, "tern")
	}
	r = change("finish", "-state", "st")
	require.Equal(t, 2, r.status, "the second server would be silent to them")
	require.Contains(t, unwrapped(r.err), "hq-fw-1 still uses the old key with plover, or was never seen there")
	for _, d := range []string{"hq-fw-1", "north-sw-1", "south-sw-1", "ashore-ap-1", "mv-avocet-rtr", "mv-curlew-rtr",
		"mv-godwit-rtr", "north-rtr-1"} {
		note(d, "shore-key-2", 400, "plover")
	}
	require.Zero(t, change("status", "-state", "st").status)
	r = change("finish", "-state", "st")
	require.Zero(t, r.status, r.err)
	text, err = os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/site.yaml"))
	require.NoError(t, err)
	require.Contains(t, string(text), "key: shore-key-2\n")
	require.NotContains(t, string(text), "now:")
}

func TestMistakesWithKeysLoseNothing(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "phrase"), []byte("four plain words here\n"), 0o600))
	c.env = append(c.env, "MELLOWGATE_PASSPHRASE_FILE=phrase")
	path := filepath.Join(c.dir, "demo/as-reviewed/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path,
		[]byte(strings.Replace(string(text), "file keys/ship.key", "env SHIP_KEY_OF_NOBODY", 1)), 0o600))
	for _, m := range []struct {
		args, says string
		status     int
	}{
		{"seal shpi-key", `the site has no key "shpi-key"; did you mean "ship-key"?`, 2},
		{"seal ship-key", "has no value here (env SHIP_KEY_OF_NOBODY), so there is nothing to seal", 2},
		{"unseal -into - shore-key", "no key is sealed yet; seal one with: mellowgate keys seal NAME", 3},
		{"change shoer-key begin", `did you mean "shore-key"?`, 2},
		{"change shore-key finish", "the key shore-key is not being changed", 2},
		{"change shore-key strat", `takes begin, status or finish, and not "strat"`, 2},
		{"compare shore-key", "usage: mellowgate keys compare NAME NAME [SITE]", 2},
		{"make -length 100", "16 to 64 is wanted", 2},
		{"identity demo/as-reviewed/site.yaml", "is there already; name a new file", 2},
		{"make -into demo/as-reviewed/site.yaml", "is there already; name a new file", 2},
	} {
		c.env = append(c.env, "MELLOWGATE_SITE=demo/as-reviewed")
		r := c.run(t, append([]string{"keys"}, strings.Fields(m.args)...)...)
		require.Equal(t, m.status, r.status, m.args+": "+r.err)
		require.Contains(t, r.err, m.says, m.args)
	}
	require.NoFileExists(t, filepath.Join(c.dir, "demo/as-reviewed/keys.sealed"), "nothing was sealed by mistake")
}
