package login

import (
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/walk"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/netconf"
)

// UnknownLevel is the level of a way in that does not show one.
const UnknownLevel = -1

// netconf opens a NETCONF session over an SSH connection, and ends it: the hello
// of the device is what a login comes to. NETCONF shows no level.
func (a Attempt) netconf(c *ssh.Client, seen Seen) (Seen, error) {
	late := routine.AfterFunc(a.Patience, func() { _ = c.Close() })
	defer late.Stop()
	seen.Outcome = walk.OutcomeUnsure // until its hello is there
	session, err := c.NewSession()
	if err != nil {
		seen.Detail = "the device gives no session"
		return seen, nil
	}
	defer func() { _ = session.Close() }()
	in, err := session.StdinPipe()
	if err != nil {
		return seen, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return seen, err
	}
	if err := session.RequestSubsystem("netconf"); err != nil {
		seen.Detail = "the device has no NETCONF subsystem"
		return seen, nil
	}
	conn := netconf.NewConn(struct {
		reader
		writer
	}{out, in})
	hello, err := conn.Read()
	if err == nil {
		_, _, err = netconf.ReadHello(hello)
	}
	if err != nil {
		seen.Detail = "the device says no hello: " + err.Error()
		return seen, nil
	}
	seen.Outcome = walk.OutcomeIn
	_ = conn.Write(netconf.Hello([]string{netconf.Base10}, 0))
	_ = conn.Write([]byte(`<rpc xmlns="` + netconf.Base + `" message-id="1"><close-session/></rpc>`))
	_, _ = conn.Read()
	return seen, nil
}

type reader interface{ Read([]byte) (int, error) }
type writer interface{ Write([]byte) (int, error) }
