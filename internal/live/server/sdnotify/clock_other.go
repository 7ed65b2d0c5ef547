//go:build !linux

package sdnotify

import "time"

// monotonic returns 0: there is no such manager here.
func monotonic() time.Duration { return 0 }
