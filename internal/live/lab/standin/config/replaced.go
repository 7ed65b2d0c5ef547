package config

import (
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/reach"
)

// Replaced returns a draft of a device that was described whole: its servers are reached as
// the surroundings have those of their addresses, with the keys that it holds. Servers of the
// device that it stands for stay reached as they were.
func Replaced(device *site.Device, keys site.Keys, before map[*site.Server]aaa.Target, around Surroundings) *Draft {
	w := &Draft{Device: device, Targets: map[*site.Server]aaa.Target{}, around: around}
	for s, t := range before {
		w.Targets[s] = t
	}
	for _, s := range device.Servers() {
		if _, there := before[s]; there {
			continue
		}
		t := w.reach(s, reach.Key(device, s, keys).Reveal())
		if around.From != nil {
			t.From = around.From(device.Asks())
		}
		w.Targets[s] = t
	}
	return w
}
