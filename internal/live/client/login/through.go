package login

import (
	"context"
	"fmt"
	"net"
	"time"

	"golang.org/x/crypto/ssh"
)

// Hop is a host through which a device is reached over SSH.
type Hop struct {
	Address string // address:port
	Person  string
	HostKey ssh.PublicKey
	Auth    []ssh.AuthMethod
}

// Through returns how an address is reached through hosts, the nearest first: each is
// logged in to from the one before. Without hosts it is the usual way. What is dialled
// closes them all when it is closed.
func Through(hops []Hop, patience time.Duration) func(context.Context, string) (net.Conn, error) {
	return func(ctx context.Context, address string) (net.Conn, error) {
		dial := func(to string) (net.Conn, error) {
			return (&net.Dialer{Timeout: patience}).DialContext(ctx, "tcp", to)
		}
		var open []*ssh.Client
		end := func() {
			for _, c := range open {
				_ = c.Close()
			}
		}
		for _, h := range hops {
			conn, err := dial(h.Address)
			if err != nil {
				end()
				return nil, fmt.Errorf("the host %s on the way cannot be reached: %w", h.Address, err)
			}
			c, channels, requests, err := ssh.NewClientConn(
				conn,
				h.Address,
				&ssh.ClientConfig{User: h.Person, Auth: h.Auth,
					HostKeyCallback: ssh.FixedHostKey(
						h.HostKey,
					), HostKeyAlgorithms: algorithmsOf(h.HostKey), Timeout: patience},
			)
			if err != nil {
				_ = conn.Close()
				end()
				return nil, fmt.Errorf("the host %s on the way lets %s not in: %w", h.Address, h.Person, err)
			}
			client := ssh.NewClient(c, channels, requests)
			open = append(open, client)
			dial = func(to string) (net.Conn, error) { return client.DialContext(ctx, "tcp", to) }
		}
		conn, err := dial(address)
		if err != nil {
			end()
			return nil, err
		}
		if len(open) == 0 {
			return conn, nil
		}
		return through{Conn: conn, end: end}, nil
	}
}

// through is a connection that was opened through hosts.
type through struct {
	net.Conn
	end func()
}

// Close closes the connection, and those to the hosts.
func (t through) Close() error {
	err := t.Conn.Close()
	t.end()
	return err
}
