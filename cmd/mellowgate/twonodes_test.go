package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/store/secrets"
)

// Two nodes run from one site. One is killed while devices log in: every login
// is answered by the other, as foresee says, and both ledgers hold.
func TestOneOfTwoNodesIsKilledUnderLoadAndNobodyIsRefused(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), []byte(here(t, `site: Two nodes
keys: {k: file k.key}
servers:
  - {name: t1, protocol: tacacs, address: 127.95.0.1, port: 4949, key: k, timeout: 2s, run: true}
  - {name: t2, protocol: tacacs, address: 127.95.0.2, port: 4949, key: k, timeout: 2s, run: true}
  - {name: r1, protocol: radius, address: 127.95.0.1, key: k, timeout: 300ms, attempts: 2, run: true}
  - {name: r2, protocol: radius, address: 127.95.0.2, key: k, timeout: 2s, attempts: 2, run: true}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1, r2]}]
lists: [{name: all-t, authenticate: login, methods: [group t]}, {name: all-r, authenticate: login, methods: [group r]}]
profiles:
  - {name: by-t, access: {ssh: {login: all-t}}}
  - {name: by-r, access: {ssh: {login: all-r}}}
devices:
  - {name: sw, profile: by-t, addresses: [127.95.0.9]}
  - {name: ap, profile: by-r, addresses: [127.95.0.10]}
people: [{name: ines, teams: [net], password: '`+hash+`'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
service: {limits: {failure-delay: 0s}}
`)), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "k.key"), []byte("a-key-of-this-test-only\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "right"), []byte("right\n"), 0o600))

	var foreseen struct {
		Cases []struct{ Outcome, By string }
	}
	for line := range strings.Lines(c.run(t, "foresee", "-json", "-person", "ines", "-access", "ssh", "-silent",
		"t1,r1").out) {
		clitest.Strictly(t, line, &foreseen)
		require.NotEmpty(t, foreseen.Cases)
		for _, f := range foreseen.Cases {
			require.NotEqual(t, "refused", f.Outcome, "%v", f)
		}
	}

	first := c.start(t, "serve", "-only", "t1,r1", "-state", "node-1")
	c.start(t, "serve", "-only", "t2,r2", "-state", "node-2")
	load := map[string]chan result{}
	for group, device := range map[string]string{"t": "sw", "r": "ap"} {
		done := make(chan result, 1)
		load[group] = done
		go func() {
			done <- c.run(t, "ask", "-json", "-group", group, "-as", device, "-person", "ines", "-password-file",
				"right",
				"-count", "400", "-rate", "100")
		}()
	}
	events := filepath.Join(c.dir, "node-1", "events.jsonl")
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(events)
		return err == nil && bytes.Count(text, []byte(`"server":"t1"`)) > 50 &&
			bytes.Count(text, []byte(`"server":"r1"`)) > 50
	}, 20*time.Second, 5*time.Millisecond)
	require.NoError(t, first.Process.Kill())
	for group, done := range load {
		r := <-done
		var got struct{ Answers map[string]int }
		require.NoError(t, json.Unmarshal([]byte(r.out), &got), r.err)
		require.Len(t, got.Answers, 1, "%s: %v", group, got.Answers)
		require.Equal(t, 400, got.Answers["pass"]+got.Answers["accept"], "%s: every login is answered with yes", group)
	}
	for _, node := range []string{"node-1", "node-2"} {
		r := c.run(t, "ledger", "verify", "-state", node)
		require.Zero(t, r.status, r.out+r.err)
		require.True(t, strings.HasPrefix(r.out, "every record is as it was written: "), r.out)
	}
	text, err := os.ReadFile(filepath.Join(c.dir, "node-2", "events.jsonl"))
	require.NoError(t, err)
	require.Contains(t, string(text), `"server":"t2"`)
	require.Contains(t, string(text), `"server":"r2"`)
}
