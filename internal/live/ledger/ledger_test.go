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
