package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"mellowgate/internal/core/site"
)

// Filter chooses records. Empty fields choose all.
type Filter struct {
	Person, Device string // the person in every spelling that is recorded: RFC 8265, section 3.3
	Kinds          []string
	Since, Until   time.Time // from the first on, and before the second
	Refused        bool      // only refusals
	Sessions       bool      // only begins and ends of sessions, and of devices
	Last           int       // only the newest so many; 0: all

	byChain bool   // chain after chain, each in its own order
	chain   string // only this one, and of it what comes after the record beyond; "" every one
	beyond  int64
	people  []string // the spellings of Person in the ledger; empty: that one
}

// everybody gives each name in the records once, by steps through their index.
const everybody = `WITH RECURSIVE each(name) AS (SELECT min(person) FROM records UNION ALL
	SELECT (SELECT min(person) FROM records WHERE person > each.name) FROM each WHERE each.name IS NOT NULL)
	SELECT name FROM each WHERE name IS NOT NULL`

// mostSpellings is how many spellings of a name are looked for; databases take no
// more values in a question.
const mostSpellings = 30_000

// spelled notes which of the names in the records are spellings of the person.
func (f *Filter) spelled(names interface {
	Next() bool
	Scan(...any) error
	Err() error
}) error {
	f.people = nil
	folded := site.FoldedName(f.Person)
	for names.Next() && len(f.people) < mostSpellings {
		var name string
		if err := names.Scan(&name); err != nil {
			return err
		}
		if site.FoldedName(name) == folded {
			f.people = append(f.people, name)
		}
	}
	return names.Err()
}

// Source is a ledger that can be read while it is written elsewhere: the File
// of one place, or the Database of many.
type Source interface {
	// Read calls do for every record that the filter chooses, oldest first.
	Read(ctx context.Context, f Filter, do func(Record) error) error
	// Heads gives the newest record of each chain, as noted beside the records.
	Heads(ctx context.Context) ([]Head, error)
}

// Head is the end of a chain.
type Head struct {
	Chain    string `json:"chain"`
	Host     string `json:"host"` // where it is written, "" where that is not noted
	Sequence int64  `json:"newest"`
	Hash     string `json:"last"`
}

// columns are the fields of a record as they are read, after the chain.
const columns = "time, node, kind, person, device, access, source, level, result, " +
	"command, reason, session, protocol, sequence, hash"

// scan reads a record of columns.
func scan(rows interface{ Scan(...any) error }) (Record, error) {
	var r Record
	var at int64
	err := rows.Scan(&r.Chain, &at, &r.Node, &r.Kind, &r.Person, &r.Device, &r.Access, &r.From, &r.Level, &r.Result,
		&r.Command, &r.Reason, &r.Session, &r.Protocol, &r.Sequence, &r.Hash)
	r.Time = time.Unix(0, at).UTC()
	return r, err
}

// query builds the question for records: the chain as given, the order by the
// columns of order; placeholder gives the nth one, from 1.
func (f Filter) query(chain, order string, placeholder func(int) string) (string, []any) {
	var parts []string
	var args []any
	add := func(part string, values ...any) {
		for _, v := range values {
			args = append(args, v)
			part = strings.Replace(part, "?", placeholder(len(args)), 1)
		}
		parts = append(parts, part)
	}
	among := func(column string, some []string) {
		values := make([]any, len(some))
		for i, v := range some {
			values[i] = v
		}
		add(column+" IN (?"+strings.Repeat(", ?", len(values)-1)+")", values...)
	}
	switch {
	case len(f.people) > 0:
		among("person", f.people)
	case f.Person != "":
		add("person = ?", f.Person)
	}
	if f.chain != "" {
		if chain == "chain" { // a file has one chain
			add("chain = ?", f.chain)
		}
		add("sequence > ?", f.beyond)
	}
	if f.Device != "" {
		add("device = ?", f.Device)
	}
	if len(f.Kinds) > 0 {
		among("kind", f.Kinds)
	}
	if !f.Since.IsZero() {
		add("time >= ?", f.Since.UnixNano())
	}
	if !f.Until.IsZero() {
		add("time < ?", f.Until.UnixNano())
	}
	if f.Refused {
		add(refused)
	}
	if f.Sessions {
		add(sessions)
	}
	where := ""
	if len(parts) > 0 {
		where = " WHERE " + strings.Join(parts, " AND ")
	}
	query := "SELECT " + chain + " AS chain, " + columns + " FROM records" + where
	if f.Last > 0 {
		newest := strings.ReplaceAll(order, ",", " DESC,") + " DESC"
		query = "SELECT * FROM (" + query + " ORDER BY " + newest + " LIMIT " + fmt.Sprint(f.Last) + ") AS newest"
	}
	return query + " ORDER BY " + order, args
}

// File is the ledger in a file, by its path.
type File string

func (f File) open() (*sql.DB, error) {
	if _, err := os.Stat(string(f)); err != nil {
		return nil, fmt.Errorf("%s: there is no ledger here", string(f))
	}
	return open(string(f), "&mode=ro")
}

// Read calls do for every record that the filter chooses, oldest first.
func (f File) Read(ctx context.Context, which Filter, do func(Record) error) error {
	db, err := f.open()
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	chain := "''"
	if version, err := versionOf(db); err == nil && version > 0 {
		chain = "(SELECT chain FROM head)"
	}
	order := "time, sequence"
	if which.byChain {
		order = "sequence"
	}
	if which.Person != "" {
		names, err := db.QueryContext(ctx, everybody)
		if err == nil {
			err = errors.Join(which.spelled(names), names.Close())
		}
		if err != nil {
			return fmt.Errorf("%s: this is no ledger that can be read: %w", string(f), err)
		}
	}
	query, args := which.query(chain, order, func(int) string { return "?" })
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return fmt.Errorf("%s: this is no ledger that can be read: %w", string(f), err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		r, err := scan(rows)
		if err != nil {
			return fmt.Errorf("%s: a record cannot be read: %w", string(f), err)
		}
		if err := do(r); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Heads returns the newest record as the file notes it; none for a file of before
// that was noted.
func (f File) Heads(ctx context.Context) ([]Head, error) {
	db, err := f.open()
	if err != nil {
		return nil, err
	}
	defer func() { _ = db.Close() }()
	var h Head
	version, err := versionOf(db)
	if err != nil || version == 0 {
		return nil, err
	}
	err = db.QueryRowContext(ctx, `SELECT chain, sequence, hash FROM head`).Scan(&h.Chain, &h.Sequence, &h.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return []Head{h}, err
}

// versionOf returns the version of a file's tables.
func versionOf(db *sql.DB) (version int, err error) {
	err = db.QueryRow(`PRAGMA user_version`).Scan(&version)
	return version, err
}
