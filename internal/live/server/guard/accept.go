package guard

import (
	"context"
	"errors"
	"net"
	"time"
)

const (
	firstPause = 5 * time.Millisecond
	mostPause  = time.Second
)

// Retry calls take until ctx ends or take says that what it reads from is
// closed. After any other error it tells trouble, and waits before the next
// call: 5 ms, twice as long after each further error, at most 1 s. So a loop
// that accepts connections or reads packets does not spin while there are no
// descriptors left. trouble is told of the first error after a success.
func Retry(ctx context.Context, take func() error, trouble func(error)) {
	pause := time.Duration(0)
	for ctx.Err() == nil {
		err := take()
		if err == nil {
			pause = 0
			continue
		}
		if errors.Is(err, net.ErrClosed) || ctx.Err() != nil {
			return
		}
		if pause == 0 {
			pause = firstPause
			trouble(err)
		} else {
			pause = min(2*pause, mostPause)
		}
		timer := time.NewTimer(pause)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
		}
	}
}
