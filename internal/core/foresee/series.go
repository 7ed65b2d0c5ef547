package foresee

import (
	"slices"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Login is one of several logins that follow each other on one device.
type Login struct {
	Way   *site.Way
	Who   Who
	When  []Condition   // servers that it does not name are up
	After time.Duration // since the end of the one before
}

// Ended is how one of several logins went.
type Ended struct {
	walk.Entry
	Steps []walk.Step
	// Rests are the servers that rest once its session is over, and for how long from then
	// on, where rests end by time.
	Rests map[*site.Server]time.Duration
}

// Series walks logins that follow each other on a device that behaves as another one of
// equal ways in. Servers that gave no answer are left alone as they would be. It returns
// also the aspects on which what happened hangs, in the order in which they came to matter.
func (f Forecaster) Series(d, as *site.Device, logins []Login) ([]Ended, []site.Aspect) {
	var endings []Ended
	var consulted []site.Aspect
	rests, now := new(walk.Rests), time.Duration(0)
	for _, l := range logins {
		now += l.After
		world := &imagined{reckoner: f, device: d, as: as, way: l.Way, who: l.Who, when: slices.Clone(l.When)}
		visit := &walk.Visit{Device: as, Way: as.Ways[slices.Index(d.Ways, l.Way)], World: world, Rests: rests,
			From: f.From, Now: now}
		world.visit = visit
		entry := visit.Enter(l.Who.typed)
		end := Ended{Entry: entry, Steps: slices.Clone(visit.Steps)}
		visit.Leave(visit.Now, 0)
		now, end.Rests = visit.Now, rests.All()
		for s := range end.Rests {
			end.Rests[s] -= now
		}
		endings = append(endings, end)
		consulted = union(consulted, visit.Consulted())
	}
	return endings, consulted
}

// union adds to some aspects those of others that are not among them.
func union(some, others []site.Aspect) []site.Aspect {
	for _, t := range others {
		if !slices.Contains(some, t) {
			some = append(some, t)
		}
	}
	return some
}
