package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/ledger/segments"
)

// indexed reads the records that the filter chooses by the index, as far as it goes, and
// the later ones as they were written; in the order of time.
func (f Folder) indexed(ctx context.Context, which Filter, do func(Record) error) error {
	path := filepath.Join(string(f), indexFile)
	if !exists(path) {
		return f.newest(ctx, which, nil, nil, do)
	}
	db, err := readIndex(path)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true}) // one state of it, for all questions
	if err != nil {
		return f.newest(ctx, which, nil, nil, do)
	}
	defer func() { _ = tx.Rollback() }()
	var known Head
	if err := tx.QueryRowContext(ctx, `SELECT chain, sequence FROM head`).Scan(&known.Chain, &known.Sequence); err != nil {
		return f.newest(ctx, which, nil, nil, do) // it is only being made, or of no use: the records are there
	}
	err = f.newest(ctx, which, &known, tx, do)
	if errors.Is(err, errIndex) {
		return fmt.Errorf("%s: %w; take it away, serve makes it again when it starts", path, err)
	}
	return err
}

// errIndex is an index that does not fit its records.
var errIndex = errors.New("the index does not fit the records")

// newest reads what the filter chooses, of that only the newest where Last says how
// many: from the index what it knows, and the rest from the records.
func (f Folder) newest(ctx context.Context, which Filter, known *Head, tx *sql.Tx, do func(Record) error) error {
	var some []Record
	tidy := func() {
		slices.SortStableFunc(some, inTime)
		if which.Last > 0 {
			some = slices.Delete(some, 0, max(0, len(some)-which.Last))
		}
	}
	from := segments.Reading{}
	if known != nil {
		from.From = known.Sequence + 1
	}
	if known == nil && which.Last == 0 {
		return f.byTime(ctx, which, do)
	}
	starts := []int64{from.From}
	if which.Last > 0 {
		var err error
		if starts, err = f.backwards(from.From); err != nil {
			return err
		}
	}
	for i, start := range starts {
		if i > 0 && i < len(starts)-1 && len(some) > 0 && time.Since(some[len(some)-1].Time) > unrelated {
			continue // the times are not those of the files: all of it is read, once
		}
		some, from.From = nil, start
		if err := f.scan(ctx, which, from, func(r Record) error {
			if some = append(some, r); which.Last > 0 && len(some) >= 2*which.Last+1024 {
				tidy()
			}
			return nil
		}); err != nil {
			return err
		}
		tidy()
		if which.Last > 0 && len(some) == which.Last && f.nothingNewer(start, some[0].Time) {
			known = nil // what comes before is older
			break
		}
	}
	if known != nil {
		var err error
		if some, err = f.known(ctx, which, known.Chain, tx, some, do); err != nil {
			return err
		}
	}
	for _, r := range some {
		if err := do(r); err != nil {
			return err
		}
	}
	return nil
}

// backwards are the numbers of records from which the newest are looked for, one after
// another: each goes back twice as far as the one before, in whole files, and the last is
// the first that is asked for.
func (f Folder) backwards(first int64) ([]int64, error) {
	all, err := segments.List(string(f))
	if err != nil {
		return nil, err
	}
	var starts []int64
	for back := 1; back <= len(all) && all[len(all)-back].First > first; back *= 2 {
		starts = append(starts, all[len(all)-back].First)
	}
	return append(starts, first), nil
}

// coarse is more than the time of a file can lie before that of what was written to it.
const coarse = time.Second

// unrelated is the age of the newest record from which on the times of files say nothing of
// those of records.
const unrelated = 24 * time.Hour

// nothingNewer reports whether all files before a record were written to before a time: no
// record in them is newer.
func (f Folder) nothingNewer(first int64, than time.Time) bool {
	all, err := segments.List(string(f))
	for _, s := range all {
		if s.First < first && !s.Written.Add(coarse).Before(than) {
			return false
		}
	}
	return err == nil
}

// known reads by the index. What comes later, in order, is put among it; it returns what
// of that is left.
func (f Folder) known(ctx context.Context, which Filter, chain string, tx *sql.Tx, later []Record,
	do func(Record) error) ([]Record, error) {
	query, args, err := which.entries(ctx, tx)
	if err != nil || query == "" {
		return later, err
	}
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	pick, chosen := segments.Pick(string(f)), which.chooser()
	defer func() { _ = pick.Close() }()
	var newest []Record
	for rows.Next() {
		var sequence int64
		var position segments.Position
		if err := rows.Scan(&sequence, &position.Segment, &position.Offset); err != nil {
			return nil, err
		}
		entry, err := pick.Entry(position)
		if errors.Is(err, fs.ErrNotExist) {
			continue // let go meanwhile
		}
		var d *segments.Damage
		if errors.As(err, &d) {
			return nil, errIndex
		}
		if err != nil {
			return nil, err
		}
		r, err := decode(entry)
		if err != nil || r.Sequence != sequence {
			return nil, errIndex
		}
		if r.Chain = chain; !chosen(r) {
			continue
		}
		if which.Last > 0 {
			if newest = append(newest, r); len(newest) == which.Last {
				break
			}
			continue
		}
		for len(later) > 0 && inTime(later[0], r) < 0 {
			if err := do(later[0]); err != nil {
				return nil, err
			}
			later = later[1:]
		}
		if err := do(r); err != nil {
			return nil, err
		}
	}
	if which.Last > 0 {
		later = append(later, newest...)
		slices.SortFunc(later, inTime)
		later = later[max(0, len(later)-which.Last):]
	}
	return later, rows.Err()
}

// entries is the question to the index, "" where nothing can be found.
func (f Filter) entries(ctx context.Context, tx *sql.Tx) (string, []any, error) {
	parts, args := []string{"1"}, []any{}
	if f.Person != "" {
		rows, err := tx.QueryContext(ctx, `SELECT id, name FROM names`)
		if err != nil {
			return "", nil, err
		}
		defer func() { _ = rows.Close() }()
		folded, ids := site.FoldedName(f.Person), []string{}
		for rows.Next() && len(ids) < mostSpellings {
			var id int64
			var name string
			if err := rows.Scan(&id, &name); err != nil {
				return "", nil, err
			}
			if site.FoldedName(name) == folded {
				ids = append(ids, fmt.Sprint(id))
			}
		}
		if err := rows.Err(); err != nil || len(ids) == 0 {
			return "", nil, err
		}
		parts = append(parts, "person IN ("+strings.Join(ids, ",")+")")
	}
	add := func(part string, value any) { parts, args = append(parts, part), append(args, value) }
	if f.Device != "" {
		add("device = (SELECT id FROM names WHERE name = ?)", f.Device)
	}
	if !f.Since.IsZero() {
		add("time >= ?", f.Since.UnixNano())
	}
	if !f.Until.IsZero() {
		add("time < ?", f.Until.UnixNano())
	}
	if f.Refused {
		parts = append(parts, "refused = 1")
	}
	order := " ORDER BY time, sequence"
	if f.Last > 0 {
		order = " ORDER BY time DESC, sequence DESC"
	}
	return "SELECT sequence, segment, at FROM entries WHERE " + strings.Join(parts, " AND ") + order, args, nil
}
