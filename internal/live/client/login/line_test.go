package login_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
)

// words are those of a make with two prompts, pages, a question and a refusal.
func words(t *testing.T) *talk.Talk {
	t.Helper()
	book, err := phrase.Load("book.yaml", []byte(`phrasebook: 1
make: plain
layout: {sections: indent}
talk:
  prompts: {watch: "<host>>", configuring: "<host>(change)>"}
  page: {shows: "--page--", press: space}
  enter: [change]
  leave: [done]
  save: {say: keep, asks: {"Sure? ": "y"}}
  refused: ["no such line: *"]
phrases: [{about: account, say: "account <name>"}]
`))
	require.NoError(t, err)
	return book.Talk()
}

// plain is the shell of a device of that make, which repeats what is typed.
func plain(in *bufio.Reader, out io.Writer) {
	prompt := "sw>"
	for {
		_, _ = io.WriteString(out, prompt)
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		_, _ = io.WriteString(out, line)
		switch line = strings.TrimSpace(line); {
		case line == "change":
			prompt = "sw(change)>"
		case line == "done":
			_, _ = io.WriteString(out, "Sure? ")
			if answer, _ := in.ReadString('\n'); answer == "y\n" {
				prompt = "sw>"
			}
			_, _ = io.WriteString(out, "\n")
		case line == "list":
			_, _ = io.WriteString(out, "one\n--page--")
			_, _ = in.ReadByte()
			_, _ = io.WriteString(out, "\r        \r  two\n")
		case line == "leave":
			return
		case line != "":
			_, _ = fmt.Fprintf(out, "no such line: %s\n", line)
		}
	}
}

func TestLinesAreTypedAtADeviceOfAMake(t *testing.T) {
	t.Parallel()
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(plain)}
	a := d.listen(t)
	line, err := login.Open(t.Context(), a, words(t), "sw")
	require.NoError(t, err)
	t.Cleanup(line.Close)
	require.False(t, line.Configuring())
	for _, c := range []struct {
		types, shown string
		says         []string
		configuring  bool
		refused      string
	}{
		{"list", "list", []string{"one", "  two"}, false, ""},
		{"change", "change", nil, true, ""},
		{"key of-worth", "key ...", nil, true, `the device refused "key ...": it says "no such line: key ..."`},
		{"done", "done", []string{"Sure? "}, false, ""},
	} {
		says, err := line.Do(c.types, c.shown)
		if c.refused != "" {
			var refused login.Refused
			require.ErrorAs(t, err, &refused)
			require.EqualError(t, err, c.refused)
			require.Equal(t, c.shown, refused.Line)
		} else {
			require.NoError(t, err)
		}
		require.Equal(t, c.says, says, c.types)
		require.Equal(t, c.configuring, line.Configuring(), c.types)
	}
	_, err = line.Do("leave", "leave")
	require.ErrorContains(t, err, `after "leave": `)
}

// Why no command line opens is said by its cause.
func TestWhyNoLineOpens(t *testing.T) {
	t.Parallel()
	let := ssh.ServerConfig{PasswordCallback: byPassword}
	other := func(in *bufio.Reader, out io.Writer) { _, _ = io.WriteString(out, "box> "); _, _ = in.ReadByte() }
	silent := func(in *bufio.Reader, _ io.Writer) { _, _ = in.ReadByte() }
	for name, c := range map[string]struct {
		device  sshDevice
		change  func(*login.Attempt)
		refused bool
		says    string
	}{
		"a wrong password": {sshDevice{config: let, channel: shellOf(plain)},
			func(a *login.Attempt) { a.Password = site.NewSecret("x") }, true, ""},
		"a new password is demanded": {sshDevice{config: ssh.ServerConfig{
			KeyboardInteractiveCallback: asking("New password: ")}}, nil, true, ""},
		"a code besides": {sshDevice{config: ssh.ServerConfig{KeyboardInteractiveCallback: asking("Code: ")}}, nil,
			true,
			`the device asks "Code:" besides`},
		"another prompt": {sshDevice{config: let, channel: shellOf(other)},
			func(a *login.Attempt) { a.Patience = 2 * time.Second }, false, "no prompt of the make came: "},
		"no prompt": {sshDevice{config: let, channel: shellOf(silent)},
			func(a *login.Attempt) { a.Patience = 2 * time.Second }, false, "no prompt came"},
		"no device": {sshDevice{}, func(a *login.Attempt) {
			a.Dial = func(context.Context, string) (net.Conn, error) { return nil, errors.New("no route") }
		}, false, "cannot be reached: no route"},
		"another key": {sshDevice{config: let}, func(a *login.Attempt) { a.HostKey = newKey(t).PublicKey() }, false,
			"another SSH host key than expected"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			device := c.device
			a := device.listen(t)
			if c.change != nil {
				c.change(&a)
			}
			line, err := login.Open(t.Context(), a, words(t), "sw")
			require.Nil(t, line)
			require.Equal(t, c.refused, errors.Is(err, login.ErrRefused), "%v", err)
			require.ErrorContains(t, err, c.says)
			if c.refused && c.says == "" {
				require.Equal(t, login.ErrRefused, err)
			}
		})
	}
}

// A command that the make refuses in its words is refused, and a prompt of the make is one.
func TestALoginByTheWordsOfAMake(t *testing.T) {
	t.Parallel()
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(plain)}
	a := d.listen(t)
	a.Words, a.Host, a.Commands = words(t), "sw", []string{"list", "look"}
	seen, err := login.Do(t.Context(), a)
	require.NoError(t, err)
	require.Equal(t, walk.OutcomeIn, seen.Outcome)
	require.Equal(t, []login.Command{{Command: "list", Result: walk.OutcomeAllowed, Output: "one\n  two"},
		{Command: "look", Result: walk.OutcomeRefused, Output: "no such line: look"}}, seen.Commands)
}

// raising is a shell in which "up" asks for a password, and then shows another prompt, which counts.
func raising(in *bufio.Reader, out io.Writer) {
	sign, count := ">", 0
	for {
		count++
		_, _ = fmt.Fprintf(out, "sw(%d)%s ", count, sign)
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch line {
		case "up\n":
			for range 5 {
				_, _ = io.WriteString(out, "Password: ")
				if password, err := in.ReadString('\n'); err != nil {
					return
				} else if password == "right\n" {
					sign = "#"
					break
				}
			}
		case "code\n":
			_, _ = io.WriteString(out, "Token: ")
			if _, err := in.ReadString('\n'); err != nil {
				return
			}
		case "out\n":
			return
		}
	}
}

func TestAnElevationOfARealDeviceIsWhatItCameTo(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		raise   login.Raise
		changed bool
		detail  string
	}{
		"up": {login.Raise{Command: "up", Password: site.NewSecret("right")}, true, ""},
		"wrong": {login.Raise{Command: "up", Password: site.NewSecret("wrong")}, false,
			`after "up" the device asks`},
		"another":       {login.Raise{Command: "code"}, false, `after "code" the device asks "Token:"`},
		"hung up":       {login.Raise{Command: "out"}, false, `the session ended during "out"`},
		"the usual one": {login.Raise{Level: 7}, false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(raising)}
			a := d.listen(t)
			a.Raise, a.Commands = &c.raise, []string{"look"}
			seen, err := login.Do(t.Context(), a)
			require.NoError(t, err)
			require.Equal(t, walk.OutcomeIn, seen.Outcome)
			require.Equal(t, c.changed, seen.PromptChanged, seen.Detail)
			require.Equal(t, login.UnknownLevel, seen.Raised)
			require.Contains(t, seen.Detail, c.detail)
			require.Equal(t, c.detail == "", len(seen.Commands) == 1, "commands follow where it is known where one is")
		})
	}
}

// hop is an SSH host that opens connections for those whom it lets in.
func hop(t *testing.T) login.Hop {
	t.Helper()
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: func(c ssh.NewChannel) {
		var to struct {
			Host string
			Port uint32
			Rest []byte `ssh:"rest"`
		}
		if c.ChannelType() != "direct-tcpip" || ssh.Unmarshal(c.ExtraData(), &to) != nil {
			_ = c.Reject(ssh.Prohibited, "no")
			return
		}
		conn, err := net.Dial("tcp", net.JoinHostPort(to.Host, fmt.Sprint(to.Port)))
		if err != nil {
			_ = c.Reject(ssh.ConnectionFailed, "nobody there")
			return
		}
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		go func() { _, _ = io.Copy(conn, channel); _ = conn.Close() }()
		_, _ = io.Copy(channel, conn)
		_ = channel.Close()
	}}
	a := d.listen(t)
	return login.Hop{Address: a.Address, Person: "guest", HostKey: a.HostKey,
		Auth: []ssh.AuthMethod{ssh.Password("right")}}
}

func TestADeviceIsReachedThroughHosts(t *testing.T) {
	t.Parallel()
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(prompting)}
	a := d.listen(t)
	first, second := hop(t), hop(t)
	a.Dial = login.Through([]login.Hop{first, second}, 20*time.Second)
	seen, err := login.Do(t.Context(), a)
	require.NoError(t, err)
	require.Equal(t, walk.OutcomeIn, seen.Outcome, seen.Detail)

	gone, strange, stranger := second, second, second
	gone.Address = "127.0.0.1:1" // nobody listens there
	strange.HostKey = newKey(t).PublicKey()
	stranger.Auth = []ssh.AuthMethod{ssh.Password("wrong")}
	for says, way := range map[string][]login.Hop{
		"the host " + gone.Address + " on the way cannot be reached: ": {first, gone},
		"on the way lets guest not in: ssh: handshake failed":          {first, strange},
		"on the way lets guest not in":                                 {stranger},
	} {
		_, err := login.Through(way, 20*time.Second)(t.Context(), a.Address)
		require.ErrorContains(t, err, says)
	}
	_, err = login.Through([]login.Hop{first}, 20*time.Second)(t.Context(), gone.Address)
	require.Error(t, err)
	conn, err := login.Through([]login.Hop{first}, 20*time.Second)(t.Context(), a.Address)
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	_, err = conn.Write([]byte("gone"))
	require.Error(t, err)
}
