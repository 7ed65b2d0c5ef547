package state

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"mellowgate/internal/core/evidence"
)

// Evidence reads what devices and servers noted. A line that is damaged is
// passed over, and said in the notes.
func (f *Folder) Evidence() (e evidence.Evidence, notes []string, err error) {
	f.mu.Lock()
	f.flush()
	f.mu.Unlock()
	if e.Events, notes, err = all[evidence.Event](f, eventsFile, notes); err != nil {
		return e, notes, err
	}
	if e.Traces, notes, err = all[evidence.Trace](f, filepath.Join(tracesDir, "*"+lines), notes); err != nil {
		return e, notes, err
	}
	if e.Log, notes, err = all[evidence.LogLine](f, filepath.Join(logsDir, "*"+lines), notes); err != nil {
		return e, notes, err
	}
	names, err := filepath.Glob(filepath.Join(f.Dir, countersDir, "*.json"))
	if err != nil {
		return e, notes, err
	}
	for _, name := range names {
		some, err := ReadCounters(name)
		if err != nil {
			notes = append(notes, err.Error()+"; it was passed over")
			continue
		}
		e.Counts = append(e.Counts, some...)
	}
	return e, notes, nil
}

// Asked notes a question of our own, so that nobody takes it for one of a device.
func (f *Folder) Asked(q evidence.OwnQuestion) error {
	line, err := json.Marshal(q)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(filepath.Join(f.Dir, ownFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(append(line, '\n'))
	return errors.Join(err, file.Close())
}

// Own returns the questions of our own.
func (f *Folder) Own() ([]evidence.OwnQuestion, error) {
	own, _, err := Lines[evidence.OwnQuestion](filepath.Join(f.Dir, ownFile), nil)
	return own, err
}

// all reads every file of lines with such a name, the older parts first.
func all[T any](f *Folder, pattern string, notes []string) (values []T, _ []string, err error) {
	for _, dir := range []string{f.agedPath(""), f.Dir} {
		names, err := filepath.Glob(filepath.Join(dir, pattern))
		if err != nil {
			return nil, notes, err
		}
		for _, name := range names {
			var some []T
			if some, notes, err = Lines[T](name, notes); err != nil {
				return nil, notes, err
			}
			values = append(values, some...)
		}
	}
	return values, notes, nil
}

// ReadCounters reads a file of counters, as a lab writes it and as the API of a
// stand-in gives it.
func ReadCounters(path string) ([]evidence.Count, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var file struct {
		Counters []evidence.Count `json:"counters"`
	}
	if err := json.Unmarshal(text, &file); err != nil {
		return nil, fmt.Errorf("%s holds no counters: %w", path, err)
	}
	return file.Counters, nil
}

// LogLine reads a line of a stand-in's log; false for a line that is none.
func LogLine(text string) (evidence.LogLine, bool) {
	var l evidence.LogLine
	err := json.Unmarshal([]byte(text), &l)
	return l, err == nil && !l.Time.IsZero() && l.Text != ""
}

// maxLine bounds one line of evidence.
const maxLine = 1 << 20

// Lines reads a file with a value in each line. A file that is not there has
// none.
func Lines[T any](path string, notes []string) ([]T, []string, error) {
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, notes, nil
	}
	if err != nil {
		return nil, notes, err
	}
	defer func() { _ = file.Close() }()
	var values []T
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, maxLine)
	for n := 1; lines.Scan(); n++ {
		var v T
		text := strings.TrimSpace(lines.Text())
		if text == "" {
			continue
		}
		if err := json.Unmarshal([]byte(text), &v); err != nil {
			notes = append(notes, fmt.Sprintf("%s:%d: this line is damaged and was passed over", path, n))
			continue
		}
		values = append(values, v)
	}
	if err := lines.Err(); err != nil {
		notes = append(notes, fmt.Sprintf("%s: reading stopped: %v", path, err))
	}
	return values, notes, nil
}
