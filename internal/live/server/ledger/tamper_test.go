package ledger

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/server/ledger/segments"
)

// without takes records out, from one number to another.
func without(from, to int64) func([]Record) []Record {
	return func(records []Record) []Record {
		return slices.DeleteFunc(records, func(r Record) bool { return r.Sequence >= from && r.Sequence <= to })
	}
}

// edited changes one record.
func edited(sequence int64, how func(*Record)) func([]Record) []Record {
	return func(records []Record) []Record {
		for i := range records {
			if records[i].Sequence == sequence {
				how(&records[i])
			}
		}
		return records
	}
}

// chained gives every record the number and the hash that it would have, as somebody
// who knows how does it.
func chained(change func([]Record) []Record) func([]Record) []Record {
	return func(records []Record) []Record {
		records = change(records)
		before, n := "", int64(0)
		for i := range records {
			n++
			records[i].Sequence = n
			records[i].Hash = Hash(before, records[i])
			before = records[i].Hash
		}
		return records
	}
}

func swapped(records []Record) []Record {
	records[3], records[4] = records[4], records[3]
	records[3].Sequence, records[4].Sequence = 4, 5
	return records
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
		heads, err := k.source.Heads(context.Background())
		require.NoError(t, err)
		saved := all(t, k.source, Filter{byChain: true})
		for _, c := range []struct {
			name  string
			spoil func([]Record) []Record
			says  string
		}{
			{"changed", edited(5, func(r *Record) { r.Person = "someone" }), "record 5 is not as it was written"},
			{"a changed time", edited(7, func(r *Record) { r.Time = r.Time.Add(1) }),
				"record 7 is not as it was written"},
			{"a changed level", edited(7, func(r *Record) { r.Level++ }), "record 7 is not as it was written"},
			{"a changed rule", edited(7, func(r *Record) { r.Rule = "x" }), "record 7 is not as it was written"},
			{"what went back changed", edited(7, func(r *Record) { r.Returned = "x" }),
				"record 7 is not as it was written"},
			{"a letter moved between two fields", edited(7, func(r *Record) { r.Person, r.Device = "p", "6"+r.Device }),
				"record 7 is not as it was written"},
			{"changed with its hash", edited(5, func(r *Record) {
				r.Person = "someone"
				r.Hash = Hash(
					saved[3].Hash, *r)
			}),
				"record 6 is not as it was written, or the one before it is another"},
			{"the hash changed", edited(5, func(r *Record) { r.Hash = strings.Repeat("0", 64) }),
				"record 5 is not as it was"},
			{"taken out", without(5, 5), "record 5 is missing"},
			{"several out", without(3, 6), "records 3 to 6 are missing"},
			{"the first out", without(1, 1), "missing"},
			{"moved", swapped, "record 4 is not"},
			{"doubled", func(records []Record) []Record { return slices.Insert(records, 5, records[4]) },
				"record 5 comes after record 5"},
			{"put in", func(all []Record) []Record {
				extra := all[4]
				extra.Sequence, extra.Hash = 12, Hash(all[10].Hash, extra)
				return slices.Insert(all, 5, extra)
			}, "records 6 to 11 are missing"},
			{"taken out, and closed up", func(all []Record) []Record {
				all[10].Sequence = 10
				return slices.Delete(all, 9, 10)
			}, "record 10 is not"},
			{"cut off", without(9, 11), "records 9 to 11 are missing at the end"},
			{"the last one out", without(11, 11), "record 11 is missing at the end"},
			{"all out", without(1, 11), "missing at the end"},
			{"changed, and the rest of the chain made anew",
				chained(edited(5, func(r *Record) { r.Person = "someone" })),
				"record 11 is another than"},
			{"taken out, and the rest made anew", chained(without(5, 5)), "record 11 is missing at the end"},
			{"taken out and one put at the end, and the rest made anew", chained(func(all []Record) []Record {
				return append(slices.Delete(all, 4, 5), all[0])
			}), "record 11 is another than"},
			{"another chain in its place", func(all []Record) []Record {
				for i := range all {
					all[i].Chain = "other"
				}
				return all
			}, "missing at the end"},
		} {
			if _, database := k.source.(Database); database && (c.name == "doubled" || c.name == "put in") {
				continue // the order is of the numbers there, and each is there once
			}
			k.spoil(c.spoil)
			p, err := Verify(context.Background(), k.source, heads...)
			require.NoError(t, err, c.name)
			var said []string
			for _, b := range p.Breaks {
				said = append(said, b.What)
			}
			require.Contains(t, strings.ReplaceAll(strings.Join(said, "\n"),
				"record 11, whose hash was kept, is not there",
				"record 11 is missing at the end, records 1 to 11 are missing at the end, records 9 to 11 are "+
					"missing at the end"),
				c.says, c.name)
			k.spoil(func([]Record) []Record { return slices.Clone(saved) })
		}
	})
}

// folded makes a folder with records in several files, with its index and a signed head.
func folded(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "records")
	l, err := Open(dir, Options{Indexed: true, Segment: 500})
	require.NoError(t, err)
	for i := range 11 {
		require.NoError(t, l.Keep(context.Background(),
			Record{Time: time.Unix(int64(i), 0), Kind: Command, Person: fmt.Sprint("p", i%2), Device: "sw",
				Command: "look"}))
	}
	require.NoError(t, l.Close())
	signer, err := Folder(dir).Signer(true)
	require.NoError(t, err)
	heads, err := Folder(dir).Heads(t.Context())
	require.NoError(t, err)
	require.NoError(t, Folder(dir).KeepHead(signer.Sign(heads[0], time.Unix(100, 0))))
	return dir
}

// Whoever may write to the disk changes octets, files, the index and the heads.
func TestVerifyFindsWhatWasDoneToTheFiles(t *testing.T) {
	t.Parallel()
	list := func(dir string) []segments.Segment {
		all, err := segments.List(dir)
		require.NoError(t, err)
		return all
	}
	index := func(dir, text string) {
		db, err := openIndex(filepath.Join(dir, indexFile), "")
		require.NoError(t, err)
		_, err = db.Exec(text)
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	octet := func(dir string, which int, at int64) {
		path := list(dir)[which].Path
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		text[at] ^= 1
		require.NoError(t, os.WriteFile(path, text, 0o600))
	}
	for name, c := range map[string]struct {
		spoil func(dir string)
		says  string
	}{
		"an octet of a record": {func(dir string) { octet(dir, 1, 250) }, "is damaged at octet"},
		"an octet of a head":   {func(dir string) { octet(dir, 1, 20) }, "is damaged at octet"},
		"the begin of a file":  {func(dir string) { octet(dir, 1, 0) }, "does not begin as a file of records does"},
		"a length":             {func(dir string) { octet(dir, 1, 11) }, "impossible length"},
		"the oldest file gone": {func(dir string) { require.NoError(t, os.Remove(list(dir)[0].Path)) },
			"no record says that"},
		"a file in the middle": {func(dir string) { require.NoError(t, os.Remove(list(dir)[1].Path)) }, "are missing"},
		"the newest file gone": {func(dir string) { require.NoError(t, os.Remove(list(dir)[len(list(dir))-1].Path)) },
			"missing at"},
		"the newest file short": {func(dir string) {
			s := list(dir)
			f := s[len(s)-1]
			require.NoError(t,
				os.Truncate(f.Path, f.Size-20))
		}, "missing at"},
		"a file in the middle short": {func(dir string) {
			f := list(dir)[1]
			require.NoError(t,
				os.Truncate(f.Path, f.Size-20))
		},
			"the file ends within an entry"},
		"a file under another name": {func(dir string) {
			require.NoError(t, os.Rename(list(dir)[1].Path, segments.Path(dir, list(dir)[1].First+1)))
		}, "has the name of another file"},
		"a record not in the index": {func(dir string) { index(dir, "DELETE FROM entries WHERE sequence = 4") },
			"the index does not show record 4"},
		"a person hidden by the index": {func(dir string) {
			index(
				dir, "UPDATE names SET name = 'x' WHERE name = 'p1'")
		},
			"and 0 more records"},
		"a time changed in the index": {func(dir string) {
			index(
				dir, "UPDATE entries SET time = 1 WHERE sequence = 4")
		},
			"the index does not show record 4"},
		"a refusal hidden by the index": {func(dir string) {
			index(dir,
				"UPDATE entries SET refused = 1 WHERE sequence = 4")
		},
			"the index does not show record 4"},
		"a signed head changed": {func(dir string) {
			path := filepath.Join(dir, headsFile)
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), `"newest":11`, `"newest":10`, 1)), 0o600))
		}, "is not as it was signed"},
		"all written again, with its index gone": {func(dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, indexFile)))
			rewritten(t, dir, chained(edited(2, func(r *Record) { r.Command = "nothing" })))
		}, "the chain was written again"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := folded(t)
			p, err := Verify(t.Context(), Folder(dir))
			require.NoError(t, err)
			require.Empty(t, p.Breaks)
			require.EqualValues(t, 11, p.Records)
			c.spoil(dir)
			p, err = Verify(t.Context(), Folder(dir))
			require.NoError(t, err)
			require.NotEmpty(t, p.Breaks)
			if name == "a person hidden by the index" {
				require.Len(t, p.Breaks, 5)
				return
			}
			require.Contains(t, fmt.Sprint(p.Breaks), c.says)
		})
	}
}

// Of records that were let go a record says so; nothing else makes up for them.
func TestRecordsThatWereLetGoAreNoBreak(t *testing.T) {
	t.Parallel()
	dir, away := folded(t), filepath.Join(t.TempDir(), "away")
	l, err := Open(dir, Options{Indexed: true, Segment: 500})
	require.NoError(t, err)
	kept, err := segments.List(dir)
	require.NoError(t, err)
	n, err := l.Release(t.Context(), Bounds{AtMost: 1 << 20}, "tern", time.Now())
	require.NoError(t, err)
	require.Zero(t, n, "they are within the bounds")
	half := kept[len(kept)-1].Size + kept[len(kept)-2].Size
	n, err = l.Release(t.Context(), Bounds{AtMost: half, To: away}, "tern", time.Unix(200, 0))
	require.NoError(t, err)
	left := kept[len(kept)-2].First
	require.Equal(t, left-1, n)
	require.NoError(t, l.Close())
	p, err := Verify(t.Context(), Folder(dir))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.EqualValues(t, 11-n+1, p.Records)
	released := all(t, Folder(dir), Filter{Kinds: []string{string(Released)}})
	require.Len(t, released, 1)
	require.Equal(t, fmt.Sprintf("records 1 to %d were moved to %s: there were more than %d octets of them", n, away,
		half),
		released[0].Reason)
	p, err = Verify(t.Context(), Folder(away))
	require.NoError(t, err)
	require.Empty(t, p.Breaks, "what was moved is a ledger of its own")
	require.Equal(t, n, p.Records)
	left0 := 0
	for _, r := range all(t, Folder(dir), Filter{}) {
		if r.Person == "p0" {
			left0++
		}
	}
	require.Positive(t, left0)
	require.Len(t, all(t, Folder(dir), Filter{Person: "p0"}), left0, "the index has let them go too")

	l, err = Open(dir, Options{})
	require.NoError(t, err)
	require.NoError(t, l.Keep(t.Context(), Record{Kind: Command}))
	n, err = l.Release(t.Context(), Bounds{For: time.Hour}, "tern", time.Now().Add(2*time.Hour))
	require.NoError(t, err)
	require.Positive(t, n)
	require.NoError(t, l.Close())
	p, err = Verify(t.Context(), Folder(dir))
	require.NoError(t, err)
	require.Empty(t, p.Breaks, "once more")
}

// A file of an earlier version is taken over whole, with its chain.
func TestTheFileOfAnEarlierVersionIsTakenOver(t *testing.T) {
	t.Parallel()
	before := t.TempDir()
	made := func(t *testing.T, version int, records ...Record) string {
		file := filepath.Join(t.TempDir(), "ledger.db")
		db, err := sql.Open("sqlite", file+"?_pragma=journal_mode(WAL)")
		require.NoError(t, err)
		_, err = db.Exec(`CREATE TABLE records (sequence INTEGER PRIMARY KEY, time INTEGER NOT NULL, node TEXT NOT NULL,
			kind TEXT NOT NULL, person TEXT NOT NULL, device TEXT NOT NULL, access TEXT NOT NULL, source TEXT NOT NULL,
			level INTEGER NOT NULL, result TEXT NOT NULL, command TEXT NOT NULL, reason TEXT NOT NULL,
			session TEXT NOT NULL, protocol TEXT NOT NULL, hash TEXT NOT NULL)`)
		require.NoError(t, err)
		last := Record{}
		for _, r := range records {
			_, err = db.Exec("INSERT INTO records VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)", r.Sequence,
				r.Time.UnixNano(), r.Node,
				r.Kind, r.Person, r.Device, r.Access, r.From, r.Level, r.Result, r.Command, r.Reason, r.Session,
				r.Protocol, r.Hash)
			require.NoError(t, err)
			last = r
		}
		if version > 0 {
			_, err = db.Exec(`CREATE TABLE head (chain TEXT NOT NULL, sequence INTEGER NOT NULL, hash TEXT NOT NULL)`)
			require.NoError(t, err)
			_, err = db.Exec(`INSERT INTO head VALUES ('c0ffee', ?, ?); PRAGMA user_version = 2`, last.Sequence, last.Hash)
			require.NoError(t, err)
		}
		require.NoError(t, db.Close())
		return file
	}
	some := chained(func(all []Record) []Record { return all })([]Record{{Time: time.Unix(1, 0), Kind: Login,
		Person: "ines"},
		{Time: time.Unix(2, 0), Kind: Command, Person: "ines", Command: "look", Level: 15}})
	var said []string
	say := func(text string) { said = append(said, text) }
	require.NoError(t, TakeOver(filepath.Join(before, "none.db"), before, say))
	for version, chain := range []string{"", "c0ffee"} {
		file := made(t, version, some...)
		dir := filepath.Join(filepath.Dir(file), "records")
		require.ErrorContains(t, Folder(dir).Read(t.Context(), Filter{}, nil),
			"start serve once, which takes them over")
		require.NoError(t, TakeOver(file, dir, say))
		require.Contains(t, said[len(said)-1], "2 records of "+file+" are in "+dir+" now, with their hashes")
		require.NoFileExists(t, file)
		require.FileExists(t, file+".before")
		l, err := Open(dir, Options{})
		require.NoError(t, err)
		require.NoError(t, l.Keep(t.Context(), Record{Time: time.Unix(3, 0), Kind: Login, Person: "ines"}))
		require.NoError(t, l.Close())
		p, err := Verify(t.Context(), Folder(dir))
		require.NoError(t, err)
		require.Empty(t, p.Breaks)
		require.EqualValues(t, 3, p.Records)
		if chain != "" {
			require.Equal(t, chain, p.Chains[0].Chain)
		}
		require.Equal(t, some[1].Hash, all(t, Folder(dir), Filter{})[1].Hash)
		require.NoError(t, TakeOver(file+".before", dir, say), "there are records already")
		require.FileExists(t, file+".before")
	}
	bad := made(t, 1, some[1])
	_, err := os.Stat(bad)
	require.NoError(t, err)
	db, err := sql.Open("sqlite", bad)
	require.NoError(t, err)
	_, err = db.Exec("UPDATE head SET sequence = 7")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	dir := filepath.Join(filepath.Dir(bad), "records")
	require.ErrorContains(t, TakeOver(bad, dir, say), "its newest record is 2, and it notes that 7 was")
	require.FileExists(t, bad)
	require.NoDirExists(t, dir)
}

// Records are let go while others are written and read: what is left is whole, and little.
func TestRecordsAreLetGoUnderLoad(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "records")
	l, err := Open(dir, Options{Indexed: true, Segment: 4 << 10, Passing: true})
	require.NoError(t, err)
	const each, most = 1500, 64 << 10
	var writing, beside sync.WaitGroup
	for worker := range 4 {
		writing.Go(func() {
			for i := range each {
				require.NoError(t, l.Keep(t.Context(), Record{Time: time.Unix(int64(i), 0), Kind: Command,
					Person: fmt.Sprint("p", worker), Command: fmt.Sprint("look ", i)}))
			}
		})
	}
	done := make(chan struct{})
	gone := int64(0)
	beside.Go(func() {
		for {
			n, err := l.Release(t.Context(), Bounds{AtMost: most}, "tern", time.Now())
			require.NoError(t, err)
			gone += n
			select {
			case <-done:
				return
			default:
			}
		}
	})
	beside.Go(func() {
		for {
			for _, f := range []Filter{{Person: "p1"}, {Kinds: []string{"command"}}, {Last: 5}} {
				require.NoError(t, Folder(dir).Read(t.Context(), f, func(Record) error { return nil }))
			}
			select {
			case <-done:
				return
			default:
			}
		}
	})
	writing.Wait()
	close(done)
	beside.Wait()
	n, err := l.Release(t.Context(), Bounds{AtMost: most}, "tern", time.Now()) // what came after the last one
	require.NoError(t, err)
	gone += n
	require.NoError(t, l.Close())
	p, err := Verify(t.Context(), Folder(dir))
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.Positive(t, gone)
	require.Less(t, p.Records, int64(4*each))
	files, err := segments.List(dir)
	require.NoError(t, err)
	size := int64(0)
	for _, f := range files {
		size += f.Size
	}
	require.Less(t, size, int64(2*most))
}

// The newest records are looked for from the end, and are those that a whole reading has last.
func TestTheNewestAreFoundFromTheEnd(t *testing.T) {
	t.Parallel()
	for name, at := range map[string]func(int) time.Time{
		"in order": func(int) time.Time { return time.Now() },
		"some late": func(i int) time.Time {
			return time.Now().Add(-time.Duration(i*7919%400) * time.Millisecond)
		},
		"long ago": func(i int) time.Time { return time.Unix(int64(i*7919%3000), 0) },
	} {
		for _, indexed := range []bool{false, true} {
			dir := filepath.Join(t.TempDir(), "records")
			l, err := Open(dir, Options{Indexed: indexed, Segment: 4 << 10, Passing: true})
			require.NoError(t, err)
			for i := range 1500 {
				require.NoError(t, l.Keep(t.Context(), Record{Time: at(i), Kind: Command, Person: fmt.Sprint("p", i%7),
					Command: fmt.Sprint("look ", i)}))
			}
			read := func(f Filter) (commands []string) {
				require.NoError(t, Folder(dir).Read(t.Context(), f, func(r Record) error {
					commands = append(commands, r.Command)
					return nil
				}))
				return commands
			}
			for _, person := range []string{"", "p3", "nobody"} {
				whole := read(Filter{Person: person})
				for _, last := range []int{1, 5, 60, 1499, 1500, 5000} {
					got := read(Filter{Person: person, Last: last})
					require.Equal(t, whole[max(0, len(whole)-last):], got, "%s, indexed %v, %q, the last %d", name,
						indexed, person,
						last)
				}
			}
			require.NoError(t, l.Close())
		}
	}
}
