package ledger

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// Database is the ledger of many places in one PostgreSQL database, by its URL.
// What the URL does not say is taken from the environment as PostgreSQL's own
// clients take it.
type Database struct {
	URL      string
	Password site.Secret // the zero Secret: as in the environment
}

// databaseVersions are the steps from each version of the tables to the next.
var databaseVersions = []string{
	`CREATE TABLE chains (
	chain text PRIMARY KEY, host text NOT NULL, began timestamptz NOT NULL DEFAULT now(),
	sequence bigint NOT NULL, hash text NOT NULL);
CREATE TABLE records (
	chain text NOT NULL REFERENCES chains, sequence bigint NOT NULL,
	time bigint NOT NULL, -- nanoseconds since 1970, UTC
	node text NOT NULL, kind text NOT NULL, person text NOT NULL, device text NOT NULL,
	access text NOT NULL, source text NOT NULL, level integer NOT NULL, result text NOT NULL,
	command text NOT NULL, reason text NOT NULL, session text NOT NULL, protocol text NOT NULL,
	hash text NOT NULL, PRIMARY KEY (chain, sequence));
CREATE INDEX records_time ON records (time);
CREATE INDEX records_person ON records (person, time);
CREATE INDEX records_device ON records (device, time);`,
	viewIndexes,
	`ALTER TABLE records ADD COLUMN rule text NOT NULL DEFAULT '', ADD COLUMN returned text NOT NULL DEFAULT ''`,
	`CREATE TABLE used_codes (person text PRIMARY KEY, step bigint NOT NULL);
CREATE TABLE confirmed_names (name text PRIMARY KEY, id bigserial);
CREATE INDEX confirmed_names_id ON confirmed_names (id);
CREATE TABLE failed_logins (id bigserial PRIMARY KEY, node text NOT NULL, name text NOT NULL, source text NOT NULL,
	at timestamptz NOT NULL);
CREATE INDEX failed_logins_at ON failed_logins (at);`,
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

// everybody gives each name in the records once, by steps through their index.
const everybody = `WITH RECURSIVE each(name) AS (SELECT min(person) FROM records UNION ALL
	SELECT (SELECT min(person) FROM records WHERE person > each.name) FROM each WHERE each.name IS NOT NULL)
	SELECT name FROM each WHERE name IS NOT NULL`

// lock keeps two programs from making the tables at the same time. The number
// is any one of ours.
const lock = 0x6d656c6c6f77

// answersIn is how long the database may take for one thing.
const answersIn = 10 * time.Second

// connect opens a connection, and returns the version of the tables.
func (d Database) connect(ctx context.Context) (*pgx.Conn, int, error) {
	config, err := pgx.ParseConfig(d.URL)
	if err != nil {
		return nil, 0, errors.New("the ledger's database: its URL cannot be read")
	}
	if password := d.Password.Reveal(); password != "" {
		config.Password = password
	}
	config.ConnectTimeout = answersIn
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, 0, fmt.Errorf("the ledger's database: %w", err)
	}
	version, err := databaseVersion(ctx, conn)
	if err == nil && version > len(databaseVersions) {
		err = errors.New("it was written by a newer version of this program; use that one")
	}
	if err != nil {
		_ = conn.Close(ctx)
		return nil, 0, fmt.Errorf("the ledger's database: %w", err)
	}
	return conn, version, nil
}

type queryer interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

func databaseVersion(ctx context.Context, q queryer) (version int, err error) {
	var there bool
	if err := q.QueryRow(ctx, `SELECT to_regclass('mellowgate') IS NOT NULL`).Scan(&there); err != nil || !there {
		return 0, err
	}
	err = q.QueryRow(ctx, `SELECT version FROM mellowgate`).Scan(&version)
	return version, err
}

// prepare makes the tables, or brings them to the newest version.
func (d Database) prepare(ctx context.Context, conn *pgx.Conn) error {
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1)`, lock); err != nil {
			return err
		}
		version, err := databaseVersion(ctx, tx)
		if err != nil {
			return err
		}
		if version == 0 {
			if _, err := tx.Exec(ctx,
				`CREATE TABLE mellowgate (version integer NOT NULL); INSERT INTO mellowgate VALUES (0)`); err != nil {
				return err
			}
		}
		for ; version < len(databaseVersions); version++ {
			if _, err := tx.Exec(ctx, databaseVersions[version]); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `UPDATE mellowgate SET version = $1`, version+1); err != nil {
				return err
			}
		}
		return nil
	})
}

// has returns the number of the newest record of a chain that the database has.
func (d Database) has(ctx context.Context, conn *pgx.Conn, chain string) (at int64, err error) {
	err = conn.QueryRow(ctx, `SELECT sequence FROM chains WHERE chain = $1`, chain).Scan(&at)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, nil
	}
	return at, err
}

// write writes records of one chain, in order. Those that are there already are
// passed over, so that the same may be written again after a connection broke.
func (d Database) write(ctx context.Context, conn *pgx.Conn, host string, records []Record) error {
	columns := make([][]any, 18)
	for _, r := range records {
		for i, v := range []any{r.Chain, r.Sequence, r.Time.UnixNano(), r.Node, string(r.Kind), r.Person, r.Device,
			r.Access,
			r.From, int32(r.Level),
			string(r.Result), r.Command, r.Reason, r.Session, r.Protocol, r.Hash, r.Rule, r.Returned} {
			columns[i] = append(columns[i], v)
		}
	}
	args := make([]any, len(columns))
	for i, c := range columns {
		args[i] = c
	}
	last := records[len(records)-1]
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx,
			`INSERT INTO chains (chain, host, sequence, hash) VALUES ($1, $2, 0, '') ON CONFLICT DO NOTHING`, last.Chain,
			host); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO records (chain, sequence, time, node, kind, person, device,
				access, source, level, result, command, reason, session, protocol, hash, rule, returned)
			SELECT * FROM unnest($1::text[], $2::bigint[], $3::bigint[], $4::text[], $5::text[], $6::text[], $7::text[],
			$8::text[], $9::text[], $10::integer[],
			$11::text[], $12::text[], $13::text[], $14::text[], $15::text[], $16::text[],
			$17::text[], $18::text[]) ON CONFLICT DO NOTHING`, args...); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `UPDATE chains SET sequence = $2, hash = $3 WHERE chain = $1 AND sequence < $2`, last.Chain,
			last.Sequence, last.Hash)
		return err
	})
}

// Read calls do for every record that the filter chooses, oldest first.
func (d Database) Read(ctx context.Context, f Filter, do func(Record) error) error {
	conn, version, err := d.connect(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if version == 0 {
		return nil // nothing was ever written
	}
	if version < len(databaseVersions) {
		return errors.New("the ledger's database is of an earlier version of this program: serve brings it up to " +
			"date when it starts")
	}
	order := "time, chain, sequence"
	if f.byChain {
		order = "chain, sequence"
	}
	if f.Person != "" {
		names, err := conn.Query(ctx, everybody)
		if err == nil {
			err = f.spelled(names)
			names.Close()
		}
		if err != nil {
			return fmt.Errorf("the ledger's database: %w", err)
		}
	}
	query, args := f.query(order)
	rows, err := conn.Query(ctx, query, args...)
	if err != nil {
		return fmt.Errorf("the ledger's database: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scan(rows)
		if err != nil {
			return fmt.Errorf("the ledger's database: a record cannot be read: %w", err)
		}
		if err := do(r); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Heads returns the newest record of each chain, as noted beside the records.
func (d Database) Heads(ctx context.Context) ([]Head, error) {
	conn, version, err := d.connect(ctx)
	if err != nil || version == 0 {
		return nil, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	rows, err := conn.Query(ctx, `SELECT chain, host, sequence, hash FROM chains ORDER BY began, chain`)
	if err != nil {
		return nil, fmt.Errorf("the ledger's database: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (h Head, err error) {
		err = row.Scan(&h.Chain, &h.Host, &h.Sequence, &h.Hash)
		return h, err
	})
}
