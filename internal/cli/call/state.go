package call

import (
	"fmt"
	"os"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/state"
)

// OwnQuestions notes questions of our own in a state folder. That they cannot be noted
// is no reason not to ask.
func OwnQuestions(dir string) func(evidence.OwnQuestion) {
	folder := &state.Folder{Dir: dir}
	return func(q evidence.OwnQuestion) { _ = folder.Asked(q) }
}

// DefaultState is the state folder where none is named.
const DefaultState = "mellowgate-state"

func (c *Call) StateFlag() *string {
	return c.Flags.String("state", DefaultState, "the `folder` for events, traces, traffic and the ledger")
}

// AskLab asks the lab that runs with a state folder. One that has ended is an
// error that says how to start it again.
func (c *Call) AskLab(dir string, p evidence.Places, change lab.Change) (lab.InEffect, error) {
	answer, err := lab.Ask(c.Context, *p.Control, change)
	if err != nil {
		at := ""
		if dir != DefaultState {
			at = " -state " + dir
		}
		return answer, TaskError(fmt.Errorf("the lab of the state folder %s has ended; start it again: mellowgate "+
			"lab%s %s", dir,
			at,
			p.SitePath))
	}
	return answer, nil
}

// RunIn returns the folder in which a run leaves its evidence, and where everything of it listens. The error is of
// the call: the folder is not one, or is damaged.
func RunIn(dir string) (*state.Folder, evidence.Places, error) {
	folder, err := state.Open(dir)
	if err != nil {
		return nil, evidence.Places{}, UsageError(err)
	}
	places, err := folder.Places()
	if err != nil {
		return nil, places, UsageError(err)
	}
	return folder, places, nil
}

// LedgerSource returns the ledger of a state folder, of a site's database, or in a folder
// of records.
func (c *Call) LedgerSource(dir, path, records string) (ledger.Source, error) {
	if records != "" && path != "" {
		return nil, Usagef("give one of -site and -records")
	}
	if records != "" {
		return FolderSource(ledger.Folder(records))
	}
	if path == "" {
		folder, err := state.Open(dir)
		if err != nil {
			records := state.RecordsIn(dir)
			if _, missing := os.Stat(records); missing == nil { // the folder of send
				return ledger.Folder(records), nil
			}
			return nil, UsageError(fmt.Errorf("%w, or send with -keep", err))
		}
		places, err := folder.Places()
		if err != nil {
			return nil, UsageError(err)
		}
		if places.Ledger.Database == "" {
			return ledger.Folder(folder.RecordsAt(places.Ledger.Folder)), nil
		}
		path = places.SitePath
	}
	l, err := c.LoadFrom(path, false)
	if err != nil {
		return nil, err
	}
	as := l.Service.Ledger
	if as.Database == "" {
		return nil, Usagef("%s keeps its ledger in a file: name the state folder of serve with -state", path)
	}
	from := ledger.Database{URL: as.Database}
	if as.Key != nil {
		var known bool
		if from.Password, known = l.Keys[as.Key.Name]; !known {
			return nil, Usagef("the ledger's database needs the key %s, which has no value here", as.Key.Name)
		}
	}
	return from, nil
}

// FolderSource returns a folder that has records.
func FolderSource(f ledger.Folder) (ledger.Source, error) {
	if err := f.There(); err != nil {
		return nil, UsageError(err)
	}
	return f, nil
}
