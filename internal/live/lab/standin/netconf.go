package standin

import (
	"net"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab/standin/config"
)

// ServeNETCONF takes NETCONF over SSH (RFC 6242) until Shutdown.
func (d *Device) ServeNETCONF(listener net.Listener) {
	d.serve(listener, func(conn net.Conn) { d.sshConnection(conn, site.NETCONF) })
}

// SetTroubles sets all that goes wrong over NETCONF from now on.
func (d *Device) SetTroubles(troubles []config.Trouble) { d.store.SetTroubles(troubles) }

// owner is the device whose configuration a store has.
type owner struct{ *Device }

// Draft copies the design in use.
func (d owner) Draft() *config.Draft {
	d.mu.Lock()
	defer d.mu.Unlock()
	return config.Copy(d.current, d.config.Targets, config.Surroundings{Known: d.known, From: d.config.From})
}

// Use puts a draft in place of the design in use. Sessions keep their lists,
// and ask the servers as they are configured now.
func (d owner) Use(w *config.Draft) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.current, d.config.Targets = w.Device, w.Targets
}

func (d owner) Say(format string, args ...any) { d.logs(format, args...) }

// manager is a visitor who came by NETCONF.
type manager struct{ *visitor }

func (m manager) Name() string { return printed(m.person) }

func (m manager) Level() int { return m.level }

func (m manager) Command(line string, level int) (allowed bool, why string) {
	verdict := m.command(line, level)
	if !verdict.Allowed {
		why = whyNot(verdict)
	}
	return verdict.Allowed, why
}
