package rollout

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/state"
)

// Book is the folder of what was sent: what was on each device before, what was
// done and proven, and a ledger of it.
type Book struct {
	Dir    string
	run    string // the name of this run
	person string
	node   string
	ledger *ledger.Ledger
	lock   *os.File
	mu     sync.Mutex
	over   map[string]string // the ways in by which devices are changed, where that is not NETCONF
}

// ErrBusy is a folder that another run writes to.
var ErrBusy = errors.New("another send writes there now: wait for its end, or name another folder with -keep")

// Words of the ledger's records, beside the outcomes.
const (
	sendCommand = "send"
	named       = "named" // the device is to be worked on
)

// OpenBook opens the folder, and makes it where there is none.
func OpenBook(dir, person string, moment time.Time) (*Book, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	b := &Book{Dir: dir, run: moment.UTC().Format("20060102T150405.000Z"), person: person, over: map[string]string{}}
	b.node, _ = os.Hostname()
	var err error
	if b.lock, err = os.OpenFile(filepath.Join(dir, ".lock"), os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, err
	}
	if !files.Lock(b.lock) {
		_ = b.lock.Close()
		return nil, fmt.Errorf("%s: %w", dir, ErrBusy)
	}
	if b.ledger, err = ledger.Open(state.RecordsIn(dir), ledger.Options{}); err != nil {
		_ = b.lock.Close()
		return nil, err
	}
	return b, nil
}

// Close ends it.
func (b *Book) Close() error {
	err := b.ledger.Close()
	_ = b.lock.Close() // and the lock with it
	return err
}

func (b *Book) path(device, kind string) string {
	return filepath.Join(b.Dir, device+"-"+b.run+kind)
}

// Keep writes what was on a device before a change, and says where. It may hold
// secrets. kind ends the name of the file: .xml, or .txt for lines.
func (b *Book) Keep(device, kind string, data []byte) (string, error) {
	path := b.path(device, kind)
	return path, os.WriteFile(path, data, 0o600)
}

// Over says by which way in a device is changed, where that is not NETCONF.
func (b *Book) Over(device, access string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.over[device] = access
}

func (b *Book) access(device string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return cmp.Or(b.over[device], site.NETCONF)
}

// Name notes which devices are to be worked on.
func (b *Book) Name(devices []*site.Device) error {
	for _, d := range devices {
		if err := b.keep(d.Name, named, ""); err != nil {
			return err
		}
	}
	return nil
}

// Note notes the result of a device; all is written beside what was there before.
func (b *Book) Note(device string, r Report, all any) error {
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(b.path(device, ".json"), append(text, '\n'), 0o600); err != nil {
		return err
	}
	why := r.Why
	if why == "" && r.Outcome == Kept {
		what := fmt.Sprintf("%d differences", len(r.Plan.Differences))
		if r.Steps > 0 {
			what = fmt.Sprintf("%d steps", r.Steps)
		}
		why = fmt.Sprintf("settled: %s, %d proofs", what, len(r.Proofs))
	}
	return b.keep(device, r.Outcome, why)
}

func (b *Book) keep(device, result, why string) error {
	return b.ledger.Keep(context.Background(),
		ledger.Record{Time: time.Now().UTC(), Node: b.node, Kind: ledger.Command, Person: b.person, Device: device,
			Access: b.access(device), Level: 15, Result: evidence.Answer(result), Command: sendCommand, Reason: why,
			Session:  b.run,
			Protocol: b.access(device)})
}

// Last returns the devices of the newest run in a folder: all that it named, and
// those of them that hold the design since.
func Last(ctx context.Context, dir string) (all, done []string, moment time.Time, err error) {
	run := ""
	err = ledger.Folder(state.RecordsIn(dir)).Read(ctx, ledger.Filter{Kinds: []string{string(ledger.Command)}},
		func(r ledger.Record) error {
			if r.Command != sendCommand {
				return nil
			}
			if r.Session != run {
				run = r.Session
				all = nil
				done = nil
				moment = r.Time
			}
			switch {
			case r.Result == named:
				all = append(all, r.Device)
			case r.Result == Kept || r.Result == Same:
				done = append(done, r.Device)
			}
			return nil
		})
	if err != nil || len(all) == 0 {
		return nil, nil, moment, fmt.Errorf("%s holds no record of an earlier run that could be gone on with", dir)
	}
	return all, done, moment, nil
}

// Left returns the names of a run that are not done.
func Left(all, done []string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(name string) bool { return slices.Contains(done, name) })
}

// FailedLogin returns the proof that failed because a login, or an open session,
// did not go as it should; nil where there was none.
func (r Report) FailedLogin() *Proof {
	for _, p := range r.Proofs {
		if !p.OK && p.Access != "" {
			return &p
		}
	}
	return nil
}

// Summary says in few words the result of a device.
func (r Report) Summary() string {
	switch r.Outcome {
	case Kept:
		return "the design is on it; what was there is in " + r.Kept
	case Same:
		if len(r.Plan.Stays) > 0 {
			return "it holds the design already; besides, " + strings.Join(r.Plan.Stays, ", ")
		}
		return "it holds the design already"
	}
	if r.Accounts {
		return r.Why + "; the local accounts stay"
	}
	return r.Why
}
