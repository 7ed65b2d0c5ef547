package ledger

import (
	"context"
	"fmt"
	"strconv"
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
	v := &verifying{proof: Proof{Breaks: []Break{}, Chains: []Head{}}, at: map[string]int{}, kept: map[Head]string{},
		opened: map[string]opening{}}
	heads, err := s.Heads(ctx) // before the records, of which there may be more meanwhile
	if err != nil {
		return v.proof, err
	}
	for _, h := range expected {
		v.expect(h)
	}
	if f, ok := s.(Folder); ok {
		err = f.prove(ctx, v)
	} else {
		err = s.Read(ctx, Filter{byChain: true}, func(r Record) error {
			v.record(r)
			return nil
		})
	}
	if err != nil {
		return v.proof, err
	}
	v.ends(heads)
	return v.proof, nil
}

// verifying is a proof that is being made.
type verifying struct {
	proof  Proof
	at     map[string]int     // where a chain is among those of the proof
	kept   map[Head]string    // hashes that were kept, by chain and number
	opened map[string]opening // chains whose first records are not here
}

// opening is the begin of a chain whose first records are not here: it holds when a
// record says that they were let go.
type opening struct {
	upTo int64
	hash string // of the newest that is not here, as the one after it says
	said bool
}

func (v *verifying) say(chain string, at int64, format string, args ...any) {
	v.proof.Breaks = append(v.proof.Breaks, Break{Chain: chain, Sequence: at, What: fmt.Sprintf(format, args...)})
}

// expect notes a head that was kept elsewhere.
func (v *verifying) expect(h Head) {
	if why := h.wrong(); why != "" {
		v.say(h.Chain, h.Sequence, "the head of record %d that was kept %s", h.Sequence, why)
		return
	}
	v.kept[Head{Chain: h.Chain, Sequence: h.Sequence}] = h.Hash
}

// begins notes that the records here of a chain begin behind one that has a hash.
func (v *verifying) begins(chain string, upTo int64, hash string) {
	if upTo == 0 && hash == "" {
		return
	}
	v.end(chain)
	i := v.at[chain]
	v.proof.Chains[i].Sequence, v.proof.Chains[i].Hash = upTo, hash
	v.opened[chain] = opening{upTo: upTo, hash: hash}
	for id, kept := range v.kept {
		if id.Chain == chain && id.Sequence <= upTo {
			if id.Sequence == upTo && kept != hash {
				continue // it is said at the end that it is not there
			}
			delete(v.kept, id)
		}
	}
}

// end returns how far a chain was read.
func (v *verifying) end(chain string) *Head {
	i, known := v.at[chain]
	if !known {
		i = len(v.proof.Chains)
		v.at[chain] = i
		v.proof.Chains = append(v.proof.Chains, Head{Chain: chain})
	}
	return &v.proof.Chains[i]
}

// record takes the next record.
func (v *verifying) record(r Record) {
	v.proof.Records++
	end := v.end(r.Chain)
	switch gap := r.Sequence - end.Sequence - 1; {
	case gap == 1:
		v.say(r.Chain, r.Sequence, "record %d is missing", end.Sequence+1)
	case gap > 1:
		v.say(r.Chain, r.Sequence, "records %d to %d are missing", end.Sequence+1, r.Sequence-1)
	case gap < 0:
		v.say(r.Chain, r.Sequence, "record %d comes after record %d", r.Sequence, end.Sequence)
	case Hash(end.Hash, r) != r.Hash:
		v.say(r.Chain, r.Sequence, "record %d is not as it was written, or the one before it is another", r.Sequence)
	}
	id := Head{Chain: r.Chain, Sequence: r.Sequence}
	if hash, wanted := v.kept[id]; wanted {
		if delete(v.kept, id); hash != r.Hash {
			v.say(r.Chain, r.Sequence, "record %d is another than the one whose hash was kept: the chain was "+
				"written again",
				r.Sequence)
		}
	}
	if o, open := v.opened[r.Chain]; open && r.Kind == Released {
		upTo, err := strconv.ParseInt(r.Session, 10, 64)
		o.said = o.said || err == nil && (upTo > o.upTo || upTo == o.upTo && r.Command == o.hash)
		v.opened[r.Chain] = o
	}
	end.Sequence, end.Hash = r.Sequence, r.Hash
}

// ends checks the ends of the chains, and what was kept and not found.
func (v *verifying) ends(heads []Head) {
	for chain, o := range v.opened {
		if !o.said {
			v.say(chain, o.upTo, "records 1 to %d are missing, and no record says that they were let go", o.upTo)
		}
	}
	for _, h := range heads {
		v.endIs(h)
	}
	for h := range v.kept {
		if h.Sequence > 0 {
			v.say(h.Chain, h.Sequence, "record %d, whose hash was kept, is not there", h.Sequence)
		}
	}
}

// endIs checks that a chain goes as far as is noted beside it.
func (v *verifying) endIs(h Head) {
	var end Head
	if i, known := v.at[h.Chain]; known {
		if h.Host != "" {
			v.proof.Chains[i].Host = h.Host
		}
		end = v.proof.Chains[i]
	}
	switch {
	case end.Sequence == h.Sequence-1:
		v.say(h.Chain, h.Sequence, "record %d is missing at the end", h.Sequence)
	case end.Sequence < h.Sequence:
		v.say(h.Chain, h.Sequence, "records %d to %d are missing at the end", end.Sequence+1, h.Sequence)
	case end.Sequence == h.Sequence && end.Hash != h.Hash:
		v.say(h.Chain, h.Sequence, "record %d is another than the newest that was written", h.Sequence)
	}
}
