package ledger

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
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

// Chooses reports whether the filter leaves anything out.
func (f Filter) Chooses() bool {
	return f.Person != "" || f.Device != "" || len(f.Kinds) > 0 || !f.Since.IsZero() || !f.Until.IsZero() || f.Last > 0
}

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

// chooser returns what tells whether the filter chooses a record; Last is not looked at.
func (f Filter) chooser() func(Record) bool {
	folded := site.FoldedName(f.Person)
	spelled := map[string]bool{}
	is := func(name string) bool {
		same, known := spelled[name]
		if !known {
			same = site.FoldedName(name) == folded
			if len(spelled) < mostSpellings {
				spelled[name] = same
			}
		}
		return same
	}
	return func(r Record) bool {
		return (f.Device == "" || r.Device == f.Device) &&
			(f.Person == "" || is(r.Person)) &&
			(len(f.Kinds) == 0 || slices.Contains(f.Kinds, string(r.Kind))) &&
			(f.Since.IsZero() || !r.Time.Before(f.Since)) &&
			(f.Until.IsZero() || r.Time.Before(f.Until)) &&
			(!f.Refused || r.Result == evidence.Refused) &&
			(!f.Sessions || slices.Contains(ofSessions, r.Kind))
	}
}

// ofSessions are the kinds that Sessions chooses.
var ofSessions = []Kind{SessionStart, SessionStop, System}

// Source is a ledger that can be read while it is written elsewhere: the Folder
// of one place, or the Database of many.
type Source interface {
	// Read calls do for every record that the filter chooses, oldest first.
	Read(ctx context.Context, f Filter, do func(Record) error) error
	// Heads gives the newest record of each chain, as noted beside the records.
	Heads(ctx context.Context) ([]Head, error)
}

// columns are the fields of a record as they are read, after the chain.
const columns = "time, node, kind, person, device, access, source, level, result, command, reason, session, " +
	"protocol, rule, returned, sequence, hash"

// scan reads a record of columns.
func scan(rows interface{ Scan(...any) error }) (Record, error) {
	var r Record
	var at int64
	err := rows.Scan(&r.Chain, &at, &r.Node, &r.Kind, &r.Person, &r.Device, &r.Access, &r.From, &r.Level, &r.Result,
		&r.Command, &r.Reason, &r.Session, &r.Protocol, &r.Rule, &r.Returned, &r.Sequence, &r.Hash)
	r.Time = time.Unix(0, at).UTC()
	return r, err
}

// query builds the question for records in a database, in the order of the columns of
// order.
func (f Filter) query(order string) (string, []any) {
	var parts []string
	var args []any
	add := func(part string, values ...any) {
		for _, v := range values {
			args = append(args, v)
			part = strings.Replace(part, "?", fmt.Sprintf("$%d", len(args)), 1)
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
		add("chain = ?", f.chain)
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
	query := "SELECT chain, " + columns + " FROM records" + where
	if f.Last > 0 {
		newest := strings.ReplaceAll(order, ",", " DESC,") + " DESC"
		query = "SELECT * FROM (" + query + " ORDER BY " + newest + " LIMIT " + fmt.Sprint(f.Last) + ") AS newest"
	}
	return query + " ORDER BY " + order, args
}
