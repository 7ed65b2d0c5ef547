package guard

import (
	"sync"

	"mellowgate/internal/core/site"
)

// Names are names that were seen, in their normal form. The zero value is ready.
type Names struct {
	mu   sync.Mutex
	seen map[string]struct{}
}

// mostNames bounds the names that are remembered.
const mostNames = 100_000

// Note remembers a name. Of too many the rest is not remembered.
func (n *Names) Note(name string) {
	normal, ok := site.NormalName(name)
	if !ok {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.seen == nil {
		n.seen = map[string]struct{}{}
	}
	if len(n.seen) < mostNames {
		n.seen[normal] = struct{}{}
	}
}

// Has reports whether a name was seen.
func (n *Names) Has(name string) bool {
	normal, ok := site.NormalName(name)
	n.mu.Lock()
	defer n.mu.Unlock()
	_, seen := n.seen[normal]
	return ok && seen
}
