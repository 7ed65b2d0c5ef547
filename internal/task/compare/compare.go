// Package compare reads what is on devices, judges it by the site, and writes
// what is found into the site. How a device is reached is given to it; what a
// difference is, is drift's to say; how it is put right, rollout's.
package compare

import (
	"context"
	"fmt"
	"slices"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/routine"
)

// Compared is a device compared with the site.
type Compared struct {
	Device      string       `json:"device"`
	Read        bool         `json:"read"`
	Models      string       `json:"models"`
	Problem     string       `json:"problem"` // why it could not be read
	InPart      bool         `json:"in_part"` // not all of a text was read: what it does not say is not known
	Differences []Difference `json:"differences"`
	Unshown     []string     `json:"unshown"` // secrets that the device does not show
	Notes       []string     `json:"notes"`
	Adopted     string       `json:"adopted"` // what was written into the site as found
	// Since is what has changed since the last look; nil where that was not asked, or the
	// device could not be read.
	Since *Since `json:"since"`

	held device.Held
	text *Text // what was read in place of the device, nil for the device
}

// Difference is one, and whether found says it in the site.
type Difference struct {
	drift.Difference
	Known bool `json:"known"`
	// At is the place in the text that was read in place of the device, "" for none.
	At string `json:"at"`
}

// Drifted reports whether something differs that the site does not know of.
func (r Compared) Drifted() bool {
	return slices.ContainsFunc(r.Differences, func(d Difference) bool { return !d.Known })
}

// Sites are the two readings of a site that a comparison needs: the design
// alone, and with what was found on devices.
type Sites struct{ Design, Found sitefile.Opened }

// Target is a device and how it is reached. A device with a problem is not read.
type Target struct {
	Device  *site.Device
	Reach   device.Target
	Problem string
	// Lines reads what the device shows or has saved, in the words of its make; nil: it is read
	// over NETCONF or RESTCONF.
	Lines func(context.Context) (Text, error)
}

// All reads devices, at most atOnce at a time, and returns them in their order.
// What cannot be read is said in its Problem; the error is that of ctx.
func All(ctx context.Context, s Sites, targets []Target, atOnce int) ([]Compared, error) {
	some := make([]Compared, len(targets))
	room := make(chan struct{}, max(atOnce, 1))
	var all routine.Group
	for i, t := range targets {
		some[i] = Compared{Device: t.Device.Name, Problem: t.Problem, Differences: []Difference{}, Unshown: []string{},
			Notes: []string{}}
		if t.Problem != "" {
			continue
		}
		room <- struct{}{}
		all.Go(func() {
			defer func() { <-room }()
			if err := some[i].read(ctx, s, t); err != nil {
				some[i].Problem = err.Error()
			}
		})
	}
	all.Wait()
	return some, ctx.Err()
}

// read reads one device.
func (r *Compared) read(ctx context.Context, s Sites, t Target) error {
	if t.Lines != nil {
		text, err := t.Lines(ctx)
		if err != nil {
			return err
		}
		r.text = &text
		r.Read = true
		r.Models = "the phrasebook of " + text.Book.Make
		r.judge(s, t.Device)
		return nil
	}
	session, err := device.Manage(ctx, t.Reach)
	if err != nil {
		return err
	}
	defer session.End()
	if r.held, err = session.Read("running"); err != nil {
		return err
	}
	r.Read, r.Models = true, r.held.Models.String()
	r.judge(s, t.Device)
	return nil
}

// judge compares what was read with the design, and with what the site knows.
func (r *Compared) judge(s Sites, d *site.Device) {
	r.Differences = []Difference{}
	r.Unshown = []string{}
	r.Notes = []string{}
	if r.text != nil {
		r.judgeText(s)
		return
	}
	found := device.Differences(s.Design.Site, d, s.Design.Keys, r.held)
	now := s.Found.Device(d.Name)
	unknown, stale := device.Unknown(s.Found.Site, now, s.Found.Keys, r.held, found)
	r.Notes = append(r.Notes, r.held.Models.Notes...)
	if stale {
		r.Notes = append(r.Notes, fmt.Sprintf("found (%s) in the site says what is not so any more: take that out",
			s.Found.Where(now.Found.Place)))
	}
	for _, x := range found {
		if x.Kind == drift.Unread {
			r.Unshown = append(r.Unshown, x.String())
			continue
		}
		r.Differences = append(r.Differences, Difference{Difference: x, Known: !slices.Contains(unknown, x)})
	}
}

// Adopt writes what was found on drifted devices into the site, and judges them
// again. The site is read again after each, by load: places move.
func Adopt(s Sites, some []Compared, load func() (sitefile.Opened, error)) error {
	for i := range some {
		r := &some[i]
		if !r.Read || !r.Drifted() {
			continue
		}
		found, fresh := r.found(s)
		if found.Empty() {
			r.Notes = append(r.Notes, "nothing was adopted: found has no word for these differences; send puts the "+
				"design there")
			continue
		}
		d := s.Found.Device(r.Device)
		if err := sitefile.WriteFound(s.Found.Site, s.Found.Path, s.Found.Base, d, found, fresh); err != nil {
			return err
		}
		r.Adopted = found.YAML()
		var err error
		if s.Found, err = load(); err != nil {
			return err
		}
		if r.judge(s, s.Design.Device(r.Device)); r.Drifted() {
			r.Notes = append(r.Notes, "found has no word for what is not marked as known; send puts the design there")
		}
	}
	return nil
}

// found returns what is on the device in the words of the site, and the values of
// keys that the site does not have yet, by the name that each is given.
func (r *Compared) found(s Sites) (drift.Found, map[string]site.Secret) {
	fresh := map[string]site.Secret{}
	differences := make([]drift.Difference, len(r.Differences))
	for i, x := range r.Differences {
		differences[i] = x.Difference
	}
	held := r.held.Facts
	if r.text != nil {
		held = r.text.held.Facts
	}
	return drift.Adopt(s.Design.Site, s.Design.Device(r.Device), differences, held,
		func(server string, value site.Secret) string {
			for name, have := range s.Found.Keys {
				if have.Equal(value) {
					return name
				}
			}
			name := "held-" + r.Device + "-" + server
			fresh[name] = value
			return name
		}), fresh
}
