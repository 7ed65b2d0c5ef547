package cli

import (
	"errors"
	"fmt"
	"os"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	core "mellowgate/internal/core/learn"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/wire/capture"
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
	all, err := capturedOf(path, directory)
	if err != nil {
		return cannot(err)
	}
	var some []evidence.Exchange
	for _, x := range all.exchanges {
		if d := l.Device(x.Device); d != nil && d.Kind == f.kind {
			some = append(some, x)
		}
	}
	if len(some) == 0 {
		return wrong("%s has no question of a device of the kind %s", path, f.kind.Name)
	}
	all.meter.Login("", some)
	measured := all.meter.Measured()
	if *c.json {
		return show.JSON(c.Out, measuredJSON(measured))
	}
	c.say("%s of devices of the kind %s:\n", show.Count(len(some), "question"), f.kind.Name)
	c.printMeasured(measured)
	return nil
}

// capturedExchanges is what a capture holds.
type capturedExchanges struct {
	exchanges []evidence.Exchange
	meter     *core.Meter
}

func capturedOf(path string, d exchange.Directory) (capturedExchanges, error) {
	all := capturedExchanges{meter: core.NewMeter()}
	listener := exchange.New(d, func(x evidence.Exchange) { all.exchanges = append(all.exchanges, x) })
	for _, h := range []capture.Handler{listener, all.meter} {
		file, err := os.Open(path)
		if err != nil {
			return all, err
		}
		source, err := capture.Open(file)
		if err == nil {
			_, err = capture.Read(source, h)
		}
		if err = errors.Join(err, file.Close()); err != nil {
			return all, fmt.Errorf("%s: %w", path, err)
		}
	}
	listener.Close()
	return all, nil
}
