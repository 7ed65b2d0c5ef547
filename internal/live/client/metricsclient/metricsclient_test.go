package metricsclient

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/watch"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/routine"
)

// running is a state folder whose socket is served by a handler until the test ends.
func running(t *testing.T, pages http.Handler) *state.Folder {
	t.Helper()
	folder := &state.Folder{Dir: t.TempDir()}
	require.NoError(t, folder.Figures(func(path string) error {
		l, err := net.Listen("unix", path)
		if err != nil {
			return err
		}
		s := &http.Server{Handler: pages, ReadHeaderTimeout: time.Minute}
		routine.Go(func() { _ = s.Serve(l) })
		t.Cleanup(func() { _ = s.Close() })
		return nil
	}))
	return folder
}

func page(text string, status int) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = fmt.Fprint(w, text)
	}
}

func TestTheFiguresOfARunAreReadWithItsTroubles(t *testing.T) {
	t.Parallel()
	pages := http.NewServeMux()
	pages.Handle("/metrics", page(fmt.Sprintf("# TYPE %s counter\n%s{%s=\"tern\",%s=\"accepted\"} 3\n",
		watch.MetricAnswers, watch.MetricAnswers, watch.LabelServer, watch.LabelAnswer), http.StatusOK))
	pages.Handle("/health", page("it runs\nthe disk is full\na key ends soon\n", http.StatusServiceUnavailable))
	f, err := Of(context.Background(), running(t, pages))
	require.NoError(t, err)
	require.Contains(t, f.Servers, "tern")
	require.Equal(t, []string{"the disk is full", "a key ends soon"}, f.Troubles,
		"what is wrong is told with a status that is no success")
}

func TestWhyThereAreNoFiguresIsSaid(t *testing.T) {
	t.Parallel()
	_, err := Of(context.Background(), &state.Folder{Dir: t.TempDir()})
	require.ErrorContains(t, err, "nothing runs here by now")

	_, err = Of(context.Background(), running(t, page("{no metrics", http.StatusOK)))
	require.ErrorContains(t, err, "the figures cannot be read")

	over := make(chan struct{})
	t.Cleanup(func() { close(over) })
	folder := running(t, http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-over }))
	ctx, stop := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer stop()
	_, err = Of(ctx, folder)
	require.ErrorContains(t, err, "it is very busy, or stopped")
}
