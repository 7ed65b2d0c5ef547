package ledger

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"mellowgate/internal/live/server/ledger/segments"
)

// Folder is the ledger of one place, by the path of its folder.
type Folder string

// before is the file in which an earlier version kept its records, beside the folder.
const before = "ledger.db"

// There returns an error where the folder has no records, which says what it has.
func (f Folder) There() error {
	if all, err := segments.List(string(f)); err != nil || len(all) > 0 {
		return err
	}
	if of, err := filepath.Glob(filepath.Join(string(f), "*", "*"+segments.Suffix)); err == nil && len(of) > 0 {
		return fmt.Errorf("%s has the records of several places, each in a folder of its own: name one, such as %s",
			string(f), filepath.Dir(of[0]))
	}
	if old := filepath.Join(filepath.Dir(string(f)), before); exists(old) {
		return fmt.Errorf("%s: the records here are still in the form of an earlier version; start serve once, "+
			"which takes them over", old)
	}
	return fmt.Errorf("%s: there is no ledger here", string(f))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// Read calls do for every record that the filter chooses, oldest first.
func (f Folder) Read(ctx context.Context, which Filter, do func(Record) error) error {
	err := f.There()
	switch {
	case err != nil:
		return err
	case which.byChain:
		err = f.inOrder(ctx, which, do)
	case which.Last > 0 || which.Person != "" || which.Device != "" || which.Refused || !which.Until.IsZero():
		err = f.indexed(ctx, which, do)
	default:
		err = f.byTime(ctx, which, do)
	}
	var d *segments.Damage
	if errors.As(err, &d) {
		return fmt.Errorf("%w; what mellowgate ledger verify says of it tells which records are touched", err)
	}
	return err
}

// scan reads the records that the filter chooses as they were written, from a record on.
// Those of Last are not chosen.
func (f Folder) scan(ctx context.Context, which Filter, from segments.Reading, do func(Record) error) error {
	chosen, chain := which.chooser(), ""
	from.Head = func(_ segments.Segment, text []byte) error {
		h, err := decodeHead(text)
		chain = h.chain
		return err
	}
	from.Entry = func(n int64, _ segments.Position, entry []byte) error {
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		r, err := decode(entry)
		if err != nil {
			return fmt.Errorf("record %d of %s: %w", n, string(f), err)
		}
		if r.Chain = chain; chosen(r) {
			return do(r)
		}
		return nil
	}
	return segments.Read(string(f), which.reading(from))
}

// reading passes over files that hold nothing of the time in question.
func (f Filter) reading(from segments.Reading) segments.Reading {
	if !f.Since.IsZero() {
		// A file holds nothing from after it was last written to.
		from.Skips = func(s segments.Segment) bool { return s.Written.Add(time.Minute).Before(f.Since) }
	}
	return from
}

// inOrder reads in the order of the chain, beyond a record of it.
func (f Folder) inOrder(ctx context.Context, which Filter, do func(Record) error) error {
	return f.scan(ctx, which, segments.Reading{From: which.beyond + 1}, func(r Record) error {
		if which.chain != "" && which.chain != r.Chain {
			return nil
		}
		return do(r)
	})
}

// byTime reads in the order of time. Records come nearly so: it is looked first by how
// much one is at most behind another, and so long each is held back then.
func (f Folder) byTime(ctx context.Context, which Filter, do func(Record) error) error {
	late, err := f.lateness(ctx, which)
	if err != nil {
		return err
	}
	held, newest := &byTime{}, time.Time{}
	give := func(until time.Time) error {
		for len(*held) > 0 && !(*held)[0].Time.After(until) {
			if err := do(heap.Pop(held).(Record)); err != nil {
				return err
			}
		}
		return nil
	}
	if err := f.scan(ctx, which, segments.Reading{}, func(r Record) error {
		if late == 0 { // as they come
			return do(r)
		}
		if r.Time.After(newest) {
			newest = r.Time
		}
		heap.Push(held, r)
		return give(newest.Add(-late - 1))
	}); err != nil {
		return err
	}
	return give(newest)
}

// lateness is by how much a record of those in question is at most behind one that was
// written before it.
func (f Folder) lateness(ctx context.Context, which Filter) (time.Duration, error) {
	var late, newest int64
	reading := which.reading(segments.Reading{Entry: func(n int64, _ segments.Position, entry []byte) error {
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		at, err := timeOf(entry)
		if err != nil {
			return fmt.Errorf("record %d of %s: %w", n, string(f), err)
		}
		newest = max(newest, at)
		late = max(late, newest-at)
		return nil
	}})
	return time.Duration(late), segments.Read(string(f), reading)
}

// byTime are records, the oldest first.
type byTime []Record

func (b byTime) Len() int           { return len(b) }
func (b byTime) Less(i, j int) bool { return inTime(b[i], b[j]) < 0 }
func (b byTime) Swap(i, j int)      { b[i], b[j] = b[j], b[i] }

// Push puts a record at the end.
func (b *byTime) Push(r any) { *b = append(*b, r.(Record)) }

// Pop takes the one at the end.
func (b *byTime) Pop() any {
	old := *b
	r := old[len(old)-1]
	old[len(old)-1] = Record{}
	*b = old[:len(old)-1]
	return r
}

// inTime compares two records of a chain by time.
func inTime(a, b Record) int {
	if c := a.Time.Compare(b.Time); c != 0 {
		return c
	}
	return int(min(max(a.Sequence-b.Sequence, -1), 1))
}

// Heads returns the newest record.
func (f Folder) Heads(context.Context) ([]Head, error) {
	if err := f.There(); err != nil {
		return nil, err
	}
	all, err := segments.List(string(f))
	if err != nil || len(all) == 0 {
		return nil, err
	}
	newest, last := Head{}, []byte(nil)
	err = segments.Read(string(f), segments.Reading{From: all[len(all)-1].First,
		Head: func(_ segments.Segment, text []byte) error {
			h, err := decodeHead(text)
			newest = Head{Chain: h.chain, Sequence: h.first - 1, Hash: h.before}
			return err
		},
		Entry: func(n int64, _ segments.Position, entry []byte) error {
			newest.Sequence, last = n, append(last[:0], entry...)
			return nil
		}})
	if err == nil && last != nil {
		var r Record
		r, err = decode(last)
		newest.Hash = r.Hash
	}
	return []Head{newest}, err
}

// errEnough ends a reading.
var errEnough = errors.New("enough")
