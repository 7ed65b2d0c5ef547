package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/gate"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/ledger"
	"mellowgate/internal/live/state"
	"mellowgate/internal/wire/capture"
)

// defaultState is the state folder where none is named.
const defaultState = "mellowgate-state"

func (c *Call) stateFlag() *string {
	return c.Flags.String("state", defaultState, "the `folder` for events, traces, traffic and the ledger")
}

func labCommand() *Command {
	return &Command{
		Name: "lab", Args: "[SITE]", Short: "the site's devices as stand-ins, and its servers, on loopback addresses",
		Long: `Runs every server that the site says to run, and every device as a stand-in, on addresses of lab.network
(127.77.0.0/16 unless the site says otherwise). It prints who is where and how to log in with any SSH client, and goes
on until Ctrl-C or the end of -for.

Ports below 1024 are raised by 10000 when they may not be opened. The console of a device is a plain text port that
stands for the serial line. Telnet, web and API of a device are not simulated yet.`,
		Examples: []Example{
			{"mellowgate lab demo/as-reviewed", "the demo site, until Ctrl-C"},
			{"mellowgate lab -for 5m -state /tmp/lab demo/as-reviewed", "for five minutes, with its evidence in /tmp/lab"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			dir := c.stateFlag()
			span := c.Flags.Duration("for", 0, "end after this `time`, such as 5m")
			network := c.Flags.String("network", "", "other loopback `addresses` than the site's lab.network, such as 127.78.0.0/16")
			return func() error {
				l, err := c.load(true)
				if err != nil {
					return err
				}
				running, folder, err := l.startLab(*dir, *network)
				if err != nil {
					return err
				}
				defer func() { _ = folder.Close() }()
				defer running.Shutdown()
				if *c.json {
					err = show.JSON(c.Out, running.Places)
				} else {
					printPlaces(c, running.Places, *dir)
				}
				if err != nil {
					return err
				}
				c.note("ready")
				c.until(*span)
				return nil
			}
		},
	}
}

// startLab starts a lab of the site with its state in dir.
func (l loaded) startLab(dir, network string) (*lab.Lab, *state.Folder, error) {
	var prefix netip.Prefix
	if network != "" {
		var err error
		if prefix, err = site.ParseLabNetwork(network); err != nil {
			return nil, nil, failure{ExitUsage, err}
		}
	}
	folder, err := state.Create(dir)
	if err != nil {
		return nil, nil, failure{ExitUsage, err}
	}
	running, err := lab.Start(lab.Config{Site: l.Site, SitePath: absolute(l.Path), Keys: l.Keys, State: folder, Network: prefix})
	if err != nil {
		_ = folder.Close()
		return nil, nil, cannot(err)
	}
	return running, folder, nil
}

// until waits for the end of the call, or for a time above 0.
func (c *Call) until(span time.Duration) {
	ctx := c.Context
	if span > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, span)
		defer stop()
	}
	<-ctx.Done()
}

// printPlaces says who is where and how to log in.
func printPlaces(c *Call, p state.Places, dir string) {
	style := c.style()
	var rows [][]string
	for _, s := range p.Servers {
		ports := fmt.Sprintf("port %d", s.Port)
		if s.Port == 0 {
			ports = fmt.Sprintf("ports %d and %d", s.Authentication, s.Accounting)
		}
		if !s.Running {
			ports += ", not running (run: true is not set)"
		}
		rows = append(rows, []string{s.Name, s.Protocol + " server", s.Address + " " + ports})
	}
	example := state.WayPlace{}
	for _, d := range p.Devices {
		var ways []string
		for _, w := range d.Ways {
			ways = append(ways, w.Access+" "+w.Address)
			if w.Access == site.SSH && example.Address == "" {
				example = w
			}
		}
		rows = append(rows, []string{d.Name, "device", strings.Join(ways, ", ")})
	}
	style.Table(c.Out, []string{"name", "what", "where"}, rows, 2)
	if example.Address != "" {
		c.say("\nlog in with any SSH client:\n  %s\n", sshCall(example.Address, dir, "NAME"))
	}
	c.say("or:\n  mellowgate login -state %s -device %s -person NAME\n", dir, p.Devices[0].Name)
}

// sshCall is how an SSH client is called for a stand-in.
func sshCall(address, dir, person string) string {
	host, port, _ := net.SplitHostPort(address)
	return fmt.Sprintf("ssh -o UserKnownHostsFile=%s/known_hosts -p %s %s@%s", dir, port, person, host)
}

func serveCommand() *Command {
	return &Command{
		Name: "serve", Args: "[SITE]", Short: "run the site's RADIUS and TACACS+ servers on this host",
		Long: `Runs every server of the site with run: true, on the address and ports of the site. Each device of the site is a
client by itself, with its source address and the server's key. It says what it listens on, then "ready", and goes on
until Ctrl-C.

An accounting record is answered only once it is safe on disk. Ports below 1024 need the privilege to open them.`,
		Examples: []Example{
			{"mellowgate serve -only gate-1 my-site", "one of the site's servers"},
			{"mellowgate serve -state /var/lib/mellowgate my-site", "all of them, with events and ledger in a folder of their own"},
		},
		Prepare: func(c *Call) func() error {
			dir := c.stateFlag()
			only := c.Flags.String("only", "", "only these `servers`: tern,plover")
			span := c.Flags.Duration("for", 0, "end after this `time`, such as 5m")
			return func() error {
				l, err := c.load(true)
				if err != nil {
					return err
				}
				chosen, err := l.servers(*only)
				if err != nil {
					return err
				}
				folder, err := state.Create(*dir)
				if err != nil {
					return failure{ExitUsage, err}
				}
				defer func() { _ = folder.Close() }()
				return c.serve(l, folder, chosen, *span)
			}
		},
	}
}

func (c *Call) serve(l loaded, folder *state.Folder, chosen map[*site.Server]bool, span time.Duration) error {
	book, err := ledger.Open(folder.Ledger())
	if err != nil {
		return cannot(err)
	}
	defer func() { _ = book.Close() }()
	file, err := os.OpenFile(folder.Traffic(), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return cannot(err)
	}
	defer func() { _ = file.Close() }()
	traffic, err := capture.NewWriter(file)
	if err != nil {
		return cannot(err)
	}
	clients := map[netip.Addr]*site.Device{}
	for _, d := range l.Devices {
		clients[d.Source] = d
	}
	g := gate.New(gate.Config{Site: l.Site, Keys: l.Keys, Clients: clients, Ledger: book, Events: folder.Event, Capture: traffic})
	defer g.Shutdown()
	places := state.Places{Site: l.Name, SitePath: absolute(l.Path), Devices: []state.DevicePlace{}}
	for _, s := range l.Servers {
		if !s.Run && !chosen[s] || len(chosen) > 0 && !chosen[s] {
			continue
		}
		place, err := serveOne(c.Context, g, s)
		if err != nil {
			return cannot(err)
		}
		at := state.ServerPlace{Name: s.Name, Protocol: string(s.Protocol), Address: place.Authentication.Addr().String(), Running: true}
		if s.Protocol == site.TACACS {
			at.Port = place.Authentication.Port()
			c.note("%s: TACACS+ on %s", s.Name, place.Authentication)
		} else {
			at.Authentication, at.Accounting = place.Authentication.Port(), place.Accounting.Port()
			c.note("%s: RADIUS on %s, accounting on %s", s.Name, place.Authentication, place.Accounting)
		}
		places.Servers = append(places.Servers, at)
	}
	if len(places.Servers) == 0 {
		return wrong("no server of %s has run: true, so there is nothing to serve; set it, or name servers with -only", l.Path)
	}
	if err := folder.WritePlaces(places); err != nil {
		return cannot(err)
	}
	c.note("ready")
	c.until(span)
	return nil
}

// serveOne listens for one server of the site on its own address.
func serveOne(ctx context.Context, g *gate.Gate, s *site.Server) (gate.Place, error) {
	address, err := netip.ParseAddr(s.Address)
	if err != nil {
		found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", s.Address)
		if err != nil || len(found) == 0 {
			return gate.Place{}, fmt.Errorf("the server %s: its address %s cannot be found: %w", s.Name, s.Address, err)
		}
		address = found[0].Unmap()
	}
	place := gate.Place{Server: s, Authentication: netip.AddrPortFrom(address, s.AuthenticationPort), Accounting: netip.AddrPortFrom(address, s.AccountingPort)}
	if s.Protocol == site.TACACS {
		place.Authentication = netip.AddrPortFrom(address, s.Port)
	}
	got, err := g.Listen(place)
	switch {
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return got, fmt.Errorf("the server %s cannot listen on %s: this host does not have that address; run it on the host that has, or try the site with: mellowgate lab", s.Name, address)
	case errors.Is(err, syscall.EADDRINUSE):
		return got, fmt.Errorf("the server %s cannot listen on %s: the port is in use; end what uses it, or change the port in the site", s.Name, place.Authentication)
	case errors.Is(err, syscall.EACCES):
		return got, fmt.Errorf("the server %s may not open %s: ports below 1024 need a privilege; run as root, or give the program CAP_NET_BIND_SERVICE", s.Name, place.Authentication)
	}
	return got, err
}
