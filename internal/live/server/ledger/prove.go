package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger/segments"
)

// prove gives every record of a folder to a proof, with what is said beside them: the
// heads of the files, the heads that were signed, and the index, which must show each
// record where it is.
func (f Folder) prove(ctx context.Context, v *verifying) error {
	signed, err := f.Signed()
	if err != nil {
		return err
	}
	for _, h := range signed {
		v.expect(h)
	}
	beside, err := f.indexBeside(ctx)
	if err != nil {
		return err
	}
	defer beside.close()
	first, chain := true, ""
	err = segments.Read(string(f), segments.Reading{
		Head: func(s segments.Segment, text []byte) error {
			h, err := decodeHead(text)
			if err != nil {
				return fmt.Errorf("%s: %w", s.Path, err)
			}
			switch {
			case first:
				v.begins(h.chain, h.first-1, h.before)
			case h.chain != chain:
				v.say(h.chain, s.First, "%s is of another chain", s.Path)
			case h.first != s.First:
				v.say(h.chain, s.First, "%s has the name of another file", s.Path)
			case v.end(chain).Sequence == s.First-1 && h.before != v.end(chain).Hash:
				v.say(h.chain, s.First, "%s follows another record than the one before it here", s.Path)
			}
			first, chain = false, h.chain
			return nil
		},
		Entry: func(n int64, position segments.Position, entry []byte) error {
			if n%1024 == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			r, err := decode(entry)
			if err != nil {
				v.say(chain, n, "record %d cannot be read", n)
				return nil
			}
			r.Chain = chain
			v.record(r)
			return beside.shows(v, r, position)
		},
		Damaged: func(d *segments.Damage) error {
			v.say(chain, d.Number, "%s", d.Error())
			return nil
		}})
	if err != nil {
		return err
	}
	return beside.rest(v)
}

// beside is the index while a proof looks at it too.
type beside struct {
	db    *sql.DB
	rows  *sql.Rows
	names map[int64]string
	end   Head  // the newest record that it knows
	next  shown // the next row
	more  bool
	said  int
}

// shown is a row of the index.
type shown struct {
	sequence, time, person, device, refused int64
	at                                      segments.Position
}

// mostOfIndex is how many records are named that the index does not show as they are.
const mostOfIndex = 5

// indexBeside opens the index of a folder, if it has one that can be read.
func (f Folder) indexBeside(ctx context.Context) (*beside, error) {
	b := &beside{names: map[int64]string{}}
	path := filepath.Join(string(f), indexFile)
	if !exists(path) {
		return b, nil
	}
	db, err := readIndex(path)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	var version int
	if err := db.QueryRowContext(ctx, `PRAGMA user_version`).Scan(&version); err == nil && version == 0 {
		return b, db.Close() // one that was never finished: the machine went down
	}
	b.db = db
	if err := b.begin(ctx); err != nil {
		b.close()
		return nil, fmt.Errorf("%s cannot be read: %w; verify a copy of the folder, in which something may be written",
			path,
			err)
	}
	return b, nil
}

func (b *beside) begin(ctx context.Context) error {
	if err := b.db.QueryRowContext(ctx, `SELECT chain, sequence, hash FROM head`).Scan(&b.end.Chain, &b.end.Sequence,
		&b.end.Hash); err != nil {
		return err
	}
	names, err := b.db.QueryContext(ctx, `SELECT id, name FROM names`)
	if err != nil {
		return err
	}
	for names.Next() {
		var id int64
		var name string
		if err := names.Scan(&id, &name); err != nil {
			return errors.Join(err, names.Close())
		}
		b.names[id] = name
	}
	if err := errors.Join(names.Err(), names.Close()); err != nil {
		return err
	}
	b.rows, err = b.db.QueryContext(ctx, `SELECT sequence, time, person, device, refused, segment, at FROM entries
		WHERE sequence <= ? ORDER BY sequence`, b.end.Sequence)
	if err != nil {
		return err
	}
	return b.step()
}

// step reads the next row.
func (b *beside) step() error {
	if b.more = b.rows.Next(); !b.more {
		return b.rows.Err()
	}
	n := &b.next
	return b.rows.Scan(&n.sequence, &n.time, &n.person, &n.device, &n.refused, &n.at.Segment, &n.at.Offset)
}

// shows checks that the index shows a record.
func (b *beside) shows(v *verifying, r Record, position segments.Position) error {
	if b.rows == nil || r.Sequence > b.end.Sequence {
		return nil
	}
	for b.more && b.next.sequence < r.Sequence { // of records that are not here: said elsewhere, or let go
		if err := b.step(); err != nil {
			return err
		}
	}
	n := b.next
	refused := r.Result == evidence.Refused
	if b.more && n.sequence == r.Sequence && n.time == r.Time.UnixNano() && b.names[n.person] == r.Person &&
		b.names[n.device] == r.Device && (n.refused == 1) == refused && n.at == position {
		return nil
	}
	if b.said++; b.said <= mostOfIndex {
		v.say(r.Chain, r.Sequence, "the index does not show record %d as it is: take %s away, serve makes it again",
			r.Sequence, indexFile)
	}
	return nil
}

// rest checks the end.
func (b *beside) rest(v *verifying) error {
	if b.rows == nil {
		return nil
	}
	if b.said > mostOfIndex {
		v.say(b.end.Chain, b.end.Sequence, "and %d more records that the index does not show as they are",
			b.said-mostOfIndex)
	}
	if b.end.Sequence > 0 {
		v.endIs(b.end)
	}
	return b.rows.Err()
}

func (b *beside) close() {
	if b.rows != nil {
		_ = b.rows.Close()
	}
	if b.db != nil {
		_ = b.db.Close()
	}
}
