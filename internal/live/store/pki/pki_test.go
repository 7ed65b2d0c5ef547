package pki

import (
	"crypto/tls"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

var at = netip.MustParseAddr("127.0.0.1")

func authority(t *testing.T) *Authority {
	a, err := NewAuthority("a test", time.Now())
	require.NoError(t, err)
	return a
}

func identity(t *testing.T, a *Authority, name string) Identity {
	i, err := a.Issue(name, at, time.Now())
	require.NoError(t, err)
	return i
}

// shake makes a TLS connection and gives the errors of both sides.
func shake(t *testing.T, server, client *tls.Config) (error, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() {
		conn, err := listener.Accept()
		if err != nil {
			done <- err
			return
		}
		s := tls.Server(conn, server)
		if err = s.Handshake(); err == nil {
			_, err = s.Write([]byte("x"))
		}
		done <- err
		_ = conn.Close()
	}()
	c, err := tls.Dial("tcp", listener.Addr().String(), client)
	if err == nil {
		_, err = c.Read(make([]byte, 1)) // TLS 1.3 says here that the client's certificate is refused
		_ = c.Close()
	}
	served := <-done
	_ = listener.Close()
	return served, err
}

func TestBothSidesNeedACertificateOfTheirAuthority(t *testing.T) {
	t.Parallel()
	ours, theirs := authority(t), authority(t)
	server := identity(t, ours, "tern")
	for _, p := range []site.Protocol{site.RADIUS, site.TACACS} {
		a, b := shake(t, server.Server(p), identity(t, ours, "sw-1").Client(p, "127.0.0.1"))
		require.NoError(t, a)
		require.NoError(t, b)
		stranger := identity(t, theirs, "sw-1")
		stranger.Trusted = server.Trusted
		a, b = shake(t, server.Server(p), stranger.Client(p, "127.0.0.1"))
		require.Error(t, a)
		require.Error(t, b)
		_, b = shake(t, identity(t, theirs, "tern").Server(p), identity(t, ours, "sw-1").Client(p, "127.0.0.1"))
		require.Error(t, b, "a server of another authority")
		_, b = shake(t, server.Server(p), identity(t, ours, "sw-1").Client(p, "127.0.0.2"))
		require.Error(t, b, "a server at another address")
	}
	old := identity(t, ours, "sw-1").Client(site.TACACS, "127.0.0.1")
	old.MinVersion, old.MaxVersion = tls.VersionTLS12, tls.VersionTLS12
	a, _ := shake(t, server.Server(site.TACACS), old)
	require.Error(t, a, "RFC 9887 wants TLS 1.3")
}

func TestFilesAreWrittenAndRead(t *testing.T) {
	t.Parallel()
	a := authority(t)
	dir := filepath.Join(t.TempDir(), "certificates")
	require.NoError(t, a.Write(dir, "sw-1", identity(t, a, "sw-1")))
	read, err := Written(dir, "sw-1")
	require.NoError(t, err)
	s, c := shake(t, identity(t, a, "tern").Server(site.RADIUS), read.Client(site.RADIUS, "127.0.0.1"))
	require.NoError(t, s)
	require.NoError(t, c)
	_, err = Written(dir, "sw-2")
	require.ErrorContains(t, err, "cannot be used")
	require.NoError(t, os.WriteFile(filepath.Join(dir, AuthorityFile), []byte("no PEM"), 0o600))
	_, err = Written(dir, "sw-1")
	require.ErrorContains(t, err, "holds no certificate in PEM form")
	_, err = Of(&site.Server{Ref: site.Ref{Name: "tern"}, Transport: site.TLS}, dir)
	require.ErrorContains(t, err, "has no certificates: write tls:")
	_, err = Of(&site.Server{Ref: site.Ref{Name: "tern"}, Transport: site.TLS,
		Certificates: site.Certificates{Certificate: "sw-1.pem", Key: "sw-1.key", Authorities: "sw-1.pem"}}, dir)
	require.NoError(t, err)
}
