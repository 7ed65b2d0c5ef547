// Package rotate leads a shared secret from one value to the next without an
// outage: for a while servers take both, and the devices follow one after
// another. It changes the site's file and the place where keys are kept; putting
// the new key on a device is the administrator's, or rollout's.
package rotate

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task"
)

// Vault is where the value of a new key goes.
type Vault struct {
	Unlock secrets.Unlock // for sealed keys
	// Write writes a secret into a new file that only its owner can read.
	Write func(path string, value site.Secret) error
}

// Begun is a change of a key that has begun.
type Begun struct {
	Key     string   // the old key
	Next    string   // the name of the new key
	Source  string   // where its value is, as the site file says it
	Servers []string // that take both from now on
}

// serversOf returns the servers that use a key, and whether it is being changed.
func serversOf(s *site.Site, key *site.Key) (servers []*site.Server, changing bool) {
	for _, v := range s.Servers {
		if v.Key == key {
			servers = append(servers, v)
			changing = changing || v.NextKey != nil
		}
	}
	return servers, changing
}

// NextName returns the name of the key that follows: shore-key, shore-key-2, ...
func NextName(s *site.Site, name string) string {
	stem := name
	if index := strings.LastIndexByte(name, '-'); index > 0 && strings.Trim(name[index+1:], "0123456789") == "" &&
		index+1 < len(name) {
		stem = name[:index]
	}
	for n := 2; ; n++ {
		next := fmt.Sprintf("%s-%d", stem, n)
		if !slices.ContainsFunc(s.Keys, func(k *site.Key) bool { return k.Name == next }) {
			return next
		}
	}
}

// Begin gives a key a successor: its value is kept where the old one is, and the
// servers take both. After an error nothing has changed.
func Begin(o sitefile.Opened, key *site.Key, value site.Secret, v Vault) (Begun, error) {
	servers, changing := serversOf(o.Site, key)
	switch {
	case len(servers) == 0:
		return Begun{}, task.Wrong("no server uses the key %s now, so there is nothing to change", key.Name)
	case changing:
		return Begun{}, task.Wrong(
			"the key %s is being changed already; look with: mellowgate keys change %[1]s status",
			key.Name)
	}
	b := Begun{Key: key.Name, Next: NextName(o.Site, key.Name)}
	source, undo, err := v.keep(o, key, b.Next, value)
	if err != nil {
		return Begun{}, err
	}
	b.Source = source
	edits := []sitefile.Edit{sitefile.EntryBefore(o.Site, key.Place, b.Next+": "+source)}
	for _, s := range servers {
		edits = append(edits, sitefile.Edit{Place: s.KeyRef.Place, Old: key.Name,
			New: fmt.Sprintf("{now: %s, next: %s}", key.Name, b.Next)})
		b.Servers = append(b.Servers, s.Name)
	}
	if err := sitefile.Change(o.Site, o.Path, edits); err != nil {
		return Begun{}, joined(err, undo())
	}
	return b, nil
}

// joined adds to an error that what was begun could not be undone.
func joined(err, undoing error) error {
	if undoing == nil {
		return err
	}
	return fmt.Errorf("%w\nand the new key that was kept could not be taken away again: %w", err, undoing)
}

// keep puts the value of a new key where the old one is kept: sealed, or in a
// file beside it.
func (v Vault) keep(o sitefile.Opened, old *site.Key, name string, value site.Secret) (source string,
	undo func() error, err error) {
	if old.Source == site.KeySealed {
		s, err := secrets.OpenSealed(o.Base, v.Unlock)
		if err != nil {
			return "", nil, err
		}
		s.Set(name, value, time.Now())
		if err := s.Write(o.Base, v.Unlock); err != nil {
			return "", nil, err
		}
		return "sealed", func() error {
			s.Remove(name)
			return s.Write(o.Base, v.Unlock)
		}, nil
	}
	dir := "keys"
	if old.Source == site.KeyFile {
		dir = filepath.Dir(old.From)
	}
	path := filepath.Join(dir, name+".key")
	if err := v.Write(files.At(o.Base, path), value); err != nil {
		return "", nil, err
	}
	return "file " + filepath.ToSlash(path), func() error { return os.Remove(files.At(o.Base, path)) }, nil
}

// Seen is what one server noted of one that asks it while a key is changed. A device has
// a key for each server: that one of them takes the new one says nothing of another.
type Seen struct {
	Device string // or, of a client that is no device of the site, its address
	Server string
	At     time.Time
	Key    string // with which it asked last; "" when it was never seen since the change began
	// Before are the servers that the device asks before this one: it asks this one
	// only when they give no answer.
	Before []string
}

// Left reports whether the device still has the old key there, or was never seen.
func (s Seen) Left(old string) bool { return s.Key == "" || s.Key == old }

// pair is who asks, and whom.
type pair struct{ device, server string }

// Status returns with which key each device that asks these servers asked each of them
// last, and so each client of theirs that is no device.
func Status(o sitefile.Opened, key *site.Key, events []evidence.Event) ([]Seen, error) {
	servers, changing := serversOf(o.Site, key)
	if !changing {
		return nil, task.Wrong("the key %s is not being changed; begin with: mellowgate keys change %[1]s begin",
			key.Name)
	}
	newest, others := map[pair]evidence.Event{}, []pair(nil)
	for _, e := range events {
		ok := slices.ContainsFunc(servers, func(v *site.Server) bool { return v.Name == e.Server })
		who := pair{device: e.Device, server: e.Server}
		if who.device == "" {
			who.device = e.Client
		}
		if !ok || e.Key == "" || !e.Time.After(newest[who].Time) {
			continue
		}
		if _, known := newest[who]; !known && e.Device == "" {
			others = append(others, who)
		}
		newest[who] = e
	}
	var sightings []Seen
	add := func(who pair, before []string) {
		e := newest[who]
		sightings = append(sightings, Seen{Device: who.device, Server: who.server, At: e.Time, Key: e.Key,
			Before: before})
	}
	for _, d := range o.Devices {
		for _, v := range servers {
			if before, asks := asksAfter(d, v); asks {
				add(pair{device: d.Name, server: v.Name}, before)
			}
		}
	}
	for _, who := range others {
		add(who, nil)
	}
	return sightings, nil
}

// asksAfter reports whether a device may ask a server, and which ones it asks before it
// wherever it does.
func asksAfter(d *site.Device, server *site.Server) (before []string, asks bool) {
	for _, w := range d.Ways {
		for _, list := range w.Lists {
			i := slices.Index(list.Servers(), server)
			if i < 0 {
				continue
			}
			var names []string
			for _, v := range list.Servers()[:i] {
				names = append(names, v.Name)
			}
			if !asks || len(names) < len(before) {
				before = names
			}
			asks = true
		}
	}
	return before, asks
}

// Finish leaves the servers only the new key, and returns its name. Whether every
// device has it is for Status to say, before.
func Finish(o sitefile.Opened, key *site.Key) (next string, err error) {
	servers, changing := serversOf(o.Site, key)
	if !changing {
		return "", task.Wrong("the key %s is not being changed", key.Name)
	}
	var edits []sitefile.Edit
	for _, v := range servers {
		if v.NextKey == nil {
			continue
		}
		line := sitefile.LineAt(o.Site, v.KeyRef.Place)
		open := strings.LastIndexByte(line[:min(len(line), int(v.KeyRef.Place.Column))], '{')
		end := strings.IndexByte(line[max(open, 0):], '}')
		if open < 0 || end < 0 || v.NextKeyRef.Place.Line != v.KeyRef.Place.Line {
			return "", task.Wrong("%s: write  key: %s  here by hand, and take the key %s out", o.Where(v.KeyRef.Place),
				v.NextKey.Name, key.Name)
		}
		place := v.KeyRef.Place
		place.Column = int32(open + 1)
		edits = append(edits, sitefile.Edit{Place: place, Old: line[open : open+end+1], New: v.NextKey.Name})
		next = v.NextKey.Name
	}
	return next, sitefile.Change(o.Site, o.Path, edits)
}
