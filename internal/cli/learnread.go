package cli

import (
	"io"
	"os"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/learn"
)

// learnRead reads off what happened anyway.
func (c *Call) learnRead(f *learnFlags, l loaded) error {
	path, directory := f.capture, exchange.Designed(l.Site, l.Keys)
	if path == "" {
		folder, err := state.Open(f.state)
		if err != nil {
			return failure{status: ExitUsage, err: err}
		}
		places, err := folder.Places()
		if err != nil {
			return failure{status: ExitUsage, err: err}
		}
		path, directory = folder.Traffic(), exchange.InPlaces(l.Site, l.Keys, places)
	}
	open := func() (io.ReadCloser, error) { return os.Open(path) }
	if _, err := os.Stat(path); err != nil {
		return failure{status: ExitUsage, err: files.Unreadable(path, err)}
	}
	measured, questions, note, err := learn.Read(open, path, directory, f.kind)
	switch {
	case err != nil:
		return failure{status: ExitUsage, err: err}
	case questions == 0:
		return wrong("%s has no question of a device of the kind %s", path, f.kind.Name)
	}
	if note != "" {
		c.note("%s", note)
	}
	if *c.json {
		return show.JSON(c.Out, measuredJSON(measured))
	}
	c.say("%s of devices of the kind %s:\n", show.Count(questions, "question"), f.kind.Name)
	c.printMeter(measuredJSON(measured))
	return nil
}
