package ledger

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func all(t *testing.T, path string, f Filter) []Record {
	var rs []Record
	require.NoError(t, Read(context.Background(), path, f, func(r Record) error { rs = append(rs, r); return nil }))
	return rs
}

func TestKeptRecordsAreReadBackInOrderWithAnUnbrokenChain(t *testing.T) {
	path := filepath.Join(t.TempDir(), "odd # name %20.db")
	l, err := Open(path)
	require.NoError(t, err)
	var wait sync.WaitGroup
	for i := range 200 {
		wait.Go(func() {
			err := l.Keep(context.Background(), Record{Time: time.Unix(int64(i), 5), Kind: Command, Person: fmt.Sprint("p", i%3), Command: "look session", Level: 15})
			require.NoError(t, err)
		})
	}
	wait.Wait()
	require.Len(t, all(t, path, Filter{}), 200, "readable while it is open")
	require.NoError(t, l.Close())
	require.ErrorIs(t, l.Keep(context.Background(), Record{}), ErrClosed)

	l, err = Open(path)
	require.NoError(t, err)
	require.NoError(t, l.Keep(context.Background(), Record{Time: time.Unix(900, 0), Kind: Login, Person: "p0", Device: "d"}))
	require.NoError(t, l.Close())
	records := all(t, path, Filter{})
	require.Len(t, records, 201)
	before := ""
	for i, r := range records {
		require.EqualValues(t, i+1, r.Sequence)
		require.Equal(t, Chain(before, r), r.Hash)
		before = r.Hash
	}
}

func TestFiltersChoose(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger.db")
	l, err := Open(path)
	require.NoError(t, err)
	for i, k := range []Kind{Login, SessionStart, Command, Command, SessionStop} {
		require.NoError(t, l.Keep(context.Background(), Record{Time: time.Unix(int64(i), 0), Kind: k, Person: "ines.marsh", Device: fmt.Sprint("d", i%2)}))
	}
	require.NoError(t, l.Close())
	require.Len(t, all(t, path, Filter{Kinds: []string{"command", "login"}}), 3)
	require.Len(t, all(t, path, Filter{Device: "d1"}), 2)
	require.Empty(t, all(t, path, Filter{Person: "tobin.reed"}))
	require.Len(t, all(t, path, Filter{Since: time.Unix(3, 0)}), 2)
	last := all(t, path, Filter{Last: 2})
	require.EqualValues(t, []int64{4, 5}, []int64{last[0].Sequence, last[1].Sequence})
}

func TestAFileThatIsNoLedgerIsSaidToBeNone(t *testing.T) {
	dir := t.TempDir()
	require.ErrorContains(t, Read(context.Background(), filepath.Join(dir, "none.db"), Filter{}, nil), "there is no ledger here")
	_, err := Open(dir)
	require.ErrorContains(t, err, "cannot be used")
}

func TestVerifyFindsWhatWasChangedTakenOutPutInOrMoved(t *testing.T) {
	for name, c := range map[string]struct {
		spoil string
		at    []int64
		says  string
	}{
		"nothing":                  {"SELECT 1", nil, ""},
		"changed":                  {"UPDATE records SET person = 'someone' WHERE sequence = 5", []int64{5}, "record 5 is not as it was written"},
		"a changed time":           {"UPDATE records SET time = time + 1 WHERE sequence = 7", []int64{7}, "record 7 is not"},
		"taken out":                {"DELETE FROM records WHERE sequence = 5", []int64{6}, "record 5 is missing"},
		"several out":              {"DELETE FROM records WHERE sequence BETWEEN 3 AND 6", []int64{7}, "records 3 to 6 are missing"},
		"moved":                    {"UPDATE records SET sequence = -1 WHERE sequence = 4; UPDATE records SET sequence = 4 WHERE sequence = 5; UPDATE records SET sequence = 5 WHERE sequence = -1", []int64{4, 5, 6}, "record 4 is not"},
		"taken out, and closed up": {"DELETE FROM records WHERE sequence = 10; UPDATE records SET sequence = 10 WHERE sequence = 11", []int64{10}, "record 10 is not"},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "ledger.db")
			l, err := Open(path)
			require.NoError(t, err)
			for i := range 11 {
				require.NoError(t, l.Keep(context.Background(), Record{Time: time.Unix(int64(i), 0), Kind: Command, Person: fmt.Sprint("p", i), Command: "look"}))
			}
			require.NoError(t, l.Close())
			db, err := open(path, "")
			require.NoError(t, err)
			_, err = db.Exec(c.spoil)
			require.NoError(t, err)
			require.NoError(t, db.Close())
			p, err := Verify(context.Background(), path)
			require.NoError(t, err)
			var at []int64
			for _, b := range p.Breaks {
				at = append(at, b.Sequence)
			}
			require.Equal(t, c.at, at, "%v", p.Breaks)
			if c.says != "" {
				require.Contains(t, p.Breaks[0].What, c.says)
			}
		})
	}
}
