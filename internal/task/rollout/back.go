package rollout

import (
	"context"
	"fmt"
	"time"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/live/client/device"
)

// takeBack takes a change back, and looks from a new connection whether the
// device is as it was. Where the confirmation was asked for, and its answer lost,
// the device may have kept the change: its session is over, and it still holds
// it. What a device takes back in part only is put back from what was kept.
func (r *run) takeBack(before device.Held, why error, confirming bool) error {
	r.report.Why = why.Error()
	r.Say("taking it back: " + r.report.Why)
	r.way.takeBack(r.old, before) // where it fails, the end of the session does it
	r.old.End()
	ctx, cancel := context.WithTimeout(r.lasting, r.Unseen)
	defer cancel()
	r.report.Outcome = Unsure
	began, mended := time.Now(), false
	for ctx.Err() == nil {
		s, err := r.Open(ctx)
		if err == nil {
			now, failure := s.Read(running)
			switch {
			case failure != nil:
			case same(before.Facts, now.Facts):
				s.End()
				r.report.Outcome = TakenBack
				r.Say("taken back: a new connection finds the device as it was")
				return nil
			case confirming && len(r.lacks(now, ofAll)) == 0:
				s.End()
				r.report.Outcome = Kept
				r.Say("the answer to the confirmation was lost; a new connection finds that the change stays")
				return nil
			case !mended && time.Since(began) > r.Unseen/5 && before.Facts.Shows():
				mended = true
				r.mend(s, before, now)
			}
			s.End()
		}
		timer := time.NewTimer(min(200*time.Millisecond, r.Unseen/10))
		select {
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
	}
	r.Say("it could not be seen that the device is as it was" + r.way.atWorst(r.Window, r.report.Kept))
	return nil
}

// mend puts back from what was kept what the device has not taken back.
func (r *run) mend(s Device, before, now device.Held) {
	left := drift.Compare(before.Facts, now.Facts, func(drift.About, string) string { return "" })
	r.Say(fmt.Sprintf("the device is not wholly as it was (%s): putting back what was kept", left[0]))
	if err := r.way.putBack(s, before); err != nil {
		r.Say("that failed: " + err.Error())
	}
}
