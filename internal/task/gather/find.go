package gather

import (
	"context"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/listen"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task"
)

// Wanted is what evidence is looked for.
type Wanted struct {
	Files     Files
	State     string        // a state folder; "" is Default where no file is named
	Default   string        // the state folder that is taken when nothing is named
	Interface string        // listen live there, for a span
	Span      time.Duration // for Interface
	Key       site.Secret   // of servers that the site does not know; may be zero
	In        io.Reader     // for a capture that is "-"
	// Site is the path of a site that was named, "" for none: then the one of the
	// state folder is read, where it is there.
	Site string
	// Alone says that a site with no other evidence will do.
	Alone bool
}

// Found is evidence that was found.
type Found struct {
	evidence.Evidence
	Opened *sitefile.Opened // nil without a site
	Places evidence.Places
	From   string // what was read, in words
	Lab    bool   // a lab runs there
}

// Finder is how a site is read, and to whom it is told what happens meanwhile.
type Finder struct {
	Load func(path string) (sitefile.Opened, error)
	Has  func(path string) bool // reports whether there is a file or folder
	Note func(text string)
}

// Find reads what is wanted: files, a state folder, a site, what passes an
// interface. An error that the call can mend is a task.UsageError.
func (f Finder) Find(ctx context.Context, w Wanted) (*Found, error) {
	k := &Found{}
	dir := w.State
	if dir == "" && w.Files.None() && w.Interface == "" {
		dir = w.Default
	}
	if w.State == "" && w.Files.Capture != "" { // the capture of a state folder has the addresses of that run
		if beside, err := state.Open(filepath.Dir(w.Files.Capture)); err == nil {
			if p, err := beside.Places(); err == nil {
				k.Places = p
			}
		}
	}
	folder, err := k.open(dir, w.Alone && w.State == "")
	if err != nil {
		return nil, err
	}
	directory, err := f.site(k, w)
	if err != nil {
		return nil, err
	}
	if err := f.read(ctx, k, w, folder, directory); err != nil {
		return nil, err
	}
	if k.Now = time.Now(); k.Opened != nil {
		k.Site, k.Keys = k.Opened.Site, k.Opened.Keys
	}
	return k, nil
}

// open opens a state folder, and returns nil where there is none and none is
// needed.
func (k *Found) open(dir string, alone bool) (*state.Folder, error) {
	if dir == "" {
		return nil, nil
	}
	folder, err := state.Open(dir)
	switch {
	case err != nil && alone:
		return nil, nil
	case err != nil:
		return nil, task.Wrong("%w\nor name evidence: -capture, -events, -trace, -counters or -log; or a SITE with "+
			"-device",
			err)
	}
	if k.Places, err = folder.Places(); err != nil {
		return nil, task.UsageError{Err: err}
	}
	k.Lab, k.From = k.Places.Control != nil, dir
	return folder, nil
}

// site reads the site that is named or meant, and returns who is where by it.
func (f Finder) site(k *Found, w Wanted) (exchange.Directory, error) {
	path := k.Places.SitePath
	if w.Site != "" {
		path = w.Site
	}
	directory := exchange.Directory{}
	if path != "" && (w.Site != "" || f.Has(path)) {
		l, err := f.Load(path)
		if err != nil {
			return directory, err
		}
		k.Opened = &l
		if directory = exchange.Designed(l.Site, l.Keys); len(k.Places.Servers) > 0 {
			directory = exchange.InPlaces(l.Site, l.Keys, k.Places)
		}
	}
	if w.Key != (site.Secret{}) {
		directory = directory.WithKey(w.Key)
	}
	return directory, nil
}

// read reads the evidence itself. What passes an interface comes first: what was
// noted meanwhile belongs to it.
func (f Finder) read(ctx context.Context, k *Found, w Wanted, folder *state.Folder, d exchange.Directory) error {
	var notes []string
	var overheard []evidence.Exchange
	from := time.Now()
	if w.Interface != "" {
		some, note, err := f.overhear(ctx, w, d)
		if err != nil {
			return err
		}
		overheard, notes = some, note
	}
	var more []string
	var err error
	switch {
	case !w.Files.None():
		if k.Opened != nil {
			w.Files.Base = k.Opened.Base
		}
		k.Evidence, more, err = w.Files.Read(w.In, d)
		k.From = strings.Join(slices.DeleteFunc([]string{
			w.Files.Capture, w.Files.Events, w.Files.Trace, w.Files.Counters,
			w.Files.Log}, func(s string) bool { return s == "" }), ", ")
	case folder != nil:
		k.Evidence, more, err = Folder(folder, d)
		if k.Opened != nil && err == nil {
			var unread []string
			k.Log, unread = Understood(k.Log, k.Opened.Site, k.Opened.Base)
			more = append(more, unread...)
		}
	}
	if err != nil {
		return task.UsageError{Err: err}
	}
	if w.Interface != "" {
		// Packets that the folder has too were heard here.
		k.Exchanges = append(slices.DeleteFunc(k.Exchanges,
			func(x evidence.Exchange) bool { return !x.Time.Before(from) }),
			overheard...)
		k.From = strings.TrimPrefix(k.From+", "+w.Interface, ", ")
	}
	for _, n := range append(notes, more...) {
		f.Note(n)
	}
	if k.From == "" {
		k.From = "the site"
	}
	return nil
}

// overhear listens live for a time.
func (f Finder) overhear(ctx context.Context, w Wanted, d exchange.Directory) (some []evidence.Exchange, notes []string,
	err error) {
	ctx, cancel := context.WithTimeout(ctx, w.Span)
	defer cancel()
	source, done, err := listen.Interface(ctx, w.Interface)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	f.Note("listening on " + w.Interface + " for " + w.Span.String())
	some, note := Listened(source, w.Interface, d)
	if note != "" {
		notes = append(notes, note)
	}
	return some, notes, nil
}
