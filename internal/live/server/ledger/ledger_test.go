package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/live/server/ledger/pgtest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// keeper is what a place writes to.
type keeper interface {
	Keep(context.Context, Record) error
	Note(Record) error
	Close() error
}

// kindOfLedger is one way to keep records. Every test of this file holds for
// each.
type kindOfLedger struct {
	source Source
	open   func() keeper     // opens the ledger of the one place
	spoil  func(text string) // runs a statement on it, as somebody who tampers
	settle func(records int) // waits until so many records can be read
}

// ledgers runs a test for each kind of ledger.
func ledgers(t *testing.T, do func(t *testing.T, k kindOfLedger)) {
	t.Run("a file", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "odd # name %20.db")
		do(t, kindOfLedger{File(path), func() keeper {
			l, err := Open(path, Options{})
			require.NoError(t, err)
			return l
		}, func(text string) {
			db, err := open(path, "")
			require.NoError(t, err)
			_, err = db.Exec(text)
			require.NoError(t, errors.Join(err, db.Close()))
		}, func(int) {}})
	})
	t.Run("a database", func(t *testing.T) {
		server := pgtest.Start(t)
		database, path := Database{URL: server.URL()}, filepath.Join(t.TempDir(), "spool.db")
		do(t, kindOfLedger{database, func() keeper { return spool(t, path, database, 0, nil) }, func(text string) {
			conn, err := pgx.Connect(context.Background(), server.URL())
			require.NoError(t, err)
			_, err = conn.Exec(context.Background(), text)
			require.NoError(t, errors.Join(err, conn.Close(context.Background())))
		}, func(n int) { settled(t, database, n) }})
	})
}

func spool(t *testing.T, path string, d Database, most int64, say func(string)) *Spool {
	if say == nil {
		say = func(string) {}
	}
	s, err := OpenSpool(path, Options{Most: most}, d, "north-host", say)
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
		require.NoError(t, l.Keep(context.Background(), Record{Time: time.Unix(0, 1), Kind: Decision, Person: "INES.marsh ",
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

func TestVerifyFindsWhatWasChangedTakenOutPutInMovedOrCutOff(t *testing.T) {
	t.Parallel()
	ledgers(t, func(t *testing.T, k kindOfLedger) {
		l := k.open()
		for i := range 11 {
			require.NoError(t, l.Keep(context.Background(),
				Record{Time: time.Unix(int64(i), 0), Kind: Command, Person: fmt.Sprint("p", i), Command: "look"}))
		}
		require.NoError(t, l.Close())
		k.spoil("CREATE TABLE saved AS SELECT * FROM records")
		for _, c := range []struct {
			name, spoil string
			at          []int64
			says        string
		}{
			{"nothing", "SELECT 1", nil, ""},
			{"changed", "UPDATE records SET person = 'someone' WHERE sequence = 5", []int64{5},
				"record 5 is not as it was written"},
			{"a changed time", "UPDATE records SET time = time + 1 WHERE sequence = 7", []int64{7}, "record 7 is not"},
			{"taken out", "DELETE FROM records WHERE sequence = 5", []int64{6}, "record 5 is missing"},
			{"several out", "DELETE FROM records WHERE sequence BETWEEN 3 AND 6", []int64{7}, "records 3 to 6 are missing"},
			{"moved", "UPDATE records SET sequence = -1 WHERE sequence = 4; UPDATE records SET sequence = 4 WHERE sequence = " +
				"5; UPDATE records SET sequence = 5 WHERE sequence = -1",
				[]int64{4, 5, 6}, "record 4 is not"},
			{"taken out, and closed up",
				"DELETE FROM records WHERE sequence = 10; UPDATE records SET sequence = 10 WHERE sequence = 11", []int64{10, 11},
				"record 10 is not"},
			{"cut off", "DELETE FROM records WHERE sequence > 8", []int64{11}, "records 9 to 11 are missing at the end"},
			{"the last one out", "DELETE FROM records WHERE sequence = 11", []int64{11}, "record 11 is missing at the end"},
		} {
			k.spoil(c.spoil)
			p, err := Verify(context.Background(), k.source)
			require.NoError(t, err)
			var at []int64
			for _, b := range p.Breaks {
				at = append(at, b.Sequence)
			}
			require.Equal(t, c.at, at, "%s: %v", c.name, p.Breaks)
			if c.says != "" {
				require.Contains(t, p.Breaks[0].What, c.says, c.name)
			}
			k.spoil("DELETE FROM records; INSERT INTO records SELECT * FROM saved")
		}
	})
}

func TestAFileThatIsNoLedgerIsSaidToBeNone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.ErrorContains(t, File(filepath.Join(dir, "none.db")).Read(context.Background(), Filter{}, nil),
		"there is no ledger here")
	_, err := Open(dir, Options{})
	require.ErrorContains(t, err, "cannot be used")
}

func TestAFileOfTheFirstVersionIsTakenOn(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "ledger.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(`CREATE TABLE records (sequence INTEGER PRIMARY KEY, time INTEGER NOT NULL, node TEXT NOT NULL, kind TEXT NOT NULL, person TEXT NOT NULL,
		device TEXT NOT NULL, access TEXT NOT NULL, source TEXT NOT NULL, level INTEGER NOT NULL, result TEXT NOT NULL, command TEXT NOT NULL, reason TEXT NOT NULL,
		session TEXT NOT NULL, protocol TEXT NOT NULL, hash TEXT NOT NULL)`)
	require.NoError(t, err)
	first := Record{Time: time.Unix(1, 0), Kind: Login, Person: "ines", Sequence: 1}
	first.Hash = Hash("", first)
	_, err = db.Exec(insert+placeholders, 1, first.Time.UnixNano(), "", "login", "ines", "", "", "", 0, "", "", "", "", "",
		first.Hash)
	require.NoError(t, errors.Join(err, db.Close()))
	require.Len(t, all(t, File(path), Filter{}), 1, "it can be read as it is")
	p, err := Verify(context.Background(), File(path))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)

	l, err := Open(path, Options{})
	require.NoError(t, err)
	require.NoError(t, l.Keep(context.Background(), Record{Time: time.Unix(2, 0), Kind: Login, Person: "ines"}))
	require.NoError(t, l.Close())
	p, err = Verify(context.Background(), File(path))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.EqualValues(t, 2, p.Chains[0].Sequence)

	db, err = sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, errors.Join(err, db.Close()))
	_, err = Open(path, Options{})
	require.ErrorContains(t, err, "newer version of this program")
}

func TestAFullDiskKeepsNothingAndSaysSo(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	waiting, lost := 0, 0
	path := filepath.Join(t.TempDir(), "ledger.db")
	l, err := Open(path, Options{Wrote: func(wait, n int, _ error) {
		mu.Lock()
		defer mu.Unlock()
		waiting, lost = wait, lost+n
	}})
	require.NoError(t, err)
	require.NoError(t, l.Keep(context.Background(), Record{Kind: Command, Command: "look"}))
	var pages int
	require.NoError(t, l.db.QueryRow("PRAGMA page_count").Scan(&pages))
	_, err = l.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages+2))
	require.NoError(t, err)
	kept := 1
	for err = nil; err == nil && kept < 10000; kept++ {
		err = l.Keep(context.Background(), Record{Kind: Command, Command: fmt.Sprintf("set line %0200d", kept)})
	}
	require.ErrorContains(t, err, "full")
	kept--
	const over = 3
	for n := range mostPending + over {
		require.NoError(t, l.Note(Record{Time: time.Unix(int64(n), 0), Node: "tern", Kind: Login,
			Command: fmt.Sprintf("%0300d", n)}))
	}
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return lost == over }, 20*time.Second,
		time.Millisecond)
	require.ErrorContains(t, l.Keep(context.Background(), Record{Kind: Command, Command: "look"}), "full",
		"what somebody waits for is not kept for later")
	_, err = l.db.Exec("PRAGMA max_page_count = 1000000")
	require.NoError(t, err)
	require.NoError(t, l.Keep(context.Background(), Record{Kind: Command, Command: "look again"}),
		"with room again it goes on")
	require.NoError(t, l.Close())
	p, err := Verify(context.Background(), File(path))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.EqualValues(t, kept+mostPending+1+1, p.Records, "those that waited, what came then, and what is missing")
	require.Zero(t, waiting)
	gaps := all(t, File(path), Filter{Kinds: []string{string(Gap)}})
	require.Len(t, gaps, 1)
	require.Equal(t, "tern", gaps[0].Node)
	require.Regexp(t, `^3 decisions since 1970-01-01T\d\d:\d\d:\d\dZ are missing here: .*full`, gaps[0].Reason)
}
