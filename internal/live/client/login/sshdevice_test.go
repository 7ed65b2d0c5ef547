package login_test

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
)

// sshDevice is a device that is reached over SSH and is no stand-in.
type sshDevice struct {
	config  ssh.ServerConfig
	key     ssh.Signer
	channel func(ssh.NewChannel) // what it does with a session
}

// listen serves the device, and returns a login of guest by the password "right".
func (d *sshDevice) listen(t *testing.T) login.Attempt {
	t.Helper()
	if d.key == nil {
		d.key = newKey(t)
	}
	d.config.AddHostKey(d.key)
	address := accepting(t, func(conn net.Conn) {
		_, channels, requests, err := ssh.NewServerConn(conn, &d.config)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		for c := range channels {
			go d.channel(c)
		}
	})
	return login.Attempt{Access: site.SSH, Address: address, Person: "guest", Real: true,
		Password: site.NewSecret("right"), HostKey: d.key.PublicKey(), Patience: 20 * time.Second}
}

// accepting serves each connection by itself, closes it then, and returns the address.
func accepting(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				serve(conn)
			}()
		}
	}()
	return l.Addr().String()
}

// shellOf takes a session, grants what is asked for, and is what shell says once a shell or subsystem was granted.
func shellOf(shell func(in *bufio.Reader, out io.Writer)) func(ssh.NewChannel) {
	return func(c ssh.NewChannel) {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		for r := range requests {
			_ = r.Reply(true, nil)
			if r.Type == "shell" || r.Type == "subsystem" {
				go func() {
					shell(bufio.NewReader(channel), channel)
					_ = channel.Close()
				}()
			}
		}
	}
}

// prompting is a shell with a prompt.
func prompting(in *bufio.Reader, out io.Writer) {
	for {
		_, _ = io.WriteString(out, "sw> ")
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		if strings.HasPrefix(line, "look") {
			_, _ = io.WriteString(out, "\r\n% command rejected by the server\r\n")
		}
	}
}

func byPassword(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
	if string(password) != "right" {
		return nil, errors.New("wrong")
	}
	return nil, nil
}

// asking lets in whoever answers the questions one by one with the password.
func asking(questions ...string) func(ssh.ConnMetadata, ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	return func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
		for _, q := range questions {
			answers, err := ask("", "", []string{q}, []bool{false})
			if err != nil || len(answers) != 1 || answers[0] != "right" {
				return nil, errors.New("wrong")
			}
		}
		return nil, nil
	}
}

func TestWhatADeviceOverSSHDoesIsWhatItCameTo(t *testing.T) {
	t.Parallel()
	rejecting := func(c ssh.NewChannel) { _ = c.Reject(ssh.ResourceShortage, "none left") }
	denying := func(c ssh.NewChannel) {
		if _, requests, err := c.Accept(); err == nil {
			for r := range requests {
				_ = r.Reply(false, nil)
			}
		}
	}
	key := newKey(t)
	byKey := func(_ ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
		if string(k.Marshal()) != string(key.PublicKey().Marshal()) {
			return nil, errors.New("another key")
		}
		return nil, nil
	}
	password := ssh.ServerConfig{PasswordCallback: byPassword}
	for name, c := range map[string]struct {
		config  ssh.ServerConfig
		channel func(ssh.NewChannel)
		change  func(*login.Attempt)
		outcome walk.Outcome
		detail  string
	}{
		"a password": {password, shellOf(prompting), nil, walk.OutcomeIn, ""},
		"a wrong password": {password, shellOf(prompting), func(a *login.Attempt) { a.Password = site.NewSecret("x") },
			walk.OutcomeRefused, ""},
		"a password that is asked for": {ssh.ServerConfig{KeyboardInteractiveCallback: asking("Password:")},
			shellOf(prompting), nil, walk.OutcomeIn, ""},
		"a code besides": {ssh.ServerConfig{KeyboardInteractiveCallback: asking("Password: ", "Token code: ")},
			shellOf(prompting), nil, walk.OutcomeRefused, `the device asks "Token code:" besides`},
		"a password that is asked for twice": {ssh.ServerConfig{
			KeyboardInteractiveCallback: asking("Password: ", "Password: ")}, shellOf(prompting), nil,
			walk.OutcomeRefused, `the device asks "Password:" besides`},
		"a new password is demanded": {ssh.ServerConfig{KeyboardInteractiveCallback: asking("New password: ")},
			shellOf(prompting), nil, walk.OutcomeRefused, "demands a new password first"},
		"a key": {ssh.ServerConfig{PublicKeyCallback: byKey}, shellOf(prompting),
			func(a *login.Attempt) { a.Signers = []ssh.Signer{key} }, walk.OutcomeIn, ""},
		"another key": {ssh.ServerConfig{PublicKeyCallback: byKey, PasswordCallback: byPassword}, shellOf(prompting),
			func(a *login.Attempt) { a.Signers = []ssh.Signer{newKey(t)} }, walk.OutcomeRefused, ""},
		"a key where only passwords are taken": {password, shellOf(prompting),
			func(a *login.Attempt) { a.Signers = []ssh.Signer{key} }, walk.OutcomeNoAnswer, "no login was possible"},
		"no session": {password, rejecting, nil, walk.OutcomeUnsure, "the device gives no session"},
		"no shell":   {password, denying, nil, walk.OutcomeUnsure, "the device gives no shell"},
		"a session that closes": {password, shellOf(func(_ *bufio.Reader, out io.Writer) {
			_, _ = io.WriteString(out, strings.Repeat("a long notice ", 9)+"too many users\r\n")
		}), nil, walk.OutcomeUnsure, `closed the session before any prompt; it says "ice a long notice a long ` +
			`notice a long notice too many users"`},
		"no session for NETCONF": {password, rejecting, func(a *login.Attempt) { a.Access = site.NETCONF },
			walk.OutcomeUnsure, "the device gives no session"},
		"no NETCONF": {password, denying, func(a *login.Attempt) { a.Access = site.NETCONF }, walk.OutcomeUnsure,
			"the device has no NETCONF subsystem"},
		"no hello": {password, shellOf(func(_ *bufio.Reader, out io.Writer) {
			_, _ = io.WriteString(out, "<rpc/>]]>]]>")
		}), func(a *login.Attempt) { a.Access = site.NETCONF }, walk.OutcomeUnsure, "the device says no hello"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := &sshDevice{config: c.config, channel: c.channel}
			a := d.listen(t)
			if c.change != nil {
				c.change(&a)
			}
			seen, err := login.Do(t.Context(), a)
			require.NoError(t, err)
			require.Equal(t, c.outcome, seen.Outcome, seen.Detail)
			require.Contains(t, seen.Detail, c.detail)
			if c.detail == "" {
				require.Empty(t, seen.Detail)
			}
			require.Less(t, seen.Took, 20*time.Second)
			if c.outcome == walk.OutcomeIn {
				require.Positive(t, seen.Took)
				require.Equal(t, login.UnknownLevel, seen.Level)
			}
		})
	}
}

// A password that one way of asking has refused is not given again by the other one: it would count twice.
func TestARefusedPasswordIsGivenOnce(t *testing.T) {
	t.Parallel()
	var given atomic.Int32
	count := func(password string) error { given.Add(1); return errors.New("wrong: " + password) }
	d := &sshDevice{config: ssh.ServerConfig{
		PasswordCallback: func(_ ssh.ConnMetadata, p []byte) (*ssh.Permissions, error) { return nil, count(string(p)) },
		KeyboardInteractiveCallback: func(_ ssh.ConnMetadata,
			ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := ask("", "", []string{"Password: "}, []bool{false})
			if err != nil {
				return nil, err
			}
			return nil, count(answers[0])
		}}}
	seen, err := login.Do(t.Context(), d.listen(t))
	require.NoError(t, err)
	require.Equal(t, walk.OutcomeRefused, seen.Outcome)
	require.Equal(t, int32(1), given.Load())
}

func TestACommandThatARealDeviceRefusesInCommonWordsIsRefused(t *testing.T) {
	t.Parallel()
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(prompting)}
	a := d.listen(t)
	a.Commands = []string{"look users", "set"}
	seen, err := login.Do(t.Context(), a)
	require.NoError(t, err)
	require.Equal(t, []login.Command{{Command: "look users", Result: walk.OutcomeRefused,
		Output: "% command rejected by the server"}, {Command: "set", Result: walk.OutcomeAllowed}}, seen.Commands)
}

// A device may prove an RSA key by the newer algorithms alone (RFC 8332).
func TestAnRSAHostKeyIsProvedByNewerAlgorithms(t *testing.T) {
	t.Parallel()
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	whole, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	key, err := ssh.NewSignerWithAlgorithms(whole.(ssh.AlgorithmSigner), []string{ssh.KeyAlgoRSASHA256})
	require.NoError(t, err)
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(prompting), key: key}
	seen, err := login.Do(t.Context(), d.listen(t))
	require.NoError(t, err)
	require.Equal(t, walk.OutcomeIn, seen.Outcome, seen.Detail)
}

// Whoever hangs up before anything was asked came to no answer.
func TestADeviceThatHangsUpAtOnceCameToNoAnswer(t *testing.T) {
	t.Parallel()
	address := accepting(t, func(conn net.Conn) { _, _ = io.WriteString(conn, "no lines are free\r\n") })
	for access, says := range map[string]string{site.SSH: "hung up before it asked for a password",
		site.Console: "the console asked for no name", site.Telnet: "the device asked for no name"} {
		for _, real := range []bool{false, true} {
			seen, err := login.Do(t.Context(), login.Attempt{Access: access, Address: address, Real: real,
				HostKey: newKey(t).PublicKey(), Patience: 20 * time.Second})
			require.NoError(t, err)
			require.Equal(t, walk.OutcomeNoAnswer, seen.Outcome)
			if access != site.SSH {
				require.Contains(t, seen.Detail, says)
				require.Equal(t, real, strings.HasSuffix(seen.Detail, `; it says "no lines are free"`), seen.Detail)
			}
		}
	}
}

func TestHostKeysAreRememberedAndCompared(t *testing.T) {
	t.Parallel()
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(prompting)}
	address := d.listen(t).Address
	file := filepath.Join(t.TempDir(), "new", "known_hosts")
	dial := login.Through(nil, 20*time.Second)
	shown, known, err := login.KnownHost(t.Context(), address, file, dial)
	require.NoError(t, err)
	require.False(t, known)
	require.Equal(t, d.key.PublicKey().Marshal(), shown.Marshal())
	require.NoError(t, login.Remember(address, file, shown))
	folder, err := os.Stat(filepath.Dir(file))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), folder.Mode().Perm())
	kept, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), kept.Mode().Perm())
	_, known, err = login.KnownHost(t.Context(), address, file, dial)
	require.NoError(t, err)
	require.True(t, known)

	other := filepath.Join(t.TempDir(), "known_hosts")
	require.NoError(t, login.Remember(address, other, newKey(t).PublicKey()))
	_, known, err = login.KnownHost(t.Context(), address, other, dial)
	require.ErrorIs(t, err, login.ErrHostKey)
	require.False(t, known)

	require.NoError(t, os.WriteFile(other, []byte("@what is this\n"), 0o600))
	_, _, err = login.KnownHost(t.Context(), address, other, dial)
	require.ErrorContains(t, err, "cannot be read")
	away := func(context.Context, string) (net.Conn, error) { return nil, errors.New("no route") }
	_, _, err = login.KnownHost(t.Context(), address, file, away)
	require.ErrorContains(t, err, "cannot be reached: no route")
	mute := func(context.Context, string) (net.Conn, error) {
		here, there := net.Pipe()
		return here, there.Close()
	}
	_, _, err = login.KnownHost(t.Context(), address, file, mute)
	require.ErrorContains(t, err, "shows no SSH host key")
}

// A device with keys of several sorts shows the one that is known.
func TestADeviceWithSeveralKeysShowsTheOneThatIsKnown(t *testing.T) {
	t.Parallel()
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	second, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	d := &sshDevice{config: ssh.ServerConfig{PasswordCallback: byPassword}, channel: shellOf(prompting)}
	d.config.AddHostKey(second)
	address := d.listen(t).Address
	for _, key := range []ssh.Signer{second, d.key} {
		file := filepath.Join(t.TempDir(), "known_hosts")
		require.NoError(t, login.Remember(address, file, key.PublicKey()))
		shown, known, err := login.KnownHost(t.Context(), address, file, login.Through(nil, 20*time.Second))
		require.NoError(t, err)
		require.True(t, known)
		require.Equal(t, key.PublicKey().Marshal(), shown.Marshal())
	}
}
