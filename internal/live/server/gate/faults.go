package gate

import (
	"net/netip"
	"slices"
	"time"

	"mellowgate/internal/core/site"
)

// Fault is what is wrong, on purpose, with a server as one asker or all of them
// meet it. The zero value is a healthy one.
type Fault struct {
	Unknown bool          // the asker is not known
	Error   bool          // it says that it cannot answer; RADIUS has no such answer, and gives none
	Delay   time.Duration // every answer is so late
	Not     []site.Purpose
}

// afflicted is a server and an asker; the zero Addr stands for every asker.
type afflicted struct {
	server string
	client netip.Addr
}

// Fault puts a fault on a server for an asker, or for all with the zero Addr,
// in place of the one before.
func (g *Gate) Fault(server string, client netip.Addr, f Fault) {
	g.mu.Lock()
	defer g.mu.Unlock()
	next := map[afflicted]Fault{}
	if old := g.faults.Load(); old != nil {
		for k, v := range *old {
			next[k] = v
		}
	}
	k := afflicted{server, client.Unmap()}
	next[k] = f
	if !f.Unknown && !f.Error && f.Delay == 0 && len(f.Not) == 0 {
		delete(next, k)
	}
	if len(next) == 0 {
		g.faults.Store(nil)
		return
	}
	g.faults.Store(&next)
}

// fault gives what is wrong with the server for an asker.
func (s *server) fault(client netip.Addr) Fault {
	all := s.gate.faults.Load()
	if all == nil {
		return Fault{}
	}
	one, every := (*all)[afflicted{s.site.Name, client.Unmap()}], (*all)[afflicted{s.site.Name, netip.Addr{}}]
	return Fault{one.Unknown || every.Unknown, one.Error || every.Error, max(one.Delay, every.Delay), slices.Concat(one.Not, every.Not)}
}

// serves tells whether the server takes a kind of question from an asker.
func (s *server) serves(p site.Purpose, client netip.Addr) bool {
	return s.site.Serves(p) && !slices.Contains(s.fault(client).Not, p)
}

// linger waits as long as a fault makes answers late.
func (s *server) linger(client netip.Addr) {
	d := s.fault(client).Delay
	if d == 0 {
		return
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-s.gate.ctx.Done():
	}
}
