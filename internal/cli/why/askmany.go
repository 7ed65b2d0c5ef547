package why

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/latency"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/routine"
)

// mostAtOnce bounds the questions that are on their way at the same time.
const mostAtOnce = 50

type bucketJSON struct {
	UpToSeconds float64 `json:"up_to_seconds"`
	Count       int     `json:"count"`
}

type askManyJSON struct {
	Server    string            `json:"server"`
	Protocol  site.Protocol     `json:"protocol"`
	Question  string            `json:"question"`
	Count     int               `json:"count"`
	Answers   map[walk.Said]int `json:"answers"`
	Seconds   secondsJSON       `json:"seconds"`
	Histogram []bucketJSON      `json:"histogram"`
}

type secondsJSON struct {
	Min float64 `json:"min"`
	P50 float64 `json:"p50"`
	P90 float64 `json:"p90"`
	P99 float64 `json:"p99"`
	Max float64 `json:"max"`
}

// askMany asks one question many times, at most rate times a second, and sums
// up the times of those that were answered.
func askMany(c *call.Call, a *asking, count, rate int) error {
	var mu sync.Mutex
	var wait routine.Group
	var times []time.Duration
	answers := map[walk.Said]int{}
	slots := make(chan struct{}, mostAtOnce)
	tick := time.NewTicker(time.Second / time.Duration(rate))
	defer tick.Stop()
	for i := 0; i < count && c.Context.Err() == nil; i++ {
		if i > 0 {
			select {
			case <-tick.C:
			case <-c.Context.Done():
				continue
			}
		}
		slots <- struct{}{}
		wait.Go(func() {
			defer func() { <-slots }()
			r := a.once()
			mu.Lock()
			defer mu.Unlock()
			answers[r.Answer]++
			if r.Answer != walk.SaidNothing {
				times = append(times, time.Duration(r.Seconds*float64(time.Second)))
			}
		})
	}
	wait.Wait()
	s := latency.Of(times)
	if *c.AsJSON {
		r := askManyJSON{Server: a.group.Name, Protocol: a.group.Protocol(), Question: a.name, Answers: answers,
			Histogram: []bucketJSON{},
			Seconds: secondsJSON{Min: s.Min.Seconds(), P50: s.P50.Seconds(), P90: s.P90.Seconds(), P99: s.P99.Seconds(),
				Max: s.Max.Seconds()}}
		for _, n := range answers {
			r.Count += n
		}
		for _, b := range s.Buckets {
			r.Histogram = append(r.Histogram, bucketJSON{UpToSeconds: b.UpTo.Seconds(), Count: b.Count})
		}
		if err := show.JSON(c.Out, r); err != nil {
			return err
		}
	} else {
		printTimes(c, a.name, answers, s)
	}
	for _, answer := range slices.Sorted(maps.Keys(answers)) {
		if err := answerStatus(answer); err != nil {
			return err
		}
	}
	return nil
}

func printTimes(c *call.Call, question string, answers map[walk.Said]int, s latency.Summary) {
	style := c.Style()
	var rows [][]string
	for _, answer := range slices.Sorted(maps.Keys(answers)) {
		rows = append(rows, []string{question, answerWords[answer], fmt.Sprint(answers[answer])})
	}
	style.Table(c.Out, []string{"question", "answer", "times"}, rows)
	if s.Count == 0 {
		return
	}
	show := func(d time.Duration) string { return call.Milliseconds(d.Seconds()) }
	c.Say("\n")
	style.Table(c.Out, []string{"shortest", "half within", "90 % within", "99 % within", "longest"},
		[][]string{{show(s.Min), show(s.P50), show(s.P90), show(s.P99), show(s.Max)}})
	c.Say("\n")
	most := 0
	for _, b := range s.Buckets {
		most = max(most, b.Count)
	}
	for _, b := range s.Buckets {
		bar := strings.Repeat("#", (b.Count*50+most-1)/most)
		c.Say("%s\n", strings.TrimRight(fmt.Sprintf("  up to %8s  %6d  %s", show(b.UpTo), b.Count, bar), " "))
	}
}
