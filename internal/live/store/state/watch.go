package state

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"mellowgate/internal/core/evidence"
)

// Watch gives the events of a folder from a moment on, while another program
// writes them.
type Watch struct {
	path string
	at   int64 // what was read before
}

// Watch begins with what is written after it.
func (f *Folder) Watch() *Watch {
	w := &Watch{path: filepath.Join(f.Dir, eventsFile)}
	if info, err := os.Stat(w.path); err == nil {
		w.at = info.Size()
	}
	return w
}

// Next returns the events since the last call. Lines that are not whole yet come
// with the next one; those that are damaged are passed over.
func (w *Watch) Next() ([]evidence.Event, error) {
	file, err := os.Open(w.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	if info, err := file.Stat(); err == nil && info.Size() < w.at {
		w.at = 0 // a new run has begun
	}
	if _, err := file.Seek(w.at, io.SeekStart); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(file)
	if err != nil {
		return nil, err
	}
	whole := bytes.LastIndexByte(text, '\n') + 1
	w.at += int64(whole)
	var all []evidence.Event
	for line := range bytes.Lines(text[:whole]) {
		var e evidence.Event
		if json.Unmarshal(line, &e) == nil {
			all = append(all, e)
		}
	}
	return all, nil
}
