package ledger

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// manyRecords is how many records the benchmarks read among; MELLOWGATE_RECORDS
// says another number.
func manyRecords() int {
	if n, err := strconv.Atoi(os.Getenv("MELLOWGATE_RECORDS")); err == nil {
		return n
	}
	return 200_000
}

// many makes a ledger of many records: 400 people on 2,000 devices over 90 days,
// of every hundred records 10 logins, 1 of them refused, 20 of sessions, and
// the rest commands.
func many(b *testing.B) (File, time.Time) {
	path := filepath.Join(b.TempDir(), "ledger.db")
	l, err := Open(path, Options{Passing: true})
	require.NoError(b, err)
	require.NoError(b, l.Close())
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=synchronous(OFF)")
	require.NoError(b, err)
	now := time.Now()
	n := manyRecords()
	_, err = db.Exec(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < ?)
		INSERT INTO records SELECT i, ? - (? - i) * ?, 'tern',
		CASE WHEN i % 100 < 10 THEN 'login' WHEN i % 100 < 20 THEN 'session-start' WHEN i % 100 < 30 THEN 'session-stop' ELSE 'command' END,
		'person-' || (i * 7919 % 400), 'device-' || (i * 104729 % 2000), 'ssh', '192.0.2.1', 15, CASE WHEN i % 100 = 0 THEN 'refuse' ELSE 'recorded' END,
		CASE WHEN i % 100 < 30 THEN '' ELSE 'look settings' END, CASE WHEN i % 100 = 0 THEN 'wrong-password: the password is wrong' ELSE '' END, 's' || (i / 100), 'tacacs', 'hash' FROM n`,
		n, now.UnixNano(), n, int64(90*24*time.Hour)/int64(n))
	require.NoError(b, err)
	_, err = db.Exec(`ANALYZE`)
	require.NoError(b, err)
	require.NoError(b, db.Close())
	return File(path), now
}

// What an administrator asks of a ledger of months, each as the program asks it.
func BenchmarkQuestions(b *testing.B) {
	from, now := many(b)
	ctx := context.Background()
	read := func(f Filter) func() int {
		return func() int {
			n := 0
			require.NoError(b, from.Read(ctx, f, func(Record) error { n++; return nil }))
			return n
		}
	}
	for _, q := range []struct {
		name string
		ask  func() int
	}{
		{"the newest 20", read(Filter{Last: 20})},
		{"a person in the last day", read(Filter{Person: "person-7", Since: now.Add(-24 * time.Hour)})},
		{"a device in an hour a month ago",
			read(Filter{Device: "device-9", Since: now.Add(-721 * time.Hour), Until: now.Add(-720 * time.Hour)})},
		{"commands in the last 10 minutes", read(Filter{Kinds: []string{"command"}, Since: now.Add(-10 * time.Minute)})},
		{"failures of a day", func() int {
			all, err := Failures(ctx, from, Filter{Since: now.Add(-24 * time.Hour)})
			require.NoError(b, err)
			return len(all)
		}},
		{"sessions of a day", func() int {
			all, err := Sessions(ctx, from, Filter{Since: now.Add(-24 * time.Hour)})
			require.NoError(b, err)
			return len(all)
		}},
	} {
		b.Run(fmt.Sprintf("%s among %d", q.name, manyRecords()), func(b *testing.B) {
			n := 0
			for b.Loop() {
				n = q.ask()
			}
			b.ReportMetric(float64(n), "found")
		})
	}
}
