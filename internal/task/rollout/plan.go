package rollout

import (
	"slices"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/live/client/device"
)

// plan works out the configuration that is sent, and notes what would be changed.
func (r *run) plan(held device.Held) error {
	p := &r.report.Plan
	_, config, left, err := device.Wanted(r.Device, r.Keys, held.Models)
	if err != nil {
		return err
	}
	r.config = config
	p.NotCarried, p.Data = left, shown(edits(held, config))
	p.Notes = held.Models.Notes
	for _, d := range device.Differences(r.Site, r.Device, r.Keys, held) {
		if stays(d) {
			p.Stays = append(p.Stays, d.String())
			continue
		}
		p.Differences = append(p.Differences, d)
	}
	return nil
}

// stays reports whether a difference is left alone: an account that the site does
// not have may be somebody's way in.
func stays(d drift.Difference) bool { return d.Kind == drift.Extra && d.About == drift.Account }

// lacks returns the differences that are left to the design, of those that can be
// seen.
func (r *run) lacks(held device.Held, about func(drift.Difference) bool) []drift.Difference {
	return slices.DeleteFunc(device.Differences(r.Site, r.Device, r.Keys, held), func(d drift.Difference) bool {
		return stays(d) || d.Kind == drift.Unread || !about(d)
	})
}

// same reports whether two readings of a device are equal.
func same(a, b drift.Facts) bool {
	return len(drift.Compare(a, b, func(drift.About, string) string { return "" })) == 0
}
