// Package lab runs a whole site on loopback addresses: its servers, and its
// devices as stand-ins. Links can be cut, servers switched off and keys
// changed, to see what then happens. What happens is left in a state folder.
package lab

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/reach"
	"mellowgate/internal/live/lab/directory"
	"mellowgate/internal/live/lab/standin"
	"mellowgate/internal/live/server/devicelogs"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/service"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/state"
)

// Config is what a lab works from. Site, Keys and State are needed.
type Config struct {
	Site     *site.Site
	SitePath string
	Keys     site.Keys
	State    *state.Folder
	Network  netip.Prefix // default: the site's lab.network
	// From is the address that people come from, as the devices say it; the zero
	// Addr: the one that they really have.
	From netip.Addr
	// Extras is for how many stand-ins at the same time of each device there is
	// room beside the one that the lab starts; with any, it starts none itself.
	Extras int
	// Behaves are aspects of devices that differ from what the site says of their platforms, or
	// that it does not say.
	Behaves []site.Supposition
	// Devices has the lab run no server: where each of them would listen is left to others.
	Devices bool
	// Speech gives a device the words of its make at its command line, nil for its own small
	// shell. Default: none speaks.
	Speech func(*site.Device) *standin.Speech
}

// Ports of the stand-ins.
const (
	sshPort     = 22
	telnetPort  = 23
	webPort     = 443
	netconfPort = 830
	consolePort = 3001 // stands for the serial line
	apiPort     = 8443
)

// Lab is a running lab.
//
// mu guards faults. Shutdown ends everything that Start started, and waits.
type Lab struct {
	Places      evidence.Places
	config      Config
	at          addresses
	links       *links
	hindrances  hindrances
	service     *service.Service
	devices     map[*site.Device]*standin.Device
	targets     map[*site.Server]aaa.Target // where each server is asked, whoever asks
	hostKey     ssh.Signer                  // of every extra stand-in
	control     *control
	logs        *devicelogs.Receiver // of devices, nil where the site receives none
	directories map[*site.Server]*directory.Server
	mu          sync.Mutex
	faults      []Fault
	offset      atomic.Int64 // of the clock, in nanoseconds

	authority  *pki.Authority // made for the first server over TLS
	identities map[string]pki.Identity
}

// Start starts everything, or nothing.
func Start(c Config) (*Lab, error) {
	if !c.Network.IsValid() {
		c.Network = c.Site.Lab.Network
	}
	at, err := newAddresses(c.Site, c.Network, c.Extras)
	if err != nil {
		return nil, err
	}
	l := &Lab{config: c, at: at, devices: map[*site.Device]*standin.Device{},
		directories: map[*site.Server]*directory.Server{}, links: &links{}}
	if err := l.start(); err != nil {
		l.Shutdown()
		return nil, err
	}
	return l, nil
}

func (l *Lab) start() (err error) {
	clients := map[netip.Addr]*site.Device{}
	for d, a := range l.at.devices {
		clients[a] = d
	}
	for d, some := range l.at.extras {
		if as := l.as(d); as != nil {
			for _, a := range some {
				clients[a] = as
			}
		}
	}
	if l.service, err = service.Open(l.config.Site, l.config.Keys, clients, l.config.State,
		service.Options{Now: l.now, Front: &l.hindrances, Passing: true, Traffic: 64 << 20,
			Directory: l.directory}); err != nil {
		return err
	}
	l.links.capture = l.service.Capture
	if l.targets, err = l.servers(); err != nil {
		return err
	}
	if !l.config.Devices {
		l.service.Metrics.Taken(l.config.Site.Servers, nil)
	}
	if l.hostKey, err = newHostKey(); err != nil {
		return err
	}
	if l.config.Extras == 0 {
		if err := l.standIns(); err != nil {
			return err
		}
	}
	if err := l.receiveLogs(clients); err != nil {
		return err
	}
	if err := l.openControl(l.at.control); err != nil {
		return cannotListen("the lab's control", netip.AddrPortFrom(l.at.control, 0), err)
	}
	l.Places.Site, l.Places.SitePath = l.config.Site.Name, l.config.SitePath
	if l.config.From.IsValid() {
		l.Places.From = l.config.From.String()
	}
	if err := l.knownHosts(); err != nil {
		return err
	}
	return l.config.State.WritePlaces(l.Places)
}

// servers starts the servers that the site says to run, and returns for each
// server where it is asked. A server that does not run has an address at which
// nobody answers.
func (l *Lab) servers() (targets map[*site.Server]aaa.Target, err error) {
	targets = map[*site.Server]aaa.Target{}
	for _, s := range l.config.Site.Servers {
		place := service.Where(s, l.at.servers[s])
		if s.Secured() {
			identity, err := l.identity(s.Name, l.at.servers[s])
			if err != nil {
				return nil, err
			}
			place.TLS = identity.Server(s.Protocol)
		}
		if l.config.Devices {
			if place, err = l.leave(s, place); err != nil {
				return nil, err
			}
		} else if s.Protocol == site.LDAP {
			if place.Authentication, err = l.play(s, place.Authentication); err != nil {
				return nil, cannotListen("the directory "+s.Name, place.Authentication, err)
			}
		}
		if s.Protocol != site.LDAP && !l.config.Devices { // one that others run is played as far as the site knows it
			got, err := open(place.Authentication, func(endpoint netip.AddrPort) (gate.Place, error) {
				place.Authentication = endpoint
				if s.Secured() {
					place.Accounting = endpoint
				}
				return l.service.Listen(place)
			})
			if err != nil {
				return nil, cannotListen("the server "+s.Name, place.Authentication, err)
			}
			place = got
		}
		targets[s] = aaa.Target{Server: s, Authentication: place.Authentication, Accounting: place.Accounting,
			Dialer: l.links, Words: attributes.Of(l.config.Site)}
		written := service.Written(place)
		written.Running = !l.config.Devices
		l.Places.Servers = append(l.Places.Servers, written)
	}
	return targets, nil
}

// leave returns where somebody else can play a server: its ports, as far as this user may
// open them.
func (l *Lab) leave(s *site.Server, place gate.Place) (gate.Place, error) {
	try := func(endpoint netip.AddrPort) (netip.AddrPort, error) {
		if s.TwoPorts() {
			return endpoint, nil
		}
		got, err := open(endpoint, listenTCP)
		if err != nil {
			return endpoint, cannotListen("the server "+s.Name, endpoint, err)
		}
		return got.Addr().(*net.TCPAddr).AddrPort(), got.Close()
	}
	var err error
	if place.Authentication, err = try(place.Authentication); err == nil && place.Accounting.Port() != 0 {
		place.Accounting, err = try(place.Accounting)
	}
	return place, err
}

// ErrListen is a port that could not be opened.
var ErrListen = errors.New("cannot listen")

func cannotListen(what string, endpoint netip.AddrPort, err error) error {
	why := err.Error()
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		why = "the port is in use; is another lab running? End it, or choose other addresses with -network " +
			"127.78.0.0/16"
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		why = "this host does not have that loopback address; on some systems each must be added by hand first"
	case errors.Is(err, syscall.EACCES):
		why = "this user may not open the port"
	}
	return fmt.Errorf("%w: %s on %s: %s", ErrListen, what, endpoint, why)
}

// as returns the device as which a device is known to the servers: itself, or
// the one whose address it asks from; nil where they do not know that address.
func (l *Lab) as(d *site.Device) *site.Device {
	if d.Asks() == d.Source {
		return d
	}
	for _, other := range l.config.Site.Devices {
		if other.Source == d.Asks() {
			return other
		}
	}
	return nil
}

func newHostKey() (ssh.Signer, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(private)
}

// reaches returns how a device reaches each server from an address.
func (l *Lab) reaches(d *site.Device, from netip.Addr) (map[*site.Server]aaa.Target, error) {
	targets, as := make(map[*site.Server]aaa.Target, len(l.targets)), d.As(l.config.Behaves)
	for s, t := range l.targets {
		t.From, t.HeedsICMP = from, as.Platform.Behaviour.HeedsICMP
		if !d.Found.Source.IsValid() && !d.Path(s).Source.IsValid() {
			t.Dialer = noSource{} // the device has no address from which it could ask
		}
		if s.TwoPorts() { // the device may ask at other ports than the server's
			authentication, accounting, _ := as.Ports(s)
			if authentication != s.AuthenticationPort {
				t.Authentication = netip.AddrPortFrom(t.Authentication.Addr(), authentication)
			}
			if accounting != s.AccountingPort {
				t.Accounting = netip.AddrPortFrom(t.Accounting.Addr(), accounting)
			}
		}
		t.Key, t.Patience = reach.Key(d, s, l.config.Keys), d.Patience(s)
		switch {
		case s.Protocol == site.LDAP:
			t.TLS = l.directory(s).TLS
		case s.Secured():
			var err error
			if t.TLS, err = l.client(d, s); err != nil {
				return nil, err
			}
		}
		targets[s] = t
	}
	return targets, nil
}

// ways are the ways in that stand-ins have, with their ports.
var ways = []struct {
	access string
	port   uint16
}{{site.Console, consolePort}, {site.SSH, sshPort}, {site.Telnet, telnetPort}, {site.Web, webPort}, {site.API, apiPort},
	{site.NETCONF, netconfPort}}

// standIns starts the devices.
func (l *Lab) standIns() error {
	for _, d := range l.config.Site.Devices {
		hostKey, err := newHostKey()
		if err != nil {
			return err
		}
		targets, err := l.reaches(d, l.at.sources[d])
		if err != nil {
			return err
		}
		certificate, err := l.pageCertificate(d)
		if err != nil {
			return err
		}
		var speech *standin.Speech
		if l.config.Speech != nil {
			speech = l.config.Speech(d)
		}
		device := standin.New(standin.Config{Device: d.As(l.config.Behaves), Speech: speech, Certificate: certificate,
			Keys: l.config.Keys, Targets: targets,
			HostKey: hostKey, Trace: l.config.State.Trace, Now: l.now,
			Log: l.config.State.Log, Counted: func(counts []evidence.Count) { l.config.State.Counters(d.Name, counts) },
			From: l.at.from(d), Arrive: l.config.From})
		l.devices[d] = device
		device.Started()
		place := evidence.DevicePlace{Name: d.Name, Source: l.at.devices[d].String(),
			HostKey: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(hostKey.PublicKey()))),
			Ways:    []evidence.WayPlace{},
			Speaks:  speech != nil}
		for _, way := range ways {
			if d.Way(way.access) == nil {
				continue
			}
			endpoint := netip.AddrPortFrom(l.at.devices[d], way.port)
			listener, err := open(endpoint, listenTCP)
			if err != nil {
				return cannotListen("the device "+d.Name, endpoint, err)
			}
			device.Serve(way.access, listener)
			place.Ways = append(place.Ways, evidence.WayPlace{Access: way.access, Address: listener.Addr().String()})
		}
		if port := d.Platform.Behaviour.DisconnectPort; port != 0 {
			at := netip.AddrPortFrom(l.at.devices[d], uint16(port))
			conn, err := open(at, listenUDP)
			if err != nil {
				return cannotListen("the device "+d.Name, at, err)
			}
			device.ServeDisconnect(conn)
		}
		l.Places.Devices = append(l.Places.Devices, place)
	}
	return nil
}

// identity makes a certificate of the lab's own authority.
func (l *Lab) identity(name string, address netip.Addr) (pki.Identity, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if known, ok := l.identities[name]; ok {
		return known, nil
	}
	now := time.Now()
	if l.authority == nil {
		var err error
		if l.authority, err = pki.NewAuthority("the authority of this lab", now); err != nil {
			return pki.Identity{}, err
		}
		l.identities = map[string]pki.Identity{}
	}
	i, err := l.authority.Issue(name, address, now)
	l.identities[name] = i
	return i, err
}

// pageCertificate returns the certificate of a device's pages, where it has some.
func (l *Lab) pageCertificate(d *site.Device) (tls.Certificate, error) {
	if d.Way(site.Web) == nil && d.Way(site.API) == nil {
		return tls.Certificate{}, nil
	}
	i, err := l.identity(d.Name, l.at.devices[d])
	if err == nil {
		err = l.authority.WriteAuthority(l.config.State.Certificates())
	}
	return i.Certificate, err
}

// client returns what a device needs to ask a server over TLS. Its certificate is
// left in the state folder too, for other programs that ask in its name.
func (l *Lab) client(d *site.Device, s *site.Server) (*tls.Config, error) {
	i, err := l.identity(d.Name, l.at.devices[d])
	if err != nil {
		return nil, err
	}
	return i.Client(s.Protocol, l.at.servers[s].String()), l.authority.Write(l.config.State.Certificates(), d.Name, i)
}

// Trusted are those whose certificates a client of the devices' pages trusts.
func (l *Lab) Trusted() *x509.CertPool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, i := range l.identities {
		return i.Trusted
	}
	return nil
}

// knownHosts writes the devices' SSH keys for an SSH client.
func (l *Lab) knownHosts() error {
	var text strings.Builder
	for _, d := range l.Places.Devices {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(d.HostKey))
		if err != nil {
			return err
		}
		for _, w := range d.Ways {
			if w.Access == site.SSH || w.Access == site.NETCONF {
				text.WriteString(knownhosts.Line([]string{w.Address}, key) + "\n")
			}
		}
	}
	return os.WriteFile(l.config.State.KnownHosts(), []byte(text.String()), 0o600)
}

// Shutdown ends the lab and waits for everything in it. It may be called on a
// lab that started in part.
func (l *Lab) Shutdown() {
	l.control.close()
	if l.logs != nil {
		l.logs.Close()
	}
	for _, d := range l.devices {
		d.Shutdown()
	}
	if l.service != nil {
		_ = l.service.Close()
	}
	for _, d := range l.directories {
		d.Close()
	}
}

// Silence cuts every device from a server, or joins them again.
func (l *Lab) Silence(s *site.Server, silent bool) {
	l.toggle(Fault{What: "silent", Server: s}, silent)
}

// Cut cuts a device from every server, or joins it again.
func (l *Lab) Cut(d *site.Device, cut bool) {
	l.toggle(Fault{What: "loses", Device: d, Loses: 100}, cut)
}

func (l *Lab) toggle(f Fault, on bool) {
	if on {
		l.Set(f)
	} else {
		l.Lift(f)
	}
}

// DeviceKey returns a device another key for a server.
func (l *Lab) DeviceKey(d *site.Device, s *site.Server, key site.Secret) { l.devices[d].SetKey(s, key) }

// Wake ends the rest of every server on a device.
func (l *Lab) Wake(d *site.Device) { l.devices[d].Wake() }
