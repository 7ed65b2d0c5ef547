package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/gate"
	"mellowgate/internal/live/ledger"
	"mellowgate/internal/live/state"
	"mellowgate/internal/wire/capture"
)

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
				started, err := c.serve(l, folder, chosen, *span)
				if !started {
					folder.Abandon()
					return err
				}
				return errors.Join(err, folder.Close())
			}
		},
	}
}

// serve runs servers until the end of the call, and tells whether they started.
func (c *Call) serve(l loaded, folder *state.Folder, chosen map[*site.Server]bool, span time.Duration) (started bool, err error) {
	book, err := ledger.Open(folder.Ledger())
	if err != nil {
		return false, cannot(err)
	}
	defer func() { _ = book.Close() }()
	file, err := os.OpenFile(folder.Traffic(), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return false, cannot(err)
	}
	defer func() { _ = file.Close() }()
	traffic, err := capture.NewWriter(file)
	if err != nil {
		return false, cannot(err)
	}
	clients := map[netip.Addr]*site.Device{}
	for _, d := range l.Devices {
		clients[d.Source] = d
	}
	g := gate.New(gate.Config{Site: l.Site, Keys: l.Keys, Clients: clients, Ledger: book, Events: folder.Event, Capture: traffic})
	defer g.Shutdown()
	places := state.Places{Site: l.Name, SitePath: absolute(l.Path), Devices: []state.DevicePlace{}}
	for _, s := range l.Servers {
		if len(chosen) > 0 && !chosen[s] || len(chosen) == 0 && !s.Run {
			continue
		}
		place, err := serveOne(c.Context, g, s)
		if err != nil {
			return false, cannot(err)
		}
		places.Servers = append(places.Servers, c.announce(s, place))
	}
	if len(places.Servers) == 0 {
		return false, wrong("no server of %s has run: true, so there is nothing to serve; set it, or name servers with -only", l.Path)
	}
	if err := folder.WritePlaces(places); err != nil {
		return false, cannot(err)
	}
	c.note("ready")
	c.until(span)
	return true, nil
}

// announce says in one line what a server listens on.
func (c *Call) announce(s *site.Server, p gate.Place) state.ServerPlace {
	at := state.ServerPlace{Name: s.Name, Protocol: string(s.Protocol), Address: p.Authentication.Addr().String(), Running: true}
	if s.Protocol == site.TACACS {
		at.Port = p.Authentication.Port()
		c.note("%s: TACACS+ on %s", s.Name, p.Authentication)
		return at
	}
	at.Authentication, at.Accounting = p.Authentication.Port(), p.Accounting.Port()
	c.note("%s: RADIUS on %s, accounting on %s", s.Name, p.Authentication, p.Accounting)
	return at
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
