package ledger

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/live/server/ledger/pgtest"
	"mellowgate/internal/live/server/ledger/segments"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// keeper is what a place writes to.
type keeper interface {
	Keep(context.Context, Record) error
	Note(Record) (Written, error)
	Close() error
}

// kindOfLedger is one way to keep records. Every test of this file holds for
// each.
type kindOfLedger struct {
	source Source
	open   func() keeper // opens the ledger of the one place
	// spoil changes records as somebody who tampers, and may write everything.
	spoil  func(change func([]Record) []Record)
	settle func(records int) // waits until so many records can be read
}

// ledgers runs a test for each kind of ledger.
func ledgers(t *testing.T, do func(t *testing.T, k kindOfLedger)) {
	for name, indexed := range map[string]bool{"a folder": false, "a folder with its index": true} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "odd # name %20")
			do(t, kindOfLedger{Folder(path), func() keeper {
				l, err := Open(path, Options{Indexed: indexed, Segment: 600})
				require.NoError(t, err)
				return l
			}, func(change func([]Record) []Record) { rewritten(t, path, change) }, func(int) {}})
		})
	}
	t.Run("a database", func(t *testing.T) {
		server := pgtest.Start(t)
		database, path := Database{URL: server.URL()}, filepath.Join(t.TempDir(), "records")
		do(t, kindOfLedger{database, func() keeper { return spool(t, path, database, 0, nil) },
			func(change func([]Record) []Record) {
				ctx := context.Background()
				records := change(all(t, database, Filter{byChain: true}))
				conn, err := pgx.Connect(ctx, server.URL())
				require.NoError(t, err)
				_, err = conn.Exec(ctx, "DELETE FROM records")
				require.NoError(t, err)
				for _, r := range records {
					require.NoError(t, database.write(ctx, conn, "north-host", []Record{r}))
				}
				require.NoError(t, conn.Close(ctx))
			}, func(n int) { settled(t, database, n) }})
	})
}

// rewritten writes the records of a folder again, changed, in one file.
func rewritten(t *testing.T, dir string, change func([]Record) []Record) {
	records := change(all(t, Folder(dir), Filter{byChain: true}))
	files, err := segments.List(dir)
	require.NoError(t, err)
	for _, f := range files {
		require.NoError(t, os.Remove(f.Path))
	}
	first := head{chain: "none", first: 1}
	if len(records) > 0 {
		first = head{chain: records[0].Chain, first: records[0].Sequence}
	}
	w, err := segments.Create(dir, first.first, first.encode(), true)
	require.NoError(t, err)
	for _, r := range records {
		require.NoError(t, w.Append(segments.AppendFrame(nil, appendField(appendBody(nil, r), r.Hash)), 1))
	}
	require.NoError(t, w.Close())
}

func spool(t *testing.T, path string, d Database, most int, say func(string)) *Forwarded {
	if say == nil {
		say = func(string) {}
	}
	s, err := OpenForwarded(path, Options{Segment: 4 << 10}, int(most), d, "north-host", say)
	require.NoError(t, err)
	return s
}

// settled waits until so many records are in a database.
func settled(t *testing.T, d Database, n int) {
	require.Eventually(t, func() bool { return len(all(t, d, Filter{})) >= n }, 20*time.Second, 10*time.Millisecond)
}

func all(t *testing.T, s Source, f Filter) []Record {
	var rs []Record
	require.NoError(t, s.Read(context.Background(), f, func(r Record) error { rs = append(rs, r); return nil }))
	return rs
}

func TestKeptRecordsAreReadBackInOrderWithAnUnbrokenChain(t *testing.T) {
	t.Parallel()
	ledgers(t, func(t *testing.T, k kindOfLedger) {
		l := k.open()
		var wait sync.WaitGroup
		for i := range 200 {
			wait.Go(func() {
				err := l.Keep(context.Background(), Record{Time: time.Unix(int64(i), 5), Kind: Command,
					Person: fmt.Sprint("p", i%3), Command: "look session", Level: 15})
				require.NoError(t, err)
			})
		}
		wait.Wait()
		k.settle(200)
		require.Len(t, all(t, k.source, Filter{}), 200, "readable while it is open")
		require.NoError(t, l.Close())
		require.ErrorIs(t, l.Keep(context.Background(), Record{}), ErrClosed)

		l = k.open()
		odd := Record{Time: time.Unix(900, 0), Kind: Login, Person: "p\x000 \xff end", Device: "d"}
		require.NoError(t, l.Keep(context.Background(), odd))
		require.NoError(t, l.Close())
		records := all(t, k.source, Filter{byChain: true})
		require.Len(t, records, 201)
		before := ""
		for i, r := range records {
			require.EqualValues(t, i+1, r.Sequence)
			require.Equal(t, records[0].Chain, r.Chain)
			require.Equal(t, Hash(before, r), r.Hash)
			before = r.Hash
		}
		require.Equal(t, "p\uFFFD0 \uFFFD end", records[200].Person, "every database takes the text")
		heads, err := k.source.Heads(context.Background())
		require.NoError(t, err)
		require.Equal(t, []any{int64(201), before}, []any{heads[0].Sequence, heads[0].Hash})
	})
}

func TestFiltersChoose(t *testing.T) {
	t.Parallel()
	ledgers(t, func(t *testing.T, k kindOfLedger) {
		l := k.open()
		for i, kind := range []Kind{Login, SessionStart, Command, Command, SessionStop} {
			require.NoError(t, l.Keep(context.Background(),
				Record{Time: time.Unix(int64(i), 0), Kind: kind, Person: "ines.marsh", Device: fmt.Sprint("d", i%2)}))
		}
		require.NoError(t, l.Keep(context.Background(),
			Record{Time: time.Unix(0, 1), Kind: Decision, Person: "INES.marsh ",
				Device: "d2"}))
		require.NoError(t, l.Close())
		require.Len(t, all(t, k.source, Filter{Kinds: []string{"command", "login"}}), 3)
		require.Len(t, all(t, k.source, Filter{Device: "d1"}), 2)
		require.Empty(t, all(t, k.source, Filter{Person: "tobin.reed"}))
		require.Empty(t, all(t, k.source, Filter{Person: "ines"}))
		for _, spelling := range []string{"ines.marsh", " Ines.MARSH"} { // a name is looked for in every spelling
			require.Len(t, all(t, k.source, Filter{Person: spelling}), 6)
		}
		require.Len(t, all(t, k.source, Filter{Since: time.Unix(3, 0)}), 2)
		require.Len(t, all(t, k.source,
			Filter{Person: "ines.marsh", Device: "d0", Kinds: []string{"command"}, Since: time.Unix(2, 0)}), 1)
		last := all(t, k.source, Filter{Last: 2})
		require.EqualValues(t, []int64{4, 5}, []int64{last[0].Sequence, last[1].Sequence})
	})
}

// zeros never ends.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) { return len(b), nil }

func TestAFullDiskKeepsNothingAndSaysSo(t *testing.T) {
	t.Parallel()
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=8m,mode=0700"); err != nil {
		t.Skip("no disk of a small size can be made here: ", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	var mu sync.Mutex
	waiting, lost := 0, 0
	path := filepath.Join(disk, "records")
	l, err := Open(path, Options{Wrote: func(wait, n int, _ error) {
		mu.Lock()
		defer mu.Unlock()
		waiting, lost = wait, lost+n
	}})
	require.NoError(t, err)
	require.NoError(t, l.Keep(context.Background(), Record{Kind: Command, Command: "look"}))
	ballast := filepath.Join(disk, "ballast")
	file, err := os.Create(ballast)
	require.NoError(t, err)
	_, err = io.Copy(file, zeros{})
	require.ErrorIs(t, err, syscall.ENOSPC)
	require.NoError(t, file.Close())
	kept := 0
	for err = nil; err == nil; kept++ { // the last page of the file has room still
		err = l.Keep(context.Background(), Record{Kind: Command, Command: fmt.Sprintf("set line %0200d", kept)})
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	const over = 3
	for n := range mostPending + over {
		_, err := l.Note(Record{Time: time.Unix(int64(n), 0), Node: "tern", Kind: Login,
			Command: fmt.Sprintf("%0300d", n)})
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return lost == over }, 20*time.Second,
		time.Millisecond)
	require.ErrorIs(t, l.Keep(context.Background(), Record{Kind: Command, Command: fmt.Sprintf("%0300d", 1)}),
		syscall.ENOSPC,
		"what somebody waits for is not kept for later")
	require.NoError(t, os.Remove(ballast))
	require.NoError(t, l.Keep(context.Background(), Record{Kind: Command, Command: "look again"}),
		"with room again it goes on")
	require.NoError(t, l.Close())
	p, err := Verify(context.Background(), Folder(path))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.EqualValues(t, kept+mostPending+1+1, p.Records, "those that waited, what came then, and what is missing")
	require.Zero(t, waiting)
	gaps := all(t, Folder(path), Filter{Kinds: []string{string(Gap)}})
	require.Len(t, gaps, 1)
	require.Equal(t, "tern", gaps[0].Node)
	require.Regexp(t, `^3 decisions since 1970-01-01T\d\d:\d\d:\d\dZ are missing here: .*no space left`, gaps[0].Reason)
}

func TestWhatStaysUnwrittenIsSaidAtTheEnd(t *testing.T) {
	t.Parallel()
	l, err := Open(t.TempDir(), Options{})
	require.NoError(t, err)
	require.NoError(t, l.files.Close()) // as a disk that takes nothing more
	w, err := l.Note(Record{Kind: Login, Person: "ines"})
	require.NoError(t, err)
	require.Error(t, w.Wait(context.Background()))
	require.ErrorContains(t, l.Close(), "decisions that are lost: 1")
}

// A disk that hangs is waited for by nobody, once that is known.
func TestASlowDiskIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	l, err := Open(filepath.Join(t.TempDir(), "records"), Options{})
	require.NoError(t, err)
	l.busy.Store(time.Now().Add(-2 * slow).UnixNano())
	w, err := l.Note(Record{Kind: Login})
	require.NoError(t, err)
	require.False(t, w.Safe())
	require.ErrorIs(t, w.Wait(t.Context()), ErrSlow)
	l.busy.Store(0)
	require.NoError(t, w.Wait(t.Context()))
	require.True(t, w.Safe())
	require.NoError(t, l.Close())
}

// A ledger on a disk on which nothing may be written is read and verified.
func TestALedgerIsReadWhereNothingMayBeWritten(t *testing.T) {
	t.Parallel()
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=8m,mode=0700"); err != nil {
		t.Skip("no disk can be made here: ", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	path := filepath.Join(disk, "records")
	l, err := Open(path, Options{Indexed: true})
	require.NoError(t, err)
	require.NoError(t, l.Keep(t.Context(), Record{Kind: Login, Person: "ines"}))
	require.NoError(t, l.Close())
	require.NoError(t, syscall.Mount("tmpfs", disk, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	require.Len(t, all(t, Folder(path), Filter{Person: "ines"}), 1)
	p, err := Verify(t.Context(), Folder(path))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.EqualValues(t, 1, p.Records)
	_, err = Open(path, Options{})
	require.ErrorIs(t, err, syscall.EROFS)
}
