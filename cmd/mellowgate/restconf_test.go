package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/secrets"
)

// A device that has RESTCONF and no NETCONF is compared, changed and proven over it; a
// change that locks out is put back; and what cannot be taken back is said before.
func TestADeviceWithRESTCONFAloneIsManagedOverIt(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	other, err := secrets.Hash("other", 64, 1)
	require.NoError(t, err)
	text := strings.NewReplacer("level: 15, password: 'HASH'", "level: 15, password: '"+other+"'", "HASH", hash,
		"NETWORK",
		network(t), "FOUND", "", "netconf: {}", "api: {}",
		"models: [openconfig-system]", "restconf: true").Replace(firstCentral)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	write("site.yaml", text)
	write("other.yaml", strings.Replace(text, "timeout: 1s, run", "timeout: 2s, run", 1))
	write("wrong.yaml", strings.Replace(text, "file shore.key", "file wrong.key", 1))
	write("shore.key", "a-key-of-this-test-only")
	write("wrong.key", "a-key-that-no-server-has")
	write("right", "right\n")
	write("keeper", "other\n")
	lab := c.start(t, "lab", "-state", "st", "site.yaml")
	as := []string{"-state", "st", "-person", "ines", "-password-file", "right"}
	send := func(args ...string) result {
		return c.run(t, append(append([]string{"send", "-yes"}, as...), args...)...)
	}
	require.True(t, c.holds(t, as, "sw", "site.yaml"))
	require.False(t, c.holds(t, as, "sw", "other.yaml"))
	r := send("-without-way-back", "sw", "other.yaml")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "where every request logs in anew: a change that shuts ines out could not be put back")
	send = func(args ...string) result {
		return c.run(t, append(append([]string{"send", "-yes", "-fallback-password-file", "keeper"}, as...),
			args...)...)
	}
	r = send("sw", "other.yaml")
	require.Equal(t, 3, r.status)
	require.Contains(t, unwrapped(r.out), "it offers no way back at all, for it is managed over RESTCONF (RFC 8040)")
	r = send("-without-way-back", "sw", "other.yaml")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, unwrapped(r.out), "way back: the device cannot take this back by itself")
	require.Contains(t, r.err, "proven: ines gets in by api from a new connection, and may change the configuration")
	require.Contains(t, r.err, "(tern accepted it)")
	require.True(t, c.holds(t, as, "sw", "other.yaml"))
	r = send("-without-way-back", "-servers-may-be-down", "sw", "wrong.yaml")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.err, "taken back: a new connection finds the device as it was")
	require.True(t, c.holds(t, as, "sw", "other.yaml"), "as it was")
	r = c.run(t, "compare", "-state", "st", "-person", "ines", "-password-file", "wrong.key", "sw", "site.yaml")
	require.Equal(t, 3, r.status)
	require.Contains(t, r.out, "the device refuses the login")
	r = send("-agent", "sw", "site.yaml")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "over RESTCONF a password proves who logs in")
	require.Equal(t, 130, lab.end(t))
}
