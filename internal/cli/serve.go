package cli

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/cause"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/service"
	"mellowgate/internal/live/state"
)

func serveCommand() *Command {
	return &Command{
		Name: "serve", Args: "[SITE]", Short: "run the site's RADIUS and TACACS+ servers on this host",
		Long: `Runs every server of the site with run: true, on the address and ports of the site. Each device of the site is a
client by itself, with its source address and the server's key. It says what it listens on, then "ready", and goes on
until Ctrl-C.

It reads the site again when a file of it changes, and on SIGHUP: whole, at once, and for questions from then on. A
site with a mistake changes nothing: the old one stays in use, and the mistake is said. On SIGTERM it answers what it
has been asked and ends.

An accounting record is answered only once it is safe on disk. Ports below 1024 need the privilege to open them.`,
		Examples: []Example{
			{"mellowgate serve -only gate-1 my-site", "one of the site's servers"},
			{"mellowgate serve -state /var/lib/mellowgate my-site", "all of them, with events and ledger in a folder of their own"},
		},
		Prepare: func(c *Call) func() error {
			dir := c.stateFlag()
			only := c.Flags.String("only", "", "only these `servers`: tern,plover")
			f := &serveFlags{}
			c.Flags.DurationVar(&f.span, "for", 0, "end after this `time`, such as 5m")
			c.Flags.BoolVar(&f.explain, "explain", false, "say for each decision how it came about, rule by rule")
			return func() error {
				l, err := c.load(true)
				if err != nil {
					return err
				}
				chosen, err := l.servers(*only)
				if err != nil {
					return err
				}
				folder, err := state.Create(*dir, l.Service.Ledger.File)
				if err != nil {
					return failure{ExitUsage, err}
				}
				started, err := c.serve(l, folder, chosen, f)
				if !started {
					folder.Abandon()
					return err
				}
				return errors.Join(err, folder.Close())
			}
		},
	}
}

type serveFlags struct {
	span    time.Duration
	explain bool
}

// options gives how the service is to run. What it says goes line by line.
func (f *serveFlags) options(c *Call) service.Options {
	o := service.Options{Say: func(text string) { c.note("%s", text) }}
	if !f.explain {
		return o
	}
	var mu sync.Mutex
	o.Explain = func(s *site.Site, e cause.Event, steps []rights.Step) {
		mu.Lock()
		defer mu.Unlock()
		c.note("%s %s %s: %s by %s for %s: %s", e.Time.Format("15:04:05"), e.Server, e.Answer, e.Question, e.Device, show.Safe(e.Person), show.Safe(e.Text))
		writeSteps(c.Err, s.Where, steps)
	}
	return o
}

// serve runs servers until the end of the call, and tells whether they started.
func (c *Call) serve(l loaded, folder *state.Folder, chosen map[*site.Server]bool, f *serveFlags) (started bool, err error) {
	v, err := service.Open(l.Site, l.Keys, clientsOf(l.Site), folder, f.options(c))
	if err != nil {
		return false, cannot(err)
	}
	defer func() { err = errors.Join(err, v.Close()) }()
	places := state.Places{Site: l.Name, SitePath: absolute(l.Path), Devices: []state.DevicePlace{},
		Ledger: state.LedgerPlace{File: l.Service.Ledger.File, Database: l.Service.Ledger.Database}}
	for _, s := range l.Servers {
		if len(chosen) > 0 && !chosen[s] || len(chosen) == 0 && !s.Run {
			continue
		}
		place, err := v.ListenAsDesigned(c.Context, s, l.Base)
		if err != nil {
			return false, cannot(err)
		}
		switch {
		case s.TLS && s.Protocol == site.TACACS:
			c.note("%s: TACACS+ over TLS on %s", s.Name, place.Authentication)
		case s.TLS:
			c.note("%s: RADIUS over TLS on %s", s.Name, place.Authentication)
		case s.Protocol == site.TACACS:
			c.note("%s: TACACS+ on %s", s.Name, place.Authentication)
		default:
			c.note("%s: RADIUS on %s, accounting on %s", s.Name, place.Authentication, place.Accounting)
		}
		places.Servers = append(places.Servers, service.Written(place, true))
	}
	if len(places.Servers) == 0 {
		return false, wrong("no server of %s has run: true, so there is nothing to serve; set it, or name servers with -only", l.Path)
	}
	if at := l.Service.Metrics; at != "" {
		on, err := v.Metrics.Listen(at)
		if err != nil {
			return false, cannot(err)
		}
		c.note("metrics and health on http://%s/metrics and /health", on)
	}
	if err := folder.WritePlaces(places); err != nil {
		return false, cannot(err)
	}
	c.note("ready")
	if f.span > 0 {
		var stop context.CancelFunc
		c.Context, stop = context.WithTimeout(c.Context, f.span)
		defer stop()
	}
	return true, c.reloading(l, v.Gate)
}

func clientsOf(s *site.Site) map[netip.Addr]*site.Device {
	clients := map[netip.Addr]*site.Device{}
	for _, d := range s.Devices {
		clients[d.Source] = d
	}
	return clients
}
