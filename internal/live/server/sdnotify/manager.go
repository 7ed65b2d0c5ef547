// Package sdnotify tells a service manager how a service is, in the protocol of
// NOTIFY_SOCKET: datagrams of NAME=VALUE lines to a socket that the environment
// names. Where there is no manager nothing is told.
package sdnotify

import (
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"
)

// Manager is whoever runs this program.
type Manager struct {
	address  string
	watchdog time.Duration // how often it wants to hear that the service lives; 0: it does not
}

// FromEnvironment finds the manager of this process.
func FromEnvironment() *Manager {
	m := &Manager{address: os.Getenv("NOTIFY_SOCKET")}
	if strings.HasPrefix(m.address, "@") { // a name in the abstract space
		m.address = "\x00" + m.address[1:]
	}
	if pid := os.Getenv("WATCHDOG_PID"); pid == "" || pid == strconv.Itoa(os.Getpid()) {
		if us, err := strconv.ParseInt(os.Getenv("WATCHDOG_USEC"), 10, 64); err == nil && us > 0 {
			m.watchdog = time.Duration(us) * time.Microsecond
		}
	}
	return m
}

// Ready says that the service answers.
func (m *Manager) Ready(status string) { m.tell("READY=1", "STATUS="+status) }

// Reloaded says that the site was read again, and taken or not.
func (m *Manager) Reloaded() { m.tell("READY=1") }

// Reloading says that the site is being read again, until Reloaded.
func (m *Manager) Reloading() {
	m.tell("RELOADING=1", "MONOTONIC_USEC="+strconv.FormatInt(monotonic().Microseconds(), 10))
}

// Stopping says that the service ends.
func (m *Manager) Stopping() { m.tell("STOPPING=1") }

// Status says in a line how the service is.
func (m *Manager) Status(status string) { m.tell("STATUS=" + status) }

// Lives returns how often Alive is to be called; 0: never.
func (m *Manager) Lives() time.Duration {
	if m.address == "" {
		return 0
	}
	return m.watchdog / 2
}

// Alive says that the service lives.
func (m *Manager) Alive() { m.tell("WATCHDOG=1") }

// tell sends a datagram. A manager that does not listen is not the service's
// trouble.
func (m *Manager) tell(lines ...string) {
	if m.address == "" {
		return
	}
	conn, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: m.address, Net: "unixgram"})
	if err != nil {
		return
	}
	defer func() { _ = conn.Close() }()
	for i, l := range lines {
		lines[i] = strings.ReplaceAll(l, "\n", " ")
	}
	_, _ = fmt.Fprint(conn, strings.Join(lines, "\n"))
}
