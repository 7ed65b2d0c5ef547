package lab

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"syscall"

	"mellowgate/internal/core/site"
)

// addresses maps every address of a site to one of the lab's network. It is
// the one place where that happens.
type addresses struct {
	servers map[*site.Server]netip.Addr
	devices map[*site.Device]netip.Addr
	control netip.Addr // of the lab itself
	extras  map[*site.Device][]netip.Addr
	sources map[*site.Device]netip.Addr // where a device asks from: its own address, unless it holds another
}

// firstUsed leaves the first addresses of the network alone.
const firstUsed = 10

// newAddresses maps a site to a network, with so many addresses more for each
// device.
func newAddresses(s *site.Site, network netip.Prefix, extras int) (addresses, error) {
	a := addresses{extras: map[*site.Device][]netip.Addr{}, servers: map[*site.Server]netip.Addr{},
		devices: map[*site.Device]netip.Addr{}, sources: map[*site.Device]netip.Addr{}}
	need := firstUsed + len(s.Servers) + len(s.Devices)*(1+extras)
	for _, v := range s.Devices {
		if v.Asks() != v.Source {
			need++
		}
	}
	if room := 1<<(32-network.Bits()) - 1; need > room {
		return a, fmt.Errorf("the lab's network %s has room for %d addresses and the site needs %d; give "+
			"lab.network a larger one", network, room, need)
	}
	base := network.Masked().Addr().As4()
	next := binary.BigEndian.Uint32(base[:]) + firstUsed
	take := func() netip.Addr {
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], next)
		next++
		return netip.AddrFrom4(b)
	}
	a.control = netip.AddrFrom4([4]byte(binary.BigEndian.AppendUint32(nil, next-firstUsed+2)))
	for _, v := range s.Servers {
		a.servers[v] = take()
	}
	for _, v := range s.Devices {
		a.devices[v] = take()
		a.sources[v] = a.devices[v]
	}
	for _, v := range s.Devices {
		for range extras {
			a.extras[v] = append(a.extras[v], take())
		}
	}
	for _, v := range s.Devices {
		if v.Asks() == v.Source {
			continue
		}
		a.sources[v] = netip.Addr{}
		for _, other := range s.Devices {
			if other.Source == v.Asks() {
				a.sources[v] = a.devices[other]
			}
		}
		if !a.sources[v].IsValid() {
			a.sources[v] = take()
		}
	}
	return a, nil
}

// from returns the address of the lab for a source that a device is configured to
// ask from: that of the device which has it, or one that no server knows.
func (a addresses) from(device *site.Device) func(netip.Addr) netip.Addr {
	return func(source netip.Addr) netip.Addr {
		for d, address := range a.devices {
			if slices.Contains(d.Sources(), source) {
				return address
			}
		}
		if device.Asks() == source {
			return a.sources[device]
		}
		return a.control
	}
}

// raise is added to a port below 1024 that may not be opened.
const raise = 10000

// open calls listen with an address and port, and again with the port raised
// where a port below 1024 may not be opened or is taken.
func open[T any](endpoint netip.AddrPort, listen func(netip.AddrPort) (T, error)) (T, error) {
	got, err := listen(endpoint)
	if err != nil && endpoint.Port() < 1024 && (errors.Is(err, syscall.EACCES) || errors.Is(err, syscall.EADDRINUSE)) {
		return listen(netip.AddrPortFrom(endpoint.Addr(), endpoint.Port()+raise))
	}
	return got, err
}

func listenUDP(endpoint netip.AddrPort) (*net.UDPConn, error) {
	return net.ListenUDP("udp", net.UDPAddrFromAddrPort(endpoint))
}

func listenTCP(endpoint netip.AddrPort) (net.Listener, error) {
	return net.Listen("tcp", endpoint.String())
}
