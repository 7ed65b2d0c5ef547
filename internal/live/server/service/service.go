// Package service is a gate with everything that it writes to: the ledger, the
// events and the capture of one state folder. `serve` runs one on the site's
// own addresses, a lab runs one on loopback.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/client/reach"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/wire/capture"
)

// Options are how a service is run, beside what its site says. The zero value
// works.
type Options struct {
	// Explain is given how each decision came about. Default: nobody asks.
	Explain func(*site.Site, evidence.Event, []rights.Step)
	// Event is given every event, beside events.jsonl. Default: nobody.
	Event func(evidence.Event)
	// Passing is for a lab: its records do not wait for the disk itself.
	Passing bool
	// Traffic is how many octets of packets are kept where the site does not say.
	// Default: none.
	Traffic int64
	// Now is the time; default time.Now.
	Now func() time.Time
	// Directory gives how a directory is reached. Default: as the site says.
	Directory func(*site.Server) ldap.Reach
	// Front stands between clients and the servers. Default: nothing does.
	Front gate.Front
	// Version is that of the program, for monitors.
	Version string
	// Head is given the newest record, signed, now and then. Default: nobody is.
	Head func(ledger.Head)
	// Say is told what an administrator should know of the service itself.
	// Default: nobody is.
	Say func(string)
}

// book is where the service keeps its records.
type book interface {
	gate.Keeper
	Close() error
}

// Service is a gate and what it writes to.
//
// Whoever opened it closes it: Close ends the gate first, and then what it writes
// to.
type Service struct {
	*gate.Gate
	Capture *capture.Writer
	Metrics *Metrics
	ledger  book
	// database is what nodes share, and node this one's name there; nil: there is none.
	database *ledger.Database
	node     string
	folder   *state.Folder
	records  string // the folder of the records
	keeping  *keeping
	shared   *ledger.Shared // what other nodes know; nil: there are none
	traffic  *os.File
	ends     *ends
	say      func(string)
	found    map[string]netip.Addr // the address of each host name, when it was last found
	missing  bool                  // servers do not run, as their host names have no address
}

// Open opens the ledger and the capture of a state folder, and a gate that
// listens nowhere yet. The clients are the site's devices by the address that
// their requests come from.
func Open(s *site.Site, keys site.Keys, clients map[netip.Addr]*site.Device, folder *state.Folder,
	options Options) (*Service, error) {
	if options.Say == nil {
		options.Say = func(string) {}
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	v := &Service{Metrics: NewMetrics(), ends: newEnds(options.Say, options.Now), say: options.Say,
		found: map[string]netip.Addr{}}
	folder.BoundEvents(s.Service.Events)
	folder.OnTrouble(func(text string, lost bool) {
		options.Say(text)
		if !lost {
			text = ""
		}
		v.Metrics.Health.Set(TroubleEvidence, text)
	})
	var err error
	if v.ledger, err = v.openLedger(s, keys, folder, options); err != nil {
		return nil, err
	}
	size := s.Service.Traffic
	if size < 0 {
		size = options.Traffic
	}
	if err := v.record(folder, size); err != nil {
		v.keeping.close()
		return nil, errors.Join(err, v.ledger.Close())
	}
	used, err := folder.UsedCodes()
	if err != nil {
		v.keeping.close()
		return nil, errors.Join(err, v.closeTraffic(), v.ledger.Close())
	}
	v.Gate = gate.New(gate.Config{UsedCodes: used, KeepCodes: v.keepCodes(folder), Learned: v.learned,
		Design: gate.Design{Site: s, Keys: keys, Clients: clients, Directory: options.Directory}, Ledger: v.ledger,
		Capture: v.Capture, Credentials: s.Service.TrafficCredentials,
		Explain: options.Explain, Now: options.Now, Took: v.Metrics.Took, Front: options.Front, Say: options.Say,
		Events: func(e evidence.Event) {
			v.Metrics.Event(e)
			folder.Event(e)
			if options.Event != nil {
				options.Event(e)
			}
		}})
	if v.database != nil {
		v.shared = ledger.OpenShared(*v.database, v.node, ledger.Hears{Failed: v.LearnFailure, Confirmed: v.LearnName},
			options.Say)
	}
	v.Metrics.Watch(v.Gate, options.Version)
	v.folder = folder
	if err := folder.Figures(v.Metrics.ListenAt); err != nil { // nothing else hangs on them
		options.Say(fmt.Sprintf("watch will show no figures of this run: %v", err))
	}
	return v, nil
}

// keepCodes keeps the one-time codes that were used: for all nodes, and on this disk.
func (v *Service) keepCodes(folder *state.Folder) func(string, int64, map[string]int64) error {
	return func(person string, step int64, all map[string]int64) error {
		used := false
		if v.shared != nil {
			used, _ = v.shared.UseCode(person, step) // while it cannot be known this node goes by itself, as was said
		}
		err := folder.KeepCodes(all)
		if used {
			return guard.ErrUsed
		}
		return err
	}
}

// learned lets other nodes know.
func (v *Service) learned(name, source string, moment time.Time) {
	if v.shared != nil {
		v.shared.Tell(ledger.Learned{Name: name, Source: source, At: moment})
	}
}

// openLedger opens the ledger that the site wants: a folder, and before a database too.
func (v *Service) openLedger(s *site.Site, keys site.Keys, folder *state.Folder, options Options) (book, error) {
	o := ledger.Options{Passing: options.Passing, Wrote: v.wrote(options.Say), Say: options.Say}
	as := s.Service.Ledger
	earlier, waiting := folder.EarlierRecords()
	host, err := os.Hostname()
	if err != nil {
		return nil, err
	}
	var kept book
	var l *ledger.Ledger
	if as.Database == "" {
		v.records, o.Indexed = folder.RecordsAt(as.Folder), !options.Passing
		if err := ledger.TakeOver(earlier, v.records, options.Say); err != nil {
			return nil, err
		}
		if l, err = ledger.Open(v.records, o); err != nil {
			return nil, err
		}
		kept = l
		v.Metrics.Behind(l.Behind)
	} else {
		v.records = folder.Forwarding()
		if err := ledger.TakeOver(waiting, v.records, options.Say); err != nil {
			return nil, err
		}
		for _, before := range []string{earlier, folder.Records()} {
			if _, err := os.Stat(before); err == nil {
				options.Say(fmt.Sprintf("%s holds the records from before the database; they stay there: move it "+
					"to a folder of its own, and read it with mellowgate ledger -state THAT-FOLDER", before))
			}
		}
		to := ledger.Database{URL: as.Database}
		if as.Key != nil {
			to.Password = keys[as.Key.Name]
		}
		f, err := ledger.OpenForwarded(v.records, o, as.Spool, to, host, options.Say)
		if err != nil {
			return nil, err
		}
		kept, l = f, f.Ledger
		v.database, v.node = &to, host+" "+l.Chain()
		v.Metrics.Waiting(f.Waiting)
	}
	if options.Passing {
		return kept, nil
	}
	to := s.Service.Keep.To
	if to != "" {
		to = folder.RecordsAt(to)
	}
	if err := v.keep(l, s.Service.Keep, to, as.Database == "", options, host); err != nil {
		return nil, errors.Join(err, kept.Close())
	}
	return kept, nil
}

// wrote is told how writing to the ledger goes, and says so once for each time that it
// does not.
func (v *Service) wrote(say func(string)) func(waiting, lost int, err error) {
	missing := 0 // only the writer calls it
	return func(waiting, lost int, err error) {
		missing += lost
		if err == nil {
			if v.Metrics.Health.Set(TroubleLedger, "") {
				say(fmt.Sprintf("the ledger is written again; %d decisions are missing in it", missing))
				missing = 0
			}
			return
		}
		text := fmt.Sprintf("it cannot be written: %v; logins are answered, accounting is not; %d decisions wait, "+
			"%d are lost; make room on the disk, or see what else keeps it from being written", err, waiting, missing)
		if v.Metrics.Health.Set(TroubleLedger, text) {
			say("the ledger: " + text)
		}
	}
}

// Close ends the gate, and then closes what it wrote to.
func (v *Service) Close() error {
	v.Shutdown()
	v.ends.close()
	v.keeping.close()
	if v.shared != nil {
		_ = v.shared.Close() // all that was to be known of it was said
	}
	defer v.folder.ForgetFigures()
	return errors.Join(v.Metrics.Close(), v.Capture.Close(), v.closeTraffic(), v.ledger.Close())
}

func (v *Service) closeTraffic() error {
	if v.traffic == nil {
		return nil
	}
	return v.traffic.Close()
}

// record begins the capture of what is sent and received: the last packets, in
// two parts of half the size each. A size of 0 is none.
func (v *Service) record(folder *state.Folder, size int64) error {
	if size == 0 {
		return nil
	}
	var err error
	if v.traffic, err = folder.OpenTraffic(); err != nil {
		return err
	}
	if v.Capture, err = capture.NewWriter(v.traffic); err != nil {
		return errors.Join(err, v.traffic.Close())
	}
	v.Capture.Bound(size/2, func() (io.Writer, error) {
		next, err := folder.OpenTraffic()
		if err != nil {
			return nil, err
		}
		_ = v.traffic.Close()
		v.traffic = next
		return next, nil
	})
	return nil
}

// Where returns the place of a server at an address, on the site's ports.
func Where(s *site.Server, address netip.Addr) gate.Place {
	authentication, accounting := reach.At(s, address)
	return gate.Place{Server: s, Authentication: authentication, Accounting: accounting}
}

// Written returns a place as it is written to places.json.
func Written(p gate.Place) evidence.ServerPlace {
	place := evidence.ServerPlace{Name: p.Server.Name, Protocol: string(p.Server.Protocol), TLS: p.Server.Secured(),
		Address: p.Authentication.Addr().String(), Running: true}
	if !p.Server.TwoPorts() {
		place.Port = p.Authentication.Port()
	} else {
		place.Authentication, place.Accounting = p.Authentication.Port(), p.Accounting.Port()
	}
	return place
}

// Take puts a design in place of the one in use, and lets just these servers
// of it listen, on the addresses that the site gives them; over TLS with the
// certificates that the site names, read again, whose paths start from base. It
// gives what changed. After an error nothing has.
//
// A server whose host name has no address keeps the one that it had. One that had none
// does not run, and no other stops for it: that is said, and Missing reports it.
func (v *Service) Take(ctx context.Context, d gate.Design, servers []*site.Server, base string) ([]gate.Change, error) {
	places := []gate.Place{}
	ends := map[string]time.Time{}
	bad := []string{}
	for _, s := range servers {
		address, err := v.address(ctx, s)
		if err != nil {
			bad = append(bad, err.Error())
		}
		if !address.IsValid() {
			continue
		}
		p := Where(s, address)
		if s.Secured() {
			identity, err := pki.Of(s, base)
			if err != nil {
				return nil, err
			}
			p.TLS, ends[s.Name] = identity.Server(s.Protocol), identity.Certificate.Leaf.NotAfter
		}
		places = append(places, p)
	}
	if len(places) == 0 && len(bad) > 0 {
		return nil, errors.New(strings.Join(bad, "\n"))
	}
	changes, err := v.Gate.Reconfigure(d, places)
	if err == nil {
		here := map[*site.Server]netip.Addr{}
		for _, p := range places {
			here[p.Server] = p.Authentication.Addr()
		}
		v.Metrics.Certificates(ends)
		v.Metrics.Taken(servers, keyFiles(d.Site, base))
		v.ends.put(d.Site, d.Keys, here)
		v.missing = len(bad) > 0
		if v.Metrics.Health.Set(TroubleAddress, strings.Join(bad, "; ")) && v.missing {
			v.say(strings.Join(bad, "\n"))
		}
	}
	return changes, advised(err)
}

// keyFiles returns when the file of each key was last written, of those that are in
// files; their paths start from base.
func keyFiles(s *site.Site, base string) map[string]time.Time {
	times := map[string]time.Time{}
	for _, k := range s.Keys {
		if k.Source != site.KeyFile {
			continue
		}
		if info, err := os.Stat(files.At(base, k.From)); err == nil {
			times[k.Name] = info.ModTime()
		}
	}
	return times
}

// Missing reports whether a host name of a server had no address when the design was
// last taken.
func (v *Service) Missing() bool { return v.missing }

// address returns the address of a server: of several the one that is in use. Where its
// name has none now, it returns the one before, if there is one, and an error.
func (v *Service) address(ctx context.Context, s *site.Server) (netip.Addr, error) {
	before := v.found[s.Address]
	addresses, err := reach.Addresses(ctx, s)
	switch {
	case err != nil && before.IsValid():
		return before, fmt.Errorf("%w; it goes on at %s", err, before)
	case err != nil:
		return netip.Addr{}, fmt.Errorf("%w; it does not run until there is one, which is looked for every %s", err,
			LooksAgain)
	case slices.Contains(addresses, before):
		return before, nil
	}
	v.found[s.Address] = addresses[0]
	return addresses[0], nil
}

// LooksAgain is how often addresses are looked for that could not be found.
const LooksAgain = 30 * time.Second

// advised adds the next step to an error of listening.
func advised(err error) error {
	var at *gate.ListenError
	if !errors.As(err, &at) {
		return err
	}
	name, place := at.Place.Server.Name, at.Place.Authentication
	switch {
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return fmt.Errorf("the server %s cannot listen on %s: this host does not have that address; run it on the "+
			"host that has, or try the site with: mellowgate lab", name, place.Addr())
	case errors.Is(err, syscall.EADDRINUSE):
		return fmt.Errorf("the server %s cannot listen on %s: the port is in use; end what uses it, or change the "+
			"port in the site", name, place)
	case errors.Is(err, syscall.EACCES):
		return fmt.Errorf("the server %s may not open %s: ports below 1024 need a privilege; run as root, or give "+
			"the program CAP_NET_BIND_SERVICE", name, place)
	}
	return err
}
