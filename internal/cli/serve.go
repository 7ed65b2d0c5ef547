package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/journal"
	"mellowgate/internal/live/server/sdnotify"
	"mellowgate/internal/live/server/service"
	"mellowgate/internal/live/store/state"
)

func serveCommand() *Command {
	return &Command{
		Name: "serve", Args: "[SITE]", Short: "run the site's RADIUS and TACACS+ servers on this host",
		Long: `Runs every server of the site with run: true, on the address and ports of the site. Each
device of the site is a client by itself, with its source address and the server's key. It says what it listens
on, then "ready", and goes on until Ctrl-C.

It reads the site again when a file of it changes, and on SIGHUP: whole, at once, and for questions from then
on. Certificates are read again too, and servers that are new, moved or gone begin, move and end. A site with a
mistake changes nothing: the old one stays in use, and the mistake is said. On SIGTERM it answers what it has
been asked and ends.

An accounting record is answered only once it is safe on disk. Ports below 1024 need the privilege to open them.
Where the ledger, the monitor, the syslog receiver and the limits are stands under service: in the site;
docs/serve.md has it all.`,
		Examples: []Example{
			{Call: "mellowgate serve -only gate-1 my-site", Shows: "one of the site's servers"},
			{Call: "mellowgate serve -state /var/lib/mellowgate my-site",
				Shows: "all of them, with events and ledger in a folder of their own"},
			{Call: "mellowgate serve -unit /etc/mellowgate/site.yaml",
				Shows: "print a systemd unit that runs it as a user without privileges"},
		},
		Prepare: func(c *Call) func() error {
			f := &serveFlags{}
			dir := c.stateFlag()
			c.Flags.StringVar(&f.only, "only", "", "only these `servers`: tern,plover")
			c.Flags.DurationVar(&f.span, "for", 0, "end after this `time`, such as 5m")
			c.Flags.BoolVar(&f.explain, "explain", false, "say for each decision how it came about, rule by rule")
			c.Flags.StringVar(&f.log, "log", journal.Plain,
				"the `form` of what is written to standard error: plain (sentences about the service), text or json (events too, "+
					"for a log)")
			unit := c.Flags.Bool("unit", false, "print a systemd unit for this site, and do not run")
			return func() error {
				if !slices.Contains(journal.Forms(), f.log) {
					return wrong("-log is %q%s; plain, text or json is wanted", f.log, nearest.Suggest(f.log, journal.Forms()))
				}
				if *unit {
					return c.printUnit()
				}
				l, err := c.load(true)
				if err != nil {
					return err
				}
				folder, err := state.Create(*dir, l.Service.Ledger.File)
				if err != nil {
					return failure{status: ExitUsage, err: err}
				}
				started, err := c.serve(l, folder, f)
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
	only, log string
	span      time.Duration
	explain   bool
}

// serving is a service while it runs.
type serving struct {
	*Call
	flags   *serveFlags
	folder  *state.Folder
	service *service.Service
	journal *journal.Journal
	manager *sdnotify.Manager
	site    loaded // as it is in use
	places  map[string]evidence.ServerPlace
}

// serve runs servers until the end of the call, and reports whether they started.
func (c *Call) serve(l loaded, folder *state.Folder, f *serveFlags) (started bool, err error) {
	s := &serving{Call: c, flags: f, folder: folder, site: l, manager: sdnotify.FromEnvironment(),
		places: map[string]evidence.ServerPlace{}}
	plain := func(text string) { c.note("%s", text) }
	var syslog *journal.Syslog
	if to := l.Service.Syslog; to.Network != "" {
		syslog = journal.NewSyslog(to, func(text string) { journal.New(f.log, c.Err, plain, nil).Say(text) })
		defer syslog.Close()
	}
	s.journal = journal.New(f.log, c.Err, plain, syslog)
	if s.service, err = service.Open(l.Site, l.Keys, clientsOf(l.Site), folder, s.options()); err != nil {
		return false, cannot(err)
	}
	defer func() { err = errors.Join(err, s.service.Close()) }()
	if err := s.take(l); err != nil {
		return false, err
	}
	if err := s.writePlaces(); err != nil {
		return false, cannot(err)
	}
	if at := l.Service.Metrics; at != "" {
		on, err := s.service.Metrics.Listen(at)
		if err != nil {
			return false, cannot(err)
		}
		s.say("metrics and health on http://%s/metrics and /health", on)
	}
	s.say("ready")
	s.manager.Ready(s.status())
	defer s.manager.Stopping()
	if f.span > 0 {
		var stop context.CancelFunc
		c.Context, stop = context.WithTimeout(c.Context, f.span)
		defer stop()
	}
	return true, s.run()
}

func (s *serving) say(format string, args ...any) { s.journal.Say(fmt.Sprintf(format, args...)) }

func (s *serving) status() string {
	return fmt.Sprintf("%s of %s", show.Count(len(s.places), "server"), s.site.Name)
}

// options returns how the service is to run. What it says goes line by line.
func (s *serving) options() service.Options {
	o := service.Options{Say: s.journal.Say, Event: s.journal.Event}
	if !s.flags.explain {
		return o
	}
	var mu sync.Mutex
	o.Explain = func(of *site.Site, e evidence.Event, steps []rights.Step) {
		mu.Lock()
		defer mu.Unlock()
		s.note("%s %s %s: %s by %s for %s: %s", e.Time.Format("15:04:05"), e.Server, e.Answer, e.Question, e.Device,
			show.Safe(e.Person), show.Safe(e.Text))
		writeSteps(s.Err, of.Where, steps)
	}
	return o
}

// take puts a site into use: its design, and the servers that are to run.
func (s *serving) take(l loaded) error {
	chosen, err := l.servers(s.flags.only)
	if err != nil {
		return err
	}
	var run []*site.Server
	for _, server := range l.Servers {
		if len(chosen) > 0 && chosen[server] || len(chosen) == 0 && server.Run {
			run = append(run, server)
		}
	}
	if len(run) == 0 {
		return wrong("no server of %s has run: true, so there is nothing to serve; set it, or name servers with -only",
			l.Path)
	}
	changes, err := s.service.Take(s.Context, gate.Design{Site: l.Site, Keys: l.Keys, Clients: clientsOf(l.Site)}, run,
		l.Base)
	if err != nil {
		return cannot(err)
	}
	s.site = l
	for _, change := range changes {
		s.say("%s", listens(change))
		name := change.Place.Server.Name
		if delete(s.places, name); !change.Ended {
			s.places[name] = service.Written(change.Place, true)
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
	case s.TLS && s.Protocol == site.TACACS:
		return fmt.Sprintf("%s: TACACS+ over TLS on %s", s.Name, p.Authentication)
	case s.TLS:
		return fmt.Sprintf("%s: RADIUS over TLS on %s", s.Name, p.Authentication)
	case s.Protocol == site.TACACS:
		return fmt.Sprintf("%s: TACACS+ on %s", s.Name, p.Authentication)
	}
	return fmt.Sprintf("%s: RADIUS on %s, accounting on %s", s.Name, p.Authentication, p.Accounting)
}

func (s *serving) writePlaces() error {
	l := s.site
	places := evidence.Places{Site: l.Name, SitePath: absolute(l.Path), Devices: []evidence.DevicePlace{},
		Servers: []evidence.ServerPlace{},
		Ledger:  evidence.LedgerPlace{File: l.Service.Ledger.File, Database: l.Service.Ledger.Database}}
	for _, server := range l.Servers {
		if p, runs := s.places[server.Name]; runs {
			places.Servers = append(places.Servers, p)
		}
	}
	return s.folder.WritePlaces(places)
}

func clientsOf(s *site.Site) map[netip.Addr]*site.Device {
	clients := map[netip.Addr]*site.Device{}
	for _, d := range s.Devices {
		clients[d.Source] = d
	}
	return clients
}
