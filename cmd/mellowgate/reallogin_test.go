package main

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// plainDevice is a device with words, prompts and pages of its own, over plain text or
// telnet. Who knows the pass phrase "right" is in.
func plainDevice(t *testing.T, telnet bool) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go plainSession(conn, telnet)
		}
	}()
	return l.Addr().String()
}

// asksBesides is what a device asks somebody besides name and password.
var asksBesides = map[string]string{"asked-token": "Token code:", "asked-pin": "Enter PIN:",
	"asked-retry": "Retry (y/n)?"}

func plainSession(conn net.Conn, telnet bool) {
	defer func() { _ = conn.Close() }()
	in := bufio.NewReader(conn)
	say := func(format string, args ...any) {
		_, _ = fmt.Fprint(conn, strings.ReplaceAll(fmt.Sprintf(format, args...), "\n", "\r\n"))
	}
	line := func() string {
		text := ""
		for {
			b, err := in.ReadByte()
			switch {
			case err != nil:
				return "gone"
			case b == 255: // an answer about an option
				_, _ = in.Discard(2)
			case b == '\n' || b == 0:
				return strings.TrimRight(text, "\r")
			default:
				text += string(b)
			}
		}
	}
	if telnet {
		_, _ = conn.Write([]byte{255, 251, 1, 255, 253, 24}) // it echoes; which terminal is it?
	} else {
		_ = line() // a console says nothing before Enter is pressed
	}
	say("\n\x1b[1mNorth pier\x1b[0m. Access denied to strangers.\nLast failed login: never\n\n")
	for range 3 {
		say("Station user: ")
		name := line()
		say("\nPass phrase: ")
		phrase := line()
		time.Sleep(50 * time.Millisecond)
		switch {
		case phrase == "right" && name == "old":
			say("\nYour password has expired.\nNew password: ")
			_ = line()
			return
		case phrase == "right" && strings.HasPrefix(name, "asked-"):
			say("\n%s ", asksBesides[name])
			if typed := line(); typed != "gone" {
				say("\ntyped into the question: %q", typed)
			}
			return
		case phrase == "right":
			plainShell(say, line, in)
			return
		}
		say("\n%% that is not it\n")
	}
}

func plainShell(say func(string, ...any), line func() string, in *bufio.Reader) {
	say("\nWelcome. 0 invalid tries since yesterday.\n")
	sign := ">"
	for n := 1; ; n++ {
		say("pier/%d%s ", n, sign)
		switch command := line(); command {
		case "gone":
			return
		case "":
		case "list ports":
			for i := range 30 {
				if say("port %d up\n", i); i%10 == 9 && i < 29 {
					say("-- more (space) --")
					if b, err := in.ReadByte(); err != nil || b != ' ' {
						return
					}
					say("\r                  \r")
				}
			}
		case "up":
			say("Secret: ")
			if line() == "bridge" {
				sign = "#"
				continue
			}
			say("\n%% no\n")
		default:
			say("%% you have no right to %q\n", command)
		}
	}
}

// A login at a device with words of its own ends right, and by itself within five
// seconds, with nothing said of its prompts.
func TestALoginAtADeviceWithWordsOfItsOwnEndsRight(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	for name, text := range map[string]string{"right": "right", "wrong": "wrong", "bridge": "bridge"} {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text+"\n"), 0o600))
	}
	for access, address := range map[string]string{"telnet": plainDevice(t, true), "console": plainDevice(t, false)} {
		try := func(person, password string, more ...string) result {
			began := time.Now()
			r := c.run(t, append([]string{"login", "-address", address, "-access", access, "-person", person,
				"-password-file",
				password}, more...)...)
			require.Less(t, time.Since(began), 60*time.Second, "it ends by itself")
			return r
		}
		r := try("ines", "right", "-expect", "in")
		require.Zero(t, r.status, r.out)
		require.Regexp(t, `^ines at \S+ by `+access+`: in after \d+\.\d s\nas expected: in\n$`, r.out)
		r = try("ines", "wrong", "-expect", "refused")
		require.Zero(t, r.status, r.out)
		r = try("old", "right", "-expect", "in")
		require.Equal(t, 1, r.status, r.out)
		require.Contains(t, r.out, "the device demands a new password first; none was set, so nobody is in")
		r = try("ines", "right", "-allows", "list ports", "-refuses", "set port", "-refusal", "no right")
		require.Zero(t, r.status, r.out)
		require.Contains(t, r.out, "port 29 up", "pages are turned")
		require.NotContains(t, r.out, "more (space)")
		require.Contains(t, r.out, `refused  set port`)
		r = try("ines", "right", "-raise", "15", "-raise-command", "up", "-raise-password-file", "bridge", "-allows",
			"list ports")
		require.Contains(t, r.out, "raised   the prompt changed; which level it is now is not seen")
		require.Contains(t, r.out, "port 29 up")
		r = try("ines", "right", "-raise", "15", "-raise-command", "up", "-raise-password-file", "wrong", "-expect",
			"in")
		require.Equal(t, 1, r.status, r.out)
		require.Contains(t, r.out, "refused  asked for level 15, and the prompt stays as it was")
		r = try("ines", "right", "-prompt", `pier/\d+([>#]) $`, "-level", "15")
		require.Contains(t, r.out, "in after")
		r = try("ines", "right", "-prompt", `never$`, "-command", "list ports", "-timeout", "1s")
		require.Equal(t, 1, r.status, r.out)
		require.Regexp(t, `^ines at \S+ by `+access+`: unsure after`, r.out)
		require.Contains(t, r.out,
			`no prompt was recognised: no prompt came; the device ends with "pier/1> "; 1 command not tried`)
		for person, asks := range asksBesides {
			r = try(person, "right", "-expect", "in", "-command", "list ports")
			require.Equal(t, 1, r.status, r.out)
			require.Contains(t, r.out, "unsure after")
			require.Contains(t, r.out, fmt.Sprintf("the device asks %q, which is not answered here", asks))
			require.Contains(t, r.out, "1 command not tried\nnot proven: in was expected")
			require.NotContains(t, r.out, "typed into")
		}
	}
}

// A shell that begins late, as one does whose device still waits for a server, is waited
// for: the terminal answers empty lines before it is there.
func TestAShellThatBeginsLateIsWaitedFor(t *testing.T) {
	t.Parallel()
	o := opensshFolder(t, "rsa", "PrintMotd no\nForceCommand sleep 5; PS1='late> '; export PS1; exec sh -i\n")
	o.start(t, func() bool { return true })
	c := call{dir: t.TempDir()}
	r := c.run(t, "login", "-address", o.address, "-known-hosts", "hosts", "-accept-host-key", "-person", o.person,
		"-ssh-key", o.key, "-allows", "echo a_$((2+3))", "-allows", "echo b_$((2+3))", "-expect", "in")
	require.Zero(t, r.status, r.out+r.err)
	require.Regexp(t, `(?s)allowed  echo a_\S+\n +a_5\n.*allowed  echo b_\S+\n +b_5\n`, r.out)
	require.NotContains(t, r.out, "prompt")
}

// A server that takes the password and then gives no shell is no proof that somebody is in.
func TestASessionThatIsClosedBeforeAPromptIsNotIn(t *testing.T) {
	t.Parallel()
	o := opensshFolder(t, "rsa", "PrintMotd no\nForceCommand echo this account is not available; exit 1\n")
	o.start(t, func() bool { return true })
	c := call{dir: t.TempDir()}
	r := c.run(t, "login", "-address", o.address, "-known-hosts", "hosts", "-accept-host-key", "-person", o.person,
		"-ssh-key", o.key, "-command", "list", "-expect", "in")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.out, "unsure after")
	require.Contains(t, r.out, "closed the session before any prompt; it says \"this account is not available\"")
	require.Contains(t, r.out, "not proven: in was expected")
}

// opensshd is OpenSSH's own server, for whoever runs the tests, and the key that opens it.
func opensshd(t *testing.T) (address, key, name string) {
	o := opensshFolder(t, "rsa", "PasswordAuthentication yes\nAllowTcpForwarding yes\nPrintMotd no\n")
	o.start(t, func() bool { return true })
	return o.address, o.key, o.person
}

// OpenSSH's server is a device too: its RSA key is taken, a terminal is asked for, the
// prompt of the shell is learned; and it is a host on the way to another.
func TestALoginAtOpenSSHEndsRight(t *testing.T) {
	t.Parallel()
	address, key, name := opensshd(t)
	c := call{dir: t.TempDir()}
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "wrong"), []byte("wrong\n"), 0o600))
	host, port, _ := net.SplitHostPort(address)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "config"), fmt.Appendf(nil, `Host hop
  HostName %[1]s
  Port %[2]s
  User %[3]s
  IdentityFile %[4]s
  UserKnownHostsFile %[5]s/hosts
Host core
  HostName %[1]s
  Port %[2]s
  ProxyJump hop
  UserKnownHostsFile %[5]s/hosts
`, host, port, name, key, c.dir), 0o600))
	with := []string{"-person", name, "-ssh-key", key, "-ssh-config", "config", "-accept-host-key"}
	r := c.run(t, append([]string{"login", "-address", address, "-known-hosts", "hosts", "-allows", "echo a_$((2+3))"},
		with...)...)
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "           a_5\n")
	for _, way := range [][]string{{"-address", "hop"}, {"-address", "core"}, {"-address", address, "-jump", "hop",
		"-known-hosts", "hosts"}} {
		r := c.run(t, append(append([]string{"login", "-expect", "in"}, way...), with...)...)
		require.Zero(t, r.status, "%v: %s%s", way, r.out, r.err)
		require.Regexp(t, `: in after \d+\.\d s\nas expected: in\n$`, r.out)
	}
	r = c.run(t, "login", "-address", "core", "-ssh-config", "config", "-person", name, "-password-file", "wrong",
		"-expect",
		"refused")
	require.Zero(t, r.status, r.out+r.err)
	require.NoError(t, os.Remove(filepath.Join(c.dir, "hosts")))
	r = c.run(t, "login", "-address", "core", "-ssh-config", "config", "-person", name, "-ssh-key", key)
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "is not known: SHA256:")
}
