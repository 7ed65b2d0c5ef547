package ledger

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"mellowgate/internal/live/server/ledger/segments"
	"mellowgate/internal/routine"
)

// Forwarded is a ledger whose records go on to a database. A record is kept once it
// is safe on the disk here; from there it is written to the database, in order
// and once. While the database is away records wait here, up to a bound: beyond
// it none is kept, and so none is answered. What is in the database goes from here,
// file by file.
type Forwarded struct {
	*Ledger
	to     Database
	host   string
	most   int64
	say    func(string)
	stop   context.CancelFunc
	heard  <-chan struct{}
	ended  chan struct{}
	ending chan struct{} // closed by Close: what waits is written, and then it ends

	at    int64 // the newest record that is in the database, guarded by the ledger's mu
	begin segments.Position
	known bool // the database was asked how far it has them
}

const (
	forwardTogether = 2000                   // records in one transaction
	spoolRetry      = 100 * time.Millisecond // after a failure; twice as long after each more
	spoolLongest    = 5 * time.Second
	spoolEnds       = 5 * time.Second // how long Close waits for the database
	// forwardedFile notes the number of the newest record that is in the database.
	forwardedFile = "forwarded"
)

// OpenForwarded opens the ledger in a folder whose records go on to a database. At most
// so many may wait for that; 0 is no bound. Host is where this is, as the database notes
// it. What is to be known of the database coming and going is said to say.
func OpenForwarded(dir string, o Options, most int, to Database, host string, say func(string)) (*Forwarded, error) {
	l, err := Open(dir, o)
	if err != nil {
		return nil, err
	}
	f := &Forwarded{Ledger: l, to: to, host: host, most: int64(most), say: say, heard: l.listen(),
		ended: make(chan struct{}), ending: make(chan struct{})}
	if most == 0 {
		f.most = math.MaxInt64
	}
	if f.at, err = f.noted(); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	l.mu.Lock()
	l.bound = func() error {
		if l.newest-f.at+int64(len(l.pending)) >= f.most {
			return ErrFull
		}
		return nil
	}
	l.mu.Unlock()
	ctx, stop := context.WithCancel(context.Background())
	f.stop = stop
	routine.Go(func() { f.forward(ctx) })
	return f, nil
}

// noted returns how far the records were in the database when that was last noted.
func (f *Forwarded) noted() (int64, error) {
	all, err := segments.List(f.dir)
	if err != nil {
		return 0, err
	}
	at := all[0].First - 1
	text, err := os.ReadFile(filepath.Join(f.dir, forwardedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return at, nil
	}
	n, _ := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	return min(max(at, n), f.newest), err
}

// Waiting returns how many records are here that are not in the database.
func (f *Forwarded) Waiting() int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.newest - f.at
}

// Close writes what is pending to the disk, and what waits to the database if
// that answers soon. The rest waits for the next time.
func (f *Forwarded) Close() error {
	f.endWriting()
	close(f.ending)
	timer := routine.AfterFunc(spoolEnds, f.stop)
	<-f.ended
	timer.Stop()
	f.stop()
	return f.Ledger.Close()
}

// forward takes records to the database until the end.
func (f *Forwarded) forward(ctx context.Context) {
	defer close(f.ended)
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
		fresh, n, err := f.pass(ctx, conn)
		conn = fresh
		switch {
		case err != nil:
			if !away && ctx.Err() == nil {
				f.say(fmt.Sprintf("%v; records wait on this disk, up to %d of them", err, f.most))
			}
			away = true
			if !f.pause(ctx, retry) {
				return
			}
			retry = min(2*retry, spoolLongest)
			continue
		case away:
			f.say("the ledger's database answers again; what waited is being written")
			away = false
		}
		retry = spoolRetry
		if n > 0 {
			continue
		}
		select {
		case <-f.heard:
		case <-f.ending:
			if f.Waiting() == 0 {
				return
			}
		case <-ctx.Done():
		}
	}
}

// pause waits. It is false when nothing is left to wait for: the ledger is being
// closed, and the database is away.
func (f *Forwarded) pause(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-f.ending:
		return false
	case <-ctx.Done():
		return false
	}
}

// pass takes some records to the database, and returns how many, and the
// connection to go on with, nil after a failure.
func (f *Forwarded) pass(ctx context.Context, conn *pgx.Conn) (*pgx.Conn, int, error) {
	ctx, stop := context.WithTimeout(ctx, answersIn)
	defer stop()
	fail := func(err error) (*pgx.Conn, int, error) {
		if conn != nil {
			_ = conn.Close(ctx)
		}
		return nil, 0, err
	}
	if conn == nil {
		fresh, version, err := f.to.connect(ctx)
		if err != nil {
			return nil, 0, err
		}
		conn = fresh
		if version < len(databaseVersions) {
			if err := f.to.prepare(ctx, conn); err != nil {
				return fail(fmt.Errorf("the ledger's database: its tables cannot be made: %w", err))
			}
		}
		f.known = false // it may be another one now, or one of before
	}
	if !f.known {
		at, err := f.to.has(ctx, conn, f.chain)
		if err != nil {
			return fail(fmt.Errorf("the ledger's database: %w", err))
		}
		f.reached(at, segments.Position{})
		f.known = true
	}
	some, begin, err := f.next()
	if err != nil || len(some) == 0 {
		if err != nil {
			return fail(err)
		}
		return conn, 0, nil
	}
	if err := f.to.write(ctx, conn, f.host, some); err != nil {
		return fail(fmt.Errorf("the ledger's database: %w", err))
	}
	f.reached(some[len(some)-1].Sequence, begin)
	return conn, len(some), f.release()
}

// reached notes how far the records are in the database.
func (f *Forwarded) reached(at int64, begin segments.Position) {
	f.mu.Lock()
	f.at = min(at, f.newest)
	f.mu.Unlock()
	f.begin = begin
	// When it cannot be noted, the database itself says it after the next start.
	_ = os.WriteFile(filepath.Join(f.dir, forwardedFile), fmt.Appendln(nil, at), 0o600)
}

// next reads the records that are to be written next, and where the ones after them are.
func (f *Forwarded) next() ([]Record, segments.Position, error) {
	var some []Record
	begin, newest := f.begin, f.Newest()
	err := segments.Read(f.dir, segments.Reading{From: f.at + 1, Begin: f.begin,
		Entry: func(number int64, position segments.Position, entry []byte) error {
			if len(some) == forwardTogether || number > newest {
				return errEnough
			}
			r, err := decode(entry)
			if err != nil {
				return err
			}
			r.Chain = f.chain
			some = append(some, r)
			begin = position.After(entry)
			return nil
		}})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return some, begin, err
}

// release takes away the files whose records are all in the database; the newest stays.
func (f *Forwarded) release() error {
	all, err := segments.List(f.dir)
	for i := 0; err == nil && i+1 < len(all) && all[i+1].First <= f.at+1; i++ {
		err = os.Remove(all[i].Path)
	}
	return err
}
