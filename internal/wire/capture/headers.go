package capture

import (
	"encoding/binary"
	"net/netip"

	"github.com/gopacket/gopacket/layers"
)

// Numbers of the headers that nearly every packet has.
const (
	typeIPv4, typeIPv6, typeVLAN, typeQinQ = 0x0800, 0x86dd, 0x8100, 0x88a8
	protoTCP, protoUDP                     = 6, 17
)

// inner is what the headers of an ordinary packet lead to.
type inner struct {
	from, to netip.Addr
	protocol byte
	payload  []byte
}

// ordinary reads the headers of an Ethernet frame, with VLAN tags or without,
// that holds an unfragmented IPv4 packet or an IPv6 packet without extension
// headers. Any other packet is left to the general decoder.
func ordinary(b []byte, link layers.LinkType) (inner, bool) {
	if link != layers.LinkTypeEthernet || len(b) < 14 {
		return inner{}, false
	}
	kind, b := binary.BigEndian.Uint16(b[12:]), b[14:]
	for kind == typeVLAN || kind == typeQinQ {
		if len(b) < 4 {
			return inner{}, false
		}
		kind, b = binary.BigEndian.Uint16(b[2:]), b[4:]
	}
	switch kind {
	case typeIPv4:
		return ordinary4(b)
	case typeIPv6:
		return ordinary6(b)
	}
	return inner{}, false
}

func ordinary4(b []byte) (inner, bool) {
	if len(b) < 20 || b[0]>>4 != 4 || binary.BigEndian.Uint16(b[6:])&0x3fff != 0 { // a fragment
		return inner{}, false
	}
	header, total := int(b[0]&15)*4, int(binary.BigEndian.Uint16(b[2:]))
	if header < 20 || total < header || total > len(b) {
		return inner{}, false
	}
	return inner{from: netip.AddrFrom4([4]byte(b[12:16])), to: netip.AddrFrom4([4]byte(b[16:20])), protocol: b[9],
		payload: b[header:total]}, true
}

func ordinary6(b []byte) (inner, bool) {
	if len(b) < 40 || b[0]>>4 != 6 || b[6] != protoTCP && b[6] != protoUDP {
		return inner{}, false
	}
	total := 40 + int(binary.BigEndian.Uint16(b[4:]))
	if total > len(b) {
		return inner{}, false
	}
	return inner{from: netip.AddrFrom16([16]byte(b[8:24])), to: netip.AddrFrom16([16]byte(b[24:40])), protocol: b[6],
		payload: b[40:total]}, true
}

// datagram returns the ports and the payload of a whole UDP datagram.
func (i inner) datagram() (from, to netip.AddrPort, payload []byte, ok bool) {
	b := i.payload
	if i.protocol != protoUDP || len(b) < 8 {
		return from, to, nil, false
	}
	n := int(binary.BigEndian.Uint16(b[4:]))
	if n < 8 || n > len(b) {
		return from, to, nil, false
	}
	return netip.AddrPortFrom(i.from, binary.BigEndian.Uint16(b)),
		netip.AddrPortFrom(i.to, binary.BigEndian.Uint16(b[2:])), b[8:n], true
}

// plain hands on the datagram of an Ethernet frame without a tag that holds an IPv4 packet
// without options or fragments: nearly every packet of a capture of RADIUS. It reports
// whether the frame is one.
func (r *reader) plain(b []byte) bool {
	if len(b) < 42 || binary.BigEndian.Uint16(b[12:]) != typeIPv4 || b[14] != 0x45 ||
		binary.BigEndian.Uint16(b[20:])&0x3fff != 0 || b[23] != protoUDP {
		return false
	}
	total, n := int(binary.BigEndian.Uint16(b[16:])), int(binary.BigEndian.Uint16(b[38:]))
	to := binary.BigEndian.Uint16(b[36:])
	if total > len(b)-14 || n < 8 || n > total-20 || to == portVXLAN {
		return false
	}
	r.handler.Datagram(r.now, netip.AddrPortFrom(netip.AddrFrom4([4]byte(b[26:30])), binary.BigEndian.Uint16(b[34:])),
		netip.AddrPortFrom(netip.AddrFrom4([4]byte(b[30:34])), to), b[42:34+n], false)
	return true
}
