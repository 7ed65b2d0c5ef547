package exchange

import (
	"fmt"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
)

// unread begins a stream over TLS: what it carries cannot be read, its alerts can
// as long as they are in clear.
func (l *Listener) unread(moment time.Time, v *conversation, b []byte) {
	v.tls, v.records = true, &tlsStream{}
	e := l.directory.exchange(moment, v.client, v.server, v.port)
	e.Protocol = "tls"
	e.Question = site.AskConnect
	e.Answer = evidence.Unreadable
	switch {
	case !v.port.tls:
		mark(e, evidence.MarkTLSOnClear, "TLS on a port for clear text")
	case b[0] != recordHandshake:
		mark(e, evidence.MarkClearOnTLS, "clear text on a port for TLS")
	default:
		l.directory.stranger(e, v.client, v.port)
	}
	v.stream = e
}

// endStream gives what a stream shows when its connection ends.
func (l *Listener) endStream(moment time.Time, v *conversation, end capture.Ending) {
	e := v.stream
	e.Seconds = moment.Sub(e.Time).Seconds()
	switch {
	case len(e.Marks) > 0:
	case end.Cut:
		mark(e, evidence.MarkCut, "the capture keeps only a part of each packet: capture whole packets (-s 0)")
	case end.How == capture.Unfinished && !v.records.secret[1]:
		mark(e, evidence.MarkStillOpen, "no answer yet when the capture ends")
	case end.Lost[0] > 0 && !v.records.secret[1]:
		l.endSession(e, end)
	case !v.records.heard[1]:
		e.Answer = evidence.None
		mark(e, evidence.MarkEndedEarly, "the connection was "+byWhom(end)+" before an answer to the TLS hello")
	case !v.records.secret[0] || !v.records.secret[1]:
		mark(e, evidence.MarkTLSAlert, "the TLS handshake was "+byWhom(end)+" before its end")
	default:
		mark(e, evidence.MarkHidden, "over TLS: what was asked and answered cannot be read here")
	}
	l.emit(*e)
}

// Types of TLS records, RFC 8446 section 5.1.
const (
	recordAlert     = 21
	recordHandshake = 22
	recordData      = 23
)

// tlsStream follows the records of a connection as long as they are in clear.
type tlsStream struct {
	buffers [2][]byte
	heard   [2]bool // a side sent a record
	secret  [2]bool // a side sent records that cannot be read
	gone    [2]bool // octets are missing
}

// data takes octets of one side.
func (s *tlsStream) data(e *Exchange, fromClient bool, b []byte, lost bool) {
	side, who := 1, "the server"
	if fromClient {
		side, who = 0, "who asked"
	}
	if s.gone[side] = s.gone[side] || lost; s.gone[side] || s.secret[side] {
		s.secret[side] = true
		return
	}
	packet := append(s.buffers[side], b...)
	for len(packet) >= 5 {
		n := int(packet[3])<<8 | int(packet[4])
		if len(packet) < 5+n {
			break
		}
		s.heard[side] = true
		switch record := packet[5 : 5+n]; {
		case packet[0] == recordAlert && n == 2 && record[1] != 0: // 0 is a goodbye
			mark(e, evidence.MarkTLSAlert, fmt.Sprintf(
				"%s ends the TLS handshake: %s (alert %d)", who, alertText(record[1]),
				record[1]))
		case packet[0] == recordData, packet[0] == 20 && n > 1:
			s.secret[side] = true
		case packet[0] == 20: // what follows of this side is secret, RFC 5246 section 7.1
			s.secret[side] = true
		}
		packet = packet[5+n:]
	}
	s.buffers[side] = append([]byte(nil), packet...)
}

// alerts are the TLS alerts that end a handshake, RFC 8446 section 6.2.
var alerts = map[byte]string{10: "unexpected message", 40: "no common settings (handshake failure)",
	42: "bad certificate", 43: "a kind of certificate that it does not take", 44: "the certificate is revoked",
	45: "the certificate is expired", 46: "the certificate will not do", 47: "illegal parameter",
	48: "it does not know the authority that signed the certificate", 49: "access denied", 50: "decode error",
	51: "decrypt error", 70: "no common version of TLS", 71: "the security is too low", 80: "internal error",
	86: "inappropriate fallback", 90: "cancelled", 109: "missing extension", 110: "unsupported extension",
	112: "it does not know the name that was asked for", 115: "it does not know this PSK",
	116: "a certificate is required", 120: "no common application protocol"}

func alertText(n byte) string {
	if text, ok := alerts[n]; ok {
		return text
	}
	return "for a reason without a name here"
}
