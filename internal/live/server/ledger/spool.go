package ledger

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/jackc/pgx/v5"
)

// Spool is a ledger whose records go on to a database. A record is kept once it
// is safe on the disk here; from there it is written to the database, in order
// and once. While the database is away records wait here, up to a bound: beyond
// it none is kept, and so none is answered.
type Spool struct {
	*Ledger
	to      Database
	host    string
	say     func(string)
	stop    context.CancelFunc
	ended   chan struct{}
	waiting chan struct{} // closed by Close: what waits is written, and then it ends
}

const (
	spoolTogether = 2000                   // records in one transaction
	spoolRetry    = 100 * time.Millisecond // after a failure; twice as long after each more
	spoolLongest  = 5 * time.Second
	spoolEnds     = 5 * time.Second // how long Close waits for the database
)

// OpenSpool opens the spool in the file at path, for at most as many records as
// o.Most says. Host is where this is, as the database notes it. What is to be
// known of the database coming and going is said to say.
func OpenSpool(path string, o Options, to Database, host string, say func(string)) (*Spool, error) {
	if o.Most == 0 {
		o.Most = math.MaxInt64 // counted all the same
	}
	l, err := Open(path, o)
	if err != nil {
		return nil, err
	}
	s := &Spool{Ledger: l, to: to, host: host, say: say, ended: make(chan struct{}), waiting: make(chan struct{})}
	ctx, stop := context.WithCancel(context.Background())
	s.stop = stop
	go s.forward(ctx)
	return s, nil
}

// Close writes what is pending to the disk, and what waits to the database if
// that answers soon. The rest waits for the next time.
func (s *Spool) Close() error {
	s.endWriting()
	close(s.waiting)
	timer := time.AfterFunc(spoolEnds, s.stop)
	<-s.ended
	timer.Stop()
	s.stop()
	return s.db.Close()
}

// forward takes records to the database until the end.
func (s *Spool) forward(ctx context.Context) {
	defer close(s.ended)
	var conn *pgx.Conn
	defer func() {
		if conn != nil {
			ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
			defer stop()
			_ = conn.Close(ctx)
		}
	}()
	away, retry := false, spoolRetry
	for ctx.Err() == nil {
		fresh, n, err := s.pass(ctx, conn)
		conn = fresh
		switch {
		case err != nil:
			if !away && ctx.Err() == nil {
				s.say(fmt.Sprintf("%v; records wait on this disk, up to %d of them", err, s.most))
			}
			away = true
			if !s.pause(ctx, retry) {
				return
			}
			retry = min(2*retry, spoolLongest)
			continue
		case away:
			s.say("the ledger's database answers again; what waited is being written")
			away = false
		}
		retry = spoolRetry
		if n > 0 {
			continue
		}
		select {
		case <-s.changed:
		case <-s.waiting:
			if s.Holds() == 0 {
				return
			}
		case <-ctx.Done():
		}
	}
}

// pause waits. It is false when nothing is left to wait for: the ledger is being
// closed, and the database is away.
func (s *Spool) pause(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-s.waiting:
		return false
	case <-ctx.Done():
		return false
	}
}

// pass takes some records to the database, and returns how many, and the
// connection to go on with, nil after a failure.
func (s *Spool) pass(ctx context.Context, conn *pgx.Conn) (*pgx.Conn, int, error) {
	ctx, stop := context.WithTimeout(ctx, answersIn)
	defer stop()
	fail := func(err error) (*pgx.Conn, int, error) {
		if conn != nil {
			_ = conn.Close(ctx)
		}
		return nil, 0, err
	}
	if conn == nil {
		fresh, version, err := s.to.connect(ctx)
		if err != nil {
			return nil, 0, err
		}
		conn = fresh
		if version < len(databaseVersions) {
			if err := s.to.prepare(ctx, conn); err != nil {
				return fail(fmt.Errorf("the ledger's database: its tables cannot be made: %w", err))
			}
		}
	}
	some, err := s.oldest(ctx, spoolTogether)
	if err != nil || len(some) == 0 {
		if err != nil {
			return fail(err)
		}
		return conn, 0, nil
	}
	if err := s.to.write(ctx, conn, s.host, some); err != nil {
		return fail(fmt.Errorf("the ledger's database: %w", err))
	}
	return conn, len(some), s.drop(ctx, some[len(some)-1].Sequence)
}
