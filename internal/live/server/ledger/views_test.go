package ledger

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var viewTime = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)

// written makes a ledger of some records, a minute apart.
func written(t *testing.T, records ...Record) Folder {
	path := filepath.Join(t.TempDir(), "records")
	l, err := Open(path, Options{})
	require.NoError(t, err)
	for i, r := range records {
		r.Time, r.Node = viewTime.Add(time.Duration(i)*time.Minute), "tern"
		require.NoError(t, l.Keep(context.Background(), r))
	}
	require.NoError(t, l.Close())
	return Folder(path)
}

func TestSessionsArePairedAndADeviceThatBeginsAnewEndsItsOwn(t *testing.T) {
	t.Parallel()
	from := written(t,
		Record{Kind: SessionStop, Person: "tobin", Device: "sw", Session: "0"}, // began before
		Record{Kind: SessionStart, Person: "ines", Device: "sw", Session: "1", Level: 15},
		Record{Kind: SessionStart, Person: "tobin", Device: "sw", Session: "2"},
		Record{Kind: SessionStart, Person: "ines", Device: "ap", Session: "1"},
		Record{Kind: SessionStop, Person: "ines", Device: "sw", Session: "1"},
		Record{Kind: System, Device: "sw", Command: "accounting on"},
		Record{Kind: Command, Person: "ines", Device: "ap", Command: "look"},
	)
	all, err := Sessions(context.Background(), from, Filter{})
	require.NoError(t, err)
	require.Len(t, all, 4)
	require.Nil(t, all[0].Start)
	require.Equal(t, 180.0, all[1].Seconds(viewTime))
	require.True(t, all[2].Lost)
	require.Equal(t, []any{"ap", false, 60.0},
		[]any{all[3].Device, all[3].Lost, all[3].Seconds(viewTime.Add(4 * time.Minute))})
	require.Nil(t, all[3].End)
	only, err := Sessions(context.Background(), from, Filter{Person: "TOBIN"})
	require.NoError(t, err)
	require.Len(t, only, 2, "in every spelling")
	require.True(t, only[1].Lost, "the device's own record counts for everybody")
}

func TestFailuresAreGroupedByWhoWhereAndWhy(t *testing.T) {
	t.Parallel()
	wrong := Record{Kind: Login, Result: "refused", Person: "ines", Device: "sw", From: "192.0.2.7",
		Reason: "wrong-password: the password is wrong"}
	other := wrong
	other.Reason = "no-grant: no grant"
	from := written(t, wrong, other, Record{Kind: Login, Result: "accepted", Person: "ines", Device: "sw"}, wrong)
	failures, err := Failures(context.Background(), from, Filter{})
	require.NoError(t, err)
	require.Len(t, failures, 2)
	require.Equal(t, []any{2, "wrong-password", viewTime, viewTime.Add(3 * time.Minute)},
		[]any{failures[0].Count, failures[0].Reason, failures[0].First, failures[0].Last})
	late, err := Failures(context.Background(), from,
		Filter{Since: viewTime.Add(time.Minute), Until: viewTime.Add(3 * time.Minute)})
	require.NoError(t, err)
	require.Len(t, late, 1)
}

func TestCommandsAreCountedAcrossDevices(t *testing.T) {
	t.Parallel()
	from := written(t, Record{Kind: Command, Person: "ines", Device: "sw", Command: "look"},
		Record{Kind: Command, Person: "ines", Device: "ap", Command: "save"},
		Record{Kind: Decision, Result: "refused", Person: "ines", Device: "ap", Command: "set"},
		Record{Kind: Command, Person: "tobin", Device: "ap", Command: "look"})
	works, err := Works(context.Background(), from, Filter{})
	require.NoError(t, err)
	require.Equal(t, Work{Person: "ines", Commands: 2, Refused: 1, Devices: []string{"ap", "sw"}, First: viewTime,
		Last: viewTime.Add(2 * time.Minute), Newest: "set"}, works[0])
	require.Equal(t, "tobin", works[1].Person)
}

func TestFollowingGivesEachNewRecordOnce(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "records")
	l, err := Open(path, Options{})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	keep := func(person string) {
		require.NoError(t, l.Keep(context.Background(),
			Record{Time: time.Now(), Node: "tern", Kind: Login, Person: person}))
	}
	keep("before")
	keep("first")
	ctx, cancel := context.WithCancel(context.Background())
	var names []string
	n := 0
	err = Follow(ctx, Folder(path), Filter{Last: 1}, func(r Record) error {
		if names = append(names, r.Person); r.Person == "third" {
			cancel()
			return nil
		}
		n++
		keep([]string{"", "second", "third"}[n])
		return nil
	})
	require.NoError(t, err)
	require.Equal(t, []string{"first", "second", "third"}, names)
}

// A node whose clock is ahead, or records that come late, hide nothing.
func TestFollowingGoesByTheChainAndNotByTheClock(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "records")
	l, err := Open(path, Options{})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	keep := func(person string, ago time.Duration) {
		require.NoError(t, l.Keep(context.Background(), Record{Time: time.Now().Add(-ago), Node: "tern", Kind: Login,
			Person: person}))
	}
	keep("long ago", 2*time.Hour)
	keep("ahead", -time.Hour)
	ctx, cancel := context.WithCancel(context.Background())
	var names []string
	err = Follow(ctx, Folder(path), Filter{Since: time.Now().Add(-time.Minute)}, func(r Record) error {
		switch names = append(names, r.Person); r.Person {
		case "ahead":
			keep("now", 0)
			keep("late", 3*time.Hour)
		case "now":
			cancel()
		}
		return nil
	})
	require.NoError(t, err)
	require.Equal(t, []string{"ahead", "late", "now"}, names)
}

// What is asked of the index is found by it.
func TestQuestionsUseTheIndex(t *testing.T) {
	t.Parallel()
	dir := folded(t)
	db, err := openIndex(filepath.Join(dir, indexFile), "&mode=ro")
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Close()) }()
	tx, err := db.Begin()
	require.NoError(t, err)
	defer func() { _ = tx.Rollback() }()
	for index, f := range map[string]Filter{"entries_refused": {Refused: true, Since: viewTime},
		"entries_person": {Person: "p1", Since: viewTime}, "entries_device": {Device: "sw", Until: viewTime},
		"entries_time": {Last: 3}} {
		query, args, err := f.entries(t.Context(), tx)
		require.NoError(t, err)
		rows, err := tx.Query("EXPLAIN QUERY PLAN "+query, args...)
		require.NoError(t, err)
		plan := ""
		for rows.Next() {
			var a, b, c int
			var text string
			require.NoError(t, rows.Scan(&a, &b, &c, &text))
			plan += text + "\n"
		}
		require.NoError(t, rows.Close())
		require.Contains(t, plan, index)
	}
}
