package ledger

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger/segments"
)

// Bounds are how long records are kept here, and how many. Whole files go, the oldest
// first, and never the newest.
type Bounds struct {
	For    time.Duration // 0: however old
	AtMost int64         // octets; 0: however much
	To     string        // the folder that they are moved to; "": they are deleted
}

// Release lets the files go that are beyond the bounds, and returns how many records that
// were. A record says so before they go, with the hash of the newest of them.
func (l *Ledger) Release(ctx context.Context, b Bounds, node string, now time.Time) (int64, error) {
	all, err := segments.List(l.dir)
	if err != nil || len(all) < 2 {
		return 0, err
	}
	size := int64(0)
	for _, s := range all {
		size += s.Size
	}
	going, why := 0, ""
	for ; going < len(all)-1; going++ {
		s := all[going]
		old, much := b.For > 0 && now.Sub(s.Written) > b.For, b.AtMost > 0 && size > b.AtMost
		if !old && !much {
			break
		}
		if why = fmt.Sprintf("they were older than %s", b.For); much {
			why = fmt.Sprintf("there were more than %d octets of them", b.AtMost)
		}
		size -= s.Size
	}
	if going == 0 {
		return 0, nil
	}
	next, err := headOf(l.dir, all[going])
	if err != nil {
		return 0, err
	}
	upTo, where := next.first-1, "deleted"
	if b.To != "" {
		where = "moved to " + b.To
		for _, s := range all[:going] {
			if err := copyFile(s.Path, filepath.Join(b.To, filepath.Base(s.Path))); err != nil {
				return 0, fmt.Errorf("old records cannot be moved to %s, and stay where they are: %w", b.To, err)
			}
		}
	}
	if err := l.Keep(ctx, Record{Time: now, Node: node, Kind: Released, Result: evidence.Recorded,
		Session: strconv.FormatInt(upTo, 10), Command: next.before,
		Reason: fmt.Sprintf("records %d to %d were %s: %s", all[0].First, upTo, where, why)}); err != nil {
		return 0, err
	}
	for _, s := range all[:going] {
		if err := os.Remove(s.Path); err != nil {
			return 0, err
		}
	}
	return next.first - all[0].First, nil
}

// copyFile copies a file that does not change any more, and returns when it is on disk.
func copyFile(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}
