// Package guard has the bounded memories of a service that strangers may ask:
// whose turn it is, who failed how often, which code was used, what was answered
// already, which password was right a moment ago. Each is a type of its own,
// safe for use by several goroutines, and bounded in number and in time. They
// know nothing of listeners, packets or decisions: that is left to the gate.
package guard

import "time"

// lasts reports whether something that holds for a span, until a moment, holds
// now. After the clock was set back it does not hold for longer.
func lasts(until, now time.Time, span time.Duration) bool {
	left := until.Sub(now)
	return left > 0 && left <= span
}
