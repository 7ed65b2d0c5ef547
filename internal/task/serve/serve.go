// Package serve runs the servers of a site on this host: it opens the service,
// lets the servers listen, and keeps them at their site. Where the site comes
// from and how things are said is given to it; what a server answers is the
// gate's.
package serve

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"runtime/debug"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/fsnotify/fsnotify"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/devicelogs"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/journal"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/server/sdnotify"
	"mellowgate/internal/live/server/service"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
)

// Config is what a service is run from. All but Explain, Hangups and Manager are
// needed.
type Config struct {
	Site   sitefile.Opened
	Folder *state.Folder
	// Refresh runs the programs that the site has its devices from. Default: there are none.
	Refresh func(context.Context) error
	// Load reads the site again.
	Load func() (sitefile.Opened, error)
	// Servers chooses the servers of a site that are to run here.
	Servers func(sitefile.Opened) ([]*site.Server, error)
	Journal *journal.Journal
	// Explain is given how each decision came about. Default: nobody asks.
	Explain func(*site.Site, evidence.Event, []rights.Step)
	// Hangups are the signals on which the site is read again. Default: none.
	Hangups <-chan os.Signal
	Manager *sdnotify.Manager // default: none listens
	Version string            // of the program, for monitors
}

// aside is the memory, in octets, that a service takes beside password hashes.
const aside = 96 << 20

// garbage is how much more memory than is in use may be taken before it is looked for
// what is not, in parts of a hundred: what a service has in use is little.
const garbage = 300

// serving is a service while it runs. One goroutine owns it: that of Run.
type serving struct {
	Config
	service *service.Service
	places  map[string]evidence.ServerPlace
	known   atomic.Pointer[site.Site] // the site in use, for those who tell events
	refused time.Time                 // when a hangup brought a site with too few devices
}

// tell tells an event, with its cause and repair where something went wrong: who
// collects logs, or makes tickets of them, has both at hand. Any goroutine calls it.
func (s *serving) tell(e evidence.Event) {
	if s.Journal.TellsEvents() {
		e.Cause, e.Repair = diagnose.OfEvent(e, s.known.Load())
	}
	s.Journal.Event(e)
}

// Run runs servers until ctx ends. It reports whether they started: a start that
// failed has changed nothing in the folder.
func Run(ctx context.Context, c Config) (started bool, err error) {
	s := &serving{Config: c, places: map[string]evidence.ServerPlace{}}
	// Memory of password hashes is given back before it is twice what may be in use.
	debug.SetGCPercent(garbage)
	debug.SetMemoryLimit(c.Site.Service.Limits.HashMemory + aside)
	if s.Manager == nil {
		s.Manager = &sdnotify.Manager{}
	}
	s.known.Store(c.Site.Site)
	o := service.Options{Say: c.Journal.Say, Event: s.tell, Explain: c.Explain, Version: c.Version,
		Head: func(h ledger.Head) { c.Journal.Fact("head", headFields(h)...) }}
	if s.service, err = service.Open(c.Site.Site, c.Site.Keys, clientsOf(c.Site.Site), c.Folder, o); err != nil {
		return false, err
	}
	defer func() {
		ending := s.service.Close()
		if started && ending != nil { // whoever ended it reads no error of a command that was ended
			s.say("%v", ending)
		}
		err = errors.Join(err, ending)
	}()
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return false, err
	}
	defer func() { _ = watcher.Close() }()
	watched := s.watch(watcher) // before it is ready: from then on no change of the site is missed
	if err := s.take(ctx, c.Site); err != nil {
		return false, err
	}
	if err := s.writePlaces(); err != nil {
		return false, err
	}
	if at := c.Site.Service.Metrics; at != "" {
		on, err := s.service.Metrics.Listen(at)
		if err != nil {
			return false, err
		}
		s.say("metrics and health on http://%s/metrics and /health", on)
	}
	logs, err := s.receiveLogs()
	if err != nil {
		return false, err
	}
	defer logs.Close()
	s.say("ready")
	s.Manager.Ready(s.status())
	defer s.Manager.Stopping()
	s.keep(ctx, watcher, watched)
	return true, nil
}

// headFields are the fields of the newest record that was signed, as a log has them.
func headFields(h ledger.Head) []string {
	return []string{"chain", h.Chain, "newest", strconv.FormatInt(h.Sequence, 10), "last", h.Hash, "signed", h.Time,
		"key",
		h.Key,
		"signature", h.Sign}
}

// receiveLogs begins to receive the logs of devices, where the site says so.
func (s *serving) receiveLogs() (*devicelogs.Receiver, error) {
	o := s.Site
	r, err := devicelogs.Listen(devicelogs.Config{Where: o.Service.DeviceLogs, Keep: s.Folder.Log, Say: s.Journal.Say,
		Now: time.Now,
		Device: func(address netip.Addr) string {
			if d := deviceAt(s.known.Load(), address); d != nil {
				return d.Name
			}
			return ""
		},
		TLS: func(server string) (*tls.Config, error) {
			identity, err := pki.Of(o.Server(server), o.Base)
			return identity.Server(site.RADIUS), err
		}})
	if err != nil {
		return nil, err
	}
	for _, at := range r.Places() {
		s.say("logs of devices: %s", at)
	}
	return r, nil
}

// deviceAt returns the device with an address, or that asks from it; nil for none.
func deviceAt(s *site.Site, address netip.Addr) *site.Device {
	for _, d := range s.Devices {
		if slices.Contains(d.Addresses, address) || slices.Contains(d.Sources(), address) {
			return d
		}
	}
	return nil
}

func (s *serving) say(format string, args ...any) { s.Journal.Say(fmt.Sprintf(format, args...)) }

func (s *serving) status() string {
	if n := len(s.places); n != 1 {
		return fmt.Sprintf("%d servers of %s", n, s.Site.Name)
	}
	return "1 server of " + s.Site.Name
}

// take puts a site into use: its design, and the servers that are to run.
func (s *serving) take(ctx context.Context, o sitefile.Opened) error {
	run, err := s.Servers(o)
	if err != nil {
		return err
	}
	changes, err := s.service.Take(ctx, gate.Design{Site: o.Site, Keys: o.Keys, Clients: clientsOf(o.Site)}, run,
		o.Base)
	if err != nil {
		return err
	}
	s.Site = o
	s.Folder.BoundEvents(o.Service.Events)
	s.known.Store(o.Site)
	for _, change := range changes {
		s.say("%s", listens(change))
		name := change.Place.Server.Name
		if delete(s.places, name); !change.Ended {
			s.places[name] = service.Written(change.Place)
		}
	}
	return nil
}

// listens says what a server does from now on.
func listens(c gate.Change) string {
	s, p := c.Place.Server, c.Place
	switch {
	case c.Ended:
		return fmt.Sprintf("%s: ended on %s", s.Name, p.Authentication)
	case s.Secured() && s.Protocol == site.TACACS:
		return fmt.Sprintf("%s: TACACS+ over TLS on %s", s.Name, p.Authentication)
	case s.Secured():
		return fmt.Sprintf("%s: RADIUS over TLS on %s", s.Name, p.Authentication)
	case s.Protocol == site.TACACS:
		return fmt.Sprintf("%s: TACACS+ on %s", s.Name, p.Authentication)
	}
	return fmt.Sprintf("%s: RADIUS on %s, accounting on %s", s.Name, p.Authentication, p.Accounting)
}

func (s *serving) writePlaces() error {
	l := s.Site
	places := evidence.Places{Site: l.Name, SitePath: files.Absolute(l.Path), Devices: []evidence.DevicePlace{},
		Servers: []evidence.ServerPlace{},
		Ledger:  evidence.LedgerPlace{Folder: l.Service.Ledger.Folder, Database: l.Service.Ledger.Database}}
	for _, server := range l.Servers {
		if p, runs := s.places[server.Name]; runs {
			places.Servers = append(places.Servers, p)
		}
	}
	return s.Folder.WritePlaces(places)
}

// clientsOf returns the devices of a site by the address that they ask from.
func clientsOf(s *site.Site) map[netip.Addr]*site.Device {
	clients := map[netip.Addr]*site.Device{}
	for _, d := range s.Devices {
		for _, from := range d.Sources() {
			clients[from] = d
		}
	}
	return clients
}
