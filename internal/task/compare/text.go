package compare

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/store/secrets"
)

// Text is what a device has saved of itself, read in place of the device.
type Text struct {
	File string
	Text *phrase.Text
	Book *phrase.Book

	held inventory.Held
}

// Judge compares what a text says of a device with the site.
func Judge(s Sites, d *site.Device, text Text) Compared {
	r := Compared{Device: d.Name, Read: true, Models: "the phrasebook of " + text.Book.Make, text: &text}
	r.judgeText(s)
	return r
}

// judgeText compares what the text says with the design, and with what the site knows.
func (r *Compared) judgeText(s Sites) {
	r.Differences = []Difference{}
	r.Unshown = []string{}
	r.Notes = []string{}
	passwords := inventory.Passwords{Known: secrets.Known, Is: func(hash, clear string) bool {
		ok, err := secrets.PasswordIs(site.Password{Hash: hash}, clear, nil)
		return err == nil && ok
	}}
	against := func(o site.Keys, of *site.Site, now bool) ([]drift.Difference, []string) {
		base := inventory.Base{Site: of, Keys: o}
		read := inventory.Of(inventory.Saved{File: r.text.File, Device: r.Device, Text: r.text.Text})
		made := inventory.Make([]*inventory.Device{read},
			inventory.Options{Base: base, Hash: secrets.Known, Parts: true})
		if !now {
			for _, n := range made.Notes {
				switch {
				case n.Wants:
				case n.Line > 0:
					r.Notes = append(r.Notes, fmt.Sprintf("%s:%d: %s", n.File, n.Line, n.What))
				default:
					r.Notes = append(r.Notes, n.What)
				}
			}
		}
		d := of.Device(r.Device)
		want, held, left := inventory.Compared(read, base, d, r.text.Book, passwords, now)
		r.text.held = held
		differences := drift.Compare(want, held.Facts, device.Where(of, d))
		if r.InPart = !read.Whole; r.InPart { // nothing follows from what it does not say
			differences = slices.DeleteFunc(differences,
				func(x drift.Difference) bool { return x.Kind == drift.Missing })
		}
		return differences, left
	}
	known, _ := against(s.Found.Keys, s.Found.Site, true)
	found, left := against(s.Design.Keys, s.Design.Site, false)
	for _, what := range inventory.NotCarried(s.Design.Device(r.Device), r.text.Book.Limits()) {
		r.Notes = append(r.Notes, "the make cannot hold this design: "+what)
	}
	if len(left) > 0 {
		r.Notes = append(r.Notes, "not compared, because no phrase says them: "+strings.Join(left, ", "))
	}
	for _, x := range found {
		if x.Kind == drift.Unread {
			r.Unshown = append(r.Unshown, x.String())
			continue
		}
		difference := Difference{Difference: x, Known: !slices.ContainsFunc(known, func(n drift.Difference) bool {
			return n.About == x.About && n.Name == x.Name && n.What == x.What
		})}
		if line := r.text.held.Lines[drift.Key{About: x.About, Name: x.Name, What: x.What}]; line > 0 {
			difference.At = fmt.Sprintf("%s:%d", r.text.File, line)
		}
		r.Differences = append(r.Differences, difference)
	}
}
