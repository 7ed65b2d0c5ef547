package service

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/watch"
	"mellowgate/internal/live/client/metricsclient"
	"mellowgate/internal/live/store/state"
)

// A run tells its figures in its state folder, however long the path of that is.
func TestTheFiguresOfARunAreReadThroughItsFolder(t *testing.T) {
	t.Parallel()
	for _, deep := range []int{0, 4} {
		dir := filepath.Join(t.TempDir(), strings.Repeat("a-folder-with-a-long-name/", deep))
		require.NoError(t, os.MkdirAll(dir, 0o700))
		folder := &state.Folder{Dir: dir}
		_, err := metricsclient.Of(context.Background(), folder)
		require.ErrorContains(t, err, "nothing runs here by now")

		m := NewMetrics()
		require.NoError(t, folder.Figures(m.ListenAt))
		m.Taken([]*site.Server{{Ref: site.Ref{Name: "tern"}, Protocol: site.TACACS},
			{Ref: site.Ref{Name: "dunlin"}, Protocol: site.LDAP}}, nil)
		f, err := metricsclient.Of(context.Background(), folder)
		require.NoError(t, err)
		require.Equal(t, map[string]watch.Served{"tern": {}}, f.Servers, "with 0 from the start; a directory is none")
		require.Empty(t, f.Troubles)

		m.Event(evidence.Event{Server: "tern", Protocol: site.TACACS, Question: site.AskLogin,
			Answer: evidence.Accepted,
			Reason: reason.Accepted})
		m.Event(evidence.Event{Server: "tern", Protocol: site.TACACS, Question: site.AskLogin, Answer: evidence.Dropped,
			Reason: reason.KeyDiffers})
		m.Took("tern", site.AskLogin, 3*time.Millisecond)
		m.Certificates(map[string]time.Time{"tern": time.Unix(1e9, 0)})
		m.Health.Set(TroubleRoom, "it is nearly full")
		f, err = metricsclient.Of(context.Background(), folder)
		require.NoError(t, err)
		require.Equal(t, []string{"room: it is nearly full"}, f.Troubles, "also with the status 503")
		require.Equal(t, time.Unix(1e9, 0), f.Ends["tern"])
		served := f.Servers["tern"]
		require.Equal(t, []float64{1, 1}, []float64{served.Answers, served.Dropped})
		require.Equal(t, watch.Bucket{UpTo: watch.Unbounded, Count: 1}, served.Took[len(served.Took)-1])
		for _, b := range served.Took {
			require.Equal(t, b.UpTo >= 5*time.Millisecond, b.Count == 1, b.UpTo)
		}

		info, err := os.Stat(filepath.Join(dir, "figures.sock"))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "as all files of the folder")
		require.NoError(t, m.Close())
		_, err = metricsclient.Of(context.Background(), folder)
		require.ErrorContains(t, err, "nothing runs here by now", "the socket of a run that was killed is still there")
		folder.ForgetFigures()
		require.NoFileExists(t, filepath.Join(dir, "figures.sock"))
	}
}
