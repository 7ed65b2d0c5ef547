package walk

import (
	"maps"
	"slices"
	"sync"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// Rests is which servers a device leaves alone, and until when. The sessions
// of a device share it. The zero value is ready: no server rests.
type Rests struct {
	mu    sync.Mutex
	until map[*site.Server]time.Duration
}

// Until returns the time until which s rests, and whether it rests at now.
func (r *Rests) Until(s *site.Server, now time.Duration, byTime bool) (time.Duration, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	until, resting := r.until[s]
	return until, resting && (!byTime || now < until)
}

func (r *Rests) rest(s *site.Server, until time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.until == nil {
		r.until = map[*site.Server]time.Duration{}
	}
	r.until[s] = until
}

// All returns every server that was sent to rest and not woken since, with the time until
// which it rests, where rests end by time.
func (r *Rests) All() map[*site.Server]time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	return maps.Clone(r.until)
}

// Some reports whether any server was sent to rest.
func (r *Rests) Some() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.until) > 0
}

// Wake ends the rest of servers.
func (r *Rests) Wake(servers ...*site.Server) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range servers {
		delete(r.until, s)
	}
}

// Ask puts one question to a group, as the device would in the middle of a
// walk, and returns the step with its tries.
func (v *Visit) Ask(g *site.Group, q Question) Step {
	q.Device = v.Device
	q.Way = v.Way
	q.Person = v.Person
	step := v.group(g, q)
	step.Purpose, step.Method = q.Purpose, site.AskGroup(g)
	return step
}

// group asks the servers of a group in order, those at rest passed over. The
// first answer decides.
func (v *Visit) group(g *site.Group, q Question) Step {
	usable := v.usable(g)
	if len(usable) == 0 {
		return Step{Result: Unavailable, Reason: reason.NotSupported}
	}
	if step, done := v.notCarried(g, q); done {
		return step
	}
	step := Step{Result: Unavailable, Reason: reason.NoAnswer}
	awake := make([]*site.Server, 0, len(usable))
	for _, s := range usable {
		if v.rests(s) {
			step.Rested = append(step.Rested, s)
		} else {
			awake = append(awake, s)
		}
	}
	if len(awake) == 0 {
		switch {
		case v.Consult(site.AspectRestEnds).RestEndsWithLast: // all rest: so no rest holds
			v.Rests.Wake(usable...)
		case v.Consult(site.AspectAllResting).AllRestingPasses:
			step.Reason = reason.AllResting
			return step
		}
		awake, step.Rested = usable, nil
	}
	for _, s := range awake {
		reply := v.ask(s, q, &step)
		if reply.Result != Unavailable {
			v.Rests.Wake(s)
			step.Result = reply.Result
			step.Reason = reply.Reason
			step.By = s.Name
			step.reply = reply
			return step
		}
		if rest := v.Device.Patience(s).DeadTime; rest > 0 {
			v.Rests.rest(s, v.Now+step.Took+rest)
		}
	}
	return step
}

// rests reports whether a server is left alone now.
func (v *Visit) rests(s *site.Server) bool {
	if _, left := v.Rests.Until(s, v.Now, false); !left {
		return false
	}
	_, resting := v.Rests.Until(s, v.Now, !v.Consult(site.AspectRestEnds).RestEndsWithLast)
	return resting
}

// usable returns the servers of a group that the platform can ask at all: by their
// protocol, and through the network by which they are reached.
func (v *Visit) usable(g *site.Group) []*site.Server {
	behaviour := &v.Device.Platform.Behaviour
	if !behaviour.Speaks(g.Protocol()) {
		return nil
	}
	near := func(s *site.Server) bool { return site.Near(v.Device.Path(s).Network) }
	if !slices.ContainsFunc(g.Servers, func(s *site.Server) bool { return !near(s) }) {
		return g.Servers
	}
	v.Consult(site.AspectNetworks)
	var servers []*site.Server
	for _, s := range g.Servers {
		if behaviour.Reaches(v.Device.Path(s).Network) {
			servers = append(servers, s)
		}
	}
	return servers
}

// notCarried answers the questions that a protocol does not have: with RADIUS
// the rights of a session come with the login, and there is none for a command;
// a directory knows passwords only.
func (v *Visit) notCarried(g *site.Group, q Question) (Step, bool) {
	none := Step{Result: Unavailable, Reason: reason.NotCarried}
	switch {
	case g.Protocol() == site.TACACS:
		return Step{}, false
	case q.Purpose == site.Elevation:
		return none, true
	case g.Protocol() == site.LDAP && q.Purpose != site.Login && q.Purpose != site.Session:
		return none, true
	case q.Purpose == site.Session,
		q.Purpose == site.Commands && v.Consult(site.AspectCommandRules).CommandRulesOverRADIUS:
		for _, s := range v.Steps {
			if s.Purpose == site.Login && s.Result == Accepted && s.Method.Protocol() == g.Protocol() {
				return Step{Result: Accepted, By: s.By, reply: s.reply}, true
			}
		}
		return none, true
	case q.Purpose == site.Commands || q.Purpose == site.RecordCommands:
		return none, true
	}
	return Step{}, false
}

// ask sends the question to one server until it answers or its tries are used.
func (v *Visit) ask(s *site.Server, q Question, step *Step) Reply {
	exchange := v.World.Begin(s, q)
	defer exchange.Close()
	var reply Reply
	for n := 1; n <= v.Device.Patience(s).Attempts; n++ {
		reply = exchange.Try(n)
		step.Took += reply.Took
		step.Tries = append(step.Tries, Try{Server: s, N: n, Reply: reply})
		if reply.Result != Unavailable || closed(reply.Reason) && v.Consult(site.AspectHeedsICMP).HeedsICMP {
			break
		}
	}
	return reply
}

// Lost returns how long one try of a device at a server takes that gives no answer
// for the given reason.
func Lost(d *site.Device, s *site.Server, r reason.Reason) time.Duration {
	if r == reason.NoSource {
		return 0 // nothing was sent
	}
	if s.Datagrams() {
		if closed(r) && d.Platform.Behaviour.HeedsICMP {
			return 0
		}
		return d.Patience(s).Timeout // nothing valid ever comes
	}
	if r == reason.Silent || r == reason.Late {
		return d.Patience(s).Timeout
	}
	return 0 // refused, closed, unreadable or said: known at once
}

// closed reports whether nothing listens where the question goes, or a router says
// that there is no way: ICMP tells either (RFC 792).
func closed(r reason.Reason) bool {
	return r == reason.Closed || r == reason.WrongPort || r == reason.NotForThis || r == reason.NoWay
}
