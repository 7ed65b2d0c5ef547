package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/gather"
)

// failedLogin is a login that failed, as it is told while it is followed.
type failedLogin struct {
	Time   time.Time `json:"time"`
	Device string    `json:"device"`
	Person string    `json:"person"`
	Access string    `json:"access"`
	diagnose.Cause
}

// followWhy names the cause of each failed login as it happens.
func (c *Call) followWhy(f *whyFlags) error {
	dir := f.state
	if dir == "" {
		dir = defaultState
	}
	folder, err := state.Open(dir)
	if err != nil {
		return failure{status: ExitUsage, err: err}
	}
	places, err := folder.Places()
	if err != nil {
		return failure{status: ExitUsage, err: err}
	}
	follow := gather.Following{Folder: folder, Symptom: f.symptom,
		Started: func() { c.note("following the logins of %s", dir) }}
	path := places.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	}
	if _, err := os.Stat(path); path != "" && (err == nil || len(c.Args) > 0) {
		l, err := c.loadFrom(path, false)
		if err != nil {
			return err
		}
		if f.symptom.Device != "" {
			if _, err := l.device(f.symptom.Device); err != nil {
				return err
			}
		}
		follow.Site, follow.Keys, follow.Base = l.Site, l.Keys, l.Base
	}
	var failed error
	follow.Each = func(v diagnose.Verdict) {
		if err := c.tellFailed(v); err != nil {
			failed = err
		}
	}
	ctx := c.Context
	if f.spanSaid {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, f.span)
		defer stop()
	}
	if err := gather.Follow(ctx, follow); err != nil {
		return cannot(err)
	}
	return failed
}

// tellFailed prints a failed login: its cause and place, then the repair.
func (c *Call) tellFailed(v diagnose.Verdict) error {
	first := v.Causes[0]
	if *c.json {
		return show.Line(c.Out, failedLogin{Time: v.Story.Time, Device: v.Story.Device, Person: v.Story.Person,
			Access: v.Story.Access, Cause: first})
	}
	style := c.style()
	who := v.Story.Person
	if who == "" {
		who = "somebody"
	}
	style.Wrap(c.Out, "", fmt.Sprintf("%s  %s: %s (%s)", v.Story.Time.Local().Format("15:04:05"),
		style.Paint(show.Bad, first.Cause), show.Safe(first.Where), show.Safe(who)))
	style.Wrap(c.Out, "          ", show.Safe(first.Says))
	style.Item(c.Out, "          repair   ", show.Safe(first.Repair))
	return nil
}
