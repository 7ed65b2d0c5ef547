package capture

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/ip4defrag"
	"github.com/gopacket/gopacket/ip6defrag"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/gopacket/gopacket/reassembly"
)

// Handler takes what a capture holds, in the order of the capture. Payloads
// are only good during the call.
type Handler interface {
	// Datagram is a UDP payload; of one that is cut, the capture keeps the beginning
	// only.
	Datagram(at time.Time, from, to netip.AddrPort, payload []byte, cut bool)
	// Data is octets of a TCP connection in order; lost tells that some
	// before them are missing from the capture.
	Data(at time.Time, c *Conn, fromClient bool, payload []byte, lost bool)
	// Ended is the end of a connection, or of what the capture has of it: at is
	// its last packet, of one that came to nothing the first, and of one that is
	// open the time up to which the capture goes.
	Ended(at time.Time, c *Conn, e Ending)
	// Unreachable is an ICMP message of a host about a packet between two places.
	Unreachable(at time.Time, by netip.Addr, from, to netip.AddrPort, udp bool, why Refusal)
	// Neighbour is a question for the link address of a host on the same network
	// (RFC 826), or its answer.
	Neighbour(at time.Time, asker, asked netip.Addr, answered bool)
}

// Refusal is why ICMP says that a packet did not arrive, in words for people.
type Refusal string

// What an ICMP message can say. The codes of IPv4 are in RFC 792 and RFC 1812,
// section 5.2.7.1; those of IPv6 in RFC 4443, sections 3.1 and 3.2.
const (
	NoNet    Refusal = "net unreachable"
	NoHost   Refusal = "host unreachable"
	NoPort   Refusal = "port unreachable"
	NoProto  Refusal = "protocol unreachable"
	Filtered Refusal = "filtered"
	TooBig   Refusal = "the packet is too big for the path"
	Other    Refusal = "unreachable"
)

// Conn is a TCP connection. Where its beginning is not in the capture, the side
// with the lower port counts as the server.
type Conn struct{ Client, Server netip.AddrPort }

// End is how a connection ended.
type End int

const (
	Closed     End = iota // with data, or by both sides; also one whose end alone is there
	Unanswered            // the client's SYN had no answer
	Refused               // the server's port refused
	Unfinished            // not in the capture: nobody had ended it when the capture did
)

// Side is a side of a connection.
type Side int

// The sides; Nobody where neither did it.
const (
	Nobody Side = iota
	TheClient
	TheServer
)

// Ending is how a connection ended, and what its segments show.
type Ending struct {
	How   End
	By    Side // who sent the first end or reset
	Reset bool // that was a reset, RFC 9293 section 3.10.7
	// Lost is how many octets of the client, and of the server, the other side never
	// acknowledged, and Most the size of the largest segment that it did.
	Lost, Most [2]int
	Cut        bool // the capture keeps no whole segments
}

// Stats counts what a capture held.
type Stats struct {
	Packets int // all
	Other   int // neither UDP nor TCP nor ICMP nor ARP over IP, or damaged
	Cut     int // kept only in part, by the capture length
}

// Source gives the packets of a capture.
type Source interface {
	ZeroCopyReadPacketData() ([]byte, gopacket.CaptureInfo, error)
	LinkType() layers.LinkType
}

// ErrFormat is a file that is no capture.
var ErrFormat = errors.New("this is no pcap or pcapng capture")

// Open begins to read a capture file of either form.
func Open(r io.Reader) (Source, error) {
	b := bufio.NewReaderSize(r, 1<<16)
	head, err := b.Peek(4)
	if err != nil {
		return nil, ErrFormat
	}
	var s Source
	if binary.BigEndian.Uint32(head) == 0x0a0d0d0a {
		s, err = pcapgo.NewNgReader(b, pcapgo.NgReaderOptions{SkipUnknownVersion: true})
	} else {
		s, err = pcapgo.NewReader(b)
	}
	if err != nil {
		return nil, ErrFormat // what the library says of it helps nobody
	}
	return s, nil
}

const (
	idleFor    = 2 * time.Minute // a connection without packets so long has ended
	sweepEvery = 5               // seconds of the capture's time
	// Pages are of 1900 octets: what may wait for octets that are missing.
	pagesInAll   = 8192
	pagesPerConn = 64
	// mostFragments may wait for the rest of their packets, of each IP version.
	mostFragments = 4096
)

// Read reads a capture to its end and hands what it holds to h. Its memory does
// not grow with the capture.
func Read(s Source, h Handler) (Stats, error) {
	r := &reader{handler: h, four: ip4defrag.NewIPv4Defragmenter(), six: ip6defrag.NewIPv6Defragmenter()}
	pool := reassembly.NewStreamPool(r)
	r.assembler = reassembly.NewAssembler(pool)
	r.assembler.MaxBufferedPagesTotal, r.assembler.MaxBufferedPagesPerConnection = pagesInAll, pagesPerConn
	link := s.LinkType()
	for {
		data, ci, err := s.ZeroCopyReadPacketData()
		if err != nil {
			if errors.Is(err, io.EOF) {
				break
			}
			r.assembler.FlushAll()
			return r.stats, fmt.Errorf("the capture is damaged after %d packets: %w", r.stats.Packets, err)
		}
		r.packet(data, &ci, link)
	}
	r.assembler.FlushAll()
	return r.stats, nil
}

// reader takes the packets of one capture apart.
type reader struct {
	handler   Handler
	assembler *reassembly.Assembler
	four      *ip4defrag.IPv4Defragmenter
	six       *ip6defrag.IPv6Defragmenter
	waiting   [2]int // fragments given to four and to six and not seen again
	now       time.Time
	cut       bool  // the packet at hand
	swept     int64 // when connections that have ended were last looked for, in seconds since 1970
	stats     Stats
}

// GetCaptureInfo makes the reader the assembler's context.
func (r *reader) GetCaptureInfo() gopacket.CaptureInfo {
	return gopacket.CaptureInfo{Timestamp: r.now}
}

func (r *reader) packet(data []byte, ci *gopacket.CaptureInfo, link layers.LinkType) {
	r.stats.Packets++
	r.now, r.cut = ci.Timestamp, ci.CaptureLength < ci.Length
	if r.cut {
		r.stats.Cut++
	}
	if at := r.now.Unix(); at > r.swept+sweepEvery || at < r.swept-sweepEvery {
		r.assembler.FlushCloseOlderThan(r.now.Add(-idleFor))
		r.four.DiscardOlderThan(r.now.Add(-idleFor))
		r.swept = at
	}
	if link == layers.LinkTypeEthernet && r.plain(data) {
		return
	}
	if i, ok := ordinary(data, link); ok { // nearly all packets, without the general decoder's cost
		if from, to, payload, ok := i.datagram(); ok && to.Port() != portVXLAN {
			r.handler.Datagram(r.now, from, to, payload, false)
			return
		}
	}
	r.ip(within(gopacket.NewPacket(data, link, gopacket.DecodeOptions{Lazy: true, NoCopy: true})))
}

// portVXLAN is that of VXLAN, RFC 7348 section 5.
const portVXLAN = 4789

// within returns the packet that a tunnel carries: a switch that mirrors its
// traffic to another place sends it in one (GRE, RFC 2784; VXLAN, RFC 7348; IP in
// IP, RFC 2003). A packet outside of any is returned as it is.
func within(p gopacket.Packet) gopacket.Packet {
	for range mostTunnels {
		first, inner := p.NetworkLayer(), gopacket.Layer(nil)
		if first == nil || !carries(first) {
			return p
		}
		for _, l := range p.Layers() {
			if n, ok := l.(gopacket.NetworkLayer); ok && n != first {
				inner = l
				break
			}
		}
		if inner == nil {
			return p
		}
		whole := append(bytes.Clone(inner.LayerContents()), inner.LayerPayload()...)
		p = gopacket.NewPacket(whole, inner.LayerType(), gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	}
	return p
}

// carries reports whether a packet may have another one in it.
func carries(n gopacket.NetworkLayer) bool {
	next := layers.IPProtocol(0)
	switch l := n.(type) {
	case *layers.IPv4:
		next = l.Protocol
	case *layers.IPv6:
		next = l.NextHeader
	}
	switch next {
	case layers.IPProtocolGRE, layers.IPProtocolIPv4, layers.IPProtocolIPv6:
		return true
	case layers.IPProtocolUDP:
		b := n.LayerPayload()
		return len(b) >= 4 && binary.BigEndian.Uint16(b[2:]) == portVXLAN
	}
	return false
}

// mostTunnels is how many tunnels may lie in one another.
const mostTunnels = 3

func (r *reader) ip(p gopacket.Packet) {
	if l := p.Layer(layers.LayerTypeARP); l != nil {
		r.arp(l.(*layers.ARP))
		return
	}
	if four, ok := p.NetworkLayer().(*layers.IPv4); ok &&
		(four.Flags&layers.IPv4MoreFragments != 0 || four.FragOffset != 0) {
		r.fragment4(four)
		return
	}
	if l := p.Layer(layers.LayerTypeIPv6Fragment); l != nil {
		if six, ok := p.NetworkLayer().(*layers.IPv6); ok {
			r.fragment6(six, l.(*layers.IPv6Fragment))
			return
		}
	}
	if p.NetworkLayer() == nil {
		r.stats.Other++
		return
	}
	r.transport(p, p.NetworkLayer().NetworkFlow())
}

// fragment4 puts an IPv4 packet together. A fragment is kept beyond the packet
// that it came in.
func (r *reader) fragment4(ip *layers.IPv4) {
	if r.waiting[0]++; r.waiting[0] > mostFragments {
		r.four, r.waiting[0] = ip4defrag.NewIPv4Defragmenter(), 1
	}
	c := *ip
	c.Payload = bytes.Clone(ip.Payload)
	whole, err := r.four.DefragIPv4WithTimestamp(&c, r.now)
	if err != nil {
		r.stats.Other++
	}
	if err == nil && whole != nil {
		r.waiting[0] = max(r.waiting[0]-2, 0)
		r.transport(gopacket.NewPacket(whole.Payload, whole.Protocol, gopacket.NoCopy), whole.NetworkFlow())
	}
}

// fragment6 puts an IPv6 packet together, RFC 8200 section 4.5.
func (r *reader) fragment6(ip *layers.IPv6, f *layers.IPv6Fragment) {
	if r.waiting[1]++; r.waiting[1] > mostFragments {
		r.six, r.waiting[1] = ip6defrag.NewIPv6Defragmenter(), 1
	}
	header, part := *ip, *f
	header.SrcIP, header.DstIP = bytes.Clone(ip.SrcIP), bytes.Clone(ip.DstIP)
	part.Payload = bytes.Clone(f.Payload)
	if whole := r.six.DefragIPv6(&header, &part); whole != nil {
		r.waiting[1] = max(r.waiting[1]-2, 0)
		r.transport(gopacket.NewPacket(whole.Payload, whole.NextHeader, gopacket.NoCopy), whole.NetworkFlow())
	}
}

func (r *reader) transport(p gopacket.Packet, flow gopacket.Flow) {
	if l := p.Layer(layers.LayerTypeICMPv4); l != nil {
		r.icmp4(host(flow), l.(*layers.ICMPv4))
		return
	}
	if l := p.Layer(layers.LayerTypeICMPv6); l != nil {
		r.icmp6(host(flow), l.(*layers.ICMPv6))
		return
	}
	if l := p.Layer(layers.LayerTypeUDP); l != nil {
		udp := l.(*layers.UDP)
		from, to := ends(flow, uint16(udp.SrcPort), uint16(udp.DstPort))
		r.handler.Datagram(r.now, from, to, udp.Payload, r.cut)
		return
	}
	if l := p.Layer(layers.LayerTypeTCP); l != nil {
		r.assembler.AssembleWithContext(flow, l.(*layers.TCP), r)
		return
	}
	r.stats.Other++
}

func ends(flow gopacket.Flow, from, to uint16) (netip.AddrPort, netip.AddrPort) {
	src, _ := netip.AddrFromSlice(flow.Src().Raw())
	dst, _ := netip.AddrFromSlice(flow.Dst().Raw())
	return netip.AddrPortFrom(src.Unmap(), from), netip.AddrPortFrom(dst.Unmap(), to)
}

// icmp4 reads a destination-unreachable message (RFC 792): it holds the first
// octets of the packet that it is about.
func (r *reader) icmp4(by netip.Addr, icmp *layers.ICMPv4) {
	if icmp.TypeCode.Type() != layers.ICMPv4TypeDestinationUnreachable {
		return
	}
	b := icmp.Payload
	if len(b) < 20 || b[0]>>4 != 4 {
		return
	}
	n := int(b[0]&15) * 4
	if n < 20 || len(b) < n+4 {
		return
	}
	src, _ := netip.AddrFromSlice(b[12:16])
	dst, _ := netip.AddrFromSlice(b[16:20])
	from := netip.AddrPortFrom(src, binary.BigEndian.Uint16(b[n:]))
	to := netip.AddrPortFrom(dst, binary.BigEndian.Uint16(b[n+2:]))
	why, known := map[uint8]Refusal{0: NoNet, 1: NoHost, 2: NoProto, 3: NoPort, 4: TooBig, 9: Filtered, 10: Filtered,
		13: Filtered}[icmp.TypeCode.Code()]
	if !known {
		why = Other
	}
	r.handler.Unreachable(r.now, by, from, to, b[9] == protoUDP, why)
}

// icmp6 reads that a destination is unreachable, or a packet too big, RFC 4443
// sections 3.1 and 3.2: after four octets it holds as much of the packet as fits.
func (r *reader) icmp6(by netip.Addr, icmp *layers.ICMPv6) {
	b := icmp.Payload
	big := icmp.TypeCode.Type() == layers.ICMPv6TypePacketTooBig
	if icmp.TypeCode.Type() != layers.ICMPv6TypeDestinationUnreachable && !big || len(b) < 4+40+4 || b[4]>>4 != 6 {
		return
	}
	b = b[4:]
	if b[6] != protoUDP && b[6] != protoTCP {
		return
	}
	from := netip.AddrPortFrom(netip.AddrFrom16([16]byte(b[8:24])), binary.BigEndian.Uint16(b[40:]))
	to := netip.AddrPortFrom(netip.AddrFrom16([16]byte(b[24:40])), binary.BigEndian.Uint16(b[42:]))
	why, known := map[uint8]Refusal{0: NoNet, 1: Filtered, 3: NoHost, 4: NoPort}[icmp.TypeCode.Code()]
	switch {
	case big:
		why = TooBig
	case !known:
		why = Other
	}
	r.handler.Unreachable(r.now, by, from, to, b[6] == protoUDP, why)
}

// arp reads a question for the link address of an IPv4 host, or its answer.
func (r *reader) arp(a *layers.ARP) {
	if a.Protocol != layers.EthernetTypeIPv4 || len(a.SourceProtAddress) != 4 || len(a.DstProtAddress) != 4 {
		r.stats.Other++
		return
	}
	from, to := netip.AddrFrom4([4]byte(a.SourceProtAddress)), netip.AddrFrom4([4]byte(a.DstProtAddress))
	switch a.Operation {
	case layers.ARPRequest:
		r.handler.Neighbour(r.now, from, to, false)
	case layers.ARPReply:
		r.handler.Neighbour(r.now, to, from, true)
	}
}

// host returns who sent a packet.
func host(flow gopacket.Flow) netip.Addr {
	from, _ := netip.AddrFromSlice(flow.Src().Raw())
	return from.Unmap()
}

// New makes the stream of a connection that is seen for the first time.
func (r *reader) New(network, transport gopacket.Flow, tcp *layers.TCP,
	_ reassembly.AssemblerContext) reassembly.Stream {
	from, to := ends(network, uint16(tcp.SrcPort), uint16(tcp.DstPort))
	s := &stream{reader: r, conn: Conn{Client: from, Server: to}, firstFromClient: true}
	if tcp.SYN && tcp.ACK || !tcp.SYN && from.Port() < to.Port() { // the first packet is the server's
		s.conn, s.firstFromClient = Conn{Client: to, Server: from}, false
	}
	return s
}

// stream is one connection while it is put together.
type stream struct {
	reader             *reader
	conn               Conn
	firstFromClient    bool // the side that the library calls client is the client
	syn, answer, reset bool
	over               bool // a side ended it
	ending             Ending
	sides              [2]sent
	first, last        time.Time
}

// sent is what one side of a connection sent.
type sent struct {
	known       bool
	to, taken   uint32 // the number after its last octet, and up to where the other side has all
	acked       bool   // the other side acknowledged anything
	segments    []segmentEnd
	mostTakenIn int
}

// segmentEnd is a segment that is not acknowledged yet.
type segmentEnd struct {
	to   uint32
	size int
}

// mostSegments bounds the segments of a side that wait to be acknowledged.
const mostSegments = 64

// note keeps the numbers of a segment, RFC 9293 section 3.4.
func (s *stream) note(side int, tcp *layers.TCP, size int) {
	mine, other := &s.sides[side], &s.sides[1-side]
	if to := tcp.Seq + uint32(size); size > 0 && (!mine.known || int32(to-mine.to) > 0) {
		mine.to, mine.known = to, true
		if len(mine.segments) < mostSegments {
			mine.segments = append(mine.segments, segmentEnd{to: to, size: size})
		}
	}
	if !tcp.ACK || !other.known {
		return
	}
	if !other.acked || int32(tcp.Ack-other.taken) > 0 {
		other.taken, other.acked = tcp.Ack, true
	}
	waiting := other.segments[:0]
	for _, g := range other.segments {
		if int32(other.taken-g.to) >= 0 {
			other.mostTakenIn = max(other.mostTakenIn, g.size)
			continue
		}
		waiting = append(waiting, g)
	}
	other.segments = waiting
}

// lost returns the octets of a side that the other did not acknowledge. Where it
// acknowledged nothing, all of them are lost.
func (s sent) lost() int {
	n := 0
	for _, g := range s.segments {
		n += g.size
	}
	return n
}

func (s *stream) fromClient(d reassembly.TCPFlowDirection) bool {
	return (d == reassembly.TCPDirClientToServer) == s.firstFromClient
}

// Accept takes every packet: a connection may be joined in the middle.
func (s *stream) Accept(tcp *layers.TCP, _ gopacket.CaptureInfo, d reassembly.TCPFlowDirection, _ reassembly.Sequence,
	start *bool, _ reassembly.AssemblerContext) bool {
	if s.first.IsZero() {
		s.first = s.reader.now
	}
	s.last = s.reader.now
	side, by := 1, TheServer
	if s.fromClient(d) {
		side, by = 0, TheClient
	}
	if !s.over && (tcp.FIN || tcp.RST) {
		s.ending.By, s.ending.Reset = by, tcp.RST
	}
	s.over = s.over || tcp.FIN || tcp.RST
	s.ending.Cut = s.ending.Cut || s.reader.cut
	s.note(side, tcp, len(tcp.Payload))
	switch {
	case s.fromClient(d):
		s.syn = s.syn || tcp.SYN
	case tcp.RST && !s.answer:
		s.reset = true
	default:
		s.answer = true
	}
	*start = true
	return true
}

// ReassembledSG hands octets on.
func (s *stream) ReassembledSG(sg reassembly.ScatterGather, _ reassembly.AssemblerContext) {
	n, _ := sg.Lengths()
	d, _, _, skipped := sg.Info()
	if n > 0 {
		s.reader.handler.Data(sg.CaptureInfo(0).Timestamp, &s.conn, s.fromClient(d), sg.Fetch(n), skipped > 0)
	}
}

// ReassemblyComplete is the end of the connection.
func (s *stream) ReassemblyComplete(reassembly.AssemblerContext) bool {
	how, moment := Closed, s.last
	switch {
	case s.reset && s.syn:
		how, moment = Refused, s.first
	case s.syn && !s.answer:
		how, moment = Unanswered, s.first
	case !s.over:
		how, moment = Unfinished, s.reader.now
	}
	s.ending.How = how
	for side := range s.sides {
		s.ending.Lost[side], s.ending.Most[side] = s.sides[side].lost(), s.sides[side].mostTakenIn
	}
	s.reader.handler.Ended(moment, &s.conn, s.ending)
	return true
}
