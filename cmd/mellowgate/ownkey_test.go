package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A device may have a shared secret of its own: with it, and with no other, it is
// answered; the lab, the forecast, the capture and the change sheet know it.
func TestADeviceMayHaveAKeyOfItsOwn(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	c.newSite(t, "mine")
	require.Zero(t, c.run(t, "keys", "make", "-into", "mine/keys/own.key").status)
	path := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	changed := strings.NewReplacer("gate-key: file keys/gate.key",
		"gate-key: file keys/gate.key\n  own-key: file keys/own.key",
		"addresses: [192.0.2.101]", "addresses: [192.0.2.101], keys: {gate-1: own-key}").Replace(string(text))
	require.NoError(t, os.WriteFile(path, []byte(changed), 0o600))
	require.Contains(t, c.run(t, "check", "mine").out, "nothing found")
	require.Contains(t, c.run(t, "keys", "list", "mine").out, "switch-1 with gate-1")
	require.Contains(t, c.run(t, "sheet", "switch-1", "mine").out, "port 49, the key own-key")
	require.Contains(t, c.run(t, "sheet", "switch-2", "mine").out, "port 49, the key gate-key")
	c.start(t, "lab", "-state", "st", "-network", network(t), "mine")
	for _, device := range []string{"switch-1", "switch-2"} {
		r := c.run(t, "login", "-state", "st", "-device", device, "-person", "first.admin", "-password-file",
			"mine/passwords/first.admin", "-command", "look session")
		require.Zero(t, r.status, r.out)
		require.Contains(t, r.out, "let in   by gate-1")
	}
	require.NotContains(t, c.run(t, "listen", "-state", "st", "mine").out, "differs", "a capture is read with it")
	other := strings.Replace(changed, ", keys: {gate-1: own-key}", "", 1) // asked as a device that has the servers' key
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "other"), 0o700))
	require.NoError(t, os.CopyFS(filepath.Join(c.dir, "other/keys"), os.DirFS(filepath.Join(c.dir, "mine/keys"))))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "other/site.yaml"), []byte(other), 0o600))
	r := c.run(t, "ask", "-state", "st", "-server", "gate-1", "-as", "switch-1", "-person", "first.admin",
		"-password-file",
		"mine/passwords/first.admin", "other")
	require.Equal(t, 3, r.status, r.out)
	r = c.run(t, "ask", "-state", "st", "-server", "gate-2", "-as", "switch-1", "-person", "first.admin",
		"-password-file",
		"mine/passwords/first.admin", "other")
	require.Zero(t, r.status, r.out)
}
