package lab

import (
	"crypto/x509"
	"net"
	"net/netip"
	"slices"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab/directory"
	"mellowgate/internal/live/lab/standin"
)

// Extra is a stand-in of a device that lives for one trial, at an address of
// its own: what is wrong with the servers is wrong for it alone.
type Extra struct {
	lab       *Lab
	device    *site.Device
	stand     *standin.Device
	from      netip.Addr
	afflicted []*site.Server
	listener  net.Listener
}

// Extra makes the nth stand-in of a device, entered by one way; n is below
// Config.Extras, and no two live at the same time.
func (l *Lab) Extra(d *site.Device, n int, way *site.Way, trace func(evidence.Trace)) (*Extra, error) {
	e := &Extra{lab: l, device: d, from: l.at.extras[d][n]}
	targets, err := l.reaches(d, e.from)
	if err != nil {
		return nil, err
	}
	certificate, err := l.pageCertificate(d)
	if err != nil {
		return nil, err
	}
	as := d.As(l.config.Behaves)
	if i := slices.Index(d.Ways, way); i >= 0 {
		way = as.Ways[i]
	}
	e.stand = standin.New(standin.Config{Device: as, Certificate: certificate, Keys: l.config.Keys, Targets: targets,
		HostKey: l.hostKey, Trace: trace, Now: l.now, Only: way})
	if e.listener, err = net.Listen("tcp", netip.AddrPortFrom(e.from, 0).String()); err != nil {
		e.stand.Shutdown()
		return nil, err
	}
	e.stand.Serve(way.Access, e.listener)
	return e, nil
}

// Address is where the stand-in is entered.
func (e *Extra) Address() string { return e.listener.Addr().String() }

// Trusted are those whose certificates a client of its pages trusts.
func (e *Extra) Trusted() *x509.CertPool { return e.lab.Trusted() }

// HostKey is its SSH key.
func (e *Extra) HostKey() ssh.PublicKey { return e.lab.hostKey.PublicKey() }

// Afflict makes a server be in a state for this stand-in: silent, closed,
// key-differs, client-unknown, error or no-accounting.
func (e *Extra) Afflict(s *site.Server, state string) {
	e.afflicted = append(e.afflicted, s)
	at := link{device: e.from, server: e.lab.at.servers[s]}
	switch state {
	case "silent":
		e.lab.links.set(at, func(c *condition) { c.cut = true })
	case "closed":
		// A port that refuses and a router that says there is no way are one to a device: either, in turn.
		noWay := e.from.As4()[3]%2 == 1
		e.lab.links.set(at, func(c *condition) { c.closed, c.noWay = !noWay, noWay })
	case "key-differs", "error":
		if d := e.lab.directories[s]; d != nil {
			d.Fault(e.from, directory.Fault{Refuses: state == "key-differs", Error: state == "error"})
			return
		}
		if state == "error" {
			e.lab.hindrances.put(s.Name, e.from, hindrance{failing: true})
			return
		}
		e.stand.SetKey(s, anotherKey())
	case "no-accounting":
		e.lab.hindrances.put(s.Name, e.from, hindrance{not: kindsOff[state]})
	case "client-unknown":
		e.lab.hindrances.put(s.Name, e.from, hindrance{stranger: true})
	}
}

// Close ends the stand-in, and what was wrong for it.
func (e *Extra) Close() {
	e.stand.Shutdown()
	for _, s := range e.afflicted {
		e.lab.links.set(link{device: e.from, server: e.lab.at.servers[s]}, func(c *condition) { *c = condition{} })
		e.lab.hindrances.put(s.Name, e.from, hindrance{})
		if d := e.lab.directories[s]; d != nil {
			d.Fault(e.from, directory.Fault{})
		}
	}
}
