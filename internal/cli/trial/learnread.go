package trial

import (
	"io"
	"os"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/task/learn"
)

// learnRead reads off what happened anyway.
func learnRead(c *call.Call, f *learnFlags, l call.Loaded) error {
	path, directory := f.capture, exchange.Designed(l.Site, l.Keys)
	if path == "" {
		folder, places, err := call.RunIn(f.state)
		if err != nil {
			return err
		}
		path, directory = folder.Traffic(), exchange.InPlaces(l.Site, l.Keys, places)
	}
	open := func() (io.ReadCloser, error) { return os.Open(path) }
	if _, err := os.Stat(path); err != nil {
		return call.UsageError(files.Unreadable(path, err))
	}
	measured, questions, note, err := learn.Read(open, path, directory, f.platform)
	switch {
	case err != nil:
		return call.UsageError(err)
	case questions == 0:
		return call.Usagef("%s has no question of a device of the platform %s", path, f.platform.Name)
	}
	if note != "" {
		c.Note("%s", note)
	}
	if *c.AsJSON {
		return show.JSON(c.Out, measuredJSON(measured))
	}
	c.Say("%s of devices of the platform %s:\n", show.Count(questions, "question"), f.platform.Name)
	printMeter(c, measuredJSON(measured))
	return nil
}
