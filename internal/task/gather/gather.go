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
	Capture  string // pcap or pcapng, - for standard input; several, of several places, with commas between
	Events   string // JSON Lines, as serve writes them
	Trace    string // JSON Lines, of one or more devices
	Counters string // JSON, values of SNMP, or text of a make; two readings with a comma between, the older one first
	Log      string // lines of this program in any of its forms, or text of a make

	Phrases string // the phrasebook of the make whose text Log and Counters are
	Zone    string // of times of a text that have none
	Device  string // whose text it is, where it does not say so
	Base    string // the folder of the site: files that it names are from there
}

// None reports whether no file is named.
func (f Files) None() bool {
	return f.Capture == "" && f.Events == "" && f.Trace == "" && f.Counters == "" && f.Log == ""
}

// Read reads the files. Lines that are damaged are passed over, and said in the
// notes.
func (f Files) Read(in io.Reader, d exchange.Directory) (e evidence.Evidence, notes []string, err error) {
	if e.Events, notes, err = named[evidence.Event](f.Events, notes); err != nil {
		return e, notes, err
	}
	if e.Traces, notes, err = named[evidence.Trace](f.Trace, notes); err != nil {
		return e, notes, err
	}
	if notes, err = f.readLog(&e, d.Site(), notes); err != nil {
		return e, notes, err
	}
	if err = f.readCounters(&e, d.Site()); err != nil {
		return e, notes, err
	}
	if f.Capture != "" {
		notes, err = f.readCaptures(in, d, &e, notes)
	}
	return e, notes, err
}

// readCaptures reads the captures. Of several, of several places, what one has and
// another has not tells where it was lost.
func (f Files) readCaptures(in io.Reader, d exchange.Directory, e *evidence.Evidence, notes []string) ([]string,
	error) {
	var places []exchange.Place
	for _, name := range several(f.Capture) {
		some, note, err := oneCapture(in, name, d)
		if err != nil {
			return notes, err
		}
		if note != "" {
			notes = append(notes, note)
		}
		places = append(places, exchange.Place{Name: name, Exchanges: some})
	}
	e.Exchanges = exchange.Together(places)
	return notes, nil
}

func oneCapture(in io.Reader, name string, d exchange.Directory) ([]evidence.Exchange, string, error) {
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, "", files.Unreadable(name, err)
		}
		defer func() { _ = file.Close() }()
		in = file
	}
	return Exchanges(in, name, d)
}

func named[T any](path string, notes []string) ([]T, []string, error) {
	if path == "" {
		return nil, notes, nil
	}
	if _, err := os.Stat(path); err != nil {
		return nil, notes, files.Unreadable(path, err)
	}
	before := len(notes)
	values, notes, err := state.Lines[T](path, notes)
	if err == nil && len(values) == 0 && len(notes) == before {
		return nil, append(notes, path+" is empty: nothing was noted there"), nil
	}
	if err == nil && len(values) == 0 {
		err = fmt.Errorf("%s holds no line that can be read; JSON Lines are wanted, as a state folder has them", path)
	}
	return values, notes, err
}

// mostExchanges bounds what is judged of a capture: the newest ones.
const mostExchanges = 200000

// Exchanges reads a capture. A capture that ends in the middle gives what it
// has, and a note.
func Exchanges(in io.Reader, name string, d exchange.Directory) (exchanges []evidence.Exchange, note string,
	err error) {
	source, err := capture.Open(in)
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", name, err)
	}
	exchanges, note = Listened(source, name, d)
	return exchanges, note, nil
}

// Listened reads exchanges from a source of packets until it ends.
func Listened(source capture.Source, name string, d exchange.Directory) (exchanges []evidence.Exchange, note string) {
	l := exchange.New(d, func(x exchange.Exchange) {
		if len(exchanges) >= 2*mostExchanges {
			exchanges = append(exchanges[:0], exchanges[mostExchanges:]...)
		}
		exchanges = append(exchanges, x)
	})
	_, err := capture.Read(source, l)
	l.Close()
	if err != nil {
		note = fmt.Sprintf("%s: %v; what is before that was read", name, err)
	}
	return exchanges, note
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
