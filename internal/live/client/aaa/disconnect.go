package aaa

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/radius"
)

// Disconnecting is a Disconnect-Request of a server to a device, RFC 5176: end
// every session of a person.
type Disconnecting struct {
	Device, Person string
	Server         *site.Server // the device is asked as often, and waited for as long, as it waits for this one
	From           netip.Addr   // the server's address, by which the device knows it
	To             netip.AddrPort
	Key            site.Secret
	Dialer         Dialer // default: Net
	Now            func() time.Time
}

// ErrNoSession is a device's answer that the person has no session there.
var ErrNoSession = errors.New("the device has no session of that person")

// Send asks the device, again where no answer comes. No error is the device's word that
// the sessions have ended; ErrNoSession, that there were none.
func (d Disconnecting) Send(ctx context.Context) error {
	if d.Dialer == nil {
		d.Dialer = Net{}
	}
	var id [1]byte
	_, _ = rand.Read(id[:]) // never fails: crypto/rand ends the process instead
	request := &radius.Packet{Code: radius.DisconnectRequest, ID: id[0]}
	request.AddText(radius.NASIdentifier, d.Device)
	request.AddText(radius.UserName, d.Person)
	// Section 6.3: against the sending of an old request again.
	request.AddInteger(radius.EventTimestamp, uint32(d.Now().Unix()))
	key := []byte(d.Key.Reveal())
	packet, err := request.EncodeDisconnectRequest(key)
	if err != nil {
		return err
	}
	conn, err := d.Dialer.Dial(ctx, "udp", d.From, d.To)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	stop := routine.OnDone(ctx, func() { _ = conn.Close() })
	defer stop()
	buffer := make([]byte, radius.MaxSize)
	for range d.Server.Attempts {
		if _, err = conn.Write(packet); err != nil && ctx.Err() != nil {
			return ctx.Err()
		}
		_ = conn.SetReadDeadline(time.Now().Add(d.Server.Timeout))
		for {
			var n int
			if n, err = conn.Read(buffer); err != nil {
				break
			}
			if p, ok := answered(buffer[:n], request, key); ok {
				return verdict(p)
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	_, why := failure(err)
	return fmt.Errorf("%s (UDP %s, attempts: %d)", why, d.To, d.Server.Attempts)
}

// answered reads the answer to a request. One that is not authentic is none.
func answered(b []byte, request *radius.Packet, key []byte) (*radius.Packet, bool) {
	p, err := radius.Decode(b)
	return p, err == nil && p.ID == request.ID && radius.CheckResponse(b, request.Authenticator, key) &&
		(p.Code == radius.DisconnectACK || p.Code == radius.DisconnectNAK)
}

// verdict is what an answer says.
func verdict(p *radius.Packet) error {
	if p.Code == radius.DisconnectACK {
		return nil
	}
	cause, said := p.Integer(radius.ErrorCause)
	switch {
	case cause == radius.SessionContextNotFound:
		return ErrNoSession
	case !said:
		return errors.New("the device refuses, and says no cause")
	}
	value, _ := p.Get(radius.ErrorCause)
	for _, n := range (radius.Dictionary{}).Names(radius.Attribute{Type: radius.ErrorCause, Value: value}) {
		return fmt.Errorf("the device refuses: %s (RFC 5176, section 3.5)", n.Value)
	}
	return fmt.Errorf("the device refuses: Error-Cause %d", cause)
}
