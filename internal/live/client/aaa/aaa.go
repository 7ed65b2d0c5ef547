// Package aaa puts one question to one server with real packets: as a
// device would, from its address, with its key, waiting as long as the server's
// entry in the site says. What comes back is a walk.Reply.
package aaa

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/wire/radius"
)

// Dialer opens connections from an address to another. Connections that nobody
// answers fail with a timeout, refused ones with ECONNREFUSED.
type Dialer interface {
	Dial(ctx context.Context, network string, from netip.Addr, to netip.AddrPort) (net.Conn, error)
}

// Net is the Dialer of this host's network.
type Net struct{}

// Dial opens a connection; an invalid from leaves the choice to the system.
func (Net) Dial(ctx context.Context, network string, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	d := net.Dialer{}
	if from.IsValid() {
		if network == "udp" {
			d.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
		} else {
			d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
		}
	}
	return d.DialContext(ctx, network, to.String())
}

// Target is a server as one asker reaches it.
type Target struct {
	Server         *site.Server
	Patience       site.Patience  // of the asker; zero: as the server says
	Authentication netip.AddrPort // for TACACS+, where everything is asked
	Accounting     netip.AddrPort
	From           netip.Addr // the asker's address
	Key            site.Secret
	HeedsICMP      bool // a closed UDP port ends a try at once
	Dialer         Dialer
	TLS            *tls.Config       // for a server over TLS
	Words          radius.Dictionary // for the attributes of answers
}

// patient returns how patient the asker is.
func (t Target) patient() site.Patience {
	if t.Patience == (site.Patience{}) {
		return site.Patience{Timeout: t.Server.Timeout, Attempts: t.Server.Attempts}
	}
	return t.Patience
}

// secure makes TLS on a connection, where the server speaks over TLS.
func (t Target) secure(ctx context.Context, conn net.Conn) (net.Conn, error) {
	if !t.Server.Secured() {
		return conn, nil
	}
	if t.TLS == nil {
		_ = conn.Close()
		return nil, errors.New("the server speaks over TLS, and there is no certificate to show it")
	}
	secured := tls.Client(conn, t.TLS)
	if err := secured.HandshakeContext(ctx); err != nil {
		_ = conn.Close()
		return nil, fmt.Errorf("TLS: %w", err)
	}
	return secured, nil
}

// Asker is who asks and on whose behalf.
type Asker struct {
	Device   string // the name sent as NAS-Identifier
	Port     string // the device's port, such as ssh0
	From     string // where the person comes from
	Session  string // the device's name for the session
	Ended    bool   // for the record of its end: an administrator ended it
	Password string // for a login
	Form     string // for a login; "" is PAP with RADIUS and prompts with TACACS+
	// Elevate, above 0, makes a login over TACACS+ the elevation to that level.
	Elevate int
	// Code answers a server that asks for a one-time code; it is false where
	// there is none. Nil: a question for one is a refusal.
	Code func(prompt string) (string, bool)
	// Extra are RADIUS attributes to send beside the usual ones.
	Extra []radius.Attribute
}

// Begin starts one exchange. The context ends it early.
func Begin(ctx context.Context, t Target, q walk.Question, a Asker) walk.Exchange {
	if t.Dialer == nil {
		t.Dialer = Net{}
	}
	if t.Server.Protocol == site.RADIUS {
		return newRADIUS(ctx, t, q, a)
	}
	if t.Server.Protocol == site.LDAP {
		return newDirectory(ctx, t, q, a)
	}
	if q.Purpose == site.Elevation {
		a.Elevate = q.Level
	}
	return &tacacsExchange{ctx: ctx, target: t, q: q, asker: a}
}

// Status asks a RADIUS server whether it is alive, RFC 5997, at its
// authentication port or at its accounting port.
func Status(ctx context.Context, t Target, a Asker, accounting bool) walk.Exchange {
	if t.Dialer == nil {
		t.Dialer = Net{}
	}
	if t.Server.Secured() {
		t.Key = site.NewSecret(pki.RADIUSKey)
	}
	e := &radiusExchange{ctx: ctx, target: t, to: t.Authentication}
	if accounting {
		e.to = t.Accounting
	}
	if e.request, e.err = newRequest(radius.StatusServer); e.err == nil {
		e.request.AddText(radius.NASIdentifier, a.Device)
		e.bytes, e.err = e.request.EncodeRequest([]byte(t.Key.Reveal()))
	}
	return e
}

// World is a walk's world of real servers, for one asker. It has no local
// accounts.
type World struct {
	Context context.Context
	Targets map[*site.Server]Target
	Asker   Asker
	Status  bool // ask for the status in place of the walk's question
}

// Begin asks a server with a real packet.
func (w World) Begin(s *site.Server, q walk.Question) walk.Exchange {
	if w.Status {
		return Status(w.Context, w.Targets[s], w.Asker, false)
	}
	return Begin(w.Context, w.Targets[s], q, w.Asker)
}

// PasswordIs is never true: there are no accounts here.
func (World) PasswordIs(*site.Account) bool { return false }

// SecretIs is never true: there are no secrets of elevation here.
func (World) SecretIs(*site.ElevationSecret) bool { return false }

// lost makes the reply of a try that brought no answer.
func lost(r reason.Reason, message string, began time.Time) walk.Reply {
	return walk.Reply{Result: walk.Unavailable, Reason: r, Message: message, Took: time.Since(began)}
}

// failure says why a connection gave nothing.
func failure(err error) (reason.Reason, string) {
	switch {
	case err == nil:
		return "", ""
	case errors.Is(err, context.Canceled), strings.Contains(err.Error(), "operation was canceled"):
		return reason.GivenUp, "given up by who asked"
	case errors.Is(err, syscall.ECONNREFUSED):
		return reason.Closed, "the port refuses"
	case errors.Is(err, os.ErrDeadlineExceeded), isTimeout(err):
		return reason.Silent, "no answer"
	case noWay(err):
		return reason.NoWay, "there is no way to the server's address"
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return reason.NoSource, "there is no address to ask it from"
	}
	if refused := new(tls.AlertError); errors.As(err, refused) || strings.Contains(err.Error(), "remote error: tls: ") {
		return reason.TLS, "the server ended the TLS connection: " + err.Error() + "; it may not take our certificate"
	}
	return reason.Silent, err.Error()
}

// noWay reports whether a host cannot send to an address: no route, no network, or
// a filter of its own.
func noWay(err error) bool {
	for _, e := range []error{syscall.EHOSTUNREACH, syscall.ENETUNREACH, syscall.ENETDOWN, syscall.EHOSTDOWN,
		syscall.EPERM,
		syscall.EACCES, syscall.EINVAL} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// isNetwork tells an error of the network from one of the question.
func isNetwork(err error) bool {
	var op *net.OpError
	return isTimeout(err) || errors.Is(err, os.ErrDeadlineExceeded) || errors.As(err, &op)
}

func isTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.As(err, &t) && t.Timeout() || errors.Is(err, context.DeadlineExceeded)
}
