package main

import (
	"context"
	"os"
	"path/filepath"
	"strings"
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

// What the ledger's views refuse is said with what is meant instead.
func TestTheLedgerSaysWhatItsViewsDoNotDo(t *testing.T) {
	t.Parallel()
	c := booked(t)
	for call, says := range map[string]string{
		"-records nosuch":              "nosuch: there is no ledger here",
		"verify -records nosuch":       "nosuch: there is no ledger here",
		"export":                       "-to belong together: mellowgate ledger export -to FOLDER",
		"-to x":                        "-to belong together",
		"export -to x -person ines":    "export is of whole chains: a part of one proves nothing",
		"verify -last 3":               "verify is of whole chains",
		"heads -since 1h":              "heads is of whole chains",
		"-full sessions":               "-full is for records, and sessions sums them up",
		"-records st/records -site st": "give one of -site and -records",
	} {
		r := c.run(t, append([]string{"ledger"}, strings.Fields(call)...)...)
		require.Equal(t, 2, r.status, "%s: %s", call, r.err)
		require.Contains(t, r.err, says)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "all"), 0o700))
	r := c.run(t, "ledger", "export", "-records", "st/records", "-to", "all/one")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `^all/one: records up to 9 of the chain \w+\n$`, r.out)
	require.Contains(t, c.run(t, "ledger", "-records", "all").err, "name one, such as all/one")
	require.Contains(t, c.run(t, "ledger", "export", "-records", "st/records", "-to", "all/one").err, "is not empty")
	require.Zero(t, c.run(t, "ledger", "verify", "-records", "all/one").status)
	l, err := ledger.Open(filepath.Join(c.dir, "new"), ledger.Options{Passing: true})
	require.NoError(t, err)
	require.NoError(t, l.Close())
	require.Regexp(t, `^chain \w+: no record yet\n$`, c.run(t, "ledger", "heads", "-records", "new").out)
	require.Contains(t, c.run(t, "ledger", "export", "-records", "new", "-to", "x").err, "there is no record yet")
}
