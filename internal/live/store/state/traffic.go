package state

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Traffic returns the path of the capture.
func (f *Folder) Traffic() string { return filepath.Join(f.Dir, trafficFile) }

// OpenTraffic begins the capture anew. What there was of it becomes the older
// part, and takes the place of the one before.
func (f *Folder) OpenTraffic() (*os.File, error) {
	if err := f.age(trafficFile); err != nil {
		return nil, err
	}
	return os.OpenFile(f.Traffic(), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
}

// Packets opens the capture for reading, the older part first.
func (f *Folder) Packets() (io.ReadCloser, error) {
	var parts parts
	for _, path := range []string{f.agedPath(trafficFile), f.Traffic()} {
		file, err := os.Open(path)
		if errors.Is(err, fs.ErrNotExist) && path != f.Traffic() {
			continue
		}
		if err != nil {
			return nil, errors.Join(err, parts.Close())
		}
		parts = append(parts, file)
	}
	return struct {
		io.Reader
		io.Closer
	}{io.MultiReader(parts.readers()...), parts}, nil
}

type parts []*os.File

func (p parts) readers() []io.Reader {
	all := make([]io.Reader, len(p))
	for i, f := range p {
		all[i] = f
	}
	return all
}

func (p parts) Close() error {
	var errs []error
	for _, f := range p {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

// growing reads a capture while another program adds to it, and goes on in the next
// file when that one begins one.
type growing struct {
	ctx  context.Context
	path string
	file *os.File // the part that is read
}

// Growing opens the capture for reading, the older part first, and then gives what is
// added to it until ctx ends. It has no end of its own.
func (f *Folder) Growing(ctx context.Context) (io.ReadCloser, error) {
	g := &growing{ctx: ctx, path: f.Traffic()}
	var err error
	if g.file, err = os.Open(f.agedPath(trafficFile)); errors.Is(err, fs.ErrNotExist) {
		g.file, err = os.Open(g.path)
	}
	return g, err
}

// addedEvery is after how long it looks again for what was added.
const addedEvery = 100 * time.Millisecond

func (g *growing) Read(b []byte) (int, error) {
	for {
		n, err := g.file.Read(b)
		if n > 0 || !errors.Is(err, io.EOF) {
			return n, err
		}
		if g.turn() {
			continue
		}
		select {
		case <-g.ctx.Done():
			return 0, io.EOF
		case <-time.After(addedEvery):
		}
	}
}

// turn goes on in the file that stands at the path, if that is not the one that was
// read to its end.
func (g *growing) turn() bool {
	now, err := os.Stat(g.path)
	if err != nil {
		return false
	}
	if have, err := g.file.Stat(); err == nil && os.SameFile(have, now) {
		return false
	}
	next, err := os.Open(g.path)
	if err != nil {
		return false
	}
	_ = g.file.Close()
	g.file = next
	return true
}

func (g *growing) Close() error { return g.file.Close() }
