package rollout

import (
	"context"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

// One device goes alone first; never two of a pair go together; after one that
// fails none is begun.
func TestSeveralDevicesGoInStepsAndNeverBothOfAPair(t *testing.T) {
	t.Parallel()
	var devices []*site.Device
	for i := range 12 {
		d := &site.Device{Ref: site.Ref{Name: fmt.Sprint(i)}, Labels: map[string]string{"duty": "switch"}}
		if i < 6 {
			d.Labels[PairLabel] = fmt.Sprint(i / 2)
		}
		devices = append(devices, d)
	}
	for _, atOnce := range []int{1, 3, 50} {
		var mu sync.Mutex
		busy := map[*site.Device]bool{}
		most := 0
		order := []*site.Device{}
		gate, once := make(chan struct{}), sync.Once{}
		left := Each(context.Background(), devices, Order{Canary: devices[7], AtOnce: atOnce},
			func(d *site.Device) bool {
				mu.Lock()
				for b := range busy {
					require.False(t, pair(b, d), "%s and %s", b.Name, d.Name)
				}
				busy[d] = true
				order = append(order, d)
				most = max(most, len(busy))
				full := len(busy) == min(atOnce, 8) // as many as may go together: three of the pairs, and five others
				first := len(order) == 1
				if first {
					require.Len(t, busy, 1)
				} else if full {
					once.Do(func() { close(gate) })
				}
				mu.Unlock()
				if !first {
					<-gate // those after the first wait for each other
				}
				mu.Lock()
				defer mu.Unlock()
				delete(busy, d)
				return true
			})
		require.Empty(t, left)
		require.Len(t, order, 12)
		require.Same(t, devices[7], order[0])
		require.Equal(t, min(atOnce, 8), most)
	}
	var done []string
	left := Each(context.Background(), devices, Order{AtOnce: 1}, func(d *site.Device) bool {
		done = append(done, d.Name)
		return len(done) < 3
	})
	require.Equal(t, []string{"0", "1", "2"}, done)
	require.Len(t, left, 9)
	ctx, cancel := context.WithCancel(context.Background())
	left = Each(ctx, devices, Order{AtOnce: 2}, func(*site.Device) bool { cancel(); return true })
	require.Len(t, left, 11)
}
