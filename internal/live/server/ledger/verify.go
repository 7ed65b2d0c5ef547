package ledger

import (
	"context"
	"fmt"
)

// Break is a place at which a chain of a ledger does not hold.
type Break struct {
	Chain    string `json:"chain"`
	Sequence int64  `json:"sequence"`
	What     string `json:"what"`
}

// Proof is what verifying a ledger gave. Who keeps the ends of the chains
// elsewhere notices even when an end is cut off with care.
type Proof struct {
	Records int64   `json:"records"`
	Breaks  []Break `json:"breaks"`
	Chains  []Head  `json:"chains"`
}

// Verify reads a whole ledger and checks that each record follows the one
// before: none changed, none taken out, none put in, none moved, and none cut
// off at the end. What is expected are heads of before, that were kept elsewhere: even a
// chain that was written again whole differs from them.
func Verify(ctx context.Context, s Source, expected ...Head) (Proof, error) {
	p := Proof{Breaks: []Break{}, Chains: []Head{}}
	say := func(chain string, at int64, format string, args ...any) {
		p.Breaks = append(p.Breaks, Break{Chain: chain, Sequence: at, What: fmt.Sprintf(format, args...)})
	}
	heads, err := s.Heads(ctx) // before the records, of which there may be more meanwhile
	if err != nil {
		return p, err
	}
	at, kept := map[string]int{}, map[Head]string{}
	for _, h := range expected {
		kept[Head{Chain: h.Chain, Sequence: h.Sequence}] = h.Hash
	}
	err = s.Read(ctx, Filter{byChain: true}, func(r Record) error {
		p.Records++
		i, known := at[r.Chain]
		if !known {
			i = len(p.Chains)
			at[r.Chain] = i
			p.Chains = append(p.Chains, Head{Chain: r.Chain})
		}
		end := &p.Chains[i]
		switch gap := r.Sequence - end.Sequence - 1; {
		case gap == 1:
			say(r.Chain, r.Sequence, "record %d is missing", end.Sequence+1)
		case gap > 1:
			say(r.Chain, r.Sequence, "records %d to %d are missing", end.Sequence+1, r.Sequence-1)
		case Hash(end.Hash, r) != r.Hash:
			say(r.Chain, r.Sequence, "record %d is not as it was written, or the one before it is another", r.Sequence)
		}
		id := Head{Chain: r.Chain, Sequence: r.Sequence}
		if hash, wanted := kept[id]; wanted {
			if delete(kept, id); hash != r.Hash {
				say(r.Chain, r.Sequence, "record %d is another than the one whose hash was kept: the chain was written again",
					r.Sequence)
			}
		}
		end.Sequence, end.Hash = r.Sequence, r.Hash
		return nil
	})
	if err != nil {
		return p, err
	}
	for _, h := range heads {
		var end Head
		if i, known := at[h.Chain]; known {
			p.Chains[i].Host = h.Host
			end = p.Chains[i]
		}
		switch {
		case end.Sequence == h.Sequence-1:
			say(h.Chain, h.Sequence, "record %d is missing at the end", h.Sequence)
		case end.Sequence < h.Sequence:
			say(h.Chain, h.Sequence, "records %d to %d are missing at the end", end.Sequence+1, h.Sequence)
		case end.Sequence == h.Sequence && end.Hash != h.Hash:
			say(h.Chain, h.Sequence, "record %d is another than the newest that was written", h.Sequence)
		}
	}
	for _, h := range expected {
		if _, missing := kept[Head{Chain: h.Chain, Sequence: h.Sequence}]; missing && h.Sequence > 0 {
			say(h.Chain, h.Sequence, "record %d, whose hash was kept, is not there", h.Sequence)
		}
	}
	return p, nil
}
