package ledger

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"mellowgate/internal/routine"
)

// Shared is what nodes learn that others must know, by the database in which they keep one
// ledger: one-time codes that were used, failures of names and sources, and names that a
// directory has. While the database is away each node goes by what it knows itself.
//
// One goroutine tells and hears, until Close; UseCode asks by a connection of its own.
type Shared struct {
	to    Database
	node  string
	hears Hears
	say   func(string)
	stop  context.CancelFunc
	ended chan struct{}

	mu     sync.Mutex    // guards the rest
	codeIn time.Duration // how long a login waits for the database
	untold []Learned
	asking *pgx.Conn // nil: none is open
	failed time.Time // when the database did not answer
}

// Learned is one thing that a node has learned: a failed login, by name and source, or a
// name that a directory has.
type Learned struct {
	Name   string
	Source string // "" for a name that a directory has
	At     time.Time
}

// Hears is told what other nodes have learned.
type Hears struct {
	Failed    func(name, source string, at time.Time)
	Confirmed func(name string)
}

const (
	tellsEvery   = time.Second
	usesCodeIn   = 500 * time.Millisecond // a login waits so long for the database, and no longer
	asksAgain    = 5 * time.Second
	mostUntold   = 10_000
	failedLasts  = 5 * time.Minute
	sharedAtOnce = 5000
	// lateNumbers is how many numbers back a row may still appear: those that write at the
	// same time are not seen in the order of their numbers.
	lateNumbers = 1000
)

// OpenShared begins to tell and to hear. Node names this place. What an administrator
// should know is said to say.
func OpenShared(to Database, node string, hears Hears, say func(string)) *Shared {
	ctx, stop := context.WithCancel(context.Background())
	s := &Shared{to: to, node: node, hears: hears, say: say, stop: stop, ended: make(chan struct{}),
		codeIn: usesCodeIn}
	routine.Go(func() { s.run(ctx) })
	return s
}

// Close ends it; what was not told by then is not.
func (s *Shared) Close() error {
	s.stop()
	<-s.ended
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.asking == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return s.asking.Close(ctx)
}

// Tell lets other nodes know, soon. Of what cannot be told for long the rest is not.
func (s *Shared) Tell(l Learned) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.untold) < mostUntold {
		s.untold = append(s.untold, l)
	}
}

// UseCode uses up the one-time code of a person and a time step for all nodes, and reports
// whether one of that step or of a later one was used before, at any of them. An error
// says that this cannot be known now.
func (s *Shared) UseCode(person string, step int64) (used bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if time.Since(s.failed) < asksAgain {
		return false, errors.New("the ledger's database is away")
	}
	ctx, cancel := context.WithTimeout(context.Background(), s.codeIn)
	defer cancel()
	defer func() {
		if err != nil {
			s.failed = time.Now()
			if s.asking != nil {
				_ = s.asking.Close(ctx)
			}
			s.asking = nil
		}
	}()
	if s.asking == nil {
		if s.asking, err = s.to.ready(ctx); err != nil {
			return false, err
		}
	}
	done, err := s.asking.Exec(ctx, `INSERT INTO used_codes (person, step) VALUES ($1, $2)
		ON CONFLICT (person) DO UPDATE SET step = EXCLUDED.step WHERE used_codes.step < EXCLUDED.step`, person, step)
	return err == nil && done.RowsAffected() == 0, err
}

// ready opens a connection to a database that has all tables.
func (d Database) ready(ctx context.Context) (*pgx.Conn, error) {
	conn, version, err := d.connect(ctx)
	if err == nil && version < len(databaseVersions) {
		if err = d.prepare(ctx, conn); err != nil {
			_ = conn.Close(ctx)
		}
	}
	return conn, err
}

// run tells and hears until the end.
func (s *Shared) run(ctx context.Context) {
	defer close(s.ended)
	var conn *pgx.Conn
	defer func() {
		if conn != nil {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
			defer cancel()
			_ = conn.Close(ctx)
		}
	}()
	heard := heard{rows: map[int64]bool{}}
	away := false
	for {
		timer := time.NewTimer(tellsEvery)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return
		}
		fresh, err := s.pass(ctx, conn, &heard)
		conn = fresh
		if err != nil && !away && ctx.Err() == nil {
			s.say(fmt.Sprintf("what other nodes have learned is not known: %v; until it answers this node goes by "+
				"itself: a one-time code may be used once at each node", err))
		}
		if err == nil && away {
			s.say("what other nodes have learned is known again")
		}
		if away = err != nil; away {
			conn = nil
		}
	}
}

// heard is how far was heard of each table.
type heard struct {
	names, failures int64
	rows            map[int64]bool // of failures that were heard, among the last
}

// pass tells what was learned here, and hears what was elsewhere.
func (s *Shared) pass(ctx context.Context, conn *pgx.Conn, h *heard) (*pgx.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, answersIn)
	defer cancel()
	s.mu.Lock()
	untold := s.untold
	s.untold = nil
	s.mu.Unlock()
	err := func() (err error) {
		if conn == nil {
			if conn, err = s.to.ready(ctx); err != nil {
				return err
			}
		}
		if err := s.tell(ctx, conn, untold); err != nil {
			return err
		}
		untold = nil
		return s.hear(ctx, conn, h)
	}()
	if err == nil {
		return conn, nil
	}
	if conn != nil {
		_ = conn.Close(ctx)
	}
	s.mu.Lock()
	s.untold = append(untold, s.untold...)
	s.mu.Unlock()
	return nil, err
}

func (s *Shared) tell(ctx context.Context, conn *pgx.Conn, lessons []Learned) error {
	if len(lessons) == 0 {
		return nil
	}
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		b := &pgx.Batch{}
		for _, l := range lessons {
			if l.Source == "" {
				b.Queue(`INSERT INTO confirmed_names (name) VALUES ($1) ON CONFLICT DO NOTHING`, text(l.Name))
				continue
			}
			b.Queue(`INSERT INTO failed_logins (node, name, source, at) VALUES ($1, $2, $3, $4)`, s.node, text(l.Name),
				text(l.Source), l.At)
		}
		b.Queue(`DELETE FROM failed_logins WHERE at < $1`, time.Now().Add(-failedLasts))
		return tx.SendBatch(ctx, b).Close()
	})
}

func (s *Shared) hear(ctx context.Context, conn *pgx.Conn, h *heard) error {
	names, err := conn.Query(ctx, `SELECT id, name FROM confirmed_names WHERE id > $1 ORDER BY id LIMIT $2`,
		h.names-lateNumbers, sharedAtOnce+lateNumbers)
	if err != nil {
		return err
	}
	var id int64
	var name, source string
	var moment time.Time
	if _, err := pgx.ForEachRow(names, []any{&id, &name}, func() error {
		h.names = max(h.names, id)
		s.hears.Confirmed(name)
		return nil
	}); err != nil {
		return err
	}
	since := h.failures - lateNumbers
	failures, err := conn.Query(ctx, `SELECT id, name, source, at FROM failed_logins
		WHERE id > $1 AND node <> $2 AND at > $3 ORDER BY id LIMIT $4`,
		since, s.node, time.Now().Add(-failedLasts), sharedAtOnce+lateNumbers)
	if err != nil {
		return err
	}
	_, err = pgx.ForEachRow(failures, []any{&id, &name, &source, &moment}, func() error {
		if h.rows[id] {
			return nil
		}
		h.rows[id] = true
		h.failures = max(h.failures, id)
		s.hears.Failed(name, source, moment)
		return nil
	})
	for id := range h.rows {
		if id <= h.failures-lateNumbers {
			delete(h.rows, id)
		}
	}
	return err
}
