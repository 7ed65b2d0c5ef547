package sitefile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
)

// ErrByHand is a site whose text cannot be edited safely.
var ErrByHand = errors.New("write it by hand")

// WriteFound writes into a site's file what a device is found to hold. New keys are
// written to files of their own, each with its value.
func WriteFound(s *site.Site, path, base string, d *site.Device, h drift.Found, fresh map[string]site.Secret) error {
	edits, err := holdEdits(s, d, h, fresh)
	if err != nil {
		return fmt.Errorf("%s: %w: found: %s", s.Where(d.Place), err, h.YAML())
	}
	var made []string
	undo := func() {
		for _, name := range made {
			_ = os.Remove(name)
		}
	}
	for name, value := range fresh {
		file := filepath.Join(base, keyFile(name))
		if err = os.MkdirAll(filepath.Dir(file), 0o700); err == nil {
			err = newFile(file, value.Reveal()+"\n")
		}
		if err != nil {
			undo()
			return fmt.Errorf("the key %s cannot be kept: %w", name, err)
		}
		made = append(made, file)
	}
	if err := Change(s, path, edits); err != nil {
		undo()
		return err
	}
	return nil
}

func newFile(path, text string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

func keyFile(name string) string { return "keys/" + name + ".key" }

func holdEdits(s *site.Site, d *site.Device, h drift.Found, fresh map[string]site.Secret) ([]Edit, error) {
	edit, err := holdsEdit(s, d, h.YAML())
	if err != nil {
		return nil, err
	}
	edits := []Edit{edit}
	for name := range fresh {
		if len(s.Keys) == 0 {
			return nil, fmt.Errorf("%w, with the key %s under keys", ErrByHand, name)
		}
		edits = append(edits, EntryBefore(s, s.Keys[0].Place, name+": file "+keyFile(name)))
	}
	for _, a := range h.New {
		if len(s.Accounts) == 0 {
			return nil, fmt.Errorf("%w, with the account %s under accounts", ErrByHand, a.Name)
		}
		e, err := itemBefore(s, s.Accounts[0].Place,
			fmt.Sprintf("{name: %s, level: %d, password: '%s'}", a.Name, a.Level, a.Hash))
		if err != nil {
			return nil, err
		}
		edits = append(edits, e)
	}
	return edits, nil
}

// holdsEdit puts holds after the name of a device, or in place of what is there.
func holdsEdit(s *site.Site, d *site.Device, value string) (Edit, error) {
	if p := d.Found.Place; p.Known() {
		old := LineAt(s, p)[p.Column-1:]
		end := closing(old)
		if end < 0 {
			return Edit{}, ErrByHand
		}
		return Edit{Place: p, Old: old[:end+1], New: value}, nil
	}
	if !strings.HasSuffix(s.Files[d.Place.File], ".yaml") {
		return Edit{}, fmt.Errorf("%w: the device stands in a table, which has no found; move it to the site's "+
			"file, with",
			ErrByHand)
	}
	return afterName(s, d.Ref, "found: "+value)
}

// afterName puts a key behind the name of an entry.
func afterName(s *site.Site, of site.Ref, text string) (Edit, error) {
	line := LineAt(s, of.Place)
	before, after := line[:of.Place.Column-1], line[of.Place.Column-1:]
	name := of.Name
	if quote := after[:1]; quote == `"` || quote == "'" {
		name = quote + name + quote
	}
	key := strings.LastIndex(before, "name")
	if key < 0 || !strings.HasPrefix(after, name) {
		return Edit{}, ErrByHand
	}
	between := "\n" + strings.Repeat(" ", key)
	if strings.Contains(before[:key], "{") {
		between = ", "
	}
	return Edit{Place: of.Place, Old: name, New: name + between + text}, nil
}

// closing returns where the braces that a text begins with end, -1 where they do
// not.
func closing(text string) int {
	deep := 0
	for i, c := range text {
		switch c {
		case '{':
			deep++
		case '}':
			deep--
		}
		if deep == 0 {
			if c == '}' {
				return i
			}
			return -1
		}
	}
	return -1
}

// EntryBefore puts an entry of a mapping before another one.
func EntryBefore(s *site.Site, p site.Place, text string) Edit {
	if before := LineAt(s, p); strings.Contains(before[:min(len(before), int(p.Column-1))], "{") {
		return Edit{Place: p, New: text + ", "}
	}
	return Edit{Place: p, New: text + "\n" + strings.Repeat(" ", int(p.Column-1))}
}

// itemBefore puts an item of a list before the one that a place is in.
func itemBefore(s *site.Site, p site.Place, text string) (Edit, error) {
	line := LineAt(s, p)
	before := line[:min(len(line), int(p.Column-1))]
	open, dash := strings.LastIndex(before, "{"), strings.Index(before, "- ")
	place := p
	switch {
	case dash >= 0 && strings.TrimSpace(before[:dash]) == "":
		place.Column = int32(dash + 1)
		return Edit{Place: place, New: "- " + text + "\n" + strings.Repeat(" ", dash)}, nil
	case open >= 0:
		place.Column = int32(open + 1)
		return Edit{Place: place, New: text + ", "}, nil
	}
	return Edit{}, ErrByHand
}
