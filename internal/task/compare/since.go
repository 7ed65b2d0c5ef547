package compare

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"mellowgate/internal/live/store/files"
)

// Look is what a comparison found, to be compared with the next one. It holds no secret.
type Look struct {
	Devices map[string]Looked `json:"devices"`
}

// Looked is what was found on one device, and when.
type Looked struct {
	Time        time.Time `json:"time"`
	Differences []string  `json:"differences"` // in words
}

// Since is what has changed on a device since the last look.
type Since struct {
	Last time.Time `json:"last"` // zero: it was not looked at before
	New  []string  `json:"new"`
	Gone []string  `json:"gone"`
}

// ReadLook reads the last look; the first time there is none, and it is empty.
func ReadLook(path string) (Look, error) {
	l := Look{Devices: map[string]Looked{}}
	text, err := files.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return l, nil
	case err != nil:
		return l, fmt.Errorf("the last look: %w", err)
	}
	if err := json.Unmarshal(text, &l); err != nil {
		return l, fmt.Errorf("%s, with the last look, is damaged (%w): take it away to begin anew", path, err)
	}
	if l.Devices == nil {
		l.Devices = map[string]Looked{}
	}
	return l, nil
}

// Add takes what is found now in place of the last look, and says for each device what
// has changed since then. A device that could not be read keeps its last look.
func (l *Look) Add(some []Compared, now time.Time) {
	for i := range some {
		r := &some[i]
		if !r.Read {
			continue
		}
		last := l.Devices[r.Device]
		r.Since = &Since{Last: last.Time, New: []string{}, Gone: []string{}}
		next := Looked{Time: now, Differences: []string{}}
		for _, d := range r.Differences {
			text := d.String()
			next.Differences = append(next.Differences, text)
			if !slices.Contains(last.Differences, text) {
				r.Since.New = append(r.Since.New, text)
			}
		}
		for _, text := range last.Differences {
			if !slices.Contains(next.Differences, text) {
				r.Since.Gone = append(r.Since.Gone, text)
			}
		}
		l.Devices[r.Device] = next
	}
}

// Write keeps the look.
func (l Look) Write(path string) error {
	text, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	return files.WriteWhole(path, append(text, '\n'))
}

// Changed reports whether a device differs in something new since the last look, and not
// only in what was there then.
func (r Compared) Changed() bool { return r.Since != nil && len(r.Since.New) > 0 }
