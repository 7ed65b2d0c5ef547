package standin

import (
	"bufio"
	"errors"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/routine"
)

// ServeSSH takes SSH connections (RFC 4253, 4254) until Shutdown. Each holds
// one line.
func (d *Device) ServeSSH(listener net.Listener) {
	d.serve(listener, func(conn net.Conn) { d.sshConnection(conn, site.SSH) })
}

// ServeConsole takes connections to the console, a plain text port that stands
// for the serial line, until Shutdown. One person at a time is at a console.
func (d *Device) ServeConsole(listener net.Listener) {
	d.serve(listener, func(conn net.Conn) { d.console(conn) })
}

// Serve takes connections of a way in until Shutdown. It is false for a way
// that stand-ins do not have.
func (d *Device) Serve(access string, listener net.Listener) bool {
	switch access {
	case site.SSH:
		d.ServeSSH(listener)
	case site.Console:
		d.ServeConsole(listener)
	case site.Telnet:
		d.ServeTelnet(listener)
	case site.Web:
		d.ServeWeb(listener)
	case site.API:
		d.ServeAPI(listener)
	case site.NETCONF:
		d.ServeNETCONF(listener)
	default:
		return false
	}
	return true
}

func (d *Device) serve(listener net.Listener, handle func(net.Conn)) {
	d.closing(listener.Close)
	d.running.Go(func() {
		guard.Retry(d.ctx, func() error {
			conn, err := listener.Accept()
			if err != nil {
				return err
			}
			d.running.Go(func() {
				stop := routine.OnDone(d.ctx, func() { _ = conn.Close() })
				defer stop()
				defer func() { _ = conn.Close() }()
				handle(conn)
			})
			return nil
		}, func(err error) { d.logs("no connection can be taken at %s just now: %v", listener.Addr(), err) })
	})
}

func remote(conn net.Conn) netip.AddrPort {
	if a, ok := conn.RemoteAddr().(*net.TCPAddr); ok {
		return a.AddrPort()
	}
	return netip.AddrPort{}
}

// sshConnection serves one SSH connection: login within the way in's patience,
// then sessions.
func (d *Device) sshConnection(conn net.Conn, access string) {
	line, way, free := d.takeLine(access)
	if !free {
		return
	}
	defer d.freeLine(access, line)
	v := d.arrive(way, line, remote(conn))
	behaviour := d.design().Platform.Behaviour
	config := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-StandIn",
		MaxAuthTries:  behaviour.LoginTries,
		PasswordCallback: func(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if !v.enter(meta.User(), string(password)).In {
				return nil, errors.New("refused")
			}
			return nil, nil
		},
		// RFC 4256: the password, and a one-time code when a server asks for one.
		KeyboardInteractiveCallback: func(meta ssh.ConnMetadata,
			ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions,
			error) {
			answers, err := ask("", "", []string{"password: "}, []bool{false})
			if err != nil || len(answers) != 1 {
				return nil, errors.New("no answer")
			}
			v.code = func(prompt string) (string, bool) {
				answers, err := ask("", "", []string{prompt}, []bool{false})
				return strings.Join(answers, ""), err == nil && len(answers) == 1
			}
			defer func() { v.code = nil }()
			if !v.enter(meta.User(), answers[0]).In {
				return nil, errors.New("refused")
			}
			return nil, nil
		},
	}
	config.AddHostKey(d.config.HostKey)
	_ = conn.SetDeadline(time.Now().Add(behaviour.LoginWindow))
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	_ = conn.SetDeadline(time.Time{})
	d.joined(v, func() { _ = conn.Close() })
	defer v.leave()
	d.running.Go(func() { ssh.DiscardRequests(requests) })
	for fresh := range channels {
		if fresh.ChannelType() != "session" {
			_ = fresh.Reject(ssh.UnknownChannelType, "only sessions are served")
			continue
		}
		channel, requests, err := fresh.Accept()
		if err != nil {
			continue
		}
		d.sshSession(v, channel, requests) // one at a time: a line has one shell
	}
	_ = server.Wait()
}

// sshSession serves one session channel: a shell, or one command.
func (d *Device) sshSession(v *visitor, channel ssh.Channel, requests <-chan *ssh.Request) {
	defer func() { _ = channel.Close() }()
	typed := false
	for r := range requests {
		switch r.Type {
		case "pty-req":
			typed = true
			_ = r.Reply(true, nil)
		case "env", "window-change":
			_ = r.Reply(r.Type != "env", nil)
		case "subsystem":
			var name struct{ Name string }
			if v.visit.Way.Access != site.NETCONF || ssh.Unmarshal(r.Payload, &name) != nil || name.Name != "netconf" {
				_ = r.Reply(false, nil)
				continue
			}
			_ = r.Reply(true, nil)
			d.running.Go(func() { refuseAll(requests) })
			d.store.Serve(manager{v}, channel)
			return
		case "shell", "exec":
			if v.visit.Way.Access == site.NETCONF { // nothing but the subsystem, RFC 6242 section 3
				_ = r.Reply(false, nil)
				continue
			}
			_ = r.Reply(true, nil)
			d.running.Go(func() { refuseAll(requests) })
			status := uint32(0)
			if r.Type == "shell" {
				newShell(v, sshTerminal(v, channel, typed)).run()
			} else {
				status = d.exec(v, channel, r.Payload)
			}
			_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
			return
		default:
			_ = r.Reply(false, nil)
		}
	}
}

func refuseAll(requests <-chan *ssh.Request) {
	for r := range requests {
		_ = r.Reply(r.Type == "window-change", nil)
	}
}

func (d *Device) exec(v *visitor, channel ssh.Channel, payload []byte) uint32 {
	var request struct{ Command string }
	if err := ssh.Unmarshal(payload, &request); err != nil {
		return 2
	}
	sh := newShell(v, &terminal{out: channel})
	one := sh.one
	if s := v.device.speaks; s != nil {
		one = (&spoken{shell: sh, of: s}).one
	}
	if one(request.Command) {
		return 0
	}
	return 1
}

// terminal is where a shell reads lines and writes.
type terminal struct {
	read   func() (string, error)
	prompt func(string)
	out    io.Writer
	secret func(prompt string) (string, error) // reads without showing; nil where nobody can be asked
	key    func() (byte, error)                // reads one key; nil where there is none
}

// sshTerminal edits lines for a person at a terminal, and reads them plainly
// from a program.
func sshTerminal(v *visitor, channel ssh.Channel, typed bool) *terminal {
	if !typed {
		return plainTerminal(channel)
	}
	t := term.NewTerminal(channel, "")
	return &terminal{read: t.ReadLine, prompt: t.SetPrompt, out: t, secret: t.ReadPassword}
}

// maxLine bounds a line typed at a plain terminal.
const maxLine = 4096

func plainTerminal(rw io.ReadWriter) *terminal {
	lines := bufio.NewReaderSize(rw, maxLine)
	prompt := ""
	read := func(prompt string) (string, error) {
		if _, err := io.WriteString(rw, prompt); err != nil {
			return "", err
		}
		text, err := lines.ReadSlice('\n')
		if err != nil {
			return "", err // a line longer than maxLine ends the session too
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	}
	return &terminal{out: rw, prompt: func(p string) { prompt = p },
		read:   func() (string, error) { return read(prompt) },
		secret: read, key: lines.ReadByte}
}

// console serves one connection to the console.
func (d *Device) console(conn net.Conn) {
	line, way, free := d.takeLine(site.Console)
	if !free {
		return
	}
	defer d.freeLine(site.Console, line)
	t := plainTerminal(conn)
	d.plainLogin(conn, way, line, conn, func(prompt string, _ bool) (string, bool) {
		t.prompt(prompt)
		text, err := t.read()
		return text, err == nil
	}, func() *terminal { return t })
}
