package ledger

import (
	"context"
	"fmt"
)

// Break is a place at which the chain of a ledger does not hold.
type Break struct {
	Sequence int64  `json:"sequence"`
	What     string `json:"what"`
}

// Proof is what verifying a ledger gave. Last is the hash of the newest record:
// who keeps it elsewhere notices when the end is cut off.
type Proof struct {
	Records int64   `json:"records"`
	Breaks  []Break `json:"breaks"`
	Newest  int64   `json:"newest"`
	Last    string  `json:"last"`
}

// Verify reads the whole ledger at path and checks that each record follows the
// one before: none changed, none taken out, none put in, none moved.
func Verify(ctx context.Context, path string) (Proof, error) {
	p := Proof{Breaks: []Break{}}
	say := func(at int64, format string, args ...any) {
		p.Breaks = append(p.Breaks, Break{at, fmt.Sprintf(format, args...)})
	}
	err := Read(ctx, path, Filter{}, func(r Record) error {
		p.Records++
		switch gap := r.Sequence - p.Newest - 1; {
		case gap == 1:
			say(r.Sequence, "record %d is missing", p.Newest+1)
		case gap > 1:
			say(r.Sequence, "records %d to %d are missing", p.Newest+1, r.Sequence-1)
		case Chain(p.Last, r) != r.Hash:
			say(r.Sequence, "record %d is not as it was written, or the one before it is another", r.Sequence)
		}
		p.Newest, p.Last = r.Sequence, r.Hash
		return nil
	})
	return p, err
}
