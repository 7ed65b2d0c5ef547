package main

import (
	"context"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/server/ledger/pgtest"
)

// A database server lets people in by RADIUS, and knows nothing of this program: whom it
// let in is in the ledger, also when the service is killed meanwhile.
func TestWhomADatabaseServerLetInIsInTheLedgerAfterAKill(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	b.end(t)
	change("devices: [", here(t, "devices: [{name: db, addresses: [127.0.0.1]}, "))
	change("servers: [", here(t, "servers: [{name: r, protocol: radius, address: 127.93.0.1, key: k, ports: "+
		"{authentication: 18122, accounting: 18123}, message-authenticator: if-present, run: true}, "))
	server := pgtest.Start(t, here(t, `host all "ines" 127.0.0.1/32 radius radiusservers="127.93.0.1" `+
		`radiusports="18122" radiussecrets="a-key-of-this-test-only"`))
	conn, err := pgx.Connect(t.Context(), server.URL())
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), `CREATE ROLE ines LOGIN`)
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
	config, err := pgx.ParseConfig(server.URL())
	require.NoError(t, err)
	config.User, config.Password = "ines", "right"
	let := 0
	for range 4 {
		b = c.start(t, "serve")
		var in atomic.Int64
		var asking sync.WaitGroup
		ctx, stop := context.WithCancel(t.Context())
		for range 6 {
			asking.Go(func() {
				for ctx.Err() == nil {
					conn, err := pgx.ConnectConfig(t.Context(), config)
					if err != nil {
						return // the service is gone
					}
					in.Add(1)
					_ = conn.Close(t.Context())
				}
			})
		}
		require.Eventually(t, func() bool { return in.Load() >= 20 }, time.Minute, time.Millisecond, b.said())
		require.NoError(t, b.Process.Kill())
		_ = b.Wait()
		stop()
		asking.Wait()
		let += int(in.Load())
	}
	path, kept := filepath.Join(c.dir, "mellowgate-state", "records"), 0
	require.NoError(t, ledger.Folder(path).Read(t.Context(), ledger.Filter{Device: "db"}, func(r ledger.Record) error {
		if r.Result == evidence.Accepted && r.Person == "ines" {
			kept++
		}
		return nil
	}))
	t.Logf("let in %d times, %d times in the ledger", let, kept)
	require.GreaterOrEqual(t, kept, let)
	require.Zero(t, c.run(t, "ledger", "verify").status)
}
