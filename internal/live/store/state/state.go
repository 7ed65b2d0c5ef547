// Package state is the folder in which a running lab or service leaves its
// evidence: where everything is (places.json), the servers' decisions
// (events.jsonl), the devices' walks (traces/DEVICE.jsonl), the packets
// (traffic.pcapng) and the records (the folder records). Files that grow are bounded: what
// came before lies under the same name in the folder older. It is the one place
// that knows the names in that folder.
package state

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/store/files"
)

// Folder is a state folder.
//
// mu guards the files. Close writes what is not written yet.
type Folder struct {
	Dir     string
	mu      sync.Mutex
	events  *os.File
	size    int64     // of the file of events
	most    int64     // that events take, with the older ones; 0: as much as comes
	unsaid  []byte    // events that are not written yet
	flushed time.Time // when events were last written
	waiting bool      // a time is set to write them
	open    map[string]*os.File

	made, hadLedger bool // the folder is new; it held a ledger before
	lock            *os.File

	trouble func(text string, lost bool) // is told what could not be written
	lost    int                          // how often since it was last told that all is well
}

// Names in the folder.
const (
	placesFile      = "places.json"
	eventsFile      = "events.jsonl"
	tracesDir       = "traces"
	logsDir         = "logs"
	countersDir     = "counters"
	trafficFile     = "traffic.pcapng"
	olderDir        = "older" // what came before, of files that are bounded
	hostsFile       = "known_hosts"
	certificatesDir = "certificates"
	recordsDir      = "records"
	forwardingDir   = "waiting-records"
	ledgerFile      = "ledger.db"       // the records, as an earlier version kept them
	spoolFile       = "spool.db"        // and those that waited for a database
	ownFile         = "own.jsonl"       // what this program asked by itself, as a device
	codesFile       = "used-codes.json" // the newest one-time code of each person that was used
	previous        = "previous"        // the evidence of the run before
	earlier         = "previous.old"    // and of the one before that, until a new run has started
	lockFile        = "lock"            // locked by who writes here
	figuresFile     = "figures.sock"    // where a run tells its figures
)

// ours are the files of one run; the ledger goes on from run to run.
var ours = []string{placesFile, eventsFile, ownFile, tracesDir, logsDir, countersDir, trafficFile, olderDir, hostsFile,
	certificatesDir, figuresFile}

var ledgerFiles = []string{recordsDir, forwardingDir, codesFile, codesFile + ".new"}

// earlierFiles are those of the ledger of an earlier version.
var earlierFiles = []string{ledgerFile, ledgerFile + "-wal", ledgerFile + "-shm", ledgerFile + ".before", spoolFile,
	spoolFile + "-wal", spoolFile + "-shm", spoolFile + ".before", recordsDir + ".new"}

// Create makes a state folder for a new run. The evidence of an earlier run in
// it is moved to its folder previous; its ledger goes on, and so do the files
// named as kept. A folder that holds anything else is refused.
func Create(dir string, kept ...string) (*Folder, error) {
	f := &Folder{Dir: dir, open: map[string]*os.File{}}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s cannot be used as a state folder: %w", dir, err)
	}
	f.made = err != nil
	for _, e := range entries {
		if e.Name() != previous && e.Name() != earlier && e.Name() != lockFile && !slices.Contains(ours, e.Name()) &&
			!slices.Contains(ledgerFiles, e.Name()) && !slices.Contains(earlierFiles, e.Name()) &&
			!f.isKept(e.Name(), kept) {
			return nil, fmt.Errorf("%s is not a state folder: it holds %s; name an empty or a new folder with -state",
				dir,
				e.Name())
		}
		f.hadLedger = f.hadLedger || e.Name() == recordsDir || e.Name() == forwardingDir || e.Name() == codesFile ||
			slices.Contains(earlierFiles, e.Name())
	}
	if err := f.take(); err != nil {
		return nil, err
	}
	_ = os.RemoveAll(filepath.Join(dir, earlier)) // left by a start that was killed
	if err := os.Rename(filepath.Join(dir, previous), filepath.Join(dir, earlier)); err != nil &&
		!errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	f.ForgetFigures() // left by a run that was killed
	if err := move(dir, filepath.Join(dir, previous)); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(dir, tracesDir), 0o700); err != nil {
		return nil, fmt.Errorf("%s cannot be made: %w", dir, err)
	}
	return f, f.openEvents()
}

// BoundEvents sets how many octets the events take at most, with the older ones;
// 0: as much as comes.
func (f *Folder) BoundEvents(most int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.most = most
}

// Reopen goes on in new files where those that are open were moved away.
func (f *Folder) Reopen() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open == nil {
		return nil
	}
	var errs []error
	for name, file := range f.open {
		errs = append(errs, file.Close())
		delete(f.open, name)
	}
	f.flush()
	if f.events != nil {
		errs = append(errs, f.events.Close())
	}
	return errors.Join(append(errs, f.openEvents())...)
}

func (f *Folder) openEvents() (err error) {
	f.events, err = os.OpenFile(filepath.Join(f.Dir, eventsFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	f.size = 0
	if err != nil {
		f.events = nil
		return err
	}
	if info, err := f.events.Stat(); err == nil {
		f.size = info.Size()
	}
	return nil
}

// agedPath is where what came before in a file of the folder lies.
func (f *Folder) agedPath(name string) string { return filepath.Join(f.Dir, olderDir, name) }

// age makes what there is of a file the older part, in place of the one before.
// Nothing is no fault.
func (f *Folder) age(name string) error {
	if err := os.MkdirAll(filepath.Dir(f.agedPath(name)), 0o700); err != nil {
		return err
	}
	err := os.Rename(filepath.Join(f.Dir, name), f.agedPath(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// ErrBusy is a folder that another lab or serve is writing to.
var ErrBusy = errors.New("another lab or serve is using this state folder; end it, or name another folder with -state")

// take locks the folder for this run.
func (f *Folder) take() error {
	if err := os.MkdirAll(f.Dir, 0o700); err != nil {
		return fmt.Errorf("%s cannot be made: %w", f.Dir, err)
	}
	if info, err := os.Stat(f.Dir); err == nil && info.Mode().Perm()&0o007 != 0 {
		return fmt.Errorf("others on this machine can read the state folder %s, which will hold names and records: "+
			"chmod o= %s",
			f.Dir, f.Dir)
	}
	var err error
	if f.lock, err = os.OpenFile(filepath.Join(f.Dir, lockFile), os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return err
	}
	if !files.Lock(f.lock) {
		_ = f.lock.Close()
		return fmt.Errorf("%s: %w", f.Dir, ErrBusy)
	}
	return nil
}

// isKept reports whether a file is one of those kept, or a folder of records under
// another name, which the site has given it once.
func (f *Folder) isKept(name string, kept []string) bool {
	if slices.Contains(kept, name) {
		return true
	}
	inside, err := os.ReadDir(filepath.Join(f.Dir, name))
	return err == nil && slices.ContainsFunc(inside, func(e fs.DirEntry) bool {
		return filepath.Ext(e.Name()) == ".records"
	})
}

// move moves the files of one run from a folder to another, in place of any
// that are there. It does nothing where there are none to move.
func move(from, to string) error {
	some := slices.ContainsFunc(ours, func(name string) bool {
		_, err := os.Lstat(filepath.Join(from, name))
		return err == nil
	})
	if !some {
		return nil
	}
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	for _, name := range ours {
		if err := os.RemoveAll(filepath.Join(to, name)); err != nil {
			return err
		}
		if err := os.Rename(filepath.Join(from, name), filepath.Join(to, name)); err != nil &&
			!errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Abandon undoes Create for a run that could not start: what was there before
// is there again, and nothing else.
func (f *Folder) Abandon() {
	_ = f.Close()
	for _, name := range ours {
		_ = os.RemoveAll(filepath.Join(f.Dir, name))
	}
	if !f.hadLedger {
		for _, name := range ledgerFiles {
			_ = os.RemoveAll(filepath.Join(f.Dir, name))
		}
	}
	_ = move(filepath.Join(f.Dir, previous), f.Dir)
	_ = os.Remove(filepath.Join(f.Dir, previous)) // only when it is empty
	_ = os.Rename(filepath.Join(f.Dir, earlier), filepath.Join(f.Dir, previous))
	_ = os.Remove(filepath.Join(f.Dir, lockFile))
	if f.made {
		_ = os.Remove(f.Dir)
	}
}

// Open opens the state folder of a run, going on or ended, for reading.
func Open(dir string) (*Folder, error) {
	f := &Folder{Dir: dir}
	if _, err := f.Places(); err != nil {
		return nil, err
	}
	return f, nil
}

// Records returns the path of the folder of the records, where the site names no other.
func (f *Folder) Records() string { return f.RecordsAt("") }

// Forwarding returns the path of the records that go on to a database.
func (f *Folder) Forwarding() string { return filepath.Join(f.Dir, forwardingDir) }

// RecordsIn returns the path of the records that a folder holds, be it one of a run
// or another one.
func RecordsIn(dir string) string { return filepath.Join(dir, recordsDir) }

// RecordsAt returns the path of the folder of records that a site names: within
// the state folder, unless the path is absolute.
func (f *Folder) RecordsAt(name string) string {
	switch {
	case name == "":
		name = recordsDir
	case filepath.IsAbs(name):
		return name
	}
	return filepath.Join(f.Dir, name)
}

// EarlierRecords returns the paths of the files in which an earlier version kept records:
// all of them, and those that waited for a database.
func (f *Folder) EarlierRecords() (text, waiting string) {
	return filepath.Join(f.Dir, ledgerFile), filepath.Join(f.Dir, spoolFile)
}

// UsedCodes reads the newest one-time codes that were used, by person and time
// step; none where there is no file of them.
func (f *Folder) UsedCodes() (map[string]int64, error) {
	text, err := os.ReadFile(filepath.Join(f.Dir, codesFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var used map[string]int64
	if err := json.Unmarshal(text, &used); err != nil {
		return nil, fmt.Errorf("%s is damaged: %w; take it away, and wait two minutes before the next start, so "+
			"that no code is used twice", filepath.Join(f.Dir, codesFile), err)
	}
	return used, nil
}

// KeepCodes writes them, whole or not at all.
func (f *Folder) KeepCodes(used map[string]int64) error {
	text, err := json.Marshal(used)
	if err != nil {
		return err
	}
	path := filepath.Join(f.Dir, codesFile)
	if err := os.WriteFile(path+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// KnownHosts returns the path of the devices' SSH keys, in the form that an SSH
// client reads.
func (f *Folder) KnownHosts() string { return filepath.Join(f.Dir, hostsFile) }

// Certificates returns the path of the folder with a lab's certificates.
func (f *Folder) Certificates() string { return filepath.Join(f.Dir, certificatesDir) }

// PlacesFile returns the path of the file that says where everything is.
func (f *Folder) PlacesFile() string { return filepath.Join(f.Dir, placesFile) }

// WritePlaces writes where everything is.
func (f *Folder) WritePlaces(p evidence.Places) error {
	text, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(f.PlacesFile(), append(text, '\n'), 0o600); err != nil {
		return err
	}
	return os.RemoveAll(filepath.Join(f.Dir, earlier)) // the run has started
}

// Places reads where everything is.
func (f *Folder) Places() (evidence.Places, error) {
	var p evidence.Places
	text, err := os.ReadFile(f.PlacesFile())
	if err != nil {
		return p, fmt.Errorf(
			"%s is not a state folder: it has no %s; name the folder that lab or serve was given with -state", f.Dir,
			placesFile)
	}
	if err := json.Unmarshal(text, &p); err != nil {
		return p, fmt.Errorf("%s is damaged: %w", filepath.Join(f.Dir, placesFile), err)
	}
	p.SitePath = files.Near(p.SitePath)
	return p, nil
}

// Close closes the folder's files.
func (f *Folder) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	var errs []error
	for _, file := range f.open {
		errs = append(errs, file.Close())
	}
	f.open = nil
	f.flush()
	if f.events != nil {
		errs = append(errs, f.events.Close())
		f.events = nil
	}
	if f.lock != nil {
		errs = append(errs, f.lock.Close()) // and the lock with it
		f.lock = nil
	}
	return errors.Join(errs...)
}
