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

// Tail gives what is noted in a folder from a moment on, while other programs write
// it: events, traces and lines of logs. It is for one goroutine.
type Tail struct {
	dir string
	at  map[string]int64 // what was read before, of each file
}

// Tail begins with what is written after it.
func (f *Folder) Tail() *Tail {
	t := &Tail{dir: f.Dir, at: map[string]int64{}}
	for _, path := range t.files() {
		if info, err := os.Stat(path); err == nil {
			t.at[path] = info.Size()
		}
	}
	return t
}

func (t *Tail) files() []string {
	all := []string{filepath.Join(t.dir, eventsFile)}
	for _, dir := range []string{tracesDir, logsDir} {
		some, _ := filepath.Glob(filepath.Join(t.dir, dir, "*"+lines)) // its pattern is right
		all = append(all, some...)
	}
	return all
}

// Next returns what came since the last call. Lines that are not whole yet come with
// the next one; those that are damaged are passed over.
func (t *Tail) Next() (evidence.Evidence, error) {
	var e evidence.Evidence
	for _, path := range t.files() {
		text, err := t.more(path)
		if err != nil {
			return e, err
		}
		for line := range bytes.Lines(text) {
			switch filepath.Base(filepath.Dir(path)) {
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

func with[T any](all []T, line []byte) []T {
	var v T
	if json.Unmarshal(line, &v) == nil {
		all = append(all, v)
	}
	return all
}

// more reads the whole lines that a file has beyond what was read of it.
func (t *Tail) more(path string) ([]byte, error) {
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	if info, err := file.Stat(); err == nil && info.Size() < t.at[path] {
		t.at[path] = 0 // a new run has begun
	}
	if _, err := file.Seek(t.at[path], io.SeekStart); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(file)
	whole := bytes.LastIndexByte(text, '\n') + 1
	t.at[path] += int64(whole)
	return text[:whole], err
}
