package ledger

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/ledger/pgtest"
)

func TestWhatIsKeptWhileTheDatabaseIsAwayIsWrittenOnceWhenItIsBack(t *testing.T) {
	t.Parallel()
	server := pgtest.Start(t)
	database, path := Database{URL: server.URL()}, filepath.Join(t.TempDir(), "records")
	var mu sync.Mutex
	var said []string
	s := spool(t, path, database, 1500, func(text string) {
		mu.Lock()
		defer mu.Unlock()
		said = append(said, text)
	})
	heard := func(what string) {
		require.Eventually(t, func() bool {
			mu.Lock()
			defer mu.Unlock()
			return strings.Contains(strings.Join(said, "\n"),
				what)
		}, 30*time.Second, 10*time.Millisecond, what)
	}
	keep := func(from, to int) {
		var keeping sync.WaitGroup
		for i := from; i < to; i++ {
			keeping.Go(func() {
				require.NoError(t, s.Keep(context.Background(),
					Record{Time: time.Unix(int64(i), 0), Kind: Command, Command: fmt.Sprint("look ", i)}))
			})
		}
		keeping.Wait()
	}
	keep(0, 100)
	settled(t, database, 100)
	server.Stop()
	keep(100, 1000)
	heard("records wait on this disk, up to 1500 of them")
	require.NoError(t, s.Close(), "it does not wait for a database that is away")

	s = spool(t, path, database, 1500, func(string) {})
	require.EqualValues(t, 900, s.Waiting(), "nothing is lost by a restart")
	keep(1000, 1600)
	require.ErrorIs(t, s.Keep(context.Background(), Record{Kind: Command}), ErrFull,
		"beyond the bound nothing is kept, and so nothing is answered")
	server.Run()
	settled(t, database, 1600)
	require.Eventually(t, func() bool {
		return s.Keep(context.Background(), Record{Time: time.Unix(5000, 0), Kind: Command}) == nil
	}, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, s.Close())
	require.Len(t, all(t, database, Filter{}), 1601, "Close writes what waits")
	p, err := Verify(context.Background(), database)
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.Len(t, p.Chains, 1)
	require.Equal(t, "north-host", p.Chains[0].Host)
}

func TestADatabaseThatComesAndGoesUnderLoadLosesNothing(t *testing.T) {
	t.Parallel()
	server := pgtest.Start(t)
	database := Database{URL: server.URL()}
	stop := make(chan struct{})
	var keeping sync.WaitGroup
	var mu sync.Mutex
	kept := map[string]bool{}
	var nodes []*Forwarded
	for node := range 2 { // two nodes write one ledger
		s := spool(t, filepath.Join(t.TempDir(), "records"), database, 1_000_000, nil)
		nodes = append(nodes, s)
		for worker := range 4 {
			keeping.Go(func() {
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					default:
					}
					command := fmt.Sprintf("look %d %d %d", node, worker, i)
					require.NoError(t, s.Keep(context.Background(),
						Record{Time: time.Unix(int64(i), 0), Kind: Command, Command: command}))
					mu.Lock()
					kept[command] = true
					mu.Unlock()
				}
			})
		}
	}
	for range 4 {
		settled(t, database, len(all(t, database, Filter{}))+200)
		server.Stop()
		server.Run()
	}
	close(stop)
	keeping.Wait()
	settled(t, database, len(kept))
	for _, s := range nodes {
		require.NoError(t, s.Close())
	}
	seen := map[string]int{}
	for _, r := range all(t, database, Filter{}) {
		seen[r.Command]++
	}
	require.Len(t, seen, len(kept))
	for command, n := range seen {
		require.Equal(t, 1, n, command)
		require.True(t, kept[command])
	}
	p, err := Verify(context.Background(), database)
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.Len(t, p.Chains, 2, "each node has a chain of its own")
}

func TestADatabaseIsGivenItsPasswordAndSaysWhyItRefuses(t *testing.T) {
	t.Parallel()
	server := pgtest.Start(t, "host all keeper 127.0.0.0/8 scram-sha-256")
	admin := spool(t, filepath.Join(t.TempDir(), "records"), Database{URL: server.URL()}, 10_000, nil)
	require.NoError(t, admin.Keep(context.Background(), Record{Kind: Login}))
	settled(t, Database{URL: server.URL()}, 1)
	require.NoError(t, admin.Close())
	conn, _, err := Database{URL: server.URL()}.connect(context.Background())
	require.NoError(t, err)
	_, err = conn.Exec(context.Background(),
		"CREATE ROLE keeper LOGIN PASSWORD 'made-up-1'; GRANT ALL ON ALL TABLES IN SCHEMA public TO keeper")
	require.NoError(t, err)
	_, err = conn.Exec(context.Background(), "UPDATE mellowgate SET version = 99")
	require.NoError(t, err)
	as := Database{URL: strings.Replace(server.URL(), "gate@", "keeper@", 1), Password: site.NewSecret("made-up-2")}
	err = as.Read(context.Background(), Filter{}, nil)
	require.ErrorContains(t, err, "the ledger's database: ")
	require.NotContains(t, err.Error(), "made-up")
	as.Password = site.NewSecret("made-up-1")
	require.ErrorContains(t, as.Read(context.Background(), Filter{}, nil), "newer version of this program")
	_, err = conn.Exec(context.Background(), "UPDATE mellowgate SET version = 1")
	require.NoError(t, err)
	require.ErrorContains(t, as.Read(context.Background(), Filter{}, nil), "serve brings it up to date when it starts")
	_, err = conn.Exec(context.Background(), "UPDATE mellowgate SET version = $1", len(databaseVersions))
	require.NoError(t, err)
	require.NoError(t, conn.Close(context.Background()))
	require.Len(t, all(t, as, Filter{}), 1)
	require.ErrorContains(t, Database{URL: "postgres://%"}.Read(context.Background(), Filter{}, nil),
		"its URL cannot be read")
}
