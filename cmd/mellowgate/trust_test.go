package main

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger"

	"github.com/stretchr/testify/require"
)

// starterServed is a starter site whose first server runs on a loopback address of this
// test.
func starterServed(t *testing.T) call {
	t.Helper()
	c := call{dir: t.TempDir()}
	c.newSite(t, "mine")
	path := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	changed := strings.NewReplacer("address: 192.0.2.11 ",
		"address: "+prefixOf(t)+"0.1\n    port: 4949 ").Replace(string(text))
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(path, []byte(changed), 0o600))
	return c
}

// A site in the words of the version before is served, and one line says so.
func TestASiteInTheWordsOfTheVersionBeforeIsServed(t *testing.T) {
	t.Parallel()
	c := starterServed(t)
	path := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	old := strings.NewReplacer("\nplatforms:", "\nkinds:", "    behaviour:", "    traits:", "all-dead", "all-resting").
		Replace(string(text))
	require.NoError(t, os.WriteFile(path, []byte(old), 0o600))
	b := c.start(t, "serve", "-only", "gate-1", "-state", "st", "mine")
	require.Contains(t, b.said(), `"kinds" is now called "platforms", and 2 more; write the new words with: `+
		"mellowgate migrate mine\n")
	b.end(t)
}

func TestOneServeWritesToAStateFolderAndAStartThatFailsChangesNothing(t *testing.T) {
	t.Parallel()
	c := starterServed(t)
	first := c.start(t, "serve", "-only", "gate-1", "-state", "st", "mine")
	before := clitest.Listing(t, filepath.Join(c.dir, "st"))
	r := c.run(t, "serve", "-only", "gate-2", "-state", "st", "mine")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "st: another lab or serve is using this state folder")
	require.Equal(t, before, clitest.Listing(t, filepath.Join(c.dir, "st")),
		"the evidence of the one that runs is where it was")
	require.Equal(t, 130, first.end(t))
	require.Equal(t, 130, c.start(t, "serve", "-only", "gate-1", "-state", "st", "mine").end(t))
	kept := clitest.Listing(t, filepath.Join(c.dir, "st/previous"))
	require.NotEmpty(t, kept)
	require.Equal(t, 3, c.run(t, "serve", "-only", "gate-2", "-state", "st", "mine").status,
		"this host has no such address")
	require.Equal(t, kept, clitest.Listing(t, filepath.Join(c.dir, "st/previous")),
		"the run before the last is still there")
	require.FileExists(t, filepath.Join(c.dir, "st/events.jsonl"))
}

func TestWhatHoldsSecretsIsReadByItsOwnerOnly(t *testing.T) {
	t.Parallel()
	c := starterServed(t)
	c.start(t, "serve", "-only", "gate-1", "-state", "st", "mine").end(t)
	require.NoError(t, filepath.WalkDir(filepath.Join(c.dir, "st"), func(path string, d os.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := d.Info()
		require.NoError(t, err)
		require.Zero(t, info.Mode().Perm()&0o077, path)
		return nil
	}))
	require.NoFileExists(t, filepath.Join(c.dir, "st/traffic.pcapng"),
		"passwords that the key opens are not kept unless asked for")
	for path, how := range map[string]os.FileMode{"mine/keys/gate.key": 0o644, "mine/site.yaml": 0o604, "st": 0o705} {
		path = filepath.Join(c.dir, path)
		info, err := os.Stat(path)
		require.NoError(t, err)
		require.NoError(t, os.Chmod(path, how))
		r := c.run(t, "serve", "-only", "gate-1", "-state", "st", "mine")
		require.Equal(t, 2, r.status, path)
		require.Contains(t, r.err, "others on this machine can read", path)
		require.NoError(t, os.Chmod(path, info.Mode().Perm()))
	}
	// As the page of serve has it: owned by root, read by the group.
	for _, path := range []string{"mine/keys/gate.key", "mine/site.yaml"} {
		require.NoError(t, os.Chmod(filepath.Join(c.dir, path), 0o640))
	}
	require.Contains(t, c.run(t, "check", "mine").out, "nothing found")
}

// What edits a site keeps its owner, group and mode: the service that runs as
// somebody else can read it on.
func TestWhatEditsASiteKeepsWhoMayReadIt(t *testing.T) {
	t.Parallel()
	c := starterServed(t)
	path := filepath.Join(c.dir, "mine/site.yaml")
	require.NoError(t, os.Chmod(path, 0o640))
	root := os.Getuid() == 0
	if root {
		require.NoError(t, os.Chown(path, 0, 12345))
	}
	require.Zero(t, c.run(t, "keys", "change", "gate-key", "begin", "mine").status)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	if root {
		require.EqualValues(t, 12345, info.Sys().(*syscall.Stat_t).Gid)
	}
}

// A list of devices that is empty for a moment is no reason to forget them all.
func TestAnEmptyListOfDevicesIsNotTaken(t *testing.T) {
	t.Parallel()
	c := starterServed(t)
	path := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	at := strings.Index(string(text), "devices:\n")
	end := at + strings.Index(string(text[at:]), "\n\n")
	require.NoError(t, os.WriteFile(path, []byte(string(text[:at])+"devices-from: list.csv\n"+string(text[end:])),
		0o600))
	list := filepath.Join(c.dir, "mine/list.csv")
	full := "name,platform,profile,addresses\nswitch-1,switch,standard,192.0.2.101\n"
	require.NoError(t, os.WriteFile(list, []byte(full), 0o600))
	b := c.start(t, "serve", "-only", "gate-1", "-state", "st", "mine")
	require.NoError(t, os.WriteFile(list, []byte("name,platform,profile,addresses\n"), 0o600))
	require.NoError(t, b.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "it has no device any more, and 1 before") },
		10*time.Second, 10*time.Millisecond)
	require.NotContains(t, b.said(), "is in use\n")
}

// What cannot be seen reaches no terminal, table, CSV, JSON or page, wherever
// somebody typed it.
func TestWhatCannotBeSeenReachesNobodysEyes(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed").end(t)
	odd := "\u009b31mred\u0085\u202eback\u2066\u200bwide\x1b[2J\x07\xff"
	l, err := ledger.Open(filepath.Join(c.dir, "st/records"), ledger.Options{})
	require.NoError(t, err)
	for i, kind := range []ledger.Kind{ledger.Login, ledger.SessionStart, ledger.Command, ledger.SessionStop,
		ledger.Login} {
		r := ledger.Record{Time: time.Now(), Kind: kind, Node: odd, Person: odd, Device: odd, Access: odd, From: odd,
			Command: odd,
			Session: odd, Result: evidence.Recorded}
		if kind == ledger.Login {
			r.Result = []evidence.Answer{evidence.Accepted, evidence.Refused}[i/4]
			r.Reason = odd
		}
		require.NoError(t, l.Keep(context.Background(), r))
	}
	require.NoError(t, l.Close())
	event, err := json.Marshal(evidence.Event{Time: time.Now(), Server: "tern", Device: "north-sw-1", Person: odd,
		Question: "login",
		Answer:   evidence.Refused, Reason: "wrong-password", Text: odd})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "st/events.jsonl"), append(event, '\n'), 0o600))
	for _, args := range [][]string{{"ledger"}, {"ledger", "-csv"}, {"ledger", "-json"}, {"ledger", "failures"},
		{"ledger", "failures", "-csv"}, {"ledger", "failures", "-json"}, {"ledger", "sessions"},
		{"ledger", "sessions", "-csv"},
		{"ledger", "commands"}, {"ledger", "commands", "-json"}, {"why"}, {"why", "-all"}, {"why", "-json"},
		{"report", "demo/as-reviewed"}} {
		r := c.run(t, append([]string{args[0], "-state", "st"}, args[1:]...)...)
		require.LessOrEqual(t, r.status, 1, r.err)
		require.True(t, utf8.ValidString(r.out), args)
		require.Contains(t, r.out, "red", args)
		for _, seen := range r.out + r.err {
			require.True(t, unicode.IsPrint(seen) || seen == '\n' || seen == '\t', "%U in %v", seen, args)
		}
	}
}
