package ledger

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
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
func many(b *testing.B) (Folder, time.Time) {
	path := filepath.Join(b.TempDir(), "records")
	l, err := Open(path, Options{Indexed: true})
	require.NoError(b, err)
	now, n := time.Now(), manyRecords()
	for i := range n {
		r := Record{Time: now.Add(-time.Duration(n-i) * (90 * 24 * time.Hour / time.Duration(n))), Node: "tern",
			Kind:   Command,
			Person: fmt.Sprint("person-", i*7919%400), Device: fmt.Sprint("device-", i*104729%2000), Access: "ssh",
			From: "192.0.2.1", Level: 15, Result: evidence.Recorded, Session: fmt.Sprint("s", i/100),
			Protocol: "tacacs",
			Command:  "look settings"}
		switch part := i % 100; {
		case part == 0:
			r.Kind = Login
			r.Result = evidence.Refused
			r.Command = ""
			r.Reason = "wrong-password: the password is wrong"
		case part < 10:
			r.Kind = Login
			r.Result = evidence.Accepted
			r.Command = ""
		case part < 20:
			r.Kind, r.Command = SessionStart, ""
		case part < 30:
			r.Kind, r.Command = SessionStop, ""
		}
		_, err := l.Note(r)
		require.NoError(b, err)
	}
	for l.Behind() > 0 || l.Newest() < int64(n) {
		time.Sleep(10 * time.Millisecond)
	}
	require.NoError(b, l.Close())
	return Folder(path), now
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
		{"commands in the last 10 minutes", read(Filter{
			Kinds: []string{"command"}, Since: now.Add(-10 * time.Minute)})},
		{"failures of a day", func() int {
			failures, err := Failures(ctx, from, Filter{Since: now.Add(-24 * time.Hour)})
			require.NoError(b, err)
			return len(failures)
		}},
		{"verify", func() int {
			p, err := Verify(ctx, from)
			require.NoError(b, err)
			require.Empty(b, p.Breaks)
			return int(p.Records)
		}},
		{"what each person typed", func() int {
			works, err := Works(ctx, from, Filter{})
			require.NoError(b, err)
			return len(works)
		}},
		{"everything", read(Filter{})},
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
