package rollout

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

func TestARunIsRecordedForOneToGoOn(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "sent")
	_, _, _, err := Last(context.Background(), dir)
	require.ErrorContains(t, err, "no record of an earlier run")
	devices := []*site.Device{{Ref: site.Ref{Name: "a"}}, {Ref: site.Ref{Name: "b"}}, {Ref: site.Ref{Name: "c"}}}
	began := time.Now()
	b, err := OpenBook(dir, "ines", began)
	require.NoError(t, err)
	_, err = OpenBook(dir, "ines", began)
	require.ErrorIs(t, err, ErrBusy, "one run at a time")
	require.NoError(t, b.Name(devices))
	path, err := b.Keep("a", ".xml", []byte("<data/>"))
	require.NoError(t, err)
	require.NoError(t, b.Note("a", Report{Outcome: Kept, Kept: path}, map[string]string{"device": "a"}))
	require.NoError(t, b.Note("b", Report{Outcome: TakenBack, Why: "not proven"}, nil))
	require.NoError(t, b.Close())
	all, done, at, err := Last(context.Background(), dir)
	require.NoError(t, err)
	require.Equal(t, []string{"a", "b", "c"}, all)
	require.Equal(t, []string{"a"}, done)
	require.WithinDuration(t, began, at, time.Minute)
	require.Equal(t, []string{"b", "c"}, Left(all, done))
	for _, name := range []string{path, path[:len(path)-len(".xml")] + ".json"} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}

	// A later run is what counts.
	b, err = OpenBook(dir, "ines", began.Add(time.Second))
	require.NoError(t, err)
	require.NoError(t, errors.Join(b.Name(devices[1:2]), b.Note("b", Report{Outcome: Same}, nil), b.Close()))
	all, done, _, err = Last(context.Background(), dir)
	require.NoError(t, err)
	require.Equal(t, [][]string{{"b"}, {"b"}}, [][]string{all, done})
}
