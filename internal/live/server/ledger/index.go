package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger/segments"
	"mellowgate/internal/routine"
)

// index follows the records of a ledger, so that those of a person, of a device or of a
// time are found among very many. It holds where they are and nothing of what they say:
// what is read is always the record itself. It can be made again from the records.
//
// One goroutine writes it, which close ends.
type index struct {
	ledger *Ledger
	path   string
	db     *sql.DB
	one    *sql.Stmt // inserts one entry
	many   *sql.Stmt // inserts rowsTogether
	known  *sql.Stmt // finds the number of a name
	say    func(string)
	names  map[string]int64 // numbers of names, of the newest
	at     int64            // the number of the newest record in it
	begin  segments.Position
	heard  <-chan struct{}
	stop   context.CancelFunc
	ending chan struct{} // closed by close: it is followed to the end, and then it ends
	ended  chan struct{}
}

const (
	indexFile = "index.db"
	// indexTogether is how many records are indexed in one transaction.
	indexTogether = 1000
	// indexRests is how much longer than a transaction took the index rests after it: an
	// answer comes first.
	indexRests = 19
	// indexWaits is how long the index waits for company after it has caught up.
	indexWaits = 50 * time.Millisecond
	// indexEnds is how long a ledger that is closed waits for its index.
	indexEnds  = 5 * time.Second
	namesKnown = 100_000
	// rowsTogether is how many entries one statement writes.
	rowsTogether = 64
	entryFields  = 7
)

const indexVersion = 1

// indexTables are the tables of an index. The table head notes the newest record in it.
const indexTables = `CREATE TABLE head (chain TEXT NOT NULL, sequence INTEGER NOT NULL, hash TEXT NOT NULL);
CREATE TABLE names (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE entries (
	sequence INTEGER PRIMARY KEY,
	time INTEGER NOT NULL, -- nanoseconds since 1970, UTC
	person INTEGER NOT NULL, device INTEGER NOT NULL, refused INTEGER NOT NULL,
	segment INTEGER NOT NULL, at INTEGER NOT NULL);
CREATE INDEX entries_time ON entries (time);
CREATE INDEX entries_person ON entries (person, time);
CREATE INDEX entries_device ON entries (device, time);
CREATE INDEX entries_refused ON entries (time) WHERE refused = 1;`

func openIndex(path, options string) (*sql.DB, error) {
	return sql.Open("sqlite",
		"file:"+strings.NewReplacer("?", "%3f", "#", "%23", "%", "%25").Replace(
			path)+"?_pragma=busy_timeout(5000)"+options)
}

// readIndex opens an index for reading. One that nobody has open can be read where nothing
// may be written.
func readIndex(path string) (*sql.DB, error) {
	options := "&mode=ro"
	if !exists(path + "-wal") {
		options += "&immutable=1"
	}
	return openIndex(path, options)
}

// follow opens the index of a ledger and begins to follow.
func (l *Ledger) follow(say func(string)) (*index, error) {
	x := &index{ledger: l, path: filepath.Join(l.dir, indexFile), say: say, names: map[string]int64{},
		heard: l.listen(), ending: make(chan struct{}), ended: make(chan struct{})}
	if err := x.prepare(); err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	x.stop = stop
	routine.Go(func() { x.run(ctx) })
	return x, nil
}

// prepare opens the index. One that is of other records than those that are here is put
// aside, and made again: it may tell what is gone.
func (x *index) prepare() error {
	for first := true; ; first = false {
		if err := private(x.path); err != nil {
			return err
		}
		db, err := openIndex(x.path, "&_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)")
		if err != nil {
			return err
		}
		db.SetMaxOpenConns(1)
		why, err := x.fits(db)
		if err == nil && why == "" {
			x.db = db
			row := "(?" + strings.Repeat(",?", entryFields-1) + ")"
			for statement, text := range map[**sql.Stmt]string{&x.one: "INSERT INTO entries VALUES " + row,
				&x.many:  "INSERT INTO entries VALUES " + row + strings.Repeat(","+row, rowsTogether-1),
				&x.known: "SELECT id FROM names WHERE name = ?"} {
				if *statement, err = db.Prepare(text); err != nil {
					return errors.Join(err, db.Close())
				}
			}
			return nil
		}
		_ = db.Close()
		if !first {
			return errors.Join(err, errors.New(why))
		}
		if err != nil {
			why = "it cannot be read: " + err.Error()
		}
		aside := x.path + ".aside"
		if err := os.Rename(x.path, aside); err != nil {
			return err
		}
		for _, beside := range []string{"-wal", "-shm"} {
			if err := os.Rename(x.path+beside, aside+beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		x.say(fmt.Sprintf("the index of the ledger is made again from the records: %s; the one before is %s", why,
			aside))
	}
}

// fits makes the tables where there are none, and says why an index is not one of these
// records.
func (x *index) fits(db *sql.DB) (why string, err error) {
	var version int
	if err := db.QueryRow(`PRAGMA user_version`).Scan(&version); err != nil {
		return "", err
	}
	switch {
	case version == 0:
		_, err := db.Exec(`BEGIN; ` + indexTables + fmt.Sprintf(`PRAGMA user_version = %d; COMMIT`, indexVersion))
		if err == nil {
			_, err = db.Exec(`INSERT INTO head VALUES (?, 0, '')`, x.ledger.chain)
		}
		return "", err
	case version != indexVersion:
		return "another version of this program made it", nil
	}
	var h Head
	if err := db.QueryRow(`SELECT chain, sequence, hash FROM head`).Scan(&h.Chain, &h.Sequence, &h.Hash); err != nil {
		return "", err
	}
	newest := x.ledger.Newest()
	switch {
	case h.Chain != x.ledger.chain:
		return "it is of another ledger", nil
	case h.Sequence > newest:
		return fmt.Sprintf("it knows records up to %d, and the newest that is here is %d: the later ones are gone",
			h.Sequence, newest), nil
	}
	x.at = h.Sequence
	if x.at == 0 {
		return "", nil
	}
	var position segments.Position
	err = db.QueryRow(`SELECT segment, at FROM entries WHERE sequence = ?`, x.at).Scan(&position.Segment, &position.Offset)
	if errors.Is(err, sql.ErrNoRows) { // let go meanwhile
		return "", nil
	}
	if err != nil {
		return "", err
	}
	pick := segments.Pick(x.ledger.dir)
	defer func() { _ = pick.Close() }()
	entry, err := pick.Entry(position)
	if err == nil {
		var r Record
		if r, err = decode(entry); err == nil && r.Hash == h.Hash {
			x.begin = position.After(entry)
			return "", nil
		}
	}
	return fmt.Sprintf("record %d is not the one that it knows", x.at), nil
}

// run follows until the end.
func (x *index) run(ctx context.Context) {
	defer close(x.ended)
	failed := false
	for ctx.Err() == nil {
		began, ends := time.Now(), false
		select {
		case <-x.ending: // what was written before is there now
			ends = true
		default:
		}
		before := x.ledger.Newest()
		n, err := x.pass(ctx)
		took := time.Since(began)
		rest := max(indexWaits, indexRests*took)
		switch {
		case err != nil:
			if !failed && ctx.Err() == nil {
				x.say(fmt.Sprintf("the index of the ledger cannot be written: %v; the records themselves are safe, "+
					"and finding them takes longer", err))
			}
			failed, rest = true, spoolLongest
		default:
			failed = false
		}
		if n == indexTogether && x.ledger.Newest() == before { // nobody waits for an answer
			rest = 0
		}
		if ends && (err != nil || n < indexTogether) {
			return
		}
		if ends {
			continue
		}
		if !x.pause(ctx, rest) || n == indexTogether {
			continue
		}
		select {
		case <-x.heard:
		case <-x.ending:
		case <-ctx.Done():
		}
	}
}

// pause waits. It is false when it was cut short.
func (x *index) pause(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-x.ending:
	case <-ctx.Done():
	}
	return false
}

// pass indexes the next records, and returns how many.
func (x *index) pass(ctx context.Context) (int, error) {
	var values []any
	var end Record
	begin := x.begin
	n := 0
	newest := x.ledger.Newest()
	fresh := map[string]int64{}
	tx, err := x.db.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback() }()
	err = segments.Read(x.ledger.dir, segments.Reading{From: x.at + 1, Begin: x.begin,
		Entry: func(number int64, position segments.Position, entry []byte) error {
			if n == indexTogether || number > newest {
				return errEnough
			}
			r, err := decode(entry)
			if err != nil {
				return err
			}
			person, err := x.number(ctx, tx, fresh, r.Person)
			if err != nil {
				return err
			}
			device, err := x.number(ctx, tx, fresh, r.Device)
			if err != nil {
				return err
			}
			refused := 0
			if r.Result == evidence.Refused {
				refused = 1
			}
			values = append(values, number, r.Time.UnixNano(), person, device, refused, position.Segment,
				position.Offset)
			begin, end = position.After(entry), r
			n++
			return nil
		},
		Damaged: func(*segments.Damage) error { return nil }}) // what verify says; the rest is to be found
	if err != nil && !errors.Is(err, errEnough) {
		return 0, err
	}
	if n == 0 {
		return 0, nil
	}
	if err := x.insert(ctx, tx, values); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE head SET sequence = ?, hash = ?`, end.Sequence, end.Hash); err != nil {
		return 0, err
	}
	if oldest, err := x.oldest(); err != nil {
		return 0, err
	} else if _, err := tx.ExecContext(ctx, `DELETE FROM entries WHERE sequence < ?`, oldest); err != nil {
		return 0, err
	}
	if err := tx.Commit(); err != nil {
		return 0, err
	}
	if len(x.names) > namesKnown {
		clear(x.names)
	}
	for name, id := range fresh {
		x.names[name] = id
	}
	x.ledger.mu.Lock()
	x.at, x.begin = end.Sequence, begin
	x.ledger.mu.Unlock()
	return n, nil
}

// oldest returns the number of the oldest record that is kept here.
func (x *index) oldest() (int64, error) {
	all, err := segments.List(x.ledger.dir)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return all[0].First, nil
}

// insert writes entries in few statements.
func (x *index) insert(ctx context.Context, tx *sql.Tx, values []any) error {
	one, many := tx.StmtContext(ctx, x.one), tx.StmtContext(ctx, x.many)
	for len(values) > 0 {
		statement, n := many, rowsTogether*entryFields
		if len(values) < n {
			statement, n = one, entryFields
		}
		if _, err := statement.ExecContext(ctx, values[:n]...); err != nil {
			return err
		}
		values = values[n:]
	}
	return nil
}

// number returns the number of a name.
func (x *index) number(ctx context.Context, tx *sql.Tx, fresh map[string]int64, name string) (int64, error) {
	if id, known := x.names[name]; known {
		return id, nil
	}
	if id, known := fresh[name]; known {
		return id, nil
	}
	var id int64
	err := tx.StmtContext(ctx, x.known).QueryRowContext(ctx, name).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		err = tx.QueryRowContext(ctx, `INSERT INTO names (name) VALUES (?) RETURNING id`, name).Scan(&id)
	}
	if err == nil {
		fresh[name] = id
	}
	return id, err
}

// behind returns how many records are not in the index yet.
func (x *index) behind() int64 {
	x.ledger.mu.Lock()
	defer x.ledger.mu.Unlock()
	return x.ledger.newest - x.at
}

func (x *index) close() error {
	close(x.ending)
	timer := routine.AfterFunc(indexEnds, x.stop)
	<-x.ended
	timer.Stop()
	x.stop()
	return x.db.Close()
}
