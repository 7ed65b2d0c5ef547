package capture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/ip4defrag"
	"github.com/gopacket/gopacket/ip6defrag"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/require"
)

var (
	at     = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	client = netip.MustParseAddrPort("192.0.2.1:40001")
	server = netip.MustParseAddrPort("192.0.2.2:49")
	six    = netip.MustParseAddrPort("[2001:db8::1]:1812")
	sixth  = netip.MustParseAddrPort("[2001:db8::2]:50000")
)

// notes writes down what a capture holds.
type notes struct {
	lines []string
	ends  []Ending
}

func (n *notes) Datagram(_ time.Time, from, to netip.AddrPort, b []byte, cut bool) {
	line := fmt.Sprintf("%s > %s %s", from, to, b)
	if cut {
		line += " (cut)"
	}
	n.lines = append(n.lines, line)
}

func (n *notes) Data(_ time.Time, c *Conn, fromClient bool, b []byte, lost bool) {
	n.lines = append(n.lines, fmt.Sprintf("%s client=%t %s lost=%t", c.Client, fromClient, b, lost))
}

func (n *notes) Ended(_ time.Time, c *Conn, e Ending) {
	n.lines = append(n.lines, fmt.Sprintf("%s ended %d", c.Client, e.How))
	n.ends = append(n.ends, e)
}

func (n *notes) Neighbour(_ time.Time, asker, asked netip.Addr, answered bool) {
	n.lines = append(n.lines, fmt.Sprintf("%s looks for %s: %t", asker, asked, answered))
}

func (n *notes) Unreachable(_ time.Time, _ netip.Addr, from, to netip.AddrPort, udp bool, why Refusal) {
	n.lines = append(n.lines, fmt.Sprintf("%s > %s udp=%t %s", from, to, udp, why))
}

func read(t *testing.T, file []byte) ([]string, Stats, error) {
	s, err := Open(bytes.NewReader(file))
	require.NoError(t, err)
	n := &notes{}
	stats, err := Read(s, n)
	return n.lines, stats, err
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	t.Parallel()
	var file bytes.Buffer
	w, err := NewWriter(&file)
	require.NoError(t, err)
	w.UDP(at, client, server, []byte("one"))
	w.UDP(at, sixth, six, []byte("over IPv6"))
	c := w.Connect(at, client, server)
	c.Data(at, true, []byte("question"))
	c.Data(at, false, []byte("answer"))
	c.Close(at, false)
	w.Syn(at, netip.AddrPortFrom(client.Addr(), 40002), server)
	w.Refused(at, netip.AddrPortFrom(client.Addr(), 40003), server)
	require.NoError(t, w.Close())
	lines, stats, err := read(t, file.Bytes())
	require.NoError(t, err)
	require.Equal(t, 11, stats.Packets)
	require.ElementsMatch(t, []string{
		"192.0.2.1:40001 > 192.0.2.2:49 one", "[2001:db8::2]:50000 > [2001:db8::1]:1812 over IPv6",
		"192.0.2.1:40001 client=true question lost=false", "192.0.2.1:40001 client=false answer lost=false",
		"192.0.2.1:40001 ended 0",
		"192.0.2.1:40002 ended 1", "192.0.2.1:40003 ended 2"}, lines)
}

func TestACaptureIsOneBeforeItsFirstPacket(t *testing.T) {
	t.Parallel()
	var file bytes.Buffer
	w, err := NewWriter(&file)
	require.NoError(t, err)
	lines, stats, err := read(t, file.Bytes())
	require.NoError(t, err)
	require.Empty(t, lines)
	require.Zero(t, stats.Packets)
	require.NoError(t, w.Close())
	_, err = NewWriter(full{})
	require.EqualError(t, err, "the disk is full")
}

// full is a disk without room.
type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("the disk is full") }

// frame makes one packet of layers.
func frame(t *testing.T, serializableLayers ...gopacket.SerializableLayer) []byte {
	b := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true}, serializableLayers...))
	return append([]byte(nil), b.Bytes()...)
}

func ether(kind layers.EthernetType) *layers.Ethernet {
	return &layers.Ethernet{SrcMAC: make([]byte, 6), DstMAC: make([]byte, 6), EthernetType: kind}
}

func ip(p layers.IPProtocol) *layers.IPv4 {
	return &layers.IPv4{Version: 4, TTL: 9, Protocol: p, SrcIP: client.Addr().AsSlice(), DstIP: server.Addr().AsSlice()}
}

// pcap writes packets as an old-style capture.
func pcap(t *testing.T, link layers.LinkType, packets ...[]byte) []byte {
	var file bytes.Buffer
	w := pcapgo.NewWriter(&file)
	require.NoError(t, w.WriteFileHeader(65536, link))
	for i, p := range packets {
		require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: at.Add(time.Duration(i) * time.Millisecond),
			CaptureLength: len(p), Length: len(p)}, p))
	}
	return file.Bytes()
}

func segment(seq uint32, text string) []gopacket.SerializableLayer {
	return []gopacket.SerializableLayer{ether(layers.EthernetTypeIPv4), ip(layers.IPProtocolTCP),
		&layers.TCP{SrcPort: 40001, DstPort: 49, Seq: seq, ACK: true, PSH: true}, gopacket.Payload(text)}
}

func TestABoundedCaptureGoesOnInAnotherFileAndReadsAsOne(t *testing.T) {
	t.Parallel()
	var files []*bytes.Buffer
	next := func() (io.Writer, error) {
		files = append(files, &bytes.Buffer{})
		return files[len(files)-1], nil
	}
	first, _ := next()
	w, err := NewWriter(first)
	require.NoError(t, err)
	w.Bound(2000, next)
	c := w.Connect(at, client, server)
	for i := range 60 {
		w.UDP(at, client, server, fmt.Appendf(nil, "datagram %d", i))
	}
	c.Data(at, true, []byte("question"))
	require.NoError(t, w.Close())
	require.Greater(t, len(files), 2)
	var both bytes.Buffer
	for _, f := range files[len(files)-2:] {
		require.Less(t, f.Len(), 2300)
		both.Write(f.Bytes())
	}
	lines, _, err := read(t, both.Bytes())
	require.NoError(t, err)
	require.Contains(t, strings.Join(lines, "\n"), "datagram 59")
	require.Contains(t, strings.Join(lines, "\n"), "client=true question lost=",
		"a connection that began in a part that is gone")
	require.Greater(t, len(lines), 20, "both parts are read")

	w, err = NewWriter(&bytes.Buffer{})
	require.NoError(t, err)
	w.Bound(100, func() (io.Writer, error) { return nil, errors.New("the disk is full") })
	for range 10 {
		w.UDP(at, client, server, []byte("x"))
	}
	require.ErrorContains(t, w.Close(), "the disk is full")
	var none *Writer
	none.Connect(at, client, server).Data(at, true, []byte("x"))
	require.NoError(t, none.Close())
}

func TestTCPOutOfOrderAndJoinedInTheMiddleIsPutTogether(t *testing.T) {
	t.Parallel()
	var packets [][]byte
	for _, s := range []struct {
		seq  uint32
		text string
	}{{1000, "one "}, {1008, "three "}, {1004, "two "}, {1004, "two "}, {1014, "four"}} {
		packets = append(packets, frame(t, segment(s.seq, s.text)...))
	}
	lines, _, err := read(t, pcap(t, layers.LinkTypeEthernet, packets...))
	require.NoError(t, err)
	text := ""
	for _, l := range lines {
		if _, rest, ok := strings.Cut(l, "client=true "); ok {
			text += strings.TrimSuffix(rest, " lost=false")
		}
	}
	require.Equal(t, "one two three four", text)
}

func TestVLANTagsFragmentsAndOtherLinks(t *testing.T) {
	t.Parallel()
	udp := &layers.UDP{SrcPort: 40001, DstPort: 1812, Length: 8 + 16}
	payload := frame(t, udp, gopacket.Payload("sixteen octets!!"))
	first, second := ip(layers.IPProtocolUDP), ip(layers.IPProtocolUDP)
	first.Flags = layers.IPv4MoreFragments
	first.Id = 7
	second.Id = 7
	second.FragOffset = 2
	tagged := frame(t, ether(layers.EthernetTypeDot1Q),
		&layers.Dot1Q{VLANIdentifier: 12, Type: layers.EthernetTypeIPv4},
		ip(layers.IPProtocolUDP), &layers.UDP{SrcPort: 1, DstPort: 1812}, gopacket.Payload("tagged"))
	lines, stats, err := read(t, pcap(t, layers.LinkTypeEthernet, tagged,
		frame(t, ether(layers.EthernetTypeIPv4), second, gopacket.Payload(payload[16:])),
		frame(t, ether(layers.EthernetTypeIPv4), first, gopacket.Payload(payload[:16])),
		frame(t, ether(layers.EthernetTypeARP)), []byte{1, 2, 3}))
	require.NoError(t, err)
	require.Equal(t, []string{"192.0.2.1:1 > 192.0.2.2:1812 tagged",
		"192.0.2.1:40001 > 192.0.2.2:1812 sixteen octets!!"},
		lines)
	require.Equal(t, Stats{Packets: 5, Other: 2}, stats)

	raw := frame(t, ip(layers.IPProtocolUDP), &layers.UDP{SrcPort: 1, DstPort: 1812}, gopacket.Payload("raw"))
	lines, _, err = read(t, pcap(t, layers.LinkTypeRaw, raw))
	require.NoError(t, err)
	require.Equal(t, []string{"192.0.2.1:1 > 192.0.2.2:1812 raw"}, lines)
}

func ip6(next layers.IPProtocol) *layers.IPv6 {
	return &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: next, SrcIP: net.ParseIP("2001:db8::1"),
		DstIP: net.ParseIP("2001:db8::2")}
}

func TestFragmentsOfIPv6ArePutTogetherInAnyOrder(t *testing.T) {
	t.Parallel()
	payload := frame(t, &layers.UDP{SrcPort: 40001, DstPort: 1812, Length: 8 + 16},
		gopacket.Payload("sixteen octets!!"))
	part := func(offset uint16, more bool, b []byte) []byte {
		return frame(t, ether(layers.EthernetTypeIPv6), ip6(layers.IPProtocolIPv6Fragment),
			&layers.IPv6Fragment{NextHeader: layers.IPProtocolUDP, FragmentOffset: offset, MoreFragments: more,
				Identification: 9}, gopacket.Payload(b))
	}
	lines, stats, err := read(t,
		pcap(t, layers.LinkTypeEthernet, part(2, false, payload[16:]), part(0, true, payload[:16])))
	require.NoError(t, err)
	require.Equal(t, []string{"[2001:db8::1]:40001 > [2001:db8::2]:1812 sixteen octets!!"}, lines)
	require.Equal(t, Stats{Packets: 2}, stats)
}

func TestFragmentsThatNeverEndTakeNoMoreThanTheirBound(t *testing.T) {
	t.Parallel()
	r := &reader{handler: silent{}, four: ip4defrag.NewIPv4Defragmenter(), six: ip6defrag.NewIPv6Defragmenter()}
	for i := range uint32(3 * mostFragments) {
		four := ip(layers.IPProtocolUDP)
		four.Id = uint16(i)
		four.Flags = layers.IPv4MoreFragments
		four.Length = 28
		four.Payload = make([]byte, 8)
		r.fragment4(four)
		r.fragment6(ip6(layers.IPProtocolIPv6Fragment),
			&layers.IPv6Fragment{MoreFragments: true, Identification: i,
				BaseLayer: layers.BaseLayer{Payload: make([]byte, 8)}})
		require.LessOrEqual(t, max(r.waiting[0], r.waiting[1]), mostFragments)
	}
}

// Packets that were put together give their place back: a fragment that came long
// before its rest is still there.
func TestFinishedPacketsPushNoWaitingFragmentOut(t *testing.T) {
	t.Parallel()
	payload := frame(t, &layers.UDP{SrcPort: 40001, DstPort: 1812, Length: 8 + 16},
		gopacket.Payload("sixteen octets!!"))
	four := func(id int, offset uint16, b []byte) []byte {
		part := ip(layers.IPProtocolUDP)
		if part.Id, part.FragOffset = uint16(id), offset; offset == 0 {
			part.Flags = layers.IPv4MoreFragments
		}
		return frame(t, ether(layers.EthernetTypeIPv4), part, gopacket.Payload(b))
	}
	six := func(id int, offset uint16, b []byte) []byte {
		return frame(t, ether(layers.EthernetTypeIPv6), ip6(layers.IPProtocolIPv6Fragment),
			&layers.IPv6Fragment{NextHeader: layers.IPProtocolUDP, FragmentOffset: offset, MoreFragments: offset == 0,
				Identification: uint32(id)}, gopacket.Payload(b))
	}
	for name, part := range map[string]func(int, uint16, []byte) []byte{"IPv4": four, "IPv6": six} {
		frames := [][]byte{part(0, 0, payload[:16])}
		for i := range mostFragments {
			frames = append(frames, part(1+i, 0, payload[:16]), part(1+i, 2, payload[16:]))
		}
		lines, stats, err := read(t, pcap(t, layers.LinkTypeEthernet, append(frames, part(0, 2, payload[16:]))...))
		require.NoError(t, err, name)
		require.Len(t, lines, mostFragments+1, name)
		require.Equal(t, Stats{Packets: 2 + 2*mostFragments}, stats, name)
	}
}

func TestAnUnreachablePortOfIPv6IsNamed(t *testing.T) {
	t.Parallel()
	about := frame(t, ip6(layers.IPProtocolUDP), &layers.UDP{SrcPort: 40001, DstPort: 1812})
	lines, _, err := read(t,
		pcap(t, layers.LinkTypeEthernet, frame(t, ether(layers.EthernetTypeIPv6), ip6(layers.IPProtocolICMPv6),
			&layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeDestinationUnreachable,
				layers.ICMPv6CodePortUnreachable)},
			gopacket.Payload(append(make([]byte, 4), about...)))))
	require.NoError(t, err)
	require.Equal(t, []string{"[2001:db8::1]:40001 > [2001:db8::2]:1812 udp=true port unreachable"}, lines)
}

func TestAnUnreachablePortIsNamedWithThePacketItIsAbout(t *testing.T) {
	t.Parallel()
	about := frame(t, ip(layers.IPProtocolUDP), &layers.UDP{SrcPort: 40001, DstPort: 1812})
	back := ip(layers.IPProtocolICMPv4)
	lines, _, err := read(t, pcap(t, layers.LinkTypeEthernet, frame(t, ether(layers.EthernetTypeIPv4), back,
		&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeDestinationUnreachable, 3)},
		gopacket.Payload(about))))
	require.NoError(t, err)
	require.Equal(t, []string{"192.0.2.1:40001 > 192.0.2.2:1812 udp=true port unreachable"}, lines)
}

func TestFilesThatAreNoCapture(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"", "abc", "this is no capture at all",
		"\x0a\x0d\x0d\x0aand then nothing of the kind"} {
		_, err := Open(strings.NewReader(text))
		require.ErrorIs(t, err, ErrFormat, "%q", text)
	}
	file := pcap(t, layers.LinkTypeEthernet, frame(t, segment(1, "x")...))
	_, stats, err := read(t, file[:len(file)-3])
	require.ErrorContains(t, err, "the capture is damaged after 0 packets")
	require.Zero(t, stats.Packets)
}

func FuzzRead(f *testing.F) {
	var file bytes.Buffer
	w, err := NewWriter(&file)
	require.NoError(f, err)
	w.UDP(at, client, server, []byte("one"))
	w.Connect(at, client, server).Data(at, true, []byte("two"))
	f.Add(file.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, err := Open(bytes.NewReader(b)); err == nil {
			_, _ = Read(s, &notes{})
		}
	})
}

// silent does nothing with what a capture holds.
type silent struct{}

func (silent) Datagram(time.Time, netip.AddrPort, netip.AddrPort, []byte, bool)                 {}
func (silent) Neighbour(time.Time, netip.Addr, netip.Addr, bool)                                {}
func (silent) Data(time.Time, *Conn, bool, []byte, bool)                                        {}
func (silent) Ended(time.Time, *Conn, Ending)                                                   {}
func (silent) Unreachable(time.Time, netip.Addr, netip.AddrPort, netip.AddrPort, bool, Refusal) {}

// bigCapture is a capture of n datagrams of the size of a RADIUS request.
func bigCapture(b *testing.B, n int) []byte {
	var file bytes.Buffer
	w, err := NewWriter(&file)
	require.NoError(b, err)
	payload := make([]byte, 140)
	for i := range n {
		binary.BigEndian.PutUint32(payload, uint32(i))
		w.UDP(at.Add(time.Duration(i)*time.Microsecond), client, netip.AddrPortFrom(server.Addr(), 1812), payload)
	}
	return file.Bytes()
}

// The plainest program over the same file: only iterating its packets.
func BenchmarkIterateOnly(b *testing.B) {
	file := bigCapture(b, 20000)
	b.SetBytes(int64(len(file)))
	for b.Loop() {
		s, err := Open(bytes.NewReader(file))
		require.NoError(b, err)
		for {
			if _, _, err := s.ZeroCopyReadPacketData(); err == io.EOF {
				break
			}
		}
	}
}

func BenchmarkRead(b *testing.B) {
	file := bigCapture(b, 20000)
	b.SetBytes(int64(len(file)))
	for b.Loop() {
		s, err := Open(bytes.NewReader(file))
		require.NoError(b, err)
		_, err = Read(s, silent{})
		require.NoError(b, err)
	}
}
