// Package capture writes AAA traffic to a pcapng file, and reads captures: pcap
// and pcapng, with TCP put together. The packets that it writes are those
// that were sent and received; the link headers around them are made up, so
// that no privilege is needed to capture. Any capture reader opens the file.
package capture

import (
	"io"
	"net/netip"
	"sync"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
)

// Writer writes one capture. Its methods may be called from anywhere; an
// error of the file below is kept and given by Close. A nil Writer writes
// nothing.
type Writer struct {
	mu   sync.Mutex
	ng   *pcapgo.NgWriter
	err  error
	size int64 // octets written since next was last called
	most int64 // 0: no bound
	next func() (io.Writer, error)
}

// NewWriter begins a capture on w, which is one from now on, though no packet is
// in it yet.
func NewWriter(w io.Writer) (*Writer, error) {
	ng, err := begin(w)
	if err != nil {
		return nil, err
	}
	return &Writer{ng: ng}, nil
}

func begin(w io.Writer) (*pcapgo.NgWriter, error) {
	ng, err := pcapgo.NewNgWriter(w, layers.LinkTypeEthernet)
	if err != nil {
		return nil, err
	}
	return ng, ng.Flush()
}

// Bound makes the capture go on in another file, which next gives, whenever so
// many octets have been written to one. A whole capture begins there.
func (w *Writer) Bound(most int64, next func() (io.Writer, error)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.most, w.next = most, next
}

// turn goes on in the next file when this one is full.
func (w *Writer) turn() error {
	if w.most == 0 || w.size < w.most {
		return nil
	}
	if err := w.ng.Flush(); err != nil {
		return err
	}
	to, err := w.next()
	if err != nil {
		return err
	}
	w.ng, err = begin(to)
	w.size = 0
	return err
}

// blockOverhead is what a packet takes beside its octets (pcapng, section 4.3),
// with the most of padding.
const blockOverhead = 35

// Close flushes the capture; the file itself is the caller's.
func (w *Writer) Close() error {
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.ng.Flush(); w.err == nil {
		w.err = err
	}
	return w.err
}

// UDP writes one datagram.
func (w *Writer) UDP(moment time.Time, from, to netip.AddrPort, payload []byte) {
	udp := &layers.UDP{SrcPort: layers.UDPPort(from.Port()), DstPort: layers.UDPPort(to.Port())}
	ip := network(from, to, layers.IPProtocolUDP)
	_ = udp.SetNetworkLayerForChecksum(ip.(gopacket.NetworkLayer))
	w.packet(moment, ip, udp, payload)
}

// PortClosed writes the ICMP message (RFC 792) with which the host of a closed
// port answers a datagram. Only IPv4 has one here.
func (w *Writer) PortClosed(moment time.Time, from, to netip.AddrPort, payload []byte) {
	if w == nil || !from.Addr().Unmap().Is4() {
		return
	}
	udp := &layers.UDP{SrcPort: layers.UDPPort(from.Port()), DstPort: layers.UDPPort(to.Port())}
	about := network(from, to, layers.IPProtocolUDP)
	_ = udp.SetNetworkLayerForChecksum(about.(gopacket.NetworkLayer))
	b := gopacket.NewSerializeBuffer()
	if gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, about, udp,
		gopacket.Payload(payload)) != nil {
		return
	}
	const kept = 20 + 8 // the header, and the first octets of what follows
	icmp := &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeDestinationUnreachable,
		layers.ICMPv4CodePort)}
	w.packet(moment, network(to, from, layers.IPProtocolICMPv4), icmp, b.Bytes()[:kept])
}

// network makes the IP header between two addresses.
func network(from, to netip.AddrPort, p layers.IPProtocol) gopacket.SerializableLayer {
	if from.Addr().Unmap().Is4() {
		return &layers.IPv4{Version: 4, TTL: 64, Protocol: p, SrcIP: from.Addr().Unmap().AsSlice(),
			DstIP: to.Addr().Unmap().AsSlice()}
	}
	return &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: p, SrcIP: from.Addr().AsSlice(),
		DstIP: to.Addr().AsSlice()}
}

func (w *Writer) packet(moment time.Time, ip, transport gopacket.SerializableLayer, payload []byte) {
	if w == nil {
		return
	}
	ether := &layers.Ethernet{SrcMAC: []byte{2, 0, 0, 0, 0, 1}, DstMAC: []byte{2, 0, 0, 0, 0, 2},
		EthernetType: layers.EthernetTypeIPv4}
	if _, six := ip.(*layers.IPv6); six {
		ether.EthernetType = layers.EthernetTypeIPv6
	}
	b := gopacket.NewSerializeBuffer()
	err := gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
		ether, ip, transport, gopacket.Payload(payload))
	w.mu.Lock()
	defer w.mu.Unlock()
	if err == nil {
		err = w.turn()
	}
	if err == nil {
		n := len(b.Bytes())
		w.size += int64(n) + blockOverhead
		err = w.ng.WritePacket(gopacket.CaptureInfo{Timestamp: moment, CaptureLength: n, Length: n}, b.Bytes())
	}
	if err == nil {
		err = w.ng.Flush() // a run that is killed leaves whole packets
	}
	if w.err == nil {
		w.err = err
	}
}

// TCP is one connection in a capture.
type TCP struct {
	w              *Writer
	client, server netip.AddrPort
	mu             sync.Mutex
	next           [2]uint32 // sequence numbers of client and server
}

// Syn writes the first packet of a connection that nobody answers.
func (w *Writer) Syn(moment time.Time, client, server netip.AddrPort) {
	t := &TCP{w: w, client: client, server: server}
	t.segment(moment, true, func(s *layers.TCP) { s.SYN, s.ACK = true, false }, nil)
}

// Refused writes a connection that the server's port refuses.
func (w *Writer) Refused(moment time.Time, client, server netip.AddrPort) {
	w.Syn(moment, client, server)
	t := &TCP{w: w, client: client, server: server, next: [2]uint32{1, 0}}
	t.segment(moment, false, func(s *layers.TCP) { s.RST = true }, nil)
}

// Connect writes the handshake of a connection.
func (w *Writer) Connect(moment time.Time, client, server netip.AddrPort) *TCP {
	t := &TCP{w: w, client: client, server: server}
	t.segment(moment, true, func(s *layers.TCP) { s.SYN, s.ACK = true, false }, nil)
	t.next[0] = 1
	t.segment(moment, false, func(s *layers.TCP) { s.SYN = true }, nil)
	t.next[1] = 1
	t.segment(moment, true, func(*layers.TCP) {}, nil)
	return t
}

// Data writes octets sent by the client, or by the server.
func (t *TCP) Data(moment time.Time, fromClient bool, payload []byte) {
	const most = 1400
	for len(payload) > 0 {
		part := payload[:min(len(payload), most)]
		t.segment(moment, fromClient, func(s *layers.TCP) { s.PSH = true }, part)
		payload = payload[len(part):]
	}
}

// Close writes the end of the connection by one of its sides.
func (t *TCP) Close(moment time.Time, byClient bool) {
	t.segment(moment, byClient, func(s *layers.TCP) { s.FIN = true }, nil)
}

func (t *TCP) segment(moment time.Time, fromClient bool, flags func(*layers.TCP), payload []byte) {
	t.mu.Lock()
	from := t.client
	to := t.server
	mine := 0
	theirs := 1
	if !fromClient {
		from = t.server
		to = t.client
		mine = 1
		theirs = 0
	}
	s := &layers.TCP{SrcPort: layers.TCPPort(from.Port()), DstPort: layers.TCPPort(to.Port()),
		Seq: t.next[mine], Ack: t.next[theirs], ACK: true, Window: 65535}
	flags(s)
	t.next[mine] += uint32(len(payload))
	t.mu.Unlock()
	ip := network(from, to, layers.IPProtocolTCP)
	_ = s.SetNetworkLayerForChecksum(ip.(gopacket.NetworkLayer))
	t.w.packet(moment, ip, s, payload)
}
