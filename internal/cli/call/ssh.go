package call

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"mellowgate/internal/live/client/login"
)

// SignersOf returns the keys of a file, or those of the agent.
func SignersOf(path string, ofAgent bool) ([]ssh.Signer, error) {
	if ofAgent {
		conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
		if err != nil {
			return nil, Usagef("-agent needs an SSH agent: SSH_AUTH_SOCK leads to none")
		}
		return agent.NewClient(conn).Signers()
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, UsageError(fmt.Errorf("the SSH key cannot be read: %w", err))
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return nil, Usagef("%s holds no private SSH key that can be used without a passphrase; use an agent for "+
			"one with",
			path)
	}
	return []ssh.Signer{signer}, nil
}

// HostKey returns the SSH key that a device is known by: that of a file of known
// hosts, or, where that may be, the one that it shows the first time.
func (c *Call) HostKey(address, file string, accept bool,
	dial func(context.Context, string) (net.Conn, error)) (ssh.PublicKey, error) {
	if file == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, TaskError(err)
		}
		file = filepath.Join(home, ".ssh", "known_hosts")
	}
	shown, known, err := login.KnownHost(c.Context, address, file, dial)
	switch {
	case errors.Is(err, login.ErrHostKey):
		return nil, TaskError(fmt.Errorf("%s: %w, in %s; if the device was renewed on purpose, take the old line out",
			address,
			err, file))
	case err != nil:
		return nil, TaskError(err)
	case !known && !accept:
		return nil, Usagef("the host key of %s is not known: %s\nif that is the key of the device, give "+
			"-accept-host-key once",
			address, ssh.FingerprintSHA256(shown))
	case !known:
		if err := login.Remember(address, file, shown); err != nil {
			return nil, TaskError(err)
		}
		c.Note("the host key of %s was not known and is now in %s: %s", address, file, ssh.FingerprintSHA256(shown))
	}
	return shown, nil
}
