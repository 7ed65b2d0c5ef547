package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/routine"
)

const (
	mostDisconnects = 32 // devices are asked at the same time
	mostSaid        = 20 // lines are said of one change of the site; the rest is counted
)

// ends ends the open sessions of people whom the site keeps out from now on.
//
// put is called by one goroutine; close may be called by another, and waits for
// the devices that are being asked.
type ends struct {
	say     func(string)
	now     func() time.Time
	ctx     context.Context
	stop    context.CancelFunc
	running routine.Group
	site    *site.Site // the one in use; nil: none yet
	since   time.Time  // when it was put in use
}

func newEnds(say func(string), now func() time.Time) *ends {
	e := &ends{say: say, now: now}
	e.ctx, e.stop = context.WithCancel(context.Background())
	return e
}

func (e *ends) close() {
	e.stop()
	e.running.Wait()
}

// put is told of the site that is in use from now on, of its keys, and of the
// servers that run here with their addresses. In the background each device that
// takes a Disconnect-Request of one of them is asked to end the sessions of those
// who are out.
func (e *ends) put(s *site.Site, keys site.Keys, here map[*site.Server]netip.Addr) {
	before := e.site
	then := e.since
	now := e.now()
	e.site, e.since = s, now
	if before == nil {
		return
	}
	people := rights.PutOut(before, s, then, now)
	if len(people) == 0 {
		return
	}
	e.running.Go(func() { e.everywhere(people, s, keys, here) })
}

// everywhere asks every device about every person.
func (e *ends) everywhere(people []string, s *site.Site, keys site.Keys, here map[*site.Server]netip.Addr) {
	var asking routine.Group
	told := &telling{say: e.say}
	defer told.end()
	defer asking.Wait()
	room := make(chan struct{}, mostDisconnects)
	for _, d := range s.Devices {
		server := asks(d, here)
		if server == nil {
			continue
		}
		select {
		case room <- struct{}{}:
		case <-e.ctx.Done():
			return
		}
		asking.Go(func() {
			defer func() { <-room }()
			for _, person := range people {
				e.one(told, aaa.Disconnecting{Device: d.Name, Person: person, Server: server, From: here[server],
					Key: keys[d.Key(server).Name], To: netip.AddrPortFrom(
						d.Source, uint16(d.Platform.Behaviour.DisconnectPort)), Now: e.now})
			}
		})
	}
}

// asks returns the server that runs here of which a device takes a
// Disconnect-Request, nil where there is none.
func asks(d *site.Device, here map[*site.Server]netip.Addr) *site.Server {
	if d.Platform.Behaviour.DisconnectPort == 0 {
		return nil
	}
	for _, s := range d.Servers() {
		if _, runs := here[s]; runs && s.TwoPorts() {
			return s
		}
	}
	return nil
}

// one asks one device about one person, and says what came of it.
func (e *ends) one(told *telling, d aaa.Disconnecting) {
	switch err := d.Send(e.ctx); {
	case errors.Is(err, aaa.ErrNoSession), e.ctx.Err() != nil:
	case err != nil:
		told.note(false, fmt.Sprintf("%s is kept out from now on, and %s was not made to end open sessions: %v; "+
			"see them with ledger sessions -open, and end them there", d.Person, d.Device, err))
	default:
		told.note(true, fmt.Sprintf("%s is kept out from now on: %s has ended the open sessions", d.Person, d.Device))
	}
}

// telling says what came of the first devices, and counts the others: there may be
// thousands.
type telling struct {
	say             func(string)
	mu              sync.Mutex // guards the counts
	said            int
	ended, notEnded int // beyond what was said
}

func (t *telling) note(ended bool, text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case t.said < mostSaid:
		t.said++
		t.say(text)
	case ended:
		t.ended++
	default:
		t.notEnded++
	}
}

func (t *telling) end() {
	if t.ended+t.notEnded > 0 {
		t.say(fmt.Sprintf("of people who are kept out from now on, open sessions were ended in %d more places, and "+
			"not in %d; see those with ledger sessions -open", t.ended, t.notEnded))
	}
}
