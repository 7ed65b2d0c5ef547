package standin

import (
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/wire/radius"
)

// freshFor is how old a Disconnect-Request may be, either way: RFC 5176, section
// 6.3.
const freshFor = 300 * time.Second

// ServeDisconnect answers Disconnect-Requests (RFC 5176) until Shutdown. One that
// is of no server of the device, or made with another key, has no answer.
func (d *Device) ServeDisconnect(conn *net.UDPConn) {
	d.closing(conn.Close)
	d.running.Go(func() {
		buffer := make([]byte, radius.MaxSize)
		guard.Retry(d.ctx, func() error {
			n, from, err := conn.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return err
			}
			if answer := d.disconnect(buffer[:n], from.Addr().Unmap()); answer != nil {
				_, _ = conn.WriteToUDPAddrPort(answer, from)
			}
			return nil
		}, func(err error) { d.logs("Disconnect-Requests cannot be read just now: %v", err) })
	})
}

// disconnect returns the answer to a packet, nil for none.
func (d *Device) disconnect(b []byte, from netip.Addr) []byte {
	request, err := radius.Decode(b)
	if err != nil || request.Code != radius.DisconnectRequest {
		return nil
	}
	server, key, known := d.serverAt(from)
	if !known || !radius.CheckDisconnectRequest(b, key) {
		d.logs("a Disconnect-Request from %s is not of a server of this device, or made with another key", from)
		return nil
	}
	if at, ok := request.Integer(radius.EventTimestamp); ok &&
		d.config.Now().Sub(time.Unix(int64(at), 0)).Abs() > freshFor {
		d.logs("a Disconnect-Request of %s is older than %s, or its clock is ahead", server.Name, freshFor)
		return nil
	}
	answer := &radius.Packet{Code: radius.DisconnectACK, ID: request.ID}
	if cause := d.hangUp(request, server); cause != 0 {
		answer.Code = radius.DisconnectNAK
		answer.AddInteger(radius.ErrorCause, cause)
	}
	packet, err := answer.EncodeResponse(request.Authenticator, key)
	if err != nil {
		return nil
	}
	return packet
}

// Causes of RFC 5176, section 3.5.
const (
	missingAttribute = 402
	otherDevice      = 403
)

// hangUp ends the sessions that a request chooses, and returns the Error-Cause
// where it ends none.
func (d *Device) hangUp(request *radius.Packet, server *site.Server) (cause uint32) {
	person, session := request.Text(radius.UserName), request.Text(radius.AcctSessionID)
	if device, said := request.Get(radius.NASIdentifier); said && string(device) != d.design().Name {
		return otherDevice
	}
	if person == "" && session == "" {
		return missingAttribute
	}
	d.mu.Lock()
	var some []*visitor
	for _, v := range d.notebook.sessions {
		if (person == "" || v.person == person) && (session == "" || v.asker.Session == session) {
			v.ended.Store(true)
			some = append(some, v)
		}
	}
	d.mu.Unlock()
	if len(some) == 0 {
		return radius.SessionContextNotFound
	}
	slices.SortFunc(some, func(a, b *visitor) int { return strings.Compare(a.line, b.line) })
	for _, v := range some {
		d.logs("%s ends the session of %s on line %s (Disconnect-Request)", server.Name, printed(v.person), v.line)
		d.running.Go(v.hang) // a command that runs is waited for there, not here
	}
	return 0
}

// serverAt returns the RADIUS server of the device at an address, and its key.
func (d *Device) serverAt(from netip.Addr) (*site.Server, []byte, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for s, t := range d.config.Targets {
		if s.TwoPorts() && t.Authentication.Addr() == from {
			return s, []byte(t.Key.Reveal()), true
		}
	}
	return nil, nil, false
}
