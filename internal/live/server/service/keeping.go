package service

import (
	"context"
	"fmt"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/routine"
)

const (
	looksAtDisk = time.Minute // how often the room on the disk and the age of records are looked at
	signsHeads  = time.Hour   // how often the newest record is signed
	leastFree   = 10          // of a hundred parts of the disk that are free, below which it is said
)

// keeping looks after the records: lets old ones go, watches the room on the disk, and
// signs the newest one now and then.
//
// One goroutine runs, until close.
type keeping struct {
	ledger *ledger.Ledger
	folder ledger.Folder
	bounds ledger.Bounds
	host   string
	signer *ledger.Signer
	v      *Service
	head   func(ledger.Head)
	stop   context.CancelFunc
	ended  routine.Group
	signed int64 // the newest record that was signed
}

// keep begins to look after a ledger. Records are let go where bounded says so: those
// that go on to a database go from here by themselves.
func (v *Service) keep(l *ledger.Ledger, as site.Keeping, to string, bounded bool, o Options, host string) error {
	k := &keeping{ledger: l, folder: ledger.Folder(v.records), v: v, head: o.Head, host: host}
	if bounded {
		k.bounds = ledger.Bounds{For: as.For, AtMost: as.AtMost, To: to}
	}
	var err error
	if k.signer, err = k.folder.Signer(true); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	k.stop, v.keeping = stop, k
	k.ended.Go(func() { k.run(ctx, o.Now) })
	return nil
}

func (k *keeping) run(ctx context.Context, now func() time.Time) {
	looks, signs := time.NewTicker(looksAtDisk), time.NewTicker(signsHeads)
	defer looks.Stop()
	defer signs.Stop()
	k.look(ctx, now())
	for {
		select {
		case <-looks.C:
			k.look(ctx, now())
		case <-signs.C:
			k.sign(now())
		case <-ctx.Done():
			k.sign(now()) // so that a chain that is cut while nothing runs shows
			return
		}
	}
}

func (k *keeping) close() {
	if k == nil {
		return
	}
	k.stop()
	k.ended.Wait()
}

// look lets old records go, and then sees how much room there is.
func (k *keeping) look(ctx context.Context, now time.Time) {
	ctx, cancel := context.WithTimeout(ctx, looksAtDisk)
	defer cancel()
	switch n, err := k.ledger.Release(ctx, k.bounds, k.host, now); {
	case err != nil && ctx.Err() == nil:
		k.v.say(fmt.Sprintf("the ledger: %v", err))
	case n > 0:
		k.v.say(fmt.Sprintf("the ledger: %d old records are let go (service: keep in the site)", n))
	}
	free, all, err := files.Room(string(k.folder))
	if err != nil || all == 0 {
		return
	}
	k.v.Metrics.Room(free, all)
	text := ""
	if free*100 < all*leastFree {
		text = fmt.Sprintf("of the disk with the records %d of %d MiB are free: make room, or let records go "+
			"sooner (service: keep: {for: 100d, at-most: 1GiB})", free>>20, all>>20)
	}
	if k.v.Metrics.Health.Set(TroubleRoom, text) && text != "" {
		k.v.say(text)
	}
}

// sign signs the newest record, and gives it out.
func (k *keeping) sign(now time.Time) {
	heads, err := k.folder.Heads(context.Background())
	if err == nil && len(heads) == 1 && heads[0].Sequence > k.signed {
		h := heads[0]
		h.Host = k.host
		h = k.signer.Sign(h, now)
		if err = k.folder.KeepHead(h); err == nil {
			k.signed = h.Sequence
			k.v.Metrics.Head(h)
			if k.head != nil {
				k.head(h)
			}
		}
	}
	if err != nil {
		k.v.say(fmt.Sprintf("the newest record could not be signed: %v", err))
	}
}
