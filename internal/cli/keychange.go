package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
)

// change leads a key from one value to another without an outage.
func (k *keysCall) change() error {
	l, err := k.load(2)
	if err != nil {
		return err
	}
	name := k.Args[1]
	key := l.key(name)
	if key == nil {
		return wrong("the site has no key %q%s", name, nearest.Suggest(name, l.keyNames()))
	}
	switch k.Args[2] {
	case "begin":
		return k.begin(l, key)
	case "status":
		return k.status(l, key)
	case "finish":
		return k.finish(l, key)
	}
	return wrong("keys change NAME takes begin, status or finish, and not %q", k.Args[2])
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

// nextName returns the name of the key that follows: shore-key, shore-key-2, ...
func nextName(s *site.Site, name string) string {
	stem := name
	if at := strings.LastIndexByte(name, '-'); at > 0 && strings.Trim(name[at+1:], "0123456789") == "" &&
		at+1 < len(name) {
		stem = name[:at]
	}
	for n := 2; ; n++ {
		next := fmt.Sprintf("%s-%d", stem, n)
		if !slices.ContainsFunc(s.Keys, func(k *site.Key) bool { return k.Name == next }) {
			return next
		}
	}
}

func (k *keysCall) begin(l loaded, key *site.Key) error {
	servers, changing := serversOf(l.Site, key)
	switch {
	case len(servers) == 0:
		return wrong("no server uses the key %s now, so there is nothing to change", key.Name)
	case changing:
		return wrong("the key %s is being changed already; look with: mellowgate keys change %[1]s status", key.Name)
	}
	value, err := k.fresh()
	if err != nil {
		return err
	}
	next := nextName(l.Site, key.Name)
	source, undo, err := k.keep(l, key, next, value)
	if err != nil {
		return err
	}
	edits := []sitefile.Edit{sitefile.EntryBefore(l.Site, key.Place, next+": "+source)}
	for _, v := range servers {
		edits = append(edits,
			sitefile.Edit{Place: v.KeyRef.Place, Old: key.Name, New: fmt.Sprintf("{now: %s, next: %s}", key.Name, next)})
	}
	if err := sitefile.Change(l.Site, l.Path, edits); err != nil {
		undo()
		return cannot(err)
	}
	var names []string
	for _, v := range servers {
		names = append(names, v.Name)
	}
	k.say(`The key %[1]s is being changed to %[2]s (%[3]s). %[4]s take both from now on.

1. Start serve again with this site, so that it takes both.
2. Put the new key on the devices, one after another. Each goes on to work, before and after.
     mellowgate keys change %[1]s status     which devices still use the old one
3. When none does:
     mellowgate keys change %[1]s finish
`, key.Name, next, source, strings.Join(names, ", "))
	return nil
}

// keep puts the value of a new key where the old one is kept: sealed, or in a
// file beside it.
func (k *keysCall) keep(l loaded, old *site.Key, name string, value site.Secret) (source string, undo func(),
	err error) {
	if old.Source == site.KeySealed {
		s, err := secrets.OpenSealed(l.Base, k.unlock())
		if err != nil {
			return "", nil, cannot(err)
		}
		s.Set(name, value, time.Now())
		if err := s.Write(l.Base, k.unlock()); err != nil {
			return "", nil, cannot(err)
		}
		return "sealed", func() {
			s.Remove(name)
			_ = s.Write(l.Base, k.unlock())
		}, nil
	}
	dir := "keys"
	if old.Source == site.KeyFile {
		dir = filepath.Dir(old.From)
	}
	path := filepath.Join(dir, name+".key")
	if err := k.write(files.At(l.Base, path), value); err != nil {
		return "", nil, err
	}
	return "file " + filepath.ToSlash(path), func() { _ = os.Remove(files.At(l.Base, path)) }, nil
}

// seen is what the servers noted of a device while a key is changed.
type seen struct {
	device string
	at     time.Time
	key    string // "" when it was never seen since the change began
}

func (k *keysCall) seen(l loaded, key *site.Key) ([]seen, error) {
	servers, changing := serversOf(l.Site, key)
	if !changing {
		return nil, wrong("the key %s is not being changed; begin with: mellowgate keys change %[1]s begin", key.Name)
	}
	dir := k.state
	if dir == "" {
		dir = defaultState
	}
	folder, err := state.Open(dir)
	if err != nil {
		return nil, failure{status: ExitUsage, err: err}
	}
	noted, _, err := folder.Evidence()
	if err != nil {
		return nil, cannot(err)
	}
	newest := map[string]evidence.Event{}
	for _, e := range noted.Events {
		of := slices.ContainsFunc(servers, func(v *site.Server) bool { return v.Name == e.Server })
		if of && e.Key != "" && e.Time.After(newest[e.Device].Time) {
			newest[e.Device] = e
		}
	}
	var all []seen
	for _, d := range l.Devices {
		if uses(d, servers) {
			e := newest[d.Name]
			all = append(all, seen{device: d.Name, at: e.Time, key: e.Key})
		}
	}
	return all, nil
}

// uses reports whether a device may ask any of the servers.
func uses(d *site.Device, servers []*site.Server) bool {
	for _, w := range d.Ways {
		for _, list := range w.Lists {
			for _, v := range list.Servers() {
				if slices.Contains(servers, v) {
					return true
				}
			}
		}
	}
	return false
}

func (k *keysCall) status(l loaded, key *site.Key) error {
	all, err := k.seen(l, key)
	if err != nil {
		return err
	}
	style := k.style()
	var rows [][]string
	left := 0
	for _, s := range all {
		at, with := "-", style.Paint(show.Careful, "not seen yet")
		if s.key != "" {
			at, with = s.at.UTC().Format("01-02 15:04:05"), style.Paint(show.Good, "the new key "+s.key)
			if s.key == key.Name {
				with = style.Paint(show.Bad, "the old key "+s.key)
			}
		}
		if s.key == "" || s.key == key.Name {
			left++
		}
		rows = append(rows, []string{s.device, at, with})
	}
	style.Table(k.Out, []string{"device", "asked utc", "with"}, rows)
	if left > 0 {
		k.say("\n%s of %d still to do\n", show.Count(left, "device"), len(all))
		return errNo
	}
	k.say("\nevery device uses the new key; finish with: mellowgate keys change %s finish\n", key.Name)
	return nil
}

func (k *keysCall) finish(l loaded, key *site.Key) error {
	if !k.anyway {
		all, err := k.seen(l, key)
		if err != nil {
			return err
		}
		for _, s := range all {
			if s.key == key.Name || s.key == "" {
				return wrong("%s still uses the old key, or was never seen with the new one; look with: mellowgate keys change "+
					"%s status; or finish anyway with -anyway", s.device, key.Name)
			}
		}
	}
	servers, changing := serversOf(l.Site, key)
	if !changing {
		return wrong("the key %s is not being changed", key.Name)
	}
	var edits []sitefile.Edit
	for _, v := range servers {
		if v.NextKey == nil {
			continue
		}
		line := sitefile.LineAt(l.Site, v.KeyRef.Place)
		open := strings.LastIndexByte(line[:min(len(line), int(v.KeyRef.Place.Column))], '{')
		end := strings.IndexByte(line[max(open, 0):], '}')
		if open < 0 || end < 0 || v.NextKeyRef.Place.Line != v.KeyRef.Place.Line {
			return wrong("%s: write  key: %s  here by hand, and take the key %s out", l.Where(v.KeyRef.Place), v.NextKey.Name,
				key.Name)
		}
		at := v.KeyRef.Place
		at.Column = int32(open + 1)
		edits = append(edits, sitefile.Edit{Place: at, Old: line[open : open+end+1], New: v.NextKey.Name})
	}
	next := servers[0].NextKey
	if err := sitefile.Change(l.Site, l.Path, edits); err != nil {
		return cannot(err)
	}
	k.say("The servers take %s only. Start serve again, then take the key %s out of the site (%s) and away from where "+
		"it is kept.\n", next.Name, key.Name, l.Where(key.Place))
	return nil
}
