package gather_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task"
	"mellowgate/internal/task/gather"
)

// finder reads sites from files, and collects what it says.
func finder(said *[]string) gather.Finder {
	return gather.Finder{
		Load: func(path string) (sitefile.Opened, error) {
			s, base, err := sitefile.Load(path)
			return sitefile.Opened{Site: s, Path: path, Base: base}, err
		},
		Has:  func(path string) bool { _, err := os.Stat(path); return err == nil },
		Note: func(text string) { *said = append(*said, text) },
	}
}

const aSite = `site: Test
keys: {k: file k}
servers: [{name: t, protocol: tacacs, address: 192.0.2.1, key: k}]
devices: [{name: sw, addresses: [192.0.2.9]}]
`

func TestEvidenceIsFoundWhereItIsNamedOrMeant(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "site.yaml")
	require.NoError(t, os.WriteFile(path, []byte(aSite), 0o600))
	folder, err := state.Create(filepath.Join(dir, "state"))
	require.NoError(t, err)
	require.NoError(t, folder.WritePlaces(evidence.Places{Site: "Test", SitePath: path,
		Servers: []evidence.ServerPlace{{Name: "t", Address: "127.0.0.1", Port: 10049}}}))
	folder.Event(evidence.Event{Time: time.Now(), Server: "t", Question: site.AskLogin, Answer: evidence.Dropped,
		Reason: reason.Malformed})
	require.NoError(t, folder.Close())
	events := filepath.Join(folder.Dir, "events.jsonl")
	var said []string
	find := func(w gather.Wanted) (*gather.Found, error) { return finder(&said).Find(context.Background(), w) }

	k, err := find(gather.Wanted{Default: folder.Dir})
	require.NoError(t, err)
	require.Equal(t, folder.Dir, k.From)
	require.Len(t, k.Events, 1)
	require.False(t, k.Lab, "serve left it")
	require.Equal(t, "Test", k.Site.Name, "the site of the folder is meant")
	require.False(t, k.Now.IsZero())

	k, err = find(gather.Wanted{Files: gather.Files{Events: events}, Default: "no folder is needed"})
	require.NoError(t, err)
	require.Equal(t, events, k.From)
	require.Nil(t, k.Opened)

	k, err = find(gather.Wanted{Site: path, Alone: true, Default: filepath.Join(dir, "none")})
	require.NoError(t, err)
	require.Equal(t, "the site", k.From)
	require.NotNil(t, k.Site)

	for _, w := range []gather.Wanted{
		{Default: filepath.Join(dir, "none")},
		{State: filepath.Join(dir, "none"), Alone: true, Site: path},
		{Files: gather.Files{Events: filepath.Join(dir, "none.jsonl")}},
	} {
		_, err = find(w)
		require.True(t, task.IsUsage(err), "%+v: %v", w, err)
	}
	_, err = find(gather.Wanted{Site: filepath.Join(dir, "none.yaml"), Alone: true})
	require.ErrorContains(t, err, "there is no such file or folder")
	require.Empty(t, said)

	require.NoError(t, os.WriteFile(events, []byte("{\n"), 0o600))
	k, err = find(gather.Wanted{State: folder.Dir})
	require.NoError(t, err)
	require.Len(t, said, 1)
	require.Contains(t, said[0], "events.jsonl:1: this line is damaged and was passed over")
	require.Empty(t, k.Events)
}
