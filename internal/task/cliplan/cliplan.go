// Package cliplan brings a design to a device in the lines of its make: all of it, or from what
// the device holds, with the proof that nobody is locked out on the way.
package cliplan

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
)

// Design is what a device should have, and how its make says it.
type Design struct {
	Path   string // of the site
	Site   *site.Site
	Keys   site.Keys
	Device *site.Device
	Book   *phrase.Book

	part *sitefile.Part // the site with this device alone, nil until it is wanted
}

// model returns the design with what is read again for every step of a plan.
func (d Design) model() (Design, error) {
	if d.part != nil {
		return d, nil
	}
	var err error
	d.part, err = sitefile.LoadPart(d.Path, d.Device.Name)
	return d, err
}

// secrets are the values that are known in clear.
func (d Design) secrets() inventory.Secrets {
	passwords := map[string]site.Password{}
	for _, a := range d.Device.Accounts {
		passwords[a.Name] = a.Password
	}
	for _, w := range d.Device.Ways {
		for _, l := range w.Lists {
			if l == nil {
				continue
			}
			for _, m := range l.Methods {
				if secret, ok := m.Secret(); ok {
					passwords[secret.Name] = secret.Password
				}
			}
		}
	}
	return inventory.Secrets{
		Key: func(name string) string { return d.Keys[name].Reveal() },
		Password: func(name string) string {
			if p := passwords[name]; p.Key != nil {
				return d.Keys[p.Key.Name].Reveal()
			}
			return ""
		},
	}
}

// Write returns all the lines of the design, and what the make cannot say of it.
func (d Design) Write() (sentences []*phrase.Sentence, left []string) {
	records, left := inventory.Wanted(blueprint.Of(d.Device), d.Device, d.Book, d.secrets(), nil)
	sentences, unsaid := d.Book.Write(records)
	for _, u := range unsaid {
		left = append(left, u.String())
	}
	return sentences, left
}

// Plan is the way from what a device holds to its design.
type Plan struct {
	*phrase.Plan
	Left   []string // of the design, that the make cannot say or the plan does not reach
	Unsafe int      // steps after which, for a moment, nobody with full rights gets in
	// Typed stand in the lines for secrets that the site does not have in clear: whoever types
	// the lines puts them in.
	Typed []string
}

// Plan returns the steps from what a text says to the design. Each was tried on a model of
// the device: somebody with full rights gets in after it, while every server answers and
// while none does, as far as that is so before and after all of them.
func (d Design) Plan(held string) (*Plan, error) {
	d, err := d.model()
	if err != nil {
		return nil, err
	}
	read, err := d.Book.Read(strings.NewReader(held), nil)
	if err != nil {
		return nil, err
	}
	switch {
	case len(read.Unread) > 0:
		u := read.Unread[0]
		return nil, fmt.Errorf("line %d of what the device holds was not understood (%s): until the phrasebook "+
			"reads it or passes over it, nobody can tell what is held", u.Number, u.Means)
	case !read.Whole:
		return nil, fmt.Errorf("what the device holds was not seen to its end, and nothing follows from what it "+
			"does not say: is the text whole, and of the make that the phrasebook %s is of?", d.Book.Make)
	}
	records, left := inventory.Wanted(blueprint.Of(d.Device), d.Device, d.Book, d.secrets(), read)
	plan, err := d.Book.Plan(held, records, d.same)
	if err != nil {
		return nil, err
	}
	p := &Plan{Plan: plan, Left: left}
	for _, u := range plan.Left {
		p.Left = append(p.Left, u.String())
	}
	for _, s := range plan.Stays {
		p.Left = append(p.Left, "nothing takes it back: "+s)
	}
	p.unknown(d.Book)
	whole, err := plan.After(len(plan.Steps))
	if err != nil {
		return nil, err
	}
	before, err := d.entries(held)
	if err != nil {
		return nil, err
	}
	after, err := d.entries(whole)
	if err != nil {
		return nil, err
	}
	p.Unsafe = plan.Arrange(func(text string) bool {
		now, err := d.entries(text)
		return err == nil && !now.nowhere && (now.up || !before.up || !after.up) &&
			(now.dark || !before.dark || !after.dark)
	})
	missed, err := d.missed(whole)
	p.Left = append(p.Left, missed...)
	return p, err
}

// unknown notes the secrets that are to be put in by hand.
func (p *Plan) unknown(book *phrase.Book) {
	for _, s := range p.Steps {
		lines, err := book.Text(s.Lines, true)
		if err != nil {
			continue // it is said where it is typed
		}
		for word := range strings.FieldsSeq(strings.Join(lines, " ")) {
			if inventory.Unknown(word) && !slices.Contains(p.Typed, word) {
				p.Typed = append(p.Typed, word)
			}
		}
	}
}

// same reports whether a secret that is held can be the wanted one: what cannot be compared
// is left as it is.
func (d Design) same(_ string, held, wanted phrase.Value) bool {
	switch {
	case held.Secret == phrase.Clear && !inventory.Unknown(wanted.Text):
		return held.Text == wanted.Text
	case held.Secret == phrase.Hash && secrets.Known(held.Text) && !inventory.Unknown(wanted.Text):
		ok, err := secrets.PasswordIs(site.Password{Hash: held.Text}, wanted.Text, nil)
		return err != nil || ok
	}
	return true
}

// entries say whether somebody gets in with full rights.
type entries struct {
	up, dark bool // while every server answers, and while none does
	nowhere  bool // a name of the text leads nowhere
}

// replaced returns the site with what a text says in the place of the device.
func (d Design) replaced(text string) (*site.Site, site.Keys, *phrase.Text, error) {
	read, err := d.Book.Read(strings.NewReader(text), nil)
	if err != nil {
		return nil, nil, nil, err
	}
	made := inventory.Make([]*inventory.Device{inventory.Of(
		inventory.Saved{File: "plan", Device: d.Device.Name, Text: read})},
		inventory.Options{Hash: secrets.Known, Base: inventory.Base{Site: d.Site, Keys: d.Keys}})
	s, err := d.part.With(site.Source{Name: "plan", Text: []byte(made.Site), Lines: made.Lines, Replaces: true})
	if err != nil {
		return nil, nil, nil, fmt.Errorf("what the device would say makes no site: %w", err)
	}
	keys := site.Keys{}
	for _, of := range []site.Keys{d.Keys, made.Keys} {
		for name, value := range of {
			keys[name] = value
		}
	}
	return s, keys, read, nil
}

func (d Design) entries(text string) (e entries, err error) {
	s, keys, read, err := d.replaced(text)
	if err != nil {
		return e, err
	}
	e.nowhere = slices.ContainsFunc(read.Notes, phrase.Note.LeadsNowhere)
	shape := foresee.Forecaster{Site: s, Keys: keys, SkipSecond: true}.Shapes(
		[]*site.Device{s.Device(d.Device.Name)})[0]
	silent := map[*site.Server]bool{}
	for _, server := range shape.Servers() {
		silent[server] = true
	}
	for _, c := range shape.Cases {
		e.up = e.up || c.Full() && c.Holds(nil)
		e.dark = e.dark || c.Full() && c.Holds(silent)
	}
	return e, nil
}

// missed compares what the device would say with the design.
func (d Design) missed(text string) (all []string, err error) {
	read, err := d.Book.Read(strings.NewReader(text), nil)
	if err != nil {
		return nil, err
	}
	is := inventory.Of(inventory.Saved{File: "plan", Device: d.Device.Name, Text: read})
	base := inventory.Base{Site: d.Site, Keys: d.Keys}
	inventory.Make([]*inventory.Device{is}, inventory.Options{Base: base, Hash: secrets.Known})
	want, held, _ := inventory.Compared(is, base, d.Device, d.Book, inventory.Passwords{Known: secrets.Known,
		Is: func(string, string) bool { return true }}, false)
	for _, x := range drift.Compare(want, held.Facts, func(drift.About, string) string { return "" }) {
		if x.Kind != drift.Unread && !(x.What == "password" || x.What == "key") {
			all = append(all, "the plan does not reach it: "+x.String())
		}
	}
	return all, nil
}
