package state

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/routine"
)

// soon is how long an event may wait to be written together with others.
const soon = 5 * time.Millisecond

// Event appends what a server noted. An event by itself is written at once; in
// a crowd of them each is written soon, with what else comes until then.
func (f *Folder) Event(e evidence.Event) {
	line := eventLines.Get().(*[]byte)
	defer eventLines.Put(line)
	*line = e.AppendLine((*line)[:0])
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open == nil {
		return
	}
	f.unsaid = append(f.unsaid, *line...)
	switch {
	case time.Since(f.flushed) > soon:
		f.flush()
	case !f.waiting:
		f.waiting = true
		routine.AfterFunc(soon, func() {
			f.mu.Lock()
			defer f.mu.Unlock()
			f.flush()
			f.waiting = false
		})
	}
}

// eventLines are buffers of events, which are made into lines by many at the same time.
var eventLines = sync.Pool{New: func() any { return new([]byte) }}

// flush writes the events that are not written yet.
func (f *Folder) flush() {
	if f.events == nil && f.open != nil { // a new file could not be opened the last time
		f.wrote(f.openEvents())
	}
	if f.events != nil && len(f.unsaid) > 0 {
		n, err := f.events.Write(f.unsaid)
		if f.size += int64(n); f.most > 0 && f.size >= f.most/2 {
			err = errors.Join(err, f.events.Close(), f.age(eventsFile), f.openEvents())
		}
		f.wrote(err)
	}
	f.unsaid, f.flushed = f.unsaid[:0], time.Now()
}

// Trace appends what a device noted.
func (f *Folder) Trace(t evidence.Trace) { f.append(filepath.Join(tracesDir, t.Device+lines), t) }

// Log appends a line of a device's log.
func (f *Folder) Log(l evidence.LogLine) { f.append(filepath.Join(logsDir, l.Device+lines), l) }

// mostNoted is from which size on what a device noted, or logged, goes on in a new
// file: twice that is kept of each.
const mostNoted = 8 << 20

// lines is what files with a value in each line end with.
const lines = ".jsonl"

func (f *Folder) append(name string, v any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open == nil {
		return
	}
	file, err := f.opened(name)
	if err == nil {
		err = appendLine(file, v)
	}
	if err == nil {
		if info, bad := file.Stat(); bad == nil && info.Size() >= mostNoted {
			delete(f.open, name)
			err = errors.Join(file.Close(), f.age(name))
		}
	}
	f.wrote(err)
}

// opened returns a file of the folder to append to.
func (f *Folder) opened(name string) (*os.File, error) {
	if file := f.open[name]; file != nil {
		return file, nil
	}
	path := filepath.Join(f.Dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err == nil {
		f.open[name] = file
	}
	return file, err
}

// OnTrouble sets who is told, in a sentence, when evidence cannot be written to the
// folder and is lost, and when it can be again. It is told once for each time, not
// for each line. By default nobody is.
func (f *Folder) OnTrouble(say func(text string, lost bool)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.trouble = say
}

// wrote notes how writing went, and tells of a change.
func (f *Folder) wrote(err error) {
	if f.trouble == nil {
		return
	}
	switch {
	case err != nil && f.lost == 0:
		f.trouble(fmt.Sprintf("evidence cannot be written to %s, and is lost until it can: %v", f.Dir, err), true)
	case err == nil && f.lost > 0:
		f.trouble(fmt.Sprintf("evidence is written to %s again; it could not be %d times", f.Dir, f.lost), false)
	}
	if f.lost++; err == nil {
		f.lost = 0
	}
}

// Counters writes the counters of a device in place of those before.
func (f *Folder) Counters(device string, counts []evidence.Count) {
	f.mu.Lock()
	defer f.mu.Unlock()
	text, err := json.Marshal(struct {
		Counters []evidence.Count `json:"counters"`
	}{counts})
	path := filepath.Join(f.Dir, countersDir, device+".json")
	if f.open == nil {
		return
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = os.WriteFile(path+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	f.wrote(err)
}

func appendLine(file *os.File, v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		_, err = file.Write(append(text, '\n'))
	}
	return err
}
