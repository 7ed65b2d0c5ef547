package rotate

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task"
)

const text = `site: Test
keys:
  shore: file keys/shore.key
  ship: file keys/ship.key
  spare: file keys/spare.key
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: shore}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: shore}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: ship}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1]}]
lists:
  - {name: by-t, authenticate: login, methods: [group t, local]}
  - {name: by-r, authenticate: login, methods: [group r, local]}
devices:
  - {name: sw, addresses: [192.0.2.11], access: {ssh: {login: by-t}}}
  - {name: ap, addresses: [192.0.2.12], access: {ssh: {login: by-r}}}
  - {name: sw-2, addresses: [192.0.2.13], access: {ssh: {login: by-t}}}
`

// opened writes the site into a folder and reads it.
func opened(t *testing.T, dir, text string) sitefile.Opened {
	path := filepath.Join(dir, "site.yaml")
	if text != "" {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	s, base, err := sitefile.Load(path)
	require.NoError(t, err)
	return sitefile.Opened{Site: s, Path: path, Base: base}
}

func key(o sitefile.Opened, name string) *site.Key {
	for _, k := range o.Site.Keys {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// vault writes new keys as the program does.
func vault() Vault {
	return Vault{Write: func(path string, value site.Secret) error {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		return files.WriteWhole(path, []byte(value.Reveal()+"\n"))
	}}
}

func TestAKeyIsLedToTheNextOneByOneDevice(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	o := opened(t, dir, text)
	b, err := Begin(o, key(o, "shore"), site.NewSecret("the next key of this test"), vault())
	require.NoError(t, err)
	require.Equal(t, Begun{Key: "shore", Next: "shore-2", Source: "file keys/shore-2.key",
		Servers: []string{"t1", "t2"}},
		b)
	kept, err := secrets.SecretFile(filepath.Join(dir, "keys", "shore-2.key"))
	require.NoError(t, err)
	require.Equal(t, "the next key of this test", kept.Reveal())

	o = opened(t, dir, "")
	require.Equal(t, "shore-2", o.Server("t1").NextKey.Name)
	require.Equal(t, "shore", o.Server("t2").Key.Name)
	require.Nil(t, o.Server("r1").NextKey, "another key stays as it is")
	_, err = Begin(o, key(o, "shore"), site.NewSecret("x"), vault())
	require.True(t, task.IsUsage(err))
	require.ErrorContains(t, err, "is being changed already")

	at := time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	noted := []evidence.Event{
		{Time: at, Server: "t1", Device: "sw", Key: "shore"},
		{Time: at.Add(time.Minute), Server: "t2", Device: "sw", Key: "shore-2"},
		{Time: at.Add(time.Second), Server: "t1", Device: "sw", Key: "shore"},
		{Time: at.Add(time.Hour), Server: "r1", Device: "sw", Key: "ship"}, // of another key
		{Time: at.Add(time.Minute), Server: "t1", Client: "192.0.2.99", Key: "shore"},
		{Time: at.Add(2 * time.Minute), Server: "t1", Client: "192.0.2.99", Key: "shore-2"},
		{Time: at.Add(time.Hour), Server: "t1", Device: "sw-2"}, // says no key
	}
	seen, err := Status(o, key(o, "shore"), noted)
	require.NoError(t, err)
	require.Equal(t, []Seen{{Device: "sw", Server: "t1", At: at.Add(time.Second), Key: "shore"},
		{Device: "sw", Server: "t2", At: at.Add(time.Minute), Key: "shore-2", Before: []string{"t1"}},
		{Device: "sw-2", Server: "t1"}, {Device: "sw-2", Server: "t2", Before: []string{"t1"}},
		{Device: "192.0.2.99", Server: "t1", At: at.Add(2 * time.Minute), Key: "shore-2"}}, seen,
		"the newest of each server counts, clients that are no device too, and ap asks none of these servers")
	require.True(t, seen[0].Left("shore"), "the new key with t2 says nothing of t1")
	require.False(t, seen[1].Left("shore"))
	require.True(t, seen[2].Left("shore"), "never seen")
	require.True(t, Seen{Key: "shore"}.Left("shore"))

	next, err := Finish(o, key(o, "shore"))
	require.NoError(t, err)
	require.Equal(t, "shore-2", next)
	o = opened(t, dir, "")
	require.Equal(t, "shore-2", o.Server("t1").Key.Name)
	require.Nil(t, o.Server("t2").NextKey)
	for _, f := range []func() error{
		func() error { _, err := Finish(o, key(o, "shore")); return err },
		func() error { _, err := Status(o, key(o, "ship"), nil); return err },
	} {
		require.ErrorContains(t, f(), "is not being changed")
	}
	require.Equal(t, "shore-3", NextName(o.Site, "shore-2"))
	require.Equal(t, "two-words-2", NextName(o.Site, "two-words"))
	require.Equal(t, "ends--2", NextName(o.Site, "ends-"))
}

func TestWhatCannotBeginChangesNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	o := opened(t, dir, text)
	_, err := Begin(o, key(o, "spare"), site.NewSecret("x"), vault())
	require.True(t, task.IsUsage(err))
	require.ErrorContains(t, err, "no server uses the key spare")

	full := errors.New("the disk is full")
	_, err = Begin(o, key(o, "ship"), site.NewSecret("x"),
		Vault{Write: func(string, site.Secret) error { return full }})
	require.ErrorIs(t, err, full)

	// The site was changed by somebody else meanwhile: the new key goes away again.
	require.NoError(t, os.WriteFile(o.Path, []byte("site: Another\n"), 0o600))
	_, err = Begin(o, key(o, "ship"), site.NewSecret("x"), vault())
	require.Error(t, err)
	require.NoFileExists(t, filepath.Join(dir, "keys", "ship-2.key"))
	now, err := os.ReadFile(o.Path)
	require.NoError(t, err)
	require.Equal(t, "site: Another\n", string(now))
}

func TestAKeyThatStandsInSeveralLinesIsFinishedByHand(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	o := opened(t, dir, `site: Test
keys: {a: file a, b: file b}
servers:
  - name: t1
    protocol: tacacs
    address: 192.0.2.1
    key:
      now: a
      next: b
`)
	_, err := Finish(o, key(o, "a"))
	require.True(t, task.IsUsage(err))
	require.ErrorContains(t, err, "write  key: b  here by hand, and take the key a out")
}
