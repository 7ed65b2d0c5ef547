package walk

import (
	"sync"
	"time"

	"mellowgate/internal/core/site"
)

// Rests is which servers a device leaves alone, and until when. The sessions
// of a device share it. The zero value is ready: no server rests.
type Rests struct {
	mu    sync.Mutex
	until map[*site.Server]time.Duration
}

// Until gives the time until which s rests, and whether it rests at now.
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

// Wake ends the rest of servers.
func (r *Rests) Wake(servers ...*site.Server) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range servers {
		delete(r.until, s)
	}
}

// Ask puts one question to a group, as the device would in the middle of a
// walk, and gives the step with its tries.
func (v *Visit) Ask(g *site.Group, q Question) Step {
	q.Device, q.Way, q.Person = v.Device, v.Way, v.Person
	step := v.group(g, q)
	step.Purpose, step.Method = q.Purpose, site.Method{Kind: site.ByGroup, Group: g, Ref: g.Ref}
	return step
}

// group asks the servers of a group in order, those at rest passed over. The
// first answer decides.
func (v *Visit) group(g *site.Group, q Question) Step {
	if step, done := v.radiusOnly(g, q); done {
		return step
	}
	step := Step{Result: Unavailable, Reason: NoAnswer}
	awake := make([]*site.Server, 0, len(g.Servers))
	for _, s := range g.Servers {
		if _, resting := v.Rests.Until(s, v.Now, !v.Device.Kind.Traits.RestEndsWithLast); resting {
			step.Rested = append(step.Rested, s)
		} else {
			awake = append(awake, s)
		}
	}
	if len(awake) == 0 {
		switch {
		case v.Device.Kind.Traits.RestEndsWithLast: // all rest: so no rest holds
			v.Rests.Wake(g.Servers...)
		case v.Device.Kind.Traits.AllRestingPasses:
			step.Reason = AllResting
			return step
		}
		awake, step.Rested = g.Servers, nil
	}
	for _, s := range awake {
		reply := v.ask(s, q, &step)
		if reply.Result != Unavailable {
			v.Rests.Wake(s)
			step.Result, step.Reason, step.By, step.reply = reply.Result, reply.Reason, s.Name, reply
			return step
		}
		if s.Rest > 0 {
			v.Rests.rest(s, v.Now+step.Took+s.Rest)
		}
	}
	return step
}

// radiusOnly answers the questions that RADIUS does not have: the rights of a
// session come with the login, and there is none for a command.
func (v *Visit) radiusOnly(g *site.Group, q Question) (Step, bool) {
	if g.Protocol() != site.RADIUS {
		return Step{}, false
	}
	switch q.Purpose {
	case site.Session:
		for _, s := range v.Steps {
			if s.Purpose == site.Login && s.Result == Accepted && s.Method.Kind == site.ByGroup && s.Method.Group.Protocol() == site.RADIUS {
				return Step{Result: Accepted, By: s.By, reply: s.reply}, true
			}
		}
		return Step{Result: Unavailable, Reason: NotCarried}, true
	case site.Commands, site.RecordCommands:
		return Step{Result: Unavailable, Reason: NotCarried}, true
	}
	return Step{}, false
}

// ask sends the question to one server until it answers or its tries are used.
func (v *Visit) ask(s *site.Server, q Question, step *Step) Reply {
	exchange := v.World.Begin(s, q)
	defer exchange.Close()
	var reply Reply
	for n := 1; n <= s.Tries; n++ {
		reply = exchange.Try(n)
		step.Took += reply.Took
		step.Tries = append(step.Tries, Try{Server: s, N: n, Reply: reply})
		if reply.Result != Unavailable || reply.Reason == Closed && v.Device.Kind.Traits.HeedsICMP {
			break
		}
	}
	return reply
}

// Lost gives how long one try at a server takes that gives no answer for the
// given reason.
func Lost(s *site.Server, r Reason, t site.Traits) time.Duration {
	if s.Protocol == site.RADIUS && !s.TLS {
		if r == Closed && t.HeedsICMP {
			return 0
		}
		return s.Wait // nothing valid ever comes
	}
	if r == Silent || r == Late {
		return s.Wait
	}
	return 0 // refused, closed, unreadable or said: known at once
}
