// Package ledger keeps the records of what people did: logins, sessions,
// commands and decisions. A record is safe on disk when Keep returns. Records
// that arrive together are written together. Each holds the hash of the one
// before, so that a change can be found.
//
// The records of a place are in the files of a folder (package segments). What makes
// them quick to find, the index, and the database of many places follow at their own
// pace, and hold up no answer.
package ledger

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger/segments"
	"mellowgate/internal/routine"
)

// Ledger is an open ledger. Records that wait at the same time are written together.
//
// One goroutine writes; whoever waits for a record wakes it, so that a disk that hangs
// holds up nobody for longer than they want to wait. Close ends it once what it was given
// is written. Followers have goroutines of their own, which Close ends too.
type Ledger struct {
	dir     string
	passing bool
	largest int64         // octets of a file, after which a new one is begun
	now     chan struct{} // holds one when what is pending is to be written
	done    chan struct{} // closed when the writer has ended
	later   *time.Timer   // has what is pending written where nobody waits for it
	busy    atomic.Int64  // since when something is being written, in nanoseconds since 1970; 0: nothing is
	wrote   func(waiting, lost int, err error)

	mu        sync.Mutex
	room      *sync.Cond // pending has become shorter
	pending   []entry
	group     *group // of the newest that is pending
	closing   bool
	bound     func() error // why no record is taken now, nil where they are
	newest    int64        // the number of the newest record
	followers []chan struct{}

	// The writer's own.
	files  *segments.Writer
	chain  string // the name of the chain
	last   string // the hash of the newest record
	day    int    // on which the newest file was begun
	spare  []entry
	buffer []byte // what is being written
	hashed []byte
	again  []entry // what could not be written, and is tried again with what comes next
	gap    gap     // what could not be kept for that either

	index *index
}

type entry struct {
	record Record
	must   bool   // it is not to be tried again: whoever waits for it does so itself
	group  *group // nil: nobody waits
}

// group is what is written together.
type group struct {
	done chan struct{} // closed once it is written, or cannot be
	err  error         // why it was not
}

const (
	// mostTogether bounds how many records are written together.
	mostTogether = 4096
	// patience is how long a record that nobody waits for may wait for company.
	patience = 20 * time.Millisecond
	// mostPending bounds how many records may wait to be written.
	mostPending = 2 * mostTogether
	// segmentSize is how many octets a file has before a new one is begun.
	segmentSize = 32 << 20
)

// Options are how a ledger is opened. The zero value works.
type Options struct {
	// Passing is for records that are of no worth once the machine stops, as a
	// lab's: they are written without waiting for the disk itself, and no index is made.
	Passing bool
	// Segment is how many octets a file has before a new one is begun. Default: 32 MiB.
	Segment int64
	// Indexed makes the index, by which the records of a person or a device are found
	// quickly among very many.
	Indexed bool
	// Wrote is told how writing went, after each time: how many records that
	// could not be written wait to be tried again, how many were lost because too many
	// did, and why; 0, 0 and nil where all is well. Default: nobody is.
	Wrote func(waiting, lost int, err error)
	// Say is told what an administrator should know. Default: nobody is.
	Say func(string)
}

// Chain returns the name of the ledger's chain.
func (l *Ledger) Chain() string { return l.chain }

// Newest returns the number of the newest record; 0 where there is none.
func (l *Ledger) Newest() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.newest
}

// Behind returns how many records are not in the index yet.
func (l *Ledger) Behind() int64 {
	if l.index == nil {
		return 0
	}
	return l.index.behind()
}

// Open opens the ledger in a folder, and makes it when there is none.
func Open(dir string, o Options) (*Ledger, error) {
	if o.Say == nil {
		o.Say = func(string) {}
	}
	l := &Ledger{dir: dir, passing: o.Passing, largest: o.Segment, wrote: o.Wrote, now: make(chan struct{}, 1),
		done: make(chan struct{}), bound: func() error { return nil }}
	if l.largest == 0 {
		l.largest = segmentSize
	}
	l.room = sync.NewCond(&l.mu)
	l.later = routine.AfterFunc(time.Hour, func() { signal(l.now) })
	if err := l.prepare(o.Say); err != nil {
		l.later.Stop()
		return nil, fmt.Errorf("the ledger %s cannot be used: %w", dir, err)
	}
	routine.Go(l.write)
	if o.Indexed {
		var err error
		if l.index, err = l.follow(o.Say); err != nil {
			return nil, errors.Join(fmt.Errorf("the index of the ledger %s cannot be used: %w", dir, err), l.Close())
		}
	}
	return l, nil
}

// prepare finds the end of the chain, or begins one.
func (l *Ledger) prepare(say func(string)) (err error) {
	l.files, err = segments.Open(l.dir, l.passing)
	if err != nil {
		return err
	}
	if l.files == nil {
		var name [8]byte
		_, _ = rand.Read(name[:]) // never fails: crypto/rand ends the process instead
		l.chain = hex.EncodeToString(name[:])
		if l.files, err = segments.Create(l.dir, 1, head{chain: l.chain, first: 1}.encode(), l.passing); err != nil {
			return err
		}
		l.day = today()
		return nil
	}
	if l.files.Cut != "" {
		say(l.files.Cut)
	}
	h, err := decodeHead(l.files.Head)
	if err != nil {
		return errors.Join(err, l.files.Close())
	}
	l.chain, l.last, l.newest = h.chain, h.before, l.files.Next()-1
	if l.files.Newest != nil {
		r, err := decode(l.files.Newest)
		if err != nil {
			return errors.Join(err, l.files.Close())
		}
		l.last, l.day = r.Hash, dayOf(r.Time)
	}
	return nil
}

// today returns the day, counted from 1970 in UTC.
func today() int { return dayOf(time.Now()) }

func dayOf(t time.Time) int { return int(t.Unix() / (24 * 60 * 60)) }

// Errors of Keep and Note.
var (
	ErrClosed = errors.New("the ledger is closed")
	ErrFull   = errors.New("as many records wait for the database as may wait on this disk")
)

// Written is a record that is being written.
type Written struct {
	group  *group
	ledger *Ledger
}

// Safe reports whether the record is safe on disk already. A Written that is the zero
// value is.
func (w Written) Safe() bool {
	if w.group == nil {
		return true
	}
	select {
	case <-w.group.done:
		return w.group.err == nil
	default:
		return false
	}
}

// ErrSlow is a disk that has not taken what is being written for some time.
var ErrSlow = fmt.Errorf("the disk has not taken the records for more than %s", slow)

// slow is how long the disk may take before nobody waits for it any more.
const slow = time.Second

// Wait returns once the record is safe on disk, or cannot be written now. Its error is
// ErrSlow at once where the disk is slow already.
func (w Written) Wait(ctx context.Context) error {
	if w.group == nil {
		return nil
	}
	if since := w.ledger.busy.Load(); since > 0 && time.Since(time.Unix(0, since)) > slow && !w.Safe() {
		return ErrSlow
	}
	signal(w.ledger.now)
	select {
	case <-w.group.done:
		return w.group.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Keep writes a record and returns once it is safe on disk. A record for which it
// returns an error is not kept, and is not tried again.
func (l *Ledger) Keep(ctx context.Context, r Record) error {
	w, err := l.Begin(r)
	if err != nil {
		return err
	}
	return w.Wait(ctx)
}

// Begin begins to write a record as Keep does; it is safe once what it returns is waited
// for.
func (l *Ledger) Begin(r Record) (Written, error) { return l.add(entry{record: r, must: true}) }

// Note begins to write a record that is tried again with what comes next when it cannot be
// written, up to a bound. It is written soon, also where nobody waits for it.
func (l *Ledger) Note(r Record) (Written, error) { return l.add(entry{record: r}) }

func (l *Ledger) add(e entry) (Written, error) {
	e.record = e.record.tidy()
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.pending) >= mostPending && !l.closing {
		l.room.Wait()
	}
	if l.closing {
		return Written{}, ErrClosed
	}
	if err := l.bound(); err != nil {
		return Written{}, err
	}
	if len(l.pending)%mostTogether == 0 {
		l.group = &group{done: make(chan struct{})}
	}
	e.group = l.group
	l.pending = append(l.pending, e)
	switch len(l.pending) {
	case 1:
		l.later.Reset(patience)
	case mostTogether:
		l.later.Reset(0)
	}
	return Written{group: e.group, ledger: l}, nil
}

func signal(c chan<- struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Close writes what is pending, lets the index follow to the end, and closes the ledger.
func (l *Ledger) Close() error {
	l.endWriting()
	var err error
	if n := len(l.again) + l.gap.lost; n > 0 {
		err = fmt.Errorf("the ledger could not be written until the end; decisions that are lost: %d", n)
	}
	if l.index != nil {
		err = errors.Join(err, l.index.close())
	}
	return errors.Join(err, l.files.Close())
}

// endWriting writes what is pending, and takes nothing more.
func (l *Ledger) endWriting() {
	l.mu.Lock()
	l.closing = true
	l.room.Broadcast()
	l.mu.Unlock()
	signal(l.now)
	<-l.done
	l.later.Stop()
}

// write is the one writer.
func (l *Ledger) write() {
	defer close(l.done)
	for closing := false; !closing; {
		<-l.now
		runtime.Gosched() // what can be pending at once is written with it
		l.mu.Lock()
		closing = l.closing
		l.mu.Unlock()
		l.flush()
	}
}

// flush writes what is pending.
func (l *Ledger) flush() {
	l.mu.Lock()
	batch := l.pending
	l.pending = l.spare[:0]
	l.room.Broadcast()
	l.mu.Unlock()
	before := l.again
	l.again = nil
	if l.gap.lost > 0 && len(before)+len(batch) > 0 {
		moment := append(before[:len(before):len(before)], batch...)[0].record.Time
		before = append([]entry{{record: l.gap.record(moment), must: true}}, before...)
	}
	l.writeParts(before)
	l.writeParts(batch)
	clear(batch)
	l.spare = batch
}

// writeParts writes records, so many at a time.
func (l *Ledger) writeParts(rest []entry) {
	for len(rest) > 0 {
		part := rest[:min(len(rest), mostTogether)]
		rest = rest[len(part):]
		l.tell(part, l.commit(part))
	}
}

// tell tells the result of writing records. A record that could not be written and may be
// written later waits for its next try; where no place is left to wait in it is lost, and
// the ledger notes the loss once it can be written.
func (l *Ledger) tell(part []entry, err error) {
	if err == nil { // before anybody is answered: who reads then finds it
		l.mu.Lock()
		l.newest = l.files.Next() - 1
		followers := l.followers
		l.mu.Unlock()
		for _, f := range followers {
			signal(f)
		}
	}
	if g := part[0].group; g != nil { // a part is of one group
		g.err = err
		close(g.done)
	}
	lost := 0
	for _, e := range part {
		e.group = nil
		switch {
		case e.record.Kind == Gap:
			if err == nil {
				l.gap = gap{}
			}
		case err == nil, e.must:
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
}

// gap is what could not be written.
type gap struct {
	lost  int
	since time.Time
	node  string
	why   error
}

// record is the record that says so.
func (g gap) record(moment time.Time) Record {
	return Record{Time: moment, Node: g.node, Kind: Gap, Result: evidence.Failed,
		Reason: fmt.Sprintf("%d decisions since %s are missing here: %v", g.lost, g.since.UTC().Format(time.RFC3339),
			g.why)}.
		tidy()
}

// commit writes records together, all or none.
func (l *Ledger) commit(batch []entry) error {
	if day := today(); l.files.Size() > l.largest || day > l.day && l.files.Next() > l.files.First() {
		next := l.files.Next()
		if err := l.files.Begin(head{chain: l.chain, first: next, before: l.last}.encode()); err == nil {
			l.day = day
		} else if l.files.Size() > 2*l.largest {
			return err
		}
	}
	next, last := l.files.Next(), l.last
	l.buffer = l.buffer[:0]
	for i := range batch {
		r := &batch[i].record
		r.Sequence = next
		next++
		l.hashed = appendField(l.hashed[:0], last)
		body := len(l.hashed)
		l.hashed = appendBody(l.hashed, *r)
		r.Hash = hashOf(l.hashed)
		last = r.Hash
		l.hashed = appendField(l.hashed, last)
		l.buffer = segments.AppendFrame(l.buffer, l.hashed[body:])
	}
	l.busy.Store(time.Now().UnixNano())
	defer l.busy.Store(0)
	if err := l.files.Append(l.buffer, len(batch)); err != nil {
		return err
	}
	l.last = last
	return nil
}

// listen returns a channel that holds one whenever there are new records.
func (l *Ledger) listen() <-chan struct{} {
	c := make(chan struct{}, 1)
	c <- struct{}{} // what was there before
	l.mu.Lock()
	defer l.mu.Unlock()
	l.followers = append(l.followers, c)
	return c
}

// private makes a file that only its owner can read; the files that the database
// puts beside it are as it is.
func private(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(file.Chmod(0o600), file.Close())
}
