package guard

import (
	"context"
	"time"

	"mellowgate/internal/routine"
)

// Workers do short work side by side, in goroutines that are used again: a goroutine that
// is new has a small stack, and makes it larger each time at the cost of much of the work.
type Workers struct {
	ctx     context.Context
	running *routine.Group
	next    chan func()
}

// restsFor is how long a worker waits for more before it ends.
const restsFor = time.Second

// NewWorkers returns workers that rest no longer than ctx lasts; running counts them until
// they have ended.
func NewWorkers(ctx context.Context, running *routine.Group) *Workers {
	return &Workers{ctx: ctx, running: running, next: make(chan func())}
}

// Go has something done at once: by a worker that rests, or by a new one.
func (w *Workers) Go(do func()) {
	select {
	case w.next <- do:
	default:
		w.running.Go(func() { w.work(do) })
	}
}

// work does one thing after another, until for a while nothing comes.
func (w *Workers) work(do func()) {
	rest := time.NewTimer(restsFor)
	defer rest.Stop()
	for {
		do()
		do = nil // what it has is not kept meanwhile
		rest.Reset(restsFor)
		select {
		case do = <-w.next:
		case <-rest.C:
			return
		case <-w.ctx.Done():
			return
		}
	}
}
