package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/wire/tacacs"
)

// flooded is a site with two devices, on 127.N.0.11 and 127.N.0.12, and one
// server; its address is returned too.
func flooded(t *testing.T, service string) (c call, server string, key []byte) {
	t.Helper()
	c = starterServed(t)
	path := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	changed := strings.NewReplacer("192.0.2.101", prefixOf(t)+"0.11", "192.0.2.102",
		prefixOf(t)+"0.12").Replace(string(text))
	require.NoError(t, os.WriteFile(path, []byte(changed+service), 0o600))
	key, err = os.ReadFile(filepath.Join(c.dir, "mine/keys/gate.key"))
	require.NoError(t, err)
	return c, prefixOf(t) + "0.1:4949", []byte(strings.TrimSpace(string(key)))
}

// dialFrom opens a connection from the last octets of an address of the test.
func dialFrom(t *testing.T, host, to string) net.Conn {
	t.Helper()
	conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(prefixOf(t) + host)}}).Dial("tcp", to)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	return conn
}

// goodLogin logs the starter's person in from the second device, and returns how
// long that took.
func goodLogin(t *testing.T, c call, server string, key []byte) time.Duration {
	t.Helper()
	password, err := os.ReadFile(filepath.Join(c.dir, "mine/passwords/first.admin"))
	require.NoError(t, err)
	began := time.Now()
	reply, err := (&tacacs.Client{Conn: dialFrom(t, "0.12", server), Key: key}).Authenticate(tacacs.AuthenStart{
		Service: tacacs.ServiceLogin, User: "first.admin", Port: "ssh0", RemoteAddress: "198.51.100.7"}, tacacs.PAP,
		strings.TrimSpace(string(password)))
	require.NoError(t, err)
	require.Equal(t, tacacs.AuthenPass, reply.Status)
	return time.Since(began)
}

// peak returns the most memory that a process had in use, in MB.
func peak(t *testing.T, b *background) int {
	t.Helper()
	if runtime.GOOS != "linux" {
		t.Skip("the memory of a process is read from /proc")
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", b.Process.Pid))
	require.NoError(t, err)
	kb, err := strconv.Atoi(regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindStringSubmatch(string(status))[1])
	require.NoError(t, err)
	return kb / 1024
}

// One device with its key asks 128 questions at the same time about names that
// nobody has: memory stays bounded, and another device's people get in.
func TestAFloodOfOneDeviceTakesNeitherMemoryNorOthersPlaces(t *testing.T) {
	t.Parallel()
	c, server, key := flooded(t, "")
	b := c.start(t, "serve", "-only", "gate-1", "-state", "st", "mine")
	var wait sync.WaitGroup
	for n := range 4 {
		conn := dialFrom(t, "0.11", server)
		shared := tacacs.Share(conn, key)
		for i := range 32 {
			wait.Go(func() {
				_, _ = shared.Client().Authenticate(tacacs.AuthenStart{Service: tacacs.ServiceLogin, Port: "ssh0",
					User: fmt.Sprintf("nobody-%d-%d", n, i), RemoteAddress: fmt.Sprintf("198.51.%d.%d", n, i)},
					tacacs.PAP, "guess")
			})
		}
	}
	took := goodLogin(t, c, server, key)
	wait.Wait()
	most := peak(t, b)
	t.Logf("a good login of another device took %s; %d MB were in use at most", took, most)
	require.Less(t, most, 400)
}

// Half-sent headers of as many connections as there may be, from many addresses
// of devices, keep nobody out.
func TestHalfConnectionsOfManyDevicesKeepNobodyOut(t *testing.T) {
	t.Parallel()
	var devices strings.Builder
	c, server, key := flooded(t, "service: {limits: {connections: 512, connections-per-client: 64}}\n")
	path := filepath.Join(c.dir, "mine/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for i := range 16 {
		fmt.Fprintf(&devices,
			"  - {name: other-%d, platform: switch, profile: standard, addresses: [%s1.%d], labels: {place: office}}\n",
			i, prefixOf(t), i+1)
	}
	changed := strings.Replace(string(text), "\naccounts:", devices.String()+"\naccounts:", 1)
	require.NoError(t, os.WriteFile(path, []byte(changed), 0o600))
	c.start(t, "serve", "-only", "gate-1", "-state", "st", "mine")
	for i := range 16 * 40 {
		conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{
			IP: net.ParseIP(fmt.Sprintf("%s1.%d", prefixOf(t), i%16+1))}}).
			Dial("tcp", server)
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		_, _ = conn.Write([]byte{0xc1, 1, 1})
	}
	t.Logf("a good login took %s", goodLogin(t, c, server, key))
}
