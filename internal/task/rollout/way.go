package rollout

import (
	"fmt"
	"time"

	"github.com/beevik/etree"

	"mellowgate/internal/live/client/device"
	"mellowgate/internal/wire/netconf"
)

// Datastores, RFC 6241 sections 5.1 and 8.3.
const (
	running   = "running"
	candidate = "candidate"
)

// way is how a device is changed, and how a change comes back.
type way struct {
	confirmed bool // the candidate, with a confirmed commit: the device takes it back by itself
	cancel    bool // it can be asked to, version 1.1
	direct    bool // there is no candidate: what is written runs
}

// wayOf chooses the way from what a device offers.
func wayOf(d Device, withoutWayBack bool) (way, error) {
	w := way{cancel: d.Has(netconf.ConfirmedCommit), direct: !d.Has(netconf.Candidate)}
	w.confirmed = !w.direct && (w.cancel || d.Has(netconf.ConfirmedCommit10))
	missing := "confirmed commit (RFC 6241, section 8.4)"
	if w.direct {
		missing = "candidate (RFC 6241, section 8.3)"
	}
	if _, ok := d.(editsAtOnce); ok {
		missing = "way back at all, for it is managed over RESTCONF (RFC 8040)"
	}
	switch {
	case w.confirmed:
		return w, nil
	case !withoutWayBack:
		return w, fmt.Errorf("%w: it offers no %s; with -without-way-back this program puts back what was there, "+
			"which it cannot when it dies", ErrNoWayBack, missing)
	case w.direct && !d.Has(netconf.WritableRunning):
		return w, fmt.Errorf("%w, and cannot be changed over NETCONF: it offers neither a candidate nor a running "+
			"datastore that can be written", ErrNoWayBack)
	}
	return w, nil
}

// putsBack reports whether it is this program that puts back what was there.
func (w way) putsBack() bool { return !w.confirmed }

// stores are the datastores that are locked.
func (w way) stores() []string {
	if w.direct {
		return []string{running}
	}
	return []string{running, candidate}
}

// comesBack says how a change comes back that runs.
func (w way) comesBack(within time.Duration) string {
	if w.confirmed {
		return fmt.Sprintf(", and comes back by itself after %s, or when this program ends", within)
	}
	return "; the device cannot take it back by itself: this program does, unless it dies"
}

// atWorst says what becomes of a change that was perhaps not taken back.
func (w way) atWorst(within time.Duration, kept string) string {
	if w.confirmed {
		return fmt.Sprintf("; it comes back by itself within %s", within)
	}
	return "; what was there is in " + kept
}

// run lets a stage run.
func (w way) run(d Device, s stage, within time.Duration) error {
	switch {
	case w.confirmed:
		return d.CommitConfirmed(within, "")
	case !w.direct:
		return d.Commit("")
	}
	return editAll(d, s.edits)
}

// editsAtOnce is a device that takes several edits as one: nobody is shut out in between.
type editsAtOnce interface {
	EditTogether(store string, edits []*etree.Element) error
}

func editAll(d Device, edits []*etree.Element) error {
	if all, ok := d.(editsAtOnce); ok {
		return all.EditTogether(running, edits)
	}
	for _, e := range edits {
		if err := d.Edit(running, e); err != nil {
			return err
		}
	}
	return nil
}

// keep makes a stage that runs stay.
func (w way) keep(d Device) error {
	if w.confirmed {
		return d.Commit("")
	}
	return nil
}

// takeBack takes back what runs, as well as it can be done.
func (w way) takeBack(d Device, before device.Held) {
	switch {
	case !w.confirmed:
		_ = w.putBack(d, before)
	case w.cancel:
		_ = d.Cancel("")
	}
}

// putBack puts what was there in place of what runs, for good.
func (w way) putBack(d Device, before device.Held) error {
	if w.direct {
		return d.Edit(running, asBefore(before))
	}
	if err := d.Discard(); err != nil {
		return err
	}
	if err := d.Edit(candidate, asBefore(before)); err != nil {
		return err
	}
	return d.Commit("")
}
