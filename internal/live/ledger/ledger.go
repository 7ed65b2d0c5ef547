// Package ledger keeps the records of what people did: logins, sessions,
// commands and decisions. A record is safe on disk when Keep returns. Records
// that arrive together are written together. Each holds the hash of the one
// before, so that a change can be found.
package ledger

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Kind is what a record is about.
type Kind string

const (
	Login        Kind = "login"
	SessionStart Kind = "session-start"
	SessionStop  Kind = "session-stop"
	Update       Kind = "session-update" // a session goes on
	Command      Kind = "command"
	System       Kind = "system" // what a device says of itself
	Decision     Kind = "decision"
)

// Kinds gives every kind of record.
func Kinds() []string {
	return []string{string(Login), string(SessionStart), string(SessionStop), string(Update), string(Command), string(System), string(Decision)}
}

// Record is one record. Sequence and Hash are given by the ledger.
type Record struct {
	Time     time.Time `json:"time"`
	Node     string    `json:"node"` // the server that wrote it
	Kind     Kind      `json:"kind"`
	Person   string    `json:"person"`
	Device   string    `json:"device"`
	Access   string    `json:"access"`
	From     string    `json:"from"` // where the person came from
	Level    int       `json:"level"`
	Result   string    `json:"result"`
	Command  string    `json:"command"`
	Reason   string    `json:"reason"`
	Session  string    `json:"session"`
	Protocol string    `json:"protocol"`
	Sequence int64     `json:"sequence"`
	Hash     string    `json:"hash"`
}

// Ledger is an open ledger. One writer takes what is pending and commits it
// together.
type Ledger struct {
	db   *sql.DB
	done chan struct{} // closed when the writer has ended
	some chan struct{} // holds one when something is pending
	now  chan struct{} // holds one when what is pending is to be written at once

	mu      sync.Mutex
	room    *sync.Cond // pending has become shorter
	pending []entry
	closing bool

	// The writer's own.
	last   string // the hash of the newest record
	next   int64
	one    *sql.Stmt // writes one record
	many   *sql.Stmt // writes rowsTogether
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

const schema = `CREATE TABLE IF NOT EXISTS records (
	sequence INTEGER PRIMARY KEY,
	time INTEGER NOT NULL, -- nanoseconds since 1970, UTC
	node TEXT NOT NULL, kind TEXT NOT NULL, person TEXT NOT NULL, device TEXT NOT NULL,
	access TEXT NOT NULL, source TEXT NOT NULL, level INTEGER NOT NULL, result TEXT NOT NULL,
	command TEXT NOT NULL, reason TEXT NOT NULL, session TEXT NOT NULL, protocol TEXT NOT NULL,
	hash TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS records_time ON records (time);
CREATE INDEX IF NOT EXISTS records_person ON records (person, time);
CREATE INDEX IF NOT EXISTS records_device ON records (device, time);`

// Open opens the ledger in the file at path, and makes it when there is none.
func Open(path string) (*Ledger, error) {
	db, err := open(path, "&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // one writer; readers open their own
	if _, err := db.Exec(schema); err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("the ledger %s cannot be used: %w", path, err)
	}
	l := &Ledger{db: db, done: make(chan struct{}), some: make(chan struct{}, 1), now: make(chan struct{}, 1)}
	l.room = sync.NewCond(&l.mu)
	row := db.QueryRow(`SELECT sequence, hash FROM records ORDER BY sequence DESC LIMIT 1`)
	if err := row.Scan(&l.next, &l.last); err != nil && !errors.Is(err, sql.ErrNoRows) {
		_ = db.Close()
		return nil, fmt.Errorf("the ledger %s cannot be read: %w", path, err)
	}
	for statement, n := range map[**sql.Stmt]int{&l.one: 1, &l.many: rowsTogether} {
		if *statement, err = db.Prepare(insert + strings.Repeat(","+placeholders, n)[1:]); err != nil {
			_ = db.Close()
			return nil, fmt.Errorf("the ledger %s cannot be written: %w", path, err)
		}
	}
	go l.write()
	return l, nil
}

func open(path, options string) (*sql.DB, error) {
	return sql.Open("sqlite", "file:"+strings.NewReplacer("?", "%3f", "#", "%23", "%", "%25").Replace(path)+"?_pragma=busy_timeout(5000)"+options)
}

// ErrClosed is Keep after Close.
var ErrClosed = errors.New("the ledger is closed")

// Keep writes a record and returns once it is safe on disk.
func (l *Ledger) Keep(ctx context.Context, r Record) error {
	kept := make(chan error, 1)
	if err := l.add(entry{r, kept}); err != nil {
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
func (l *Ledger) Note(r Record) error { return l.add(entry{r, nil}) }

func (l *Ledger) add(e entry) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.pending) >= mostPending && !l.closing {
		l.room.Wait()
	}
	if l.closing {
		return ErrClosed
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
	l.mu.Lock()
	l.closing = true
	l.room.Broadcast()
	l.mu.Unlock()
	signal(l.some)
	signal(l.now)
	<-l.done
	return l.db.Close()
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
		for rest := batch; len(rest) > 0; {
			part := rest[:min(len(rest), mostTogether)]
			rest = rest[len(part):]
			err := l.commit(part)
			for _, e := range part {
				if e.kept != nil {
					e.kept <- err
				}
			}
		}
		clear(batch)
	}
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
		r.Hash = Chain(last, r)
		last = r.Hash
		values = append(values, r.Sequence, r.Time.UnixNano(), r.Node, string(r.Kind), r.Person, r.Device, r.Access, r.From,
			r.Level, r.Result, r.Command, r.Reason, r.Session, r.Protocol, r.Hash)
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
	if err := tx.Commit(); err != nil {
		return err
	}
	l.next, l.last, l.values = next, last, values
	return nil
}

// Chain gives the hash of a record that follows the one with the hash before:
// SHA-256 over that hash and every field of the record but its own hash, each
// with its length before it, in the order of the struct.
func Chain(before string, r Record) string {
	b := make([]byte, 0, 512)
	for _, field := range []string{before, strconv.FormatInt(r.Time.UnixNano(), 10), r.Node, string(r.Kind), r.Person, r.Device, r.Access, r.From,
		strconv.Itoa(r.Level), r.Result, r.Command, r.Reason, r.Session, r.Protocol, strconv.FormatInt(r.Sequence, 10)} {
		b = strconv.AppendInt(b, int64(len(field)), 10)
		b = append(append(b, ':'), field...)
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Filter chooses records. Empty fields choose all.
type Filter struct {
	Person, Device string
	Kinds          []string
	Since          time.Time
	Last           int // only the newest so many; 0: all
}

// Read calls do for every record of the ledger at path that the filter
// chooses, oldest first. The ledger may be open for writing elsewhere.
func Read(ctx context.Context, path string, f Filter, do func(Record) error) error {
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("%s: there is no ledger here", path)
	}
	db, err := open(path, "&mode=ro")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	where, args := f.where()
	query := `SELECT time, node, kind, person, device, access, source, level, result, command, reason, session, protocol, sequence, hash FROM records` + where
	if f.Last > 0 {
		query = `SELECT * FROM (` + query + ` ORDER BY sequence DESC LIMIT ?)`
		args = append(args, f.Last)
	}
	rows, err := db.QueryContext(ctx, query+` ORDER BY sequence`, args...)
	if err != nil {
		return fmt.Errorf("%s: this is no ledger that can be read: %w", path, err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var r Record
		var at int64
		if err := rows.Scan(&at, &r.Node, &r.Kind, &r.Person, &r.Device, &r.Access, &r.From, &r.Level, &r.Result,
			&r.Command, &r.Reason, &r.Session, &r.Protocol, &r.Sequence, &r.Hash); err != nil {
			return fmt.Errorf("%s: a record cannot be read: %w", path, err)
		}
		r.Time = time.Unix(0, at).UTC()
		if err := do(r); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (f Filter) where() (string, []any) {
	var parts []string
	var args []any
	add := func(part string, values ...any) {
		parts = append(parts, part)
		args = append(args, values...)
	}
	if f.Person != "" {
		add("person = ?", f.Person)
	}
	if f.Device != "" {
		add("device = ?", f.Device)
	}
	if len(f.Kinds) > 0 {
		values := make([]any, len(f.Kinds))
		for i, k := range f.Kinds {
			values[i] = k
		}
		add("kind IN (?"+strings.Repeat(",?", len(values)-1)+")", values...)
	}
	if !f.Since.IsZero() {
		add("time >= ?", f.Since.UnixNano())
	}
	if len(parts) == 0 {
		return "", nil
	}
	return " WHERE " + strings.Join(parts, " AND "), args
}
