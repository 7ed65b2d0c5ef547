package state

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
)

func run(t *testing.T, dir, person string) {
	f, err := Create(dir)
	require.NoError(t, err)
	f.Event(evidence.Event{Person: person})
	f.Trace(evidence.Trace{Device: "sw-1", Person: person})
	f.Trace(evidence.Trace{Device: "sw-2", Person: person})
	require.NoError(t, f.WritePlaces(evidence.Places{Site: person, Devices: []evidence.DevicePlace{{Name: "sw-1"}}}))
	require.NoError(t, os.MkdirAll(f.Records(), 0o700))
	require.NoError(t, f.Close())
	f.Event(evidence.Event{Person: "too late"}) // after Close: nowhere, and no panic
	f.Trace(evidence.Trace{Device: "sw-1"})
}

func TestARunLeavesItsEvidenceAndTheOneBeforeIsKept(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "st")
	run(t, dir, "first")
	run(t, dir, "second")
	for folder, person := range map[string]string{dir: "second", filepath.Join(dir, "previous"): "first"} {
		f, err := Open(folder)
		require.NoError(t, err)
		e, notes, err := f.Evidence()
		require.NoError(t, err)
		require.Empty(t, notes)
		require.Len(t, e.Traces, 2)
		require.Len(t, e.Events, 1)
		require.Equal(t, []string{person, person}, []string{e.Traces[0].Person, e.Events[0].Person})
		p, err := f.Places()
		require.NoError(t, err)
		_, found := p.Device("sw-1")
		require.True(t, found)
		_, found = p.Device("none")
		require.False(t, found)
	}
}

func TestARunThatCouldNotStartLeavesEverythingAsItWas(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "st")
	f, err := Create(dir)
	require.NoError(t, err)
	f.Abandon()
	require.NoDirExists(t, dir)

	run(t, dir, "first")
	f, err = Create(dir)
	require.NoError(t, err)
	f.Event(evidence.Event{Person: "lost"})
	f.Abandon()
	f, err = Open(dir)
	require.NoError(t, err)
	e, _, err := f.Evidence()
	require.NoError(t, err)
	require.Equal(t, "first", e.Events[0].Person)
	require.DirExists(t, f.Records())
	require.NoDirExists(t, filepath.Join(dir, "previous"))
}

func TestTheCaptureIsReadWithItsOlderPart(t *testing.T) {
	t.Parallel()
	f, err := Create(filepath.Join(t.TempDir(), "st"), "book")
	require.NoError(t, err)
	for _, text := range []string{"one", "two", "three"} {
		file, err := f.OpenTraffic()
		require.NoError(t, err)
		_, err = file.WriteString(text)
		require.NoError(t, errors.Join(err, file.Close()))
	}
	packets, err := f.Packets()
	require.NoError(t, err)
	text, err := io.ReadAll(packets)
	require.NoError(t, errors.Join(err, packets.Close()))
	require.Equal(t, "twothree", string(text))
	require.NoError(t, os.MkdirAll(f.RecordsAt("book"), 0o700))
	require.NoError(t, f.Close())
	f, err = Create(f.Dir, "book")
	require.NoError(t, err, "the site's own ledger may lie in the folder")
	require.NoError(t, f.Close())
	_, err = Create(f.Dir)
	require.ErrorContains(t, err, "it holds book")
	require.NoError(t, os.WriteFile(filepath.Join(f.RecordsAt("book"), "1.records"), nil, 0o600))
	f, err = Create(f.Dir)
	require.NoError(t, err, "a ledger that the site named before stays where it is")
	require.NoError(t, f.Close())
}

func TestAFolderOfSomebodyElseIsNotTouched(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "letter.txt"), []byte("mine"), 0o600))
	_, err := Create(dir)
	require.ErrorContains(t, err, "is not a state folder: it holds letter.txt")
	_, err = Create(filepath.Join(dir, "letter.txt"))
	require.ErrorContains(t, err, "cannot be used as a state folder")
	_, err = Open(dir)
	require.ErrorContains(t, err, "it has no places.json")
}

func TestADamagedLineIsPassedOverAndSaid(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "st")
	run(t, dir, "ines")
	path := filepath.Join(dir, "events.jsonl")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append(append([]byte("not JSON\n\n"), text...), `{"person":"cut sho`...), 0o600))
	f, err := Open(dir)
	require.NoError(t, err)
	e, notes, err := f.Evidence()
	require.NoError(t, err)
	require.Len(t, e.Events, 1)
	require.Len(t, notes, 2)
	require.Contains(t, notes[0], "events.jsonl:1: this line is damaged and was passed over")
	require.Contains(t, notes[1], "events.jsonl:4:")
}

func TestEventsAreWatchedWhileAnotherProgramWritesThem(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "events.jsonl")
	add := func(text string) {
		file, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		_, err = file.WriteString(text)
		require.NoError(t, errors.Join(err, file.Close()))
	}
	next := func(w *Tail) (people []string) {
		events, err := w.Events()
		require.NoError(t, err)
		for _, e := range events {
			people = append(people, e.Person)
		}
		return people
	}
	f := &Folder{Dir: dir}
	w := f.Tail()
	require.Empty(t, next(w), "no file yet")
	add(`{"person":"a"}` + "\n" + `{"pers`)
	require.Equal(t, []string{"a"}, next(w))
	require.Empty(t, next(w))
	add(`on":"b"}` + "\n" + "damaged\n" + `{"person":"c"}` + "\n")
	require.Equal(t, []string{"b", "c"}, next(w))
	require.Empty(t, next(f.Tail()), "what was there before is not given")
	require.NoError(t, os.WriteFile(path, []byte(`{"person":"d"}`+"\n"), 0o600))
	require.Equal(t, []string{"d"}, next(w), "a new run")
}

// written writes the events that wait for others.
func written(f *Folder) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.flush()
}

// Events are bounded: the newest are kept, in two parts, and whoever follows them misses
// none.
func TestEventsAreBoundedAndReadOverTheirTwoParts(t *testing.T) {
	t.Parallel()
	f, err := Create(filepath.Join(t.TempDir(), "st"))
	require.NoError(t, err)
	require.NoError(t, f.WritePlaces(evidence.Places{}))
	const bound = 64 << 10
	f.BoundEvents(bound)
	tail, followed := f.Tail(), 0
	const events = 3000
	for n := range events {
		f.Event(evidence.Event{Person: fmt.Sprint(n)})
		if n%100 == 0 {
			written(f)
			some, err := tail.Events()
			require.NoError(t, err)
			followed += len(some)
		}
	}
	e, notes, err := f.Evidence()
	require.NoError(t, err)
	require.Empty(t, notes)
	require.Greater(t, len(e.Events), 100)
	for i, event := range e.Events {
		require.Equal(t, fmt.Sprint(events-len(e.Events)+i), event.Person, "the newest, in their order")
	}
	some, err := tail.Events()
	require.NoError(t, err)
	require.Equal(t, events, followed+len(some))
	size := int64(0)
	for _, path := range []string{"events.jsonl", "older/events.jsonl"} {
		info, err := os.Stat(filepath.Join(f.Dir, path))
		require.NoError(t, err)
		size += info.Size()
	}
	require.LessOrEqual(t, size, int64(bound+8<<10))
	require.Greater(t, size, int64(bound/2))

	require.NoError(t, os.Rename(filepath.Join(f.Dir, "events.jsonl"), filepath.Join(f.Dir, "older", "mine.jsonl")))
	f.Event(evidence.Event{Person: "tobin"})
	require.NoError(t, f.Reopen())
	f.Event(evidence.Event{Person: "odd"})
	written(f)
	some, err = tail.Events()
	require.NoError(t, err)
	require.Len(t, some, 1)
	require.Equal(t, "odd", some[0].Person, "a new file, where the old one was moved away")
	f.mu.Lock()
	require.NoError(t, f.events.Close())
	f.events = nil // as where no file could be opened
	f.mu.Unlock()
	f.Event(evidence.Event{Person: "ebba"})
	written(f)
	some, err = tail.Events()
	require.NoError(t, err)
	require.Len(t, some, 1, "it is tried again")
	require.NoError(t, f.Close())
	require.NoError(t, f.Reopen(), "nothing is open")
}

func TestWhatADeviceNotesIsBoundedAndFollowed(t *testing.T) {
	t.Parallel()
	f, err := Create(filepath.Join(t.TempDir(), "st"))
	require.NoError(t, err)
	long := strings.Repeat("a", 1<<19)
	tail := f.Tail()
	for n := range 36 {
		f.Log(evidence.LogLine{Device: "sw-1", Text: fmt.Sprint(n, long)})
		e, err := tail.Next()
		require.NoError(t, err)
		require.Len(t, e.Log, 1)
		require.Equal(t, fmt.Sprint(n, long), e.Log[0].Text)
	}
	f.Trace(evidence.Trace{Device: "sw-1", Person: "ines"})
	e, err := tail.Next()
	require.NoError(t, err)
	require.Len(t, e.Traces, 1)
	require.Empty(t, e.Log)
	e, _, err = f.Evidence()
	require.NoError(t, err)
	require.Less(t, len(e.Log), 33)
	require.Greater(t, len(e.Log), 16)
	require.Equal(t, fmt.Sprint(35, long), e.Log[len(e.Log)-1].Text)
	require.NoError(t, f.Close())
}

// What cannot be written is said, once, and so is that it can be again.
func TestEvidenceThatCannotBeWrittenIsSaid(t *testing.T) {
	t.Parallel()
	f, err := Create(filepath.Join(t.TempDir(), "st"))
	require.NoError(t, err)
	var said []string
	f.OnTrouble(func(text string, lost bool) { said = append(said, fmt.Sprint(lost, " ", text)) })
	traces := filepath.Join(f.Dir, tracesDir) // a file stands where a folder is wanted
	require.NoError(t, os.RemoveAll(traces))
	require.NoError(t, os.WriteFile(traces, nil, 0o600))
	for range 3 {
		f.Trace(evidence.Trace{Device: "sw-1"})
	}
	require.Len(t, said, 1)
	require.Contains(t, said[0], "true evidence cannot be written to "+f.Dir+", and is lost until it can: ")
	require.NoError(t, os.Remove(traces))
	f.Trace(evidence.Trace{Device: "sw-1"})
	f.Trace(evidence.Trace{Device: "sw-1"})
	require.Len(t, said, 2)
	require.Contains(t, said[1], "false evidence is written to "+f.Dir+" again; it could not be 3 times")
	require.NoError(t, os.RemoveAll(filepath.Join(f.Dir, countersDir)))
	require.NoError(t, os.WriteFile(filepath.Join(f.Dir, countersDir), nil, 0o600))
	f.Counters("sw-1", nil)
	require.Len(t, said, 3)
	f.Event(evidence.Event{Person: "ines"})
	require.Len(t, said, 4, "events can be written")
	require.NoError(t, f.Close())
	e, _, err := f.Evidence()
	require.NoError(t, err)
	require.Len(t, e.Traces, 2)
}
