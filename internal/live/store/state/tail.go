package state

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"mellowgate/internal/core/evidence"
)

// Tail gives what is noted in a folder from a moment on, while other programs write
// it: events, traces and lines of logs. It is for one goroutine.
type Tail struct {
	folder *Folder
	at     map[string]place // of each file, by its name in the folder
}

// place is how far a file was read. A file of the same name may be another one by
// now.
type place struct {
	file os.FileInfo
	read int64
}

// Tail begins with what is written after it.
func (f *Folder) Tail() *Tail {
	t := &Tail{folder: f, at: map[string]place{}}
	for _, name := range t.files() {
		if info, err := os.Stat(filepath.Join(f.Dir, name)); err == nil {
			t.at[name] = place{file: info, read: info.Size()}
		}
	}
	return t
}

// TailFrom begins with what was written lately: so many octets of each file. A line that
// begins before is passed over.
func (f *Folder) TailFrom(octets int64) *Tail {
	t := f.Tail()
	for name, p := range t.at {
		p.read = max(0, p.read-octets)
		t.at[name] = p
	}
	return t
}

// files are those that there are, or were.
func (t *Tail) files() []string {
	all := append([]string{eventsFile}, slices.Collect(maps.Keys(t.at))...)
	for _, dir := range []string{tracesDir, logsDir} {
		some, _ := filepath.Glob(filepath.Join(t.folder.Dir, dir, "*"+lines)) // its pattern is right
		for _, path := range some {
			all = append(all, filepath.Join(dir, filepath.Base(path)))
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// Next returns what came since the last call. Lines that are not whole yet come with
// the next one; those that are damaged are passed over.
func (t *Tail) Next() (evidence.Evidence, error) {
	var e evidence.Evidence
	for _, name := range t.files() {
		text, err := t.more(name)
		if err != nil {
			return e, err
		}
		for line := range bytes.Lines(text) {
			switch filepath.Dir(name) {
			case tracesDir:
				e.Traces = with(e.Traces, line)
			case logsDir:
				e.Log = with(e.Log, line)
			default:
				e.Events = with(e.Events, line)
			}
		}
	}
	return e, nil
}

// Events returns the events alone that came since the last call, and passes over
// what else did.
func (t *Tail) Events() ([]evidence.Event, error) {
	var events []evidence.Event
	text, err := t.more(eventsFile)
	for line := range bytes.Lines(text) {
		events = with(events, line)
	}
	return events, err
}

func with[T any](values []T, line []byte) []T {
	var v T
	if json.Unmarshal(line, &v) == nil {
		values = append(values, v)
	}
	return values
}

// more reads the whole lines that a file has beyond what was read of it. Where it was
// read of another one, which is the older part by now, it reads the rest of that first.
func (t *Tail) more(name string) ([]byte, error) {
	path, before := filepath.Join(t.folder.Dir, name), t.at[name]
	now, err := os.Stat(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var rest []byte
	if before.file != nil && (now == nil || !os.SameFile(before.file, now)) {
		aged := t.folder.agedPath(name)
		if info, err := os.Stat(aged); err == nil && os.SameFile(info, before.file) {
			if rest, _, err = from(aged, before.read); err != nil {
				return nil, err
			}
		}
		before = place{}
	}
	t.at[name] = before
	switch {
	case now == nil, now.Size() == before.read:
		return rest, nil
	case now.Size() < before.read:
		before.read = 0 // it was emptied
	}
	text, file, err := from(path, before.read)
	if err != nil {
		return rest, err
	}
	t.at[name] = place{file: file, read: before.read + int64(len(text))}
	return append(rest, text...), nil
}

// from reads the whole lines of a file beyond a place, and says which file it was.
func from(path string, at int64) (text []byte, which os.FileInfo, err error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = file.Close() }()
	if which, err = file.Stat(); err != nil {
		return nil, nil, err
	}
	if _, err := file.Seek(at, io.SeekStart); err != nil {
		return nil, nil, err
	}
	text, err = io.ReadAll(file)
	return text[:bytes.LastIndexByte(text, '\n')+1], which, err
}
