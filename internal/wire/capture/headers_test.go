package capture

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/require"
)

// edit returns a copy of octets with some of them changed.
func edit(b []byte, changes map[int]byte) []byte {
	b = append([]byte(nil), b...)
	for at, v := range changes {
		b[at] = v
	}
	return b
}

func TestTheShortWayThroughHeadersTakesOrdinaryPacketsOnly(t *testing.T) {
	t.Parallel()
	udp := &layers.UDP{SrcPort: 40001, DstPort: 49}
	v4 := frame(t, ether(layers.EthernetTypeIPv4), ip(layers.IPProtocolUDP), udp, gopacket.Payload("text"))
	v6 := frame(t, ether(layers.EthernetTypeIPv6), ip6(layers.IPProtocolUDP), udp, gopacket.Payload("text"))
	tagged := frame(t, ether(layers.EthernetTypeDot1Q), &layers.Dot1Q{VLANIdentifier: 7, Type: layers.EthernetTypeIPv4},
		ip(layers.IPProtocolUDP), udp, gopacket.Payload("text"))
	const ether, ip = 14, 20 // octets of the headers
	for name, c := range map[string]struct {
		b    []byte
		want string
	}{
		"IPv4":                        {v4, "text"},
		"IPv6":                        {v6, "text"},
		"tagged":                      {tagged, "text"},
		"without padding":             {v4[:ether+ip+8+4], "text"},
		"padded":                      {append(append([]byte(nil), v4...), 0, 0, 0), "text"},
		"IPv4 with options":           {edit(v4, map[int]byte{ether: 0x46}), ""}, // its ports lie elsewhere
		"not version 4":               {edit(v4, map[int]byte{ether: 0x55}), ""},
		"a header that is too short":  {edit(v4, map[int]byte{ether: 0x44}), ""},
		"shorter than its header":     {edit(v4, map[int]byte{ether + 3: 19}), ""},
		"longer than it is":           {edit(v4, map[int]byte{ether + 3: 255}), ""},
		"a fragment":                  {edit(v4, map[int]byte{ether + 6: 0x20}), ""},
		"a later fragment":            {edit(v4, map[int]byte{ether + 7: 1}), ""},
		"may not be fragmented":       {edit(v4, map[int]byte{ether + 6: 0x40}), "text"},
		"not version 6":               {edit(v6, map[int]byte{ether: 0x70}), ""},
		"an extension header":         {edit(v6, map[int]byte{ether + 6: 44}), ""},
		"IPv6 longer than it is":      {edit(v6, map[int]byte{ether + 5: 255}), ""},
		"another kind":                {edit(v4, map[int]byte{12: 0x08, 13: 0x06}), ""},
		"TCP":                         {edit(v4, map[int]byte{ether + 9: 6}), ""},
		"UDP shorter than its header": {edit(v4, map[int]byte{ether + ip + 5: 7}), ""},
		"UDP longer than the packet":  {edit(v4, map[int]byte{ether + ip + 5: 13}), ""},
		"UDP shorter than the packet": {edit(v4, map[int]byte{ether + ip + 5: 11}), "tex"},
		"a tag and nothing":           {tagged[:16], ""},
		"cut in the Ethernet header":  {v4[:13], ""},
		"cut in the IP header":        {v4[:ether+19], ""},
		"cut in the IPv6 header":      {v6[:ether+39], ""},
		"nothing":                     {nil, ""},
	} {
		got := ""
		if i, ok := ordinary(c.b, layers.LinkTypeEthernet); ok {
			if from, to, payload, ok := i.datagram(); ok {
				got = string(payload)
				require.Equal(t, []uint16{40001, 49}, []uint16{from.Port(), to.Port()}, name)
			}
		}
		require.Equal(t, c.want, got, name)
	}
	_, ok := ordinary(v4, layers.LinkTypeRaw)
	require.False(t, ok, "no Ethernet")
}

func TestAnICMPMessageThatIsCutShortIsPassedOver(t *testing.T) {
	t.Parallel()
	about := frame(t, ip(layers.IPProtocolUDP), &layers.UDP{SrcPort: 40001, DstPort: 49})
	message := func(code uint8, b []byte) []byte {
		return frame(t, ether(layers.EthernetTypeIPv4), ip(layers.IPProtocolICMPv4),
			&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeDestinationUnreachable, code)},
			gopacket.Payload(b))
	}
	for why, code := range map[string]uint8{"net unreachable": 0, "host unreachable": 1, "protocol unreachable": 2,
		"port unreachable": 3, "filtered": 13, "unreachable": 5,
		"the packet is too big for the path": 4} {
		lines, _, err := read(t, pcap(t, layers.LinkTypeEthernet, message(code, about)))
		require.NoError(t, err)
		require.Equal(t, []string{"192.0.2.1:40001 > 192.0.2.2:49 udp=true " + why}, lines)
	}
	for name, b := range map[string][]byte{"cut in the header": about[:19], "cut in the ports": about[:23],
		"another version": edit(about, map[int]byte{0: 0x65}), "no header": edit(about, map[int]byte{0: 0x44})} {
		lines, _, err := read(t, pcap(t, layers.LinkTypeEthernet, message(3, b)))
		require.NoError(t, err)
		require.Empty(t, lines, name)
	}
	echo := frame(t, ether(layers.EthernetTypeIPv4), ip(layers.IPProtocolICMPv4),
		&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeEchoRequest, 0)}, gopacket.Payload(about))
	lines, _, err := read(t, pcap(t, layers.LinkTypeEthernet, echo))
	require.NoError(t, err)
	require.Empty(t, lines)
	about6 := frame(t, ip6(layers.IPProtocolUDP), &layers.UDP{SrcPort: 40001, DstPort: 49})
	message6 := func(code uint8, b []byte) []byte {
		return frame(t, ether(layers.EthernetTypeIPv6), ip6(layers.IPProtocolICMPv6),
			&layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeDestinationUnreachable, code)},
			gopacket.Payload(append(make([]byte, 4), b...)))
	}
	for why, code := range map[string]uint8{"net unreachable": 0, "filtered": 1, "host unreachable": 3,
		"port unreachable": 4, "unreachable": 2} {
		lines, _, err := read(t, pcap(t, layers.LinkTypeEthernet, message6(code, about6)))
		require.NoError(t, err)
		require.Len(t, lines, 1)
		require.Contains(t, lines[0], ":40001 > ")
		require.Contains(t, lines[0], "udp=true "+why)
	}
	for name, b := range map[string][]byte{"cut in the ports": about6[:43], "another version": edit(about6,
		map[int]byte{0: 0x45}), "neither UDP nor TCP": edit(about6, map[int]byte{6: 58})} {
		lines, _, err := read(t, pcap(t, layers.LinkTypeEthernet, message6(4, b)))
		require.NoError(t, err)
		require.Empty(t, lines, name)
	}
}

func TestThePacketsOfAConnectionBearTheirFlags(t *testing.T) {
	t.Parallel()
	var file bytes.Buffer
	w, err := NewWriter(&file)
	require.NoError(t, err)
	c := w.Connect(at, client, server)
	c.Data(at.Add(time.Second), true, []byte("question"))
	c.Data(at.Add(2*time.Second), false, bytes.Repeat([]byte("a"), 1401))
	c.Close(at.Add(3*time.Second), false)
	w.Refused(at.Add(4*time.Second), client, server)
	w.PortClosed(at, sixth, six, []byte("none for IPv6"))
	(*Writer)(nil).PortClosed(at, client, server, nil)
	w.PortClosed(at.Add(5*time.Second), client, server, []byte("asked"))
	require.NoError(t, w.Close())
	source, err := pcapgo.NewNgReader(&file, pcapgo.DefaultNgReaderOptions)
	require.NoError(t, err)
	var got []string
	for {
		data, ci, err := source.ReadPacketData()
		if err != nil {
			break
		}
		p := gopacket.NewPacket(data, layers.LinkTypeEthernet, gopacket.Default)
		require.Nil(t, p.ErrorLayer())
		if l := p.Layer(layers.LayerTypeTCP); l != nil {
			tcp := l.(*layers.TCP)
			flags := ""
			for _, f := range []struct {
				set  bool
				name string
			}{{tcp.SYN, "S"}, {tcp.ACK, "A"}, {tcp.PSH, "P"}, {tcp.FIN, "F"}, {tcp.RST, "R"}} {
				if f.set {
					flags += f.name
				}
			}
			got = append(got, fmt.Sprintf("%.0f %d>%d %s seq %d ack %d, %d", ci.Timestamp.Sub(at).Seconds(),
				tcp.SrcPort,
				tcp.DstPort, flags, tcp.Seq, tcp.Ack, len(tcp.Payload)))
		} else {
			got = append(got, p.Layers()[2].LayerType().String())
		}
	}
	require.Equal(t, []string{"0 40001>49 S seq 0 ack 0, 0", "0 49>40001 SA seq 0 ack 1, 0",
		"0 40001>49 A seq 1 ack 1, 0",
		"1 40001>49 AP seq 1 ack 1, 8", "2 49>40001 AP seq 1 ack 9, 1400", "2 49>40001 AP seq 1401 ack 9, 1",
		"3 49>40001 AF seq 1402 ack 9, 0", "4 40001>49 S seq 0 ack 0, 0", "4 49>40001 AR seq 0 ack 1, 0", "ICMPv4"},
		got)
}

func TestWhatCannotBePutTogetherIsCounted(t *testing.T) {
	t.Parallel()
	whole := frame(t, ip(layers.IPProtocolUDP), &layers.UDP{SrcPort: 40001, DstPort: 49},
		gopacket.Payload(strings.Repeat("x", 64)))
	part := ip(layers.IPProtocolUDP)
	part.Id = 7
	part.Flags = layers.IPv4MoreFragments
	part.FragOffset = 8191 // beyond what a packet can hold
	bad := frame(t, ether(layers.EthernetTypeIPv4), part, gopacket.Payload(whole[20:]))
	arp := frame(t, ether(layers.EthernetTypeARP), gopacket.Payload(make([]byte, 28)))
	routing := frame(t, ether(layers.EthernetTypeIPv4), ip(layers.IPProtocolOSPF), gopacket.Payload(make([]byte, 28)))
	lines, stats, err := read(t, pcap(t, layers.LinkTypeEthernet, bad, arp, routing))
	require.NoError(t, err)
	require.Empty(t, lines)
	require.Equal(t, Stats{Packets: 3, Other: 3}, stats)
}
