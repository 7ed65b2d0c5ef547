package devices

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/rotate"
)

// change leads a key from one value to another without an outage.
func (k *keysCall) change() error {
	l, err := k.load(2)
	if err != nil {
		return err
	}
	name := k.Args[1]
	key := KeyNamed(l, name)
	if key == nil {
		return call.Usagef("the site has no key %q%s", name, nearest.Suggest(name, keyNames(l)))
	}
	switch k.Args[2] {
	case "begin":
		return k.begin(l, key)
	case "status":
		return k.changeStatus(l, key)
	case "finish":
		return k.finish(l, key)
	}
	return call.Usagef("keys change NAME takes begin, status or finish, and not %q", k.Args[2])
}

func (k *keysCall) begin(l call.Loaded, key *site.Key) error {
	value, err := k.fresh()
	if err != nil {
		return err
	}
	b, err := rotate.Begin(l.Opened, key, value, rotate.Vault{Unlock: k.unlock(), Write: k.write})
	if err != nil {
		return call.TaskError(err)
	}
	k.Say(`The key %[1]s is being changed to %[2]s (%[3]s). %[4]s take both from now on.

1. Start serve again with this site, so that it takes both.
2. Put the new key on the devices, one after another. Each goes on to work, before and after.
     mellowgate keys change %[1]s status     which devices still use the old one
3. When none does:
     mellowgate keys change %[1]s finish
`, b.Key, b.Next, b.Source, strings.Join(b.Servers, ", "))
	return nil
}

// seen returns with which key each device asked last.
func (k *keysCall) seen(l call.Loaded, key *site.Key) ([]rotate.Seen, error) {
	dir := k.state
	if dir == "" {
		dir = call.DefaultState
	}
	// a key that is not being changed has no folder to look into
	if _, err := rotate.Status(l.Opened, key, nil); err != nil {
		return nil, call.TaskError(err)
	}
	folder, err := state.Open(dir)
	if err != nil {
		return nil, call.UsageError(err)
	}
	noted, _, err := folder.Evidence()
	if err != nil {
		return nil, call.TaskError(err)
	}
	sightings, err := rotate.Status(l.Opened, key, noted.Events)
	return sightings, call.TaskError(err)
}

func (k *keysCall) changeStatus(l call.Loaded, key *site.Key) error {
	sightings, err := k.seen(l, key)
	if err != nil {
		return err
	}
	style := k.Style()
	var rows [][]string
	left := 0
	var second, first []string // servers that were not seen because they are asked second, and after whom
	for _, s := range sightings {
		at, with := "-", style.Paint(show.Careful, "not seen yet")
		switch {
		case s.Key == key.Name:
			at, with = s.At.UTC().Format("01-02 15:04:05"), style.Paint(show.Bad, "the old key "+s.Key)
		case s.Key != "":
			at, with = s.At.UTC().Format("01-02 15:04:05"), style.Paint(show.Good, "the new key "+s.Key)
		}
		if s.Left(key.Name) {
			left++
		}
		rows = append(rows, []string{s.Device, s.Server, at, with})
		if s.Key == "" && len(s.Before) > 0 && !slices.Contains(second, s.Server) {
			second = append(second, s.Server)
			first = s.Before
		}
	}
	style.Table(k.Out, []string{"device", "server", "asked utc", "with"}, rows)
	if left > 0 {
		k.Say("\n%d of %s still to do\n", left, show.Count(len(sightings), "key"))
		if len(second) > 0 {
			style.Wrap(k.Out, "",
				fmt.Sprintf("%s is asked only when %s gives no answer: log in to the device while that one is "+
					"ended for a moment, and its own question proves the key", strings.Join(second, ", "),
					strings.Join(first, ", ")))
		}
		return call.ErrVerdict
	}
	k.Say("\nevery device uses the new key with every server; finish with: mellowgate keys change %s finish\n",
		key.Name)
	return nil
}

func (k *keysCall) finish(l call.Loaded, key *site.Key) error {
	if !k.anyway {
		sightings, err := k.seen(l, key)
		if err != nil {
			return err
		}
		for _, s := range sightings {
			if s.Left(key.Name) {
				return call.Usagef("%s still uses the old key with %s, or was never seen there with the new one; "+
					"look with: mellowgate keys change %s status; or finish anyway with -anyway", s.Device, s.Server,
					key.Name)
			}
		}
	}
	next, err := rotate.Finish(l.Opened, key)
	if err != nil {
		return call.TaskError(err)
	}
	k.Say("The servers take %s only. Start serve again, then take the key %s out of the site (%s) and away from "+
		"where it is kept.\n", next, key.Name, l.Where(key.Place))
	return nil
}
