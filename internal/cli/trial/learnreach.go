package trial

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/foresee"
	core "mellowgate/internal/core/learn"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/service"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/learn"
)

// learnInLab reaches a stand-in of a running lab whose servers nobody runs.
func learnInLab(c *call.Call, f *learnFlags, l call.Loaded, config *learn.Config) error {
	g := LoginFlags{State: f.state, Device: f.device}
	folder, err := state.Open(f.state)
	if err != nil {
		return call.Usagef("%w\na lab for this is started by: mellowgate lab -devices-only; a real device is named "+
			"by -address",
			err)
	}
	if f.places, err = folder.Places(); err != nil {
		return call.UsageError(err)
	}
	for _, s := range f.places.Servers {
		if s.Running {
			return call.Usagef("the lab in %s runs its servers, and learn plays them itself: start it with "+
				"mellowgate lab -devices-only", f.state)
		}
	}
	if _, found := f.places.Device(f.device); !found {
		return call.Usagef("the lab in %s has no device %q", f.state, f.device)
	}
	config.Clients = map[netip.Addr]*site.Device{}
	for _, p := range f.places.Devices {
		if a, err := netip.ParseAddr(p.Source); err == nil && l.Device(p.Name) != nil {
			config.Clients[a] = l.Device(p.Name)
		}
	}
	config.Directory = func() exchange.Directory { return exchange.InPlaces(l.Site, l.Keys, f.places) }
	config.Where = func(s *site.Server) gate.Place {
		i := slices.IndexFunc(f.places.Servers, func(p evidence.ServerPlace) bool { return p.Name == s.Name })
		address := netip.MustParseAddr(f.places.Servers[i].Address)
		place := service.Where(s, address)
		if s.Protocol == site.TACACS {
			place.Authentication = netip.AddrPortFrom(address, f.places.Servers[i].Port)
		}
		return place
	}
	config.Attempt = func(w *site.Way) (login.Attempt, error) {
		g := g
		g.Access = w.Access
		a, _, err := g.Attempt()
		if err == nil {
			err = wordsFor(c, g, f.places, &a)
		}
		return a, err
	}
	return nil
}

// learnReal reaches a real device, and plays the servers where it asks them.
func learnReal(c *call.Call, f *learnFlags, l call.Loaded, config *learn.Config) error {
	if !slices.Contains([]string{site.SSH, site.Telnet, site.Console}, f.login.Access) {
		return call.Usagef("a real device is entered by ssh, telnet or console; another way in is tried by hand: "+
			"-by-hand %s",
			f.login.Access)
	}
	elsewhere := map[string]netip.Addr{}
	for _, text := range f.listen {
		name, address, _ := strings.Cut(text, "=")
		at, err := netip.ParseAddr(address)
		if err != nil || l.Server(name) == nil {
			return call.Usagef("-listen is %q; SERVER=ADDRESS is wanted, with a server of the site and an address "+
				"of this host", text)
		}
		elsewhere[name] = at
	}
	for _, s := range f.of.Servers() {
		if _, err := netip.ParseAddr(s.Address); err != nil && !elsewhere[s.Name].IsValid() {
			return call.Usagef("the site gives %s by a name; say at which address of this host it is played: "+
				"-listen %s=ADDRESS",
				s.Name, s.Name)
		}
	}
	config.Ways = append([]string{f.login.Access}, f.byHand...)
	config.Where = func(s *site.Server) gate.Place {
		at, err := netip.ParseAddr(s.Address)
		if other, ok := elsewhere[s.Name]; ok || err != nil {
			at = other
		}
		return service.Where(s, at)
	}
	from, err := asksFrom(c, f)
	if err != nil {
		return err
	}
	config.Clients = map[netip.Addr]*site.Device{from: f.of}
	config.Directory = func() exchange.Directory {
		p := evidence.Places{Devices: []evidence.DevicePlace{{Name: f.device, Source: from.String()}}}
		for _, s := range f.of.Servers() {
			p.Servers = append(p.Servers, service.Written(config.Where(s)))
		}
		return exchange.InPlaces(l.Site, l.Keys, p)
	}
	f.login.Device, f.login.patience = f.device, 2*time.Minute
	config.Attempt = func(w *site.Way) (login.Attempt, error) {
		if slices.Contains(f.byHand, w.Access) {
			return login.Attempt{}, errByHand
		}
		g := f.login
		g.Access = w.Access
		a, err := realDevice(c, g)
		if err == nil {
			err = wordsFor(c, g, evidence.Places{}, &a)
		}
		return a, err
	}
	if len(f.byHand) > 0 {
		config.ByHand = triedByHand(c, f)
	}
	return nil
}

// asksFrom returns the address that the device's questions come from.
func asksFrom(c *call.Call, f *learnFlags) (netip.Addr, error) {
	if f.from == "" {
		return f.of.Asks(), nil
	}
	from, err := netip.ParseAddr(f.from)
	if err != nil {
		return from, call.Usagef("-from is %q; an address is wanted, such as 192.0.2.101", f.from)
	}
	return from, nil
}

var errByHand = errors.New("this way in is tried by hand")

// triedByHand asks a person to log in, and what was seen.
func triedByHand(c *call.Call, f *learnFlags) func(context.Context, foresee.Login) (core.Seen, error) {
	in := bufio.NewReader(c.In)
	return func(ctx context.Context, l foresee.Login) (core.Seen, error) {
		password := "the password " + learn.PasswordOfExperiments
		if l.Who.Kind == foresee.Local {
			password = "its own password"
		}
		_, _ = fmt.Fprintf(c.Err, "log in to %s by %s as %s with %s.\n", f.device, l.Way.Name(), l.Who.Typed(),
			password)
		began := time.Now()
		for {
			_, _ = fmt.Fprint(c.Err, "what came of it? in LEVEL, in, or refused: ")
			line, err := in.ReadString('\n')
			if err != nil || ctx.Err() != nil {
				return core.Seen{}, errors.Join(errors.New("nobody says what was seen"), ctx.Err())
			}
			seen := core.Seen{Level: core.NoLevel, Wait: time.Since(began), Unclocked: true}
			var level int
			switch words := strings.Fields(line); {
			case len(words) == 1 && words[0] == "refused":
				return seen, nil
			case len(words) == 1 && words[0] == "in":
				seen.In = true
				return seen, nil
			case len(words) == 2 && words[0] == "in":
				if _, err := fmt.Sscan(words[1], &level); err == nil && level >= 0 && level <= 15 {
					seen.In, seen.Level = true, level
					return seen, nil
				}
			}
			_, _ = fmt.Fprintln(c.Err, "one of these three is wanted, such as: in 15")
		}
	}
}
