package login

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"mellowgate/internal/routine"
)

// KnownHost asks a device for its SSH host key, and reports whether a file of
// known hosts has it. The error is ErrHostKey when it has another. dial is how the device
// is reached.
func KnownHost(ctx context.Context, address, file string,
	dial func(context.Context, string) (net.Conn, error)) (shown ssh.PublicKey, known bool, err error) {
	check, err := knownhosts.New(file)
	if errors.Is(err, fs.ErrNotExist) {
		check, err = func(string, net.Addr, ssh.PublicKey) error { return &knownhosts.KeyError{} }, nil
	}
	if err != nil {
		return nil, false, fmt.Errorf("%s cannot be read: %w", file, err)
	}
	conn, err := dial(ctx, address)
	if err != nil {
		return nil, false, fmt.Errorf("%s cannot be reached: %w", address, err)
	}
	defer func() { _ = conn.Close() }()
	stop := routine.AfterFunc(30*time.Second, func() { _ = conn.Close() })
	defer stop.Stop()
	var verdict error
	_, _, _, err = ssh.NewClientConn(conn, address,
		&ssh.ClientConfig{HostKeyAlgorithms: knownAlgorithms(check, address),
			HostKeyCallback: func(host string, remote net.Addr, key ssh.PublicKey) error {
				shown, verdict = key, check(host, remote, key)
				return errors.New("the key was all that was wanted")
			}})
	if shown == nil {
		return nil, false, fmt.Errorf("%s shows no SSH host key: %w", address, err)
	}
	var differs *knownhosts.KeyError
	switch {
	case verdict == nil:
		return shown, true, nil
	case errors.As(verdict, &differs) && len(differs.Want) > 0:
		return shown, false, ErrHostKey
	}
	return shown, false, nil
}

// Remember adds a host key to a file of known hosts.
func Remember(address, file string, key ssh.PublicKey) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(knownhosts.Line([]string{knownhosts.Normalize(address)}, key) + "\n")
	return errors.Join(err, f.Close())
}

// knownAlgorithms returns the algorithms of the keys that a file of known hosts has for an
// address, so that a device with several keys shows one of these; nil where it has none.
func knownAlgorithms(check ssh.HostKeyCallback, address string) (algorithms []string) {
	var differs *knownhosts.KeyError
	if errors.As(check(address, &net.TCPAddr{IP: net.IPv4zero}, noKey{}), &differs) {
		for _, k := range differs.Want {
			algorithms = append(algorithms, algorithmsOf(k.Key)...)
		}
	}
	return algorithms
}

// noKey is a key that nobody has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }
