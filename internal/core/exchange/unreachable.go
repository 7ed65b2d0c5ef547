package exchange

import (
	"fmt"
	"net/netip"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/wire/capture"
)

// Unreachable notes an ICMP message about a packet.
func (l *Listener) Unreachable(_ time.Time, by netip.Addr, from, to netip.AddrPort, udp bool, why capture.Refusal) {
	said := unreached{by: by, why: why}
	if !udp {
		if len(l.unreached) < mostConns {
			l.unreached[capture.Conn{Client: from, Server: to}] = said
		}
		return
	}
	for k, w := range l.pairs.waiting {
		if k.client == from && k.server == to {
			said.mark(w.e, to.Addr())
		}
	}
}

// unreached is what ICMP says of a packet, and which host says it.
type unreached struct {
	by  netip.Addr
	why capture.Refusal
}

// mark notes it on an exchange with a host.
func (u unreached) mark(e *Exchange, address netip.Addr) {
	text := fmt.Sprintf("ICMP of %s says: %s", u.by, u.why)
	switch {
	case u.why == capture.TooBig:
		mark(e, evidence.MarkTooBig, text)
	case u.why == capture.NoPort && (u.by == address || !u.by.IsValid()):
		mark(e, evidence.MarkPortClosed, text+", from the host of the server itself")
	case u.why == capture.NoPort:
		mark(e, evidence.MarkPortClosed, text)
	default:
		mark(e, evidence.MarkNoWay, text)
	}
}
