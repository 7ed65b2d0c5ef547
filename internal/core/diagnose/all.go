package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
)

// Group is one cause at one place, with every login that it spoilt.
type Group struct {
	Cause
	Logins  int       `json:"logins"`
	People  []string  `json:"people"`
	Devices []string  `json:"devices"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
}

// Summary is everything wrong in some evidence.
type Summary struct {
	Groups  []Group  `json:"groups"`
	Logins  int      `json:"logins"`  // those that were judged
	Healthy int      `json:"healthy"` // those with nothing wrong
	Unseen  int      `json:"unseen"`  // those of which only a part is there, with nothing wrong in it
	Clocks  []string `json:"clocks,omitempty"`
}

// All judges every login and groups what went wrong by cause and place, the
// worst first: what lies between devices and servers, then in the design, then
// with people; of these what hit most devices, then most logins.
func All(e evidence.Evidence, symptom Symptom) Summary {
	s := Summary{Groups: []Group{}}
	s.Clocks = Each(e, symptom, nil, func(v Verdict) {
		if v.Unseen {
			s.Unseen++
			return
		}
		s.Logins++
		if v.Healthy {
			s.Healthy++
		}
		for _, c := range v.Causes {
			if !c.Instead { // the second guess of a single login
				s.add(c, v.Story)
			}
		}
	})
	slices.SortStableFunc(s.Groups, func(a, b Group) int {
		return cmp.Or(cmp.Compare(weight(a), weight(b)), cmp.Compare(len(b.Devices), len(a.Devices)),
			cmp.Compare(b.Logins, a.Logins))
	})
	return s
}

// Each judges every login that fits and that want takes (nil: all of them), the oldest
// first, and says which clocks differ.
func Each(e evidence.Evidence, symptom Symptom, want func(Story) bool, each func(Verdict)) (clocks []string) {
	e, clocks = aligned(e)
	x := newIndex(e)
	for _, story := range stories(e, x) {
		if symptom.fits(story) && (want == nil || want(story)) {
			each(judge(e, x, story, symptom))
		}
	}
	return clocks
}

// ofServers are causes that lie between a device and a server, and not with who
// logs in: one is the same for everybody.
func ofServers(c Cause) bool {
	return c.Layer == "network" || c.Layer == "transport" || c.Layer == "protocol"
}

// weight orders groups, the worst with the least.
func weight(g Group) int {
	switch {
	case g.Follows:
		return 3
	case ofServers(g.Cause), g.Layer == "records":
		return 0
	case g.Layer == "design" && g.Cause.Cause != LocalWhileServerAnswers:
		return 1
	}
	return 2
}

// ofOneServer are causes that are most often the same for every device that asks
// a server.
var ofOneServer = []string{ServerOff, Unreachable, TooSlow, ServerSaysError, DirectoryDown, DirectoryRefusesUs,
	DirectoryNoBase, DirectoryTLS,
	RecordNotKept}

func (s *Summary) add(c Cause, story Story) {
	i := slices.IndexFunc(s.Groups, func(g Group) bool {
		switch {
		case g.Cause.Cause != c.Cause:
			return false
		case slices.Contains(ofOneServer, c.Cause):
			return g.Server == c.Server
		case ofServers(c):
			return g.Where == c.Where
		}
		return g.Repair == c.Repair && slices.Contains(g.People, story.Person)
	})
	if c.Cause == Resting { // what made it rest is here too
		if k := slices.IndexFunc(s.Groups, func(g Group) bool {
			return g.Cause.Cause != Resting && g.Server == c.Server && slices.Contains(g.Devices, story.Device)
		}); k >= 0 {
			i = k
		}
	}
	if i < 0 {
		s.Groups = append(s.Groups, Group{Cause: c, First: story.Time, People: []string{}, Devices: []string{}})
		i = len(s.Groups) - 1
	}
	g := &s.Groups[i]
	g.Logins++
	g.Last = story.Time
	g.Confidence = max(g.Confidence, c.Confidence)
	g.People, g.Devices = appendNew(g.People, story.Person), appendNew(g.Devices, story.Device)
	if n := len(g.Devices); n > 1 && slices.Contains(ofOneServer, c.Cause) {
		g.Where = fmt.Sprintf("server %s, for %d devices", c.Server, n)
		g.Repair = strings.ReplaceAll(g.Repair, g.Devices[0], "the devices")
	}
}
