package capture

import (
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
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
		"port unreachable": 3, "filtered": 13, "unreachable": 9} {
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
