package watch

import (
	"math"
	"slices"
	"time"
)

// Figures are what a run says of itself at one moment. Counts go up from its start.
type Figures struct {
	Servers  map[string]Served // those that run there, by name
	Checking float64           // passwords that wait to be checked, or are being checked
	Waiting  float64           // records that wait for the database
	Troubles []string          // what is wrong, a sentence each
	Ends     map[string]time.Time
}

// Served is what one server has answered.
type Served struct {
	Answers float64  // of all kinds
	Dropped float64  // questions that it gave no answer
	Took    []Bucket // of the answers, from the shortest time to the longest
}

// Bucket counts the answers that took so long or less. The last one has no bound: its
// UpTo is the greatest there is.
type Bucket struct {
	UpTo  time.Duration
	Count float64
}

// Unbounded is Bucket.UpTo of all answers.
const Unbounded = time.Duration(math.MaxInt64)

// State is how a server is, in a word.
type State string

// The states of a server.
const (
	Answers  State = "answers"
	NotAsked State = "not asked" // for a minute, or since the screen began
	Drops    State = "drops"     // questions came in that minute, and some had no answer
	Ended    State = "ended"     // it no longer runs there
)

// Server is one server as it is by now.
type Server struct {
	Name      string
	State     State
	Faults    []string // that are set on it in a lab
	PerSecond float64  // answers, in the last ten seconds
	// P50 and P99 are within what time half, and 99 of 100, of the answers of the last
	// minute came: the bound of a bucket, Unbounded beyond the last; 0 where none came.
	P50, P99 time.Duration
	Dropped  float64 // in the last minute
}

// The times over which is counted.
const (
	rateOver  = 10 * time.Second
	timesOver = time.Minute
)

// timed are figures with their time.
type timed struct {
	at time.Time
	Figures
}

// Figures notes what the run says at a moment.
func (s *Seen) Figures(moment time.Time, f Figures) {
	if n := len(s.figures); n > 0 && less(f, s.figures[n-1].Figures) {
		s.figures = nil // another run has begun, and counts from 0
	}
	s.figures = append(s.figures, timed{at: moment, Figures: f})
	// The oldest that is kept is the last one from before the span.
	first := s.at(moment.Add(-timesOver))
	s.figures = slices.Delete(s.figures, 0, first)
	s.silent = ""
}

// less reports whether a count has gone down.
func less(now, before Figures) bool {
	for name, b := range before.Servers {
		if n, ok := now.Servers[name]; ok && n.Answers+n.Dropped < b.Answers+b.Dropped {
			return true
		}
	}
	return false
}

// NoFigures notes that the run says nothing, and why.
func (s *Seen) NoFigures(why string) { s.silent = why }

// at is the place of the last figures that are not after a time; 0 where all are.
func (s *Seen) at(t time.Time) int {
	i, _ := slices.BinarySearchFunc(s.figures, t, func(f timed, t time.Time) int {
		if f.at.After(t) {
			return 1
		}
		return -1
	})
	return max(i-1, 0)
}

// servers are those that run there, by their names.
func (s *Seen) servers() []Server {
	if len(s.figures) == 0 {
		return nil
	}
	last := s.figures[len(s.figures)-1]
	lately, minute := s.figures[s.at(last.at.Add(-rateOver))], s.figures[s.at(last.at.Add(-timesOver))]
	var all []Server
	for name, now := range last.Servers {
		v := Server{Name: name, State: NotAsked, Faults: s.faultsOf(name)}
		before := minute.Servers[name]
		answered := now.Answers - before.Answers
		v.Dropped = now.Dropped - before.Dropped
		if took := last.at.Sub(lately.at).Seconds(); took > 0 {
			v.PerSecond = (now.Answers - lately.Servers[name].Answers) / took
		}
		took := since(now.Took, before.Took)
		v.P50, v.P99 = within(took, 0.5), within(took, 0.99)
		switch {
		case s.silent != "":
			v.State, v.PerSecond = Ended, 0
		case v.Dropped > 0:
			v.State = Drops
		case answered > 0:
			v.State = Answers
		}
		all = append(all, v)
	}
	slices.SortFunc(all, func(a, b Server) int { return compareNames(a.Name, b.Name) })
	return all
}

// since is what came between two readings.
func since(now, before []Bucket) []Bucket {
	some := slices.Clone(now)
	for i := range some {
		if i < len(before) {
			some[i].Count -= before[i].Count
		}
	}
	return some
}

// within returns the bound below which a part of the answers lies, 0 where there are none.
func within(took []Bucket, part float64) time.Duration {
	if len(took) == 0 || took[len(took)-1].Count == 0 {
		return 0
	}
	for _, b := range took {
		if b.Count >= part*took[len(took)-1].Count {
			return b.UpTo
		}
	}
	return Unbounded
}
