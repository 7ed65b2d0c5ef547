package guard

import "sync"

// Once tells what was not told before. The zero value is ready.
type Once struct {
	mu   sync.Mutex
	told map[string]struct{}
}

// mostTold bounds what is remembered; of more nothing is told.
const mostTold = 1000

// First reports whether it is asked about a text for the first time.
func (o *Once) First(text string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if _, told := o.told[text]; told || len(o.told) == mostTold {
		return false
	}
	if o.told == nil {
		o.told = map[string]struct{}{}
	}
	o.told[text] = struct{}{}
	return true
}
