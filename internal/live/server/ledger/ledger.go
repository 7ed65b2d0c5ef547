// Package ledger keeps the records of what people did: logins, sessions,
// commands and decisions. A record is safe on disk when Keep returns. Records
// that arrive together are written together. Each holds the hash of the one
// before, so that a change can be found.
package ledger

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/core/evidence"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Ledger is an open ledger. One writer takes what is pending and commits it
// together.
//
// One goroutine writes; Keep and Note hand records to it. Close ends it once what
// it was given is written.
type Ledger struct {
	db   *sql.DB
	done chan struct{} // closed when the writer has ended
	some chan struct{} // holds one when something is pending
	now  chan struct{} // holds one when what is pending is to be written at once

	mu      sync.Mutex
	room    *sync.Cond // pending has become shorter
	pending []entry
	closing bool
	most    int64         // the most records that may be kept here; 0: no bound
	holds   int64         // how many are
	changed chan struct{} // holds one when records were written, where somebody takes them on
	wrote   func(waiting, lost int, err error)
	again   []entry // the writer's: what could not be written, and is tried again with what comes next
	gap     gap     // the writer's: what could not be kept for that either

	// The writer's own.
	chain  string // the name of the chain
	last   string // the hash of the newest record
	next   int64
	one    *sql.Stmt // writes one record
	many   *sql.Stmt // writes rowsTogether
	newest *sql.Stmt // notes the newest record
	values []any     // of the records that are being written
}

type entry struct {
	record Record
	kept   chan<- error // nil where nobody waits
}

const (
	// mostTogether bounds how many records are written in one transaction.
	mostTogether = 4096
	// mostPending bounds how many records may wait to be written.
	mostPending = 2 * mostTogether
	// patience is how long a record that nobody waits for may wait for company:
	// one commit costs as much for many records as for one.
	patience = 20 * time.Millisecond
)

// versions are the steps from each version of the tables to the next. The
// table head holds the name of the chain and its newest record.
var versions = []string{
	`CREATE TABLE IF NOT EXISTS records (
	sequence INTEGER PRIMARY KEY,
	time INTEGER NOT NULL, -- nanoseconds since 1970, UTC
	node TEXT NOT NULL, kind TEXT NOT NULL, person TEXT NOT NULL, device TEXT NOT NULL,
	access TEXT NOT NULL, source TEXT NOT NULL, level INTEGER NOT NULL, result TEXT NOT NULL,
	command TEXT NOT NULL, reason TEXT NOT NULL, session TEXT NOT NULL, protocol TEXT NOT NULL,
	hash TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS records_time ON records (time);
CREATE INDEX IF NOT EXISTS records_person ON records (person, time);
CREATE INDEX IF NOT EXISTS records_device ON records (device, time);
CREATE TABLE head (chain TEXT NOT NULL, sequence INTEGER NOT NULL, hash TEXT NOT NULL);`,
	viewIndexes,
}

// viewIndexes let failures and sessions be found among many records of other
// kinds. They cover few records, so that writing costs little more.
const viewIndexes = `CREATE INDEX records_refused ON records (time) WHERE ` + refused + `;
CREATE INDEX records_sessions ON records (time) WHERE ` + sessions + `;`

// refused and sessions choose the records of these indexes. A question must hold
// them in these words to make use of one.
const (
	refused  = `result = '` + string(evidence.Refused) + `'`
	sessions = `kind IN ('session-start', 'session-stop', 'system')`
)

// Options are how a ledger is opened. The zero value works.
type Options struct {
	// Most bounds how many records are kept here; 0 does not.
	Most int64
	// Passing is for records that are of no worth once the machine stops, as a
	// lab's: they are written without waiting for the disk itself.
	Passing bool
	// Wrote is told how writing went, after each time: how many records that
	// nobody waits for wait to be tried again, how many were lost because too many
	// did, and why; 0, 0 and nil where all is well. Default: nobody is.
	Wrote func(waiting, lost int, err error)
}

// Chain returns the name of the ledger's chain.
func (l *Ledger) Chain() string { return l.chain }

// Holds returns how many records are kept here, where they are bounded.
func (l *Ledger) Holds() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.holds
}

// oldest returns the oldest records that are kept here, at most n.
func (l *Ledger) oldest(ctx context.Context, n int) ([]Record, error) {
	rows, err := l.db.QueryContext(ctx, `SELECT ?, `+columns+` FROM records ORDER BY sequence LIMIT ?`, l.chain, n)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	var some []Record
	for rows.Next() {
		r, err := scan(rows)
		if err != nil {
			return nil, err
		}
		some = append(some, r)
	}
	return some, rows.Err()
}

// drop takes out records that are safe elsewhere, up to a sequence number.
func (l *Ledger) drop(ctx context.Context, upTo int64) error {
	done, err := l.db.ExecContext(ctx, `DELETE FROM records WHERE sequence <= ?`, upTo)
	if err != nil {
		return err
	}
	n, err := done.RowsAffected()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.holds -= n
	return err
}

// private makes a file that only its owner can read; the files that the database
// puts beside it are as it is.
func private(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(file.Chmod(0o600), file.Close())
}

// Open opens the ledger in the file at path, and makes it when there is none.
func Open(path string, o Options) (*Ledger, error) {
	safe := "FULL"
	if o.Passing {
		safe = "OFF"
	}
	if err := private(path); err != nil {
		return nil, fmt.Errorf("the ledger %s cannot be used: %w", path, err)
	}
	db, err := open(path, "&_pragma=journal_mode(WAL)&_pragma=synchronous("+safe+")")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // one writer; readers open their own
	l := &Ledger{db: db, done: make(chan struct{}), some: make(chan struct{}, 1), now: make(chan struct{}, 1),
		changed: make(chan struct{}, 1),
		most:    o.Most, wrote: o.Wrote}
	l.room = sync.NewCond(&l.mu)
	if err := l.prepare(); err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("the ledger %s cannot be used: %w", path, err)
	}
	go l.write()
	return l, nil
}

// prepare makes the tables, or brings them to the newest version, and finds the
// end of the chain.
func (l *Ledger) prepare() error {
	version, err := versionOf(l.db)
	if err != nil {
		return err
	}
	if version > len(versions) {
		return errors.New("it was written by a newer version of this program; use that one")
	}
	for ; version < len(versions); version++ {
		if err := l.upgrade(version); err != nil {
			return err
		}
	}
	if err := l.db.QueryRow(`SELECT chain, sequence, hash FROM head`).Scan(&l.chain, &l.next, &l.last); err != nil {
		return err
	}
	if l.most > 0 {
		if err := l.db.QueryRow(`SELECT count(*) FROM records`).Scan(&l.holds); err != nil {
			return err
		}
	}
	for statement, n := range map[**sql.Stmt]int{&l.one: 1, &l.many: rowsTogether} {
		if *statement, err = l.db.Prepare(insert + strings.Repeat(","+placeholders, n)[1:]); err != nil {
			return err
		}
	}
	l.newest, err = l.db.Prepare(`UPDATE head SET sequence = ?, hash = ?`)
	return err
}

// upgrade goes from a version of the tables to the next, whole or not at all.
func (l *Ledger) upgrade(version int) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.Exec(versions[version]); err != nil {
		return err
	}
	if version == 0 {
		var name [8]byte
		_, _ = rand.Read(name[:]) // never fails: crypto/rand ends the process instead
		var sequence int64
		var hash string
		err := tx.QueryRow(`SELECT sequence, hash FROM records ORDER BY sequence DESC LIMIT 1`).Scan(&sequence, &hash)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if _, err := tx.Exec(`INSERT INTO head VALUES (?, ?, ?)`, hex.EncodeToString(name[:]), sequence, hash); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf(`PRAGMA user_version = %d`, version+1)); err != nil {
		return err
	}
	return tx.Commit()
}

func open(path, options string) (*sql.DB, error) {
	return sql.Open("sqlite",
		"file:"+strings.NewReplacer("?", "%3f", "#", "%23", "%", "%25").Replace(path)+"?_pragma=busy_timeout(5000)"+options)
}

// Errors of Keep and Note.
var (
	ErrClosed = errors.New("the ledger is closed")
	ErrFull   = errors.New("as many records wait for the database as may wait on this disk")
)

// Keep writes a record and returns once it is safe on disk.
func (l *Ledger) Keep(ctx context.Context, r Record) error {
	kept := make(chan error, 1)
	if err := l.add(entry{record: r, kept: kept}); err != nil {
		return err
	}
	select {
	case err := <-kept:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Note writes a record soon, and does not wait for it. It waits only while the
// ledger has more to write than it can hold.
func (l *Ledger) Note(r Record) error { return l.add(entry{record: r, kept: nil}) }

func (l *Ledger) add(e entry) error {
	e.record = e.record.tidy()
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.pending) >= mostPending && !l.closing {
		l.room.Wait()
	}
	switch {
	case l.closing:
		return ErrClosed
	case l.most > 0 && l.holds+int64(len(l.pending)) >= l.most:
		return ErrFull
	}
	l.pending = append(l.pending, e)
	if len(l.pending) == 1 {
		signal(l.some)
	}
	if e.kept != nil || len(l.pending) >= mostTogether {
		signal(l.now)
	}
	return nil
}

func signal(c chan<- struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Close writes what is pending and closes the ledger.
func (l *Ledger) Close() error {
	l.endWriting()
	return l.db.Close()
}

// endWriting writes what is pending, and takes nothing more.
func (l *Ledger) endWriting() {
	l.mu.Lock()
	l.closing = true
	l.room.Broadcast()
	l.mu.Unlock()
	signal(l.some)
	signal(l.now)
	<-l.done
}

// write is the one writer.
func (l *Ledger) write() {
	defer close(l.done)
	var batch []entry
	for closing := false; !closing; {
		<-l.some
		timer := time.NewTimer(patience)
		select {
		case <-l.now:
		case <-timer.C:
		}
		timer.Stop()
		l.mu.Lock()
		batch, l.pending, closing = l.pending, batch[:0], l.closing
		l.room.Broadcast()
		l.mu.Unlock()
		rest := append(l.again, batch...)
		l.again = nil
		if l.gap.lost > 0 && len(rest) > 0 {
			rest = append([]entry{{record: l.gap.record(rest[0].record.Time)}}, rest...)
		}
		for len(rest) > 0 {
			part := rest[:min(len(rest), mostTogether)]
			rest = rest[len(part):]
			l.tell(part, l.commit(part))
		}
		clear(batch)
	}
}

// tell tells the result of writing records. What nobody waits for is tried again; what
// finds no place for that is lost, and the ledger says so itself once it can be
// written.
func (l *Ledger) tell(part []entry, err error) {
	lost := 0
	for _, e := range part {
		switch {
		case e.kept != nil:
			e.kept <- err
		case e.record.Kind == Gap:
			if err == nil {
				l.gap = gap{}
			}
		case err == nil:
		case len(l.again) < mostPending:
			l.again = append(l.again, e)
		default:
			if lost++; l.gap.lost == 0 {
				l.gap = gap{since: e.record.Time, node: e.record.Node, why: err}
			}
			l.gap.lost++
		}
	}
	if l.wrote != nil {
		l.wrote(len(l.again), lost, err)
	}
	if err != nil {
		return
	}
	l.mu.Lock()
	l.holds += int64(len(part))
	l.mu.Unlock()
	signal(l.changed)
}

// gap is what could not be written.
type gap struct {
	lost  int
	since time.Time
	node  string
	why   error
}

// record is the record that says so.
func (g gap) record(at time.Time) Record {
	return Record{Time: at, Node: g.node, Kind: Gap, Result: evidence.Failed,
		Reason: fmt.Sprintf("%d decisions since %s are missing here: %v", g.lost, g.since.UTC().Format(time.RFC3339), g.why)}.
		tidy()
}

const (
	insert       = "INSERT INTO records VALUES "
	placeholders = "(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"
	fields       = 15
	// rowsTogether is how many records one statement writes, where there are
	// so many: far fewer calls into the database.
	rowsTogether = 64
)

func (l *Ledger) commit(batch []entry) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	one, many := tx.Stmt(l.one), tx.Stmt(l.many)
	next, last, values := l.next, l.last, l.values[:0]
	for _, e := range batch {
		next++
		r := e.record
		r.Sequence = next
		r.Hash = Hash(last, r)
		last = r.Hash
		values = append(values, r.Sequence, r.Time.UnixNano(), r.Node, string(r.Kind), r.Person, r.Device, r.Access, r.From,
			r.Level, string(r.Result), r.Command, r.Reason, r.Session, r.Protocol, r.Hash)
	}
	for rest := values; len(rest) > 0; {
		statement, n := many, rowsTogether*fields
		if len(rest) < n {
			statement, n = one, fields
		}
		if _, err := statement.Exec(rest[:n]...); err != nil {
			return err
		}
		rest = rest[n:]
	}
	if _, err := tx.Stmt(l.newest).Exec(next, last); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	l.next, l.last, l.values = next, last, values
	return nil
}
