package latency

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestPercentilesAndBuckets(t *testing.T) {
	t.Parallel()
	var times []time.Duration
	for i := range 100 {
		times = append(times, time.Duration(100-i)*time.Millisecond)
	}
	s := Of(times)
	ms := time.Millisecond
	require.Equal(t, []time.Duration{ms, 50 * ms, 90 * ms, 99 * ms, 100 * ms},
		[]time.Duration{s.Min, s.P50, s.P90, s.P99, s.Max})
	require.Equal(t, []Bucket{{ms, 1}, {2 * ms, 1}, {5 * ms, 3}, {10 * ms, 5}, {20 * ms, 10}, {50 * ms, 30},
		{100 * ms, 50}}, s.Buckets)
	require.Equal(t, Summary{}, Of(nil))
}

func TestPropertyEveryTimeIsInOneBucket(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		times := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) time.Duration {
			return time.Duration(rapid.Int64Range(0, int64(time.Minute)).Draw(t, "ns"))
		}), 1, 50).Draw(t, "times")
		s, n := Of(times), 0
		for i, b := range s.Buckets {
			n += b.Count
			if i > 0 && b.UpTo <= s.Buckets[i-1].UpTo {
				t.Fatal("buckets do not grow")
			}
		}
		if n != len(times) || s.Count != n || s.Min > s.P50 || s.P50 > s.P99 || s.P99 > s.Max {
			t.Fatalf("%d of %d: %+v", n, len(times), s)
		}
	})
}
