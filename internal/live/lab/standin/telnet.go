package standin

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/core/site"
)

// ServeTelnet takes telnet connections (RFC 854) until Shutdown. Each holds one
// line.
func (d *Device) ServeTelnet(listener net.Listener) {
	d.serve(listener, func(conn net.Conn) { d.telnet(conn) })
}

// Commands and options of RFC 854, 857 and 858.
const (
	telnetSE   = 240
	telnetSB   = 250
	telnetWill = 251
	telnetWont = 252
	telnetDo   = 253
	telnetDont = 254
	telnetIAC  = 255

	optionEcho     = 1
	optionGoAheads = 3 // none are sent
)

// telnetConn is the text of a telnet connection: what is typed line by line, and
// what is printed. The server echoes, except passwords.
type telnetConn struct {
	conn   net.Conn
	in     *bufio.Reader
	mu     sync.Mutex // of writing
	echoes bool       // the client lets us echo
	hidden bool       // what is typed is a password
	prompt string
}

func newTelnet(conn net.Conn) *telnetConn {
	t := &telnetConn{conn: conn, in: bufio.NewReaderSize(conn, 1024)}
	t.raw(telnetIAC, telnetWill, optionEcho, telnetIAC, telnetWill, optionGoAheads)
	return t
}

func (t *telnetConn) raw(b ...byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, _ = t.conn.Write(b)
}

// Write prints text: line ends are CR LF, and octets of 255 are doubled.
func (t *telnetConn) Write(b []byte) (int, error) {
	text := strings.NewReplacer("\r\n", "\r\n", "\n", "\r\n", "\xff", "\xff\xff").Replace(string(b))
	t.mu.Lock()
	defer t.mu.Unlock()
	_, err := t.conn.Write([]byte(text))
	return len(b), err
}

// readLine reads one line as typed.
func (t *telnetConn) readLine() (string, error) {
	if _, err := io.WriteString(t, t.prompt); err != nil {
		return "", err
	}
	var line []byte
	for {
		b, err := t.next()
		if err != nil {
			return "", err
		}
		switch {
		case b == '\r' || b == '\n':
			if b == '\r' { // CR LF, or CR NUL: the end of a line either way
				if after, err := t.in.Peek(1); err == nil && (after[0] == '\n' || after[0] == 0) {
					_, _ = t.in.Discard(1)
				}
			}
			if t.echoes {
				t.raw('\r', '\n')
			}
			return string(line), nil
		case b == 8 || b == 127:
			if len(line) > 0 {
				line = line[:len(line)-1]
				if t.echoes && !t.hidden {
					t.raw(8, ' ', 8)
				}
			}
		case b < ' ': // nothing that a terminal would act on
		case len(line) >= maxLine:
			return "", errors.New("a line longer than may be")
		default:
			line = append(line, b)
			if t.echoes && !t.hidden {
				t.raw(b)
			}
		}
	}
}

// next returns the next octet of text; commands are answered.
func (t *telnetConn) next() (byte, error) {
	for {
		b, err := t.in.ReadByte()
		if err != nil || b != telnetIAC {
			return b, err
		}
		command, err := t.in.ReadByte()
		if err != nil {
			return 0, err
		}
		switch command {
		case telnetIAC:
			return telnetIAC, nil
		case telnetSB:
			if err := t.skip(); err != nil {
				return 0, err
			}
		case telnetWill, telnetWont, telnetDo, telnetDont:
			option, err := t.in.ReadByte()
			if err != nil {
				return 0, err
			}
			t.negotiate(command, option)
		}
	}
}

// negotiate answers an option: echo and no go-aheads are ours, everything else
// is refused.
func (t *telnetConn) negotiate(command, option byte) {
	ours := option == optionEcho || option == optionGoAheads
	switch command {
	case telnetDo:
		if option == optionEcho {
			t.echoes = true
		}
		if !ours {
			t.raw(telnetIAC, telnetWont, option)
		}
	case telnetDont:
		if option == optionEcho {
			t.echoes = false
		}
	case telnetWill:
		t.raw(telnetIAC, telnetDont, option)
	}
}

// skip passes over a subnegotiation, which is bounded.
func (t *telnetConn) skip() error {
	last := byte(0)
	for range 4096 {
		b, err := t.in.ReadByte()
		if err != nil {
			return err
		}
		if last == telnetIAC && b == telnetSE {
			return nil
		}
		last = b
	}
	return errors.New("a subnegotiation without an end")
}

func (t *telnetConn) ask(prompt string, hidden bool) (string, bool) {
	t.prompt, t.hidden = prompt, hidden
	text, err := t.readLine()
	t.hidden = false
	return text, err == nil
}

// telnet serves one telnet connection.
func (d *Device) telnet(conn net.Conn) {
	line, way, free := d.takeLine(site.Telnet)
	if !free {
		return
	}
	defer d.freeLine(site.Telnet, line)
	t := newTelnet(conn)
	d.plainLogin(conn, way, line, t, t.ask, func() *terminal {
		return &terminal{read: t.readLine, prompt: func(p string) { t.prompt = p }, out: t,
			secret: func(p string) (string, error) {
				before := t.prompt
				defer func() { t.prompt = before }()
				text, ok := t.ask(p, true)
				if !ok {
					return "", io.EOF
				}
				return text, nil
			}}
	})
}

// plainLogin asks for a name and a password, as often as the platform lets, and
// then serves a shell.
func (d *Device) plainLogin(conn net.Conn, way *site.Way, line int, out io.Writer,
	ask func(prompt string, hidden bool) (string, bool), shell func() *terminal) {
	behaviour := d.design().Platform.Behaviour
	for range behaviour.LoginTries {
		// a person types; the wait itself is the walker's
		_ = conn.SetDeadline(time.Now().Add(behaviour.LoginWindow + time.Minute))
		name, ok := ask("name: ", false)
		if !ok {
			return
		}
		password, ok := ask("password: ", true)
		if !ok {
			return
		}
		v := d.arrive(way, line, remote(conn))
		v.code = func(prompt string) (string, bool) { return ask(prompt, true) }
		if !v.enter(name, password).In {
			_, _ = fmt.Fprintln(out, "refused")
			continue
		}
		_ = conn.SetDeadline(time.Time{})
		d.joined(v, func() { _ = conn.Close() })
		newShell(v, shell()).run()
		v.leave()
		return
	}
}
