package ledger

import (
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"mellowgate/internal/live/server/ledger/segments"
)

// TakeOver moves the records of a file of an earlier version, a database, into a folder
// that has none yet, with their numbers and hashes. The file stays, under another name.
// It does nothing where there is no such file; what it did is said.
func TakeOver(file, dir string, say func(string)) error {
	if !exists(file) {
		return nil
	}
	if all, err := segments.List(dir); err != nil || len(all) > 0 {
		return err
	}
	fresh := dir + ".new"
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	n, err := rewrite(file, fresh)
	if err != nil {
		return fmt.Errorf("the records of %s cannot be taken over: %w; it is as it was", file, err)
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) { // an empty one
		return err
	}
	if err := os.Rename(fresh, dir); err != nil {
		return err
	}
	kept := file + ".before"
	if err := os.Rename(file, kept); err != nil {
		return err
	}
	for _, beside := range []string{"-wal", "-shm"} {
		if err := os.Remove(file + beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	say(fmt.Sprintf("%d records of %s are in %s now, with their hashes; the file is %s, and is needed no more", n, file,
		dir,
		kept))
	return nil
}

// rewrite writes the records of a file to a folder, and returns how many.
func rewrite(file, dir string) (n int, err error) {
	db, err := openIndex(file, "")
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(`PRAGMA wal_checkpoint(TRUNCATE)`); err != nil {
		return 0, err
	}
	end, oldest, err := noted(db)
	if err != nil {
		return 0, err
	}
	w := &exporting{dir: dir, chain: end.Chain, last: Record{Sequence: oldest.Sequence, Hash: oldest.Hash}}
	w.files, err = segments.Create(dir, oldest.Sequence+1,
		head{chain: end.Chain, first: oldest.Sequence + 1, before: oldest.Hash}.encode(), false)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, w.files.Close()) }()
	rows, err := db.Query(`SELECT time, node, kind, person, device, access, source, level, result, command, reason,
		session, protocol, sequence, hash FROM records ORDER BY sequence`)
	if err != nil {
		return 0, err
	}
	defer func() { _ = rows.Close() }()
	for ; rows.Next(); n++ {
		var r Record
		var at int64
		if err := rows.Scan(&at, &r.Node, &r.Kind, &r.Person, &r.Device, &r.Access, &r.From, &r.Level, &r.Result,
			&r.Command,
			&r.Reason, &r.Session, &r.Protocol, &r.Sequence, &r.Hash); err != nil {
			return 0, err
		}
		r.Time = time.Unix(0, at)
		if err := w.add(r); err != nil {
			return 0, err
		}
	}
	if err := errors.Join(rows.Err(), w.flush()); err != nil {
		return 0, err
	}
	if w.last.Hash != end.Hash || w.last.Sequence != end.Sequence {
		return 0, fmt.Errorf("its newest record is %d, and it notes that %d was: see what the version before says "+
			"with ledger verify", w.last.Sequence, end.Sequence)
	}
	return n, nil
}

// noted returns the newest record as a file notes it, and the newest one that is not in it
// any more.
func noted(db *sql.DB) (end, gone Head, err error) {
	var version int
	if err := db.QueryRow(`PRAGMA user_version`).Scan(&version); err != nil {
		return end, gone, err
	}
	var first sql.NullInt64
	if err := db.QueryRow(`SELECT min(sequence) FROM records`).Scan(&first); err != nil {
		return end, gone, err
	}
	if version == 0 { // it noted none
		var name [8]byte
		_, _ = rand.Read(name[:]) // never fails: crypto/rand ends the process instead
		end.Chain = hex.EncodeToString(name[:])
		err := db.QueryRow(`SELECT sequence, hash FROM records ORDER BY sequence DESC LIMIT 1`).Scan(&end.Sequence, &end.Hash)
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return end, gone, err
	}
	err = db.QueryRow(`SELECT chain, sequence, hash FROM head`).Scan(&end.Chain, &end.Sequence, &end.Hash)
	switch {
	case first.Valid:
		gone.Sequence = first.Int64 - 1 // its hash is noted nowhere
	default:
		gone = end
	}
	return end, gone, err
}
