package guard

import (
	"bytes"
	"context"
	"runtime"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/routine"
)

// who returns what names the goroutine that calls it.
func who() string {
	b := make([]byte, 64)
	return string(bytes.Fields(b[:runtime.Stack(b, false)])[1])
}

func TestAWorkerThatRestsIsUsedAgainForAWhile(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		var running routine.Group
		w := NewWorkers(ctx, &running)
		by := func() string {
			name := make(chan string, 1)
			w.Go(func() { name <- who() })
			synctest.Wait()
			return <-name
		}
		first := by()
		require.Equal(t, first, by())
		time.Sleep(restsFor - time.Millisecond)
		require.Equal(t, first, by(), "its rest began anew")
		time.Sleep(restsFor + time.Millisecond)
		require.NotEqual(t, first, by(), "it has ended")

		hold, held := make(chan struct{}), make(chan struct{})
		w.Go(func() { close(held); <-hold })
		<-held
		require.NotEmpty(t, by(), "work that lasts holds up no other")
		stop()
		close(hold)
		running.Wait() // who works and who rests
	})
}
