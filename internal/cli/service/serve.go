// Package service has the commands around a running service: serve, watch, listen and ledger.
package service

import (
	"context"
	"crypto/x509"
	"errors"
	"os"
	"os/signal"
	"slices"
	"sync"
	"syscall"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/why"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/journal"
	"mellowgate/internal/live/server/sdnotify"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/serve"
)

func ServeCommand() *call.Command {
	return &call.Command{
		Name: "serve", Args: "[SITE]", Short: "run the site's RADIUS and TACACS+ servers on this host",
		Long: `Runs every server of the site with run: true, on the address and ports of the site. Each
device of the site is a client by itself, with its source address and the server's key. It says what it listens
on, then "ready", and goes on until Ctrl-C.

It reads the site again when a file of it changes, and on SIGHUP: whole, at once, and for questions from then
on. Certificates are read again too, and servers that are new, moved or gone begin, move and end. A site with a
mistake changes nothing: the old one stays in use, and the mistake is said. On SIGTERM it answers what it has
been asked and ends.

A decision and a record are safe on disk before they are answered. Ports below 1024 need the privilege to open them.
Where the ledger, the monitor, the syslog receiver and the limits are stands under service: in the site;
docs/serve.md has it all.`,
		Examples: []call.Example{
			{Call: "mellowgate serve -only gate-1 my-site", Shows: "one of the site's servers"},
			{Call: "mellowgate serve -state /var/lib/mellowgate my-site",
				Shows: "all of them, with events and ledger in a folder of their own"},
			{Call: "mellowgate serve -unit /etc/mellowgate/site.yaml",
				Shows: "print a systemd unit that runs it as a user without privileges"},
		},
		Prepare: func(c *call.Call) func() error {
			f := &serveFlags{}
			dir := c.StateFlag()
			c.Flags.StringVar(&f.only, "only", "", "only these `servers`: tern,plover")
			c.Flags.DurationVar(&f.span, "for", 0, "end after this `time`, such as 5m")
			c.Flags.BoolVar(&f.explain, "explain", false, "say for each decision how it came about, rule by rule")
			c.Flags.StringVar(&f.log, "log", journal.Plain,
				"the `form` of what is written to standard error: plain (sentences about the service), text or "+
					"json (events too, for a log)")
			unit := c.Flags.Bool("unit", false, "print a systemd unit for this site, and do not run")
			return func() error {
				if !slices.Contains(journal.Forms(), f.log) {
					return call.Usagef("-log is %q%s; plain, text or json is wanted", f.log,
						nearest.Suggest(f.log, journal.Forms()))
				}
				if *unit {
					return printUnit(c)
				}
				if err := c.Refresh(); err != nil {
					c.Note("%v", err)
				}
				l, err := c.Load(true)
				if err != nil {
					return err
				}
				if open := sitefile.Exposed(l.Site, l.Base); len(open) > 0 {
					return call.Usagef("others on this machine can read %s (%s), which holds secrets: chmod o= %s",
						open[0].Path,
						open[0].Mode, open[0].Path)
				}
				if of, err := state.Open(*dir); err == nil {
					if p, err := of.Places(); err == nil && p.Site != l.Name {
						return call.Usagef("the state folder %s holds what was kept of another site, %s: name "+
							"another folder with -state. If it is this site under a new name, take %s away first: "+
							"its ledger goes on", *dir, p.Site,
							of.PlacesFile())
					}
				}
				folder, err := state.Create(*dir, l.Service.Ledger.Folder)
				if err != nil {
					return call.UsageError(err)
				}
				started, err := runServe(c, l, folder, f)
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

// runServe runs servers until the end of the call, and reports whether they started.
func runServe(c *call.Call, l call.Loaded, folder *state.Folder, f *serveFlags) (started bool, err error) {
	plain := func(text string) { c.Note("%s", text) }
	var syslog *journal.Syslog
	if to := l.Service.Syslog; to.Network != "" {
		var trusted *x509.CertPool
		if to.Authorities != "" {
			if trusted, err = pki.Authorities(files.At(l.Base, to.Authorities)); err != nil {
				return false, call.UsageError(err)
			}
		}
		syslog = journal.NewSyslog(to, trusted, func(text string) { journal.New(f.log, c.Err, plain, nil).Say(text) })
		defer syslog.Close()
	}
	hangups := make(chan os.Signal, 1)
	signal.Notify(hangups, syscall.SIGHUP)
	defer signal.Stop(hangups)
	if f.span > 0 {
		var stop context.CancelFunc
		c.Context, stop = context.WithTimeout(c.Context, f.span)
		defer stop()
	}
	started, err = serve.Run(c.Context, serve.Config{Site: l.Opened, Folder: folder, Hangups: hangups,
		Journal: journal.New(f.log, c.Err, plain, syslog), Manager: sdnotify.FromEnvironment(), Version: call.Version,
		Explain: explainer(c, f),
		Servers: f.servers,
		Refresh: func(ctx context.Context) error {
			_, err := sitefile.Refresh(ctx, l.Path)
			return err
		},
		Load: func() (sitefile.Opened, error) {
			l, err := c.LoadFrom(l.Path, true)
			return l.Opened, err
		}})
	return started, call.TaskError(err)
}

// explainer returns what says how each decision came about, nil where nobody
// asks. What it says goes line by line.
func explainer(c *call.Call, f *serveFlags) func(*site.Site, evidence.Event, []rights.Step) {
	if !f.explain {
		return nil
	}
	var mu sync.Mutex
	return func(of *site.Site, e evidence.Event, steps []rights.Step) {
		mu.Lock()
		defer mu.Unlock()
		c.Note("%s %s %s: %s by %s for %s: %s", e.Time.Format("15:04:05"), e.Server, e.Answer, e.Question, e.Device,
			show.Safe(e.Person), show.Safe(e.Text))
		why.WriteSteps(c.Err, of.Where, steps)
	}
}

// servers chooses the servers that are to run: those of -only, else every one
// with run: true.
func (f *serveFlags) servers(o sitefile.Opened) ([]*site.Server, error) {
	chosen, err := call.Loaded{Opened: o}.ServersNamed(f.only)
	if err != nil {
		return nil, err
	}
	var run []*site.Server
	for _, server := range o.Servers {
		if chosen[server] && server.Protocol == site.LDAP {
			return nil, call.Usagef("%s is a directory: serve asks it, and does not run it; take it out of -only",
				server.Name)
		}
		if len(chosen) > 0 && chosen[server] || len(chosen) == 0 && server.Run {
			run = append(run, server)
		}
	}
	if len(run) == 0 {
		return nil, call.Usagef("no server of %s has run: true, so there is nothing to serve; set it, or name "+
			"servers with -only",
			o.Path)
	}
	return run, nil
}
