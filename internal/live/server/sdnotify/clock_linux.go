package sdnotify

import (
	"time"

	"golang.org/x/sys/unix"
)

// monotonic returns the clock by which a manager tells one message from an older one.
func monotonic() time.Duration {
	var t unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_MONOTONIC, &t) // that clock is always there
	return time.Duration(t.Nano())
}
