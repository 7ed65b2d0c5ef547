// Package gather collects the evidence of failed logins from where it lies: a
// state folder, a capture, files of events, traces, counters and log lines; and
// asks questions on purpose.
package gather

import (
	"errors"
	"fmt"
	"io"
	"os"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/wire/capture"
)

// Files are the files to read, "" for none.
type Files struct {
	Capture  string // pcap or pcapng, - for standard input
	Events   string // JSON Lines, as serve writes them
	Trace    string // JSON Lines, of one or more devices
	Counters string // JSON, as a stand-in's API gives them
	Log      string // JSON Lines, or the JSON of a stand-in's API
}

// None reports whether no file is named.
func (f Files) None() bool { return f == Files{} }

// Read reads the files. Lines that are damaged are passed over, and said in the
// notes.
func (f Files) Read(in io.Reader, d exchange.Directory) (e evidence.Evidence, notes []string, err error) {
	if e.Events, notes, err = named[evidence.Event](f.Events, notes); err != nil {
		return e, notes, err
	}
	if e.Traces, notes, err = named[evidence.Trace](f.Trace, notes); err != nil {
		return e, notes, err
	}
	if e.Log, notes, err = named[evidence.LogLine](f.Log, notes); err != nil {
		return e, notes, err
	}
	if f.Counters != "" {
		if _, err := os.Stat(f.Counters); err != nil {
			return e, notes, files.Unreadable(f.Counters, err)
		}
		if e.Counts, err = state.ReadCounters(f.Counters); err != nil {
			return e, notes, err
		}
	}
	if f.Capture != "" {
		if f.Capture != "-" {
			file, err := os.Open(f.Capture)
			if err != nil {
				return e, notes, files.Unreadable(f.Capture, err)
			}
			defer func() { _ = file.Close() }()
			in = file
		}
		var note string
		if e.Exchanges, note, err = Exchanges(in, f.Capture, d); err != nil {
			return e, notes, err
		}
		if note != "" {
			notes = append(notes, note)
		}
	}
	return e, notes, nil
}

func named[T any](path string, notes []string) ([]T, []string, error) {
	if path == "" {
		return nil, notes, nil
	}
	if _, err := os.Stat(path); err != nil {
		return nil, notes, files.Unreadable(path, err)
	}
	all, notes, err := state.Lines[T](path, notes)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("%s holds no line that can be read; JSON Lines are wanted, as a state folder has them", path)
	}
	return all, notes, err
}

// mostExchanges bounds what is judged of a capture: the newest ones.
const mostExchanges = 200000

// Exchanges reads a capture. A capture that ends in the middle gives what it
// has, and a note.
func Exchanges(in io.Reader, name string, d exchange.Directory) (all []evidence.Exchange, note string, err error) {
	source, err := capture.Open(in)
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", name, err)
	}
	all, note = Listened(source, name, d)
	return all, note, nil
}

// Listened reads exchanges from a source of packets until it ends.
func Listened(source capture.Source, name string, d exchange.Directory) (all []evidence.Exchange, note string) {
	l := exchange.New(d, func(x exchange.Exchange) {
		if len(all) >= 2*mostExchanges {
			all = append(all[:0], all[mostExchanges:]...)
		}
		all = append(all, x)
	})
	_, err := capture.Read(source, l)
	l.Close()
	if err != nil {
		note = fmt.Sprintf("%s: %v; what is before that was read", name, err)
	}
	return all, note
}

// Folder reads a state folder: all that a lab, or serve, left there.
func Folder(f *state.Folder, d exchange.Directory) (evidence.Evidence, []string, error) {
	e, notes, err := f.Evidence()
	if err != nil {
		return e, notes, err
	}
	own, err := f.Own()
	if err != nil {
		return e, notes, err
	}
	e, notes, err = folderPackets(f, d, e, notes)
	return e.WithoutOwn(own), notes, err
}

// folderPackets adds what the capture of a state folder has.
func folderPackets(f *state.Folder, d exchange.Directory, e evidence.Evidence, notes []string) (evidence.Evidence,
	[]string, error) {
	packets, err := f.Packets()
	if errors.Is(err, os.ErrNotExist) {
		return e, notes, nil
	}
	if err != nil {
		return e, append(notes, err.Error()), nil
	}
	defer func() { _ = packets.Close() }()
	var note string
	if e.Exchanges, note, err = Exchanges(packets, f.Traffic(), d); err != nil {
		return e, append(notes, err.Error()), nil
	}
	if note != "" {
		notes = append(notes, note)
	}
	return e, notes, nil
}
