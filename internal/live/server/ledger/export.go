package ledger

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"mellowgate/internal/live/server/ledger/segments"
)

// Export writes every record of a ledger to a folder, as it is and with its hash: one
// chain into the folder itself, several each into a folder of its own in it. It returns
// how far each chain goes, with the folder as Host. The folder has no records yet.
func Export(ctx context.Context, from Source, dir string) ([]Head, error) {
	heads, err := from.Heads(ctx)
	if err != nil {
		return nil, err
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%s is not empty: name a new folder", dir)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var done []Head
	var w *exporting
	err = from.Read(ctx, Filter{byChain: true}, func(r Record) error {
		if w == nil || w.chain != r.Chain {
			if err := w.end(&done); err != nil {
				return err
			}
			into := dir
			if len(heads) > 1 {
				into = filepath.Join(dir, r.Chain)
			}
			if w, err = beginExport(from, into, r); err != nil {
				return err
			}
		}
		return w.add(r)
	})
	if err = errors.Join(err, w.end(&done)); err == nil && len(done) == 0 {
		err = errors.New("there is no record yet that could be written there")
	}
	return done, err
}

// exporting is a chain that is being written.
type exporting struct {
	dir, chain string
	files      *segments.Writer
	frames     []byte
	some       int
	last       Record
}

// beginExport begins with the first record that there is of a chain.
func beginExport(from Source, dir string, first Record) (*exporting, error) {
	before := ""
	if f, ok := from.(Folder); ok { // what came before may have been let go
		all, err := segments.List(string(f))
		if err != nil {
			return nil, err
		}
		h, err := headOf(string(f), all[0])
		if err != nil {
			return nil, err
		}
		before = h.before
	}
	w := &exporting{dir: dir, chain: first.Chain}
	var err error
	w.files, err = segments.Create(dir, first.Sequence,
		head{chain: first.Chain, first: first.Sequence, before: before}.encode(), false)
	return w, err
}

func (w *exporting) add(r Record) error {
	if w.last.Hash != "" && r.Sequence != w.last.Sequence+1 {
		return fmt.Errorf("the records from %d to %d are missing: see mellowgate ledger verify", w.last.Sequence+1,
			r.Sequence-1)
	}
	w.frames = segments.AppendFrame(w.frames, appendField(appendBody(nil, r), r.Hash))
	w.last = r
	if w.some++; w.some < mostTogether {
		return nil
	}
	if err := w.flush(); err != nil || w.files.Size() < segmentSize {
		return err
	}
	return w.files.Begin(head{chain: w.chain, first: r.Sequence + 1, before: r.Hash}.encode())
}

func (w *exporting) flush() error {
	if w.some == 0 {
		return nil
	}
	err := w.files.Append(w.frames, w.some)
	w.frames, w.some = w.frames[:0], 0
	return err
}

func (w *exporting) end(done *[]Head) error {
	if w == nil {
		return nil
	}
	*done = append(*done, Head{Chain: w.chain, Host: w.dir, Sequence: w.last.Sequence, Hash: w.last.Hash})
	return errors.Join(w.flush(), w.files.Close())
}

// headOf reads the head of one file.
func headOf(dir string, s segments.Segment) (h head, err error) {
	err = segments.Read(dir, segments.Reading{From: s.First,
		Skips: func(other segments.Segment) bool { return other.First != s.First },
		Head: func(_ segments.Segment, text []byte) (err error) {
			if h, err = decodeHead(text); err == nil {
				err = errEnough
			}
			return err
		}, Entry: func(int64, segments.Position, []byte) error { return errEnough }})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return h, err
}
