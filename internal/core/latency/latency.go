// Package latency sums up how long many answers took.
package latency

import (
	"math"
	"slices"
	"time"
)

// Summary is the distribution of some times.
type Summary struct {
	Count                   int
	Min, P50, P90, P99, Max time.Duration
	Buckets                 []Bucket // from the shortest to the longest, without gaps
}

// Bucket counts the times above the bucket before it, up to UpTo.
type Bucket struct {
	UpTo  time.Duration
	Count int
}

// Of sums up times; none give the zero Summary. The buckets grow as 1, 2, 5,
// 10, 20, 50 and so on.
func Of(times []time.Duration) Summary {
	if len(times) == 0 {
		return Summary{}
	}
	sorted := slices.Clone(times)
	slices.Sort(sorted)
	at := func(q float64) time.Duration {
		return sorted[min(len(sorted)-1, int(math.Ceil(q*float64(len(sorted))))-1)]
	}
	s := Summary{Count: len(sorted), Min: sorted[0], P50: at(0.5), P90: at(0.9), P99: at(0.99),
		Max: sorted[len(sorted)-1]}
	edge, step := time.Microsecond, 0
	next := func() {
		edge = []time.Duration{2 * edge, edge / 2 * 5, 2 * edge}[step%3]
		step++
	}
	i := 0
	for i < len(sorted) {
		b := Bucket{UpTo: edge}
		for i < len(sorted) && sorted[i] <= edge {
			b.Count++
			i++
		}
		if b.Count > 0 || len(s.Buckets) > 0 {
			s.Buckets = append(s.Buckets, b)
		}
		next()
	}
	return s
}
