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
	Command      Kind = "command"
	System       Kind = "system"
	Decision     Kind = "decision"
)

// Kinds gives every kind of record.
func Kinds() []string {
	return []string{string(Login), string(SessionStart), string(SessionStop), string(Command), string(System), string(Decision)}
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

// Ledger is an open ledger.
type Ledger struct {
	db      *sql.DB
	pending chan entry
	closing chan struct{}
	done    chan struct{}
	once    sync.Once
	last    string // the hash of the newest record
	next    int64
}

type entry struct {
	record Record
	kept   chan<- error
}

// mostTogether bounds how many records are written in one transaction.
const mostTogether = 512

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
	l := &Ledger{db: db, pending: make(chan entry, mostTogether), closing: make(chan struct{}), done: make(chan struct{})}
	row := db.QueryRow(`SELECT sequence, hash FROM records ORDER BY sequence DESC LIMIT 1`)
	if err := row.Scan(&l.next, &l.last); err != nil && !errors.Is(err, sql.ErrNoRows) {
		_ = db.Close()
		return nil, fmt.Errorf("the ledger %s cannot be read: %w", path, err)
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
	select {
	case l.pending <- entry{r, kept}:
	case <-l.closing:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-kept:
		return err
	case <-l.done: // closing wrote everything that was pending, or nothing
		select {
		case err := <-kept:
			return err
		default:
			return ErrClosed
		}
	}
}

// Note writes a record soon, and does not wait for it. It waits only while the
// ledger has more to write than it can hold.
func (l *Ledger) Note(r Record) error {
	select {
	case l.pending <- entry{r, nil}:
		return nil
	case <-l.closing:
		return ErrClosed
	}
}

// Close writes what is pending and closes the ledger.
func (l *Ledger) Close() error {
	l.once.Do(func() { close(l.closing) })
	<-l.done
	return l.db.Close()
}

// patience is how long a record that nobody waits for may wait for company.
const patience = 20 * time.Millisecond

// write is the one writer: it takes what is pending and commits it together.
func (l *Ledger) write() {
	defer close(l.done)
	batch := make([]entry, 0, mostTogether)
	for {
		batch = batch[:0]
		select {
		case e := <-l.pending:
			batch = append(batch, e)
		case <-l.closing:
			select {
			case e := <-l.pending:
				batch = append(batch, e)
			default:
				return
			}
		}
		batch = l.gather(batch)
		err := l.commit(batch)
		for _, e := range batch {
			if e.kept != nil {
				e.kept <- err
			}
		}
	}
}

// gather adds what is pending to a batch. Where nobody waits for any of it, it
// stays open for a while: one commit costs as much for many records as for one.
func (l *Ledger) gather(batch []entry) []entry {
	waited := batch[0].kept != nil
	var full <-chan time.Time
	if !waited {
		timer := time.NewTimer(patience)
		defer timer.Stop()
		full = timer.C
	}
	for len(batch) < mostTogether {
		select {
		case e := <-l.pending:
			batch = append(batch, e)
			waited = waited || e.kept != nil
			continue
		default:
		}
		if waited {
			return batch
		}
		select {
		case e := <-l.pending:
			batch = append(batch, e)
			waited = e.kept != nil
		case <-full:
			return batch
		case <-l.closing:
			return batch
		}
	}
	return batch
}

// row is the placeholders of one record.
const row = "(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"

// rowsTogether is how many records one statement writes, where there are so
// many: far fewer calls into the database.
const rowsTogether = 32

var insertOne, insertMany = "INSERT INTO records VALUES " + row, "INSERT INTO records VALUES " + row + strings.Repeat(","+row, rowsTogether-1)

func (l *Ledger) commit(batch []entry) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	next, last := l.next, l.last
	values := make([]any, 0, len(batch)*15)
	for _, e := range batch {
		next++
		r := e.record
		r.Sequence = next
		r.Hash = Chain(last, r)
		last = r.Hash
		values = append(values, r.Sequence, r.Time.UnixNano(), r.Node, string(r.Kind), r.Person, r.Device, r.Access, r.From,
			r.Level, r.Result, r.Command, r.Reason, r.Session, r.Protocol, r.Hash)
	}
	for len(values) > 0 {
		statement, n := insertMany, rowsTogether*15
		if len(values) < n {
			statement, n = insertOne, 15
		}
		if _, err := tx.Exec(statement, values[:n]...); err != nil {
			return err
		}
		values = values[n:]
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	l.next, l.last = next, last
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
