package why

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
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

// missedEvery is how often it is said that a crowd came of which not all was judged.
const missedEvery = 5 * time.Second

// Following is what of a state folder is followed; the site is the argument of the
// call, else the one that the folder is of, where it is still there. A device that it
// does not have, where one is named, is an error.
func Following(c *call.Call, dir, device string) (f gather.Following, places evidence.Places, err error) {
	folder, places, err := call.RunIn(dir)
	if err != nil {
		return f, places, err
	}
	f.Folder = folder
	path := places.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	}
	if _, err := os.Stat(path); path != "" && (err == nil || len(c.Args) > 0) {
		l, err := c.LoadFrom(path, false)
		if err != nil {
			return f, places, err
		}
		if device != "" {
			if _, err := l.DeviceNamed(device); err != nil {
				return f, places, err
			}
		}
		f.Site = l.Site
		f.Keys = l.Keys
		f.Base = l.Base
	}
	return f, places, nil
}

// followWhy names the cause of each failed login as it happens.
func followWhy(c *call.Call, f *WhyFlags) error {
	dir := cmp.Or(f.State, call.DefaultState)
	follow, _, err := Following(c, dir, f.Symptom.Device)
	if err != nil {
		return err
	}
	follow.Symptom, follow.Started = f.Symptom, func() { c.Note("following the logins of %s", dir) }
	missed, said := 0, time.Now()
	follow.Came = func(_ evidence.Evidence, left gather.LeftOut) {
		if missed += left.No; missed > 0 && time.Since(said) > missedEvery {
			c.Note("%s that say no came in a crowd and were not judged one by one; mellowgate why -all -state %s "+
				"sums them up",
				show.Count(missed, "event"), dir)
			missed, said = 0, time.Now()
		}
	}
	var failed error
	follow.Each = func(v diagnose.Verdict) {
		if err := tellFailed(c, v); err != nil {
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
		return call.TaskError(err)
	}
	return failed
}

// tellFailed prints a failed login: its cause and place, then the repair.
func tellFailed(c *call.Call, v diagnose.Verdict) error {
	first := v.Causes[0]
	if *c.AsJSON {
		return show.Line(c.Out, failedLogin{Time: v.Story.Time, Device: v.Story.Device, Person: v.Story.Person,
			Access: v.Story.Access, Cause: first})
	}
	style := c.Style()
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
