package diagnose

import (
	"slices"
	"sort"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// index finds evidence by what it is about, and then by time: a day of a busy
// service has millions of events, and each story asks for a few of them.
type index struct {
	ofDevice, ofServer map[string][]evidence.Event    // faults that were set are not among them
	asked, askedOf     map[string][]evidence.Exchange // by who asked, and by the server
	asking             map[[2]string]int              // how many exchanges a server had with an asker
	lines              map[string][]evidence.LogLine
	foreseen           map[foreseenKey]*foresee.Case // worked out once for who is alike
	directory          []evidence.Exchange           // what directories told servers
}

func newIndex(e evidence.Evidence) *index {
	x := &index{ofDevice: map[string][]evidence.Event{}, ofServer: map[string][]evidence.Event{},
		asked: map[string][]evidence.Exchange{}, askedOf: map[string][]evidence.Exchange{}, asking: map[[2]string]int{},
		lines: map[string][]evidence.LogLine{}, foreseen: map[foreseenKey]*foresee.Case{}}
	for _, v := range e.Events {
		if v.Question == evidence.FaultQuestion {
			continue
		}
		device := v.Device
		if device == "" {
			device = v.Client
		}
		x.ofDevice[device] = append(x.ofDevice[device], v)
		x.ofServer[v.Server] = append(x.ofServer[v.Server], v)
	}
	for _, v := range e.Exchanges {
		if v.Question == site.AskDirectory {
			x.directory = append(x.directory, v)
			continue
		}
		x.asked[v.AskedBy()] = append(x.asked[v.AskedBy()], v)
		x.askedOf[v.AskedOf()] = append(x.askedOf[v.AskedOf()], v)
		x.asking[[2]string{v.AskedOf(), v.AskedBy()}]++
	}
	for _, v := range e.Log {
		x.lines[v.Device] = append(x.lines[v.Device], v)
	}
	inOrder(x.ofDevice, eventTime)
	inOrder(x.ofServer, eventTime)
	inOrder(x.asked, exchangeTime)
	inOrder(x.askedOf, exchangeTime)
	inOrder(x.lines, lineTime)
	return x
}

func eventTime(v evidence.Event) time.Time       { return v.Time }
func exchangeTime(v evidence.Exchange) time.Time { return v.Time }
func lineTime(v evidence.LogLine) time.Time      { return v.Time }

func inOrder[T any](lists map[string][]T, at func(T) time.Time) {
	for _, some := range lists {
		slices.SortStableFunc(some, func(a, b T) int { return at(a).Compare(at(b)) })
	}
}

// between returns the part of a sorted list that lies in a time, ends included.
func between[T any](values []T, at func(T) time.Time, from, to time.Time) []T {
	first := sort.Search(len(values), func(i int) bool { return !at(values[i]).Before(from) })
	last := sort.Search(len(values), func(i int) bool { return at(values[i]).After(to) })
	if first >= last {
		return nil
	}
	return values[first:last]
}
