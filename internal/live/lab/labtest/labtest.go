// Package labtest gives each test a loopback network of its own, so that tests
// and copies of them run side by side and nothing is left in their way.
package labtest

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"testing"
)

// The second octets that networks are taken from.
const (
	lowest  = 100
	highest = 250
)

// watch is the port at the end of a network that whoever has it listens on.
const watch = 65111

// Network returns a loopback network 127.N.0.0/16 that no other test has, in
// this process or another, until the test ends.
func Network(t testing.TB) netip.Prefix {
	t.Helper()
	for i := range highest - lowest {
		n := byte(lowest + (os.Getpid()*7+i)%(highest-lowest))
		l, err := net.Listen("tcp", fmt.Sprintf("127.%d.255.254:%d", n, watch))
		if err != nil {
			continue // somebody has it
		}
		t.Cleanup(func() { _ = l.Close() })
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{127, n, 0, 0}), 16)
	}
	t.Fatal("every loopback network of the tests is in use")
	return netip.Prefix{}
}

// Host returns an address of a network, by its last two octets.
func Host(network netip.Prefix, third, fourth byte) netip.Addr {
	a := network.Addr().As4()
	return netip.AddrFrom4([4]byte{a[0], a[1], third, fourth})
}
