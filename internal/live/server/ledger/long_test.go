//go:build long

package ledger

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/server/ledger/segments"
)

// A history of many gigabytes (MELLOWGATE_GIB, else 10) is written while what is beyond
// four fifths of it is let go, and while it is read. Run it alone:
//
//	go test -tags long -timeout 1h -v -run LongHistory ./internal/live/server/ledger
func TestALongHistoryIsLetGoUnderLoad(t *testing.T) {
	gib := 10
	if n, err := strconv.Atoi(os.Getenv("MELLOWGATE_GIB")); err == nil {
		gib = n
	}
	const body = 1500
	dir := filepath.Join(t.TempDir(), "records")
	l, err := Open(dir, Options{Indexed: true, Passing: true})
	require.NoError(t, err)
	count := int64(gib) << 30 / (body + 200)
	most := int64(gib) << 30 * 8 / 10
	began := time.Now()
	var next, longest atomic.Int64
	var writing, beside sync.WaitGroup
	for range 64 {
		writing.Go(func() {
			for i := next.Add(1); i <= count; i = next.Add(1) {
				asked := time.Now()
				if err := l.Keep(t.Context(), Record{Time: asked, Kind: Command,
					Person: fmt.Sprint("p", i%1000), Device: fmt.Sprint("d", i%3000),
					Command: strings.Repeat("x", body)}); err != nil {
					t.Error(err)
					return
				}
				if took := int64(time.Since(asked)); took > longest.Load() {
					longest.Store(took)
				}
			}
		})
	}
	done := make(chan struct{})
	released := int64(0)
	beside.Go(func() {
		for {
			n, err := l.Release(t.Context(), Bounds{AtMost: most}, "tern", time.Now())
			if err != nil {
				t.Error(err)
			}
			released += n
			select {
			case <-done:
				return
			case <-time.After(time.Second):
			}
		}
	})
	writing.Wait()
	wrote := time.Since(began)
	close(done)
	beside.Wait()
	for _, f := range []struct {
		what string
		Filter
	}{{"the last 20", Filter{Last: 20}}, {"the last 20 of a person", Filter{Person: "p7", Last: 20}}} {
		at, n := time.Now(), 0
		require.NoError(t, Folder(dir).Read(t.Context(), f.Filter, func(Record) error { n++; return nil }))
		t.Logf("%s: %v", f.what, time.Since(at).Round(time.Millisecond))
		require.Equal(t, 20, n)
	}
	n, err := l.Release(t.Context(), Bounds{AtMost: most}, "tern", time.Now())
	require.NoError(t, err)
	released += n
	require.NoError(t, l.Close())
	files, err := segments.List(dir)
	require.NoError(t, err)
	size := int64(0)
	for _, f := range files {
		size += f.Size
	}
	at := time.Now()
	p, err := Verify(t.Context(), Folder(dir))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	t.Logf("%d records, %d GiB, in %v (%.0f a second, the longest waited %v); %d let go, %d MiB stay; verified in "+
		"%v; %d MiB of memory from the system", count, gib, wrote.Round(time.Second), float64(count)/wrote.Seconds(),
		time.Duration(longest.Load()).Round(time.Millisecond), released, size>>20, time.Since(at).Round(time.Second),
		m.Sys>>20)
	require.LessOrEqual(t, size, most+(64<<20))
	require.Positive(t, released)
}
