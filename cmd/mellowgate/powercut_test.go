package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// A file system that comes back after a power cut has files without what was last
// written to them: empty, of zeros, or cut in a line.
func TestWhatAPowerCutLeavesHalfWrittenIsMendedAtTheStart(t *testing.T) {
	t.Parallel()
	c, b, _ := served(t)
	require.Zero(t, c.asks(t))
	b.end(t)
	records := filepath.Join(c.dir, "mellowgate-state", "records")
	heads, err := os.ReadFile(filepath.Join(records, "heads.jsonl"))
	require.NoError(t, err)
	for name, left := range map[string]string{"heads.key": "", "index.db": "",
		"heads.jsonl": string(heads) + string(heads[:len(heads)/2])} {
		require.NoError(t, os.WriteFile(filepath.Join(records, name), []byte(left), 0o600))
	}
	for _, beside := range []string{"index.db-wal", "index.db-shm"} {
		_ = os.Remove(filepath.Join(records, beside))
	}
	r := c.run(t, "ledger", "verify")
	require.Zero(t, r.status, "what was never finished is no tampering: %s%s", r.out, r.err)
	b = c.start(t, "serve")
	require.Zero(t, c.asks(t))
	b.end(t)
	r = c.run(t, "ledger", "verify")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, c.run(t, "ledger", "heads").out, "signed")

	require.NoError(t, os.WriteFile(filepath.Join(records, "heads.key"), make([]byte, 45), 0o600))
	b = c.start(t, "serve")
	b.end(t)
	require.NoError(t, os.WriteFile(filepath.Join(records, "heads.key"), []byte("of something else\n"), 0o600))
	require.Contains(t, c.run(t, "serve").err, "heads.key is no key of this program")
}
