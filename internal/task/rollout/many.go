package rollout

import (
	"context"
	"slices"
	"sync"

	"mellowgate/internal/core/site"
	"mellowgate/internal/routine"
)

// PairLabel is the label by which a site says that two devices back each other
// up: both bear it with the same value.
const PairLabel = "pair"

// Order is how several devices are worked on.
type Order struct {
	// Canary is worked on first, and alone; nil: the first of all.
	Canary *site.Device
	// AtOnce is how many are worked on at the same time after it, from 1.
	AtOnce int
}

// Each works on several devices: one alone first, the others then in steps, and
// never two at the same time that back each other up. After the first that goes
// wrong none is begun; those that run go on to their end. It returns the devices
// that were not begun.
func Each(ctx context.Context, devices []*site.Device, o Order, do func(*site.Device) bool) []*site.Device {
	waiting := slices.Clone(devices)
	if i := slices.Index(waiting, o.Canary); i > 0 {
		waiting = slices.Insert(slices.Delete(waiting, i, i+1), 0, o.Canary)
	}
	var mu sync.Mutex
	changed := sync.NewCond(&mu)
	var busy []*site.Device
	failed, first := false, true
	next := func() int {
		most := max(o.AtOnce, 1)
		if first {
			most = 1
		}
		if len(busy) >= most {
			return -1
		}
		return slices.IndexFunc(waiting, func(d *site.Device) bool {
			return !slices.ContainsFunc(busy, func(b *site.Device) bool { return pair(b, d) })
		})
	}
	mu.Lock()
	defer mu.Unlock()
	for {
		for !failed && ctx.Err() == nil {
			i := next()
			if i < 0 {
				break
			}
			d := waiting[i]
			waiting = slices.Delete(waiting, i, i+1)
			busy = append(busy, d)
			routine.Go(func() {
				ok := do(d)
				mu.Lock()
				defer mu.Unlock()
				busy = slices.DeleteFunc(busy, func(b *site.Device) bool { return b == d })
				failed, first = failed || !ok, false
				changed.Signal()
			})
			if first {
				break
			}
		}
		if len(busy) == 0 {
			return waiting
		}
		changed.Wait()
	}
}

// pair reports whether two devices back each other up.
func pair(a, b *site.Device) bool {
	return a.Labels[PairLabel] != "" && a.Labels[PairLabel] == b.Labels[PairLabel]
}
