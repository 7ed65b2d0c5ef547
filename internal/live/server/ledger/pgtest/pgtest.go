// Package pgtest runs a real PostgreSQL server for tests, on loopback.
package pgtest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/childproc"
)

// Server is a database server with the user gate, who needs no password. It has a
// loopback address of its own: one that is stopped for a while must find its port
// free, and nobody else behind it.
type Server struct {
	Host string
	Port uint16
	t    *testing.T
	bin  string
	data string
	as   *syscall.SysProcAttr
	cmd  *exec.Cmd
}

// Start makes a database server in a temporary folder and runs it, or skips the
// test where PostgreSQL is not installed. The lines are put before those of its
// file of who may log in (pg_hba.conf), which lets the user gate in.
func Start(t *testing.T, lines ...string) *Server {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		if os.Getenv("MELLOWGATE_PEERS") == "require" {
			t.Fatal("PostgreSQL is required")
		}
		t.Skip("no PostgreSQL here")
	}
	dir, err := os.MkdirTemp("", "mellowgate-pg-") // not below t.TempDir, into which another user cannot go
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	s := &Server{t: t, bin: filepath.Dir(found[len(found)-1]), data: filepath.Join(dir, "data"), Host: host(), Port: 0}
	s.Port = free(t, s.Host)
	if os.Getuid() == 0 { // PostgreSQL does not run as root
		nobody, err := user.Lookup("nobody")
		require.NoError(t, err)
		uid, err := strconv.Atoi(nobody.Uid)
		require.NoError(t, err)
		gid, err := strconv.Atoi(nobody.Gid)
		require.NoError(t, err)
		require.NoError(t, os.Chown(dir, uid, gid))
		s.as = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	}
	initdb := exec.Command(filepath.Join(s.bin, "initdb"), "-D", s.data, "-U", "gate", "-A", "trust", "-E", "UTF8",
		"--no-sync", "--locale=C")
	initdb.Dir, initdb.SysProcAttr = dir, s.as
	out, err := initdb.CombinedOutput()
	require.NoError(t, err, string(out))
	text := ""
	for _, l := range append(lines, "host all gate 127.0.0.0/8 trust") {
		text += l + "\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.data, "pg_hba.conf"), []byte(text), 0o600))
	s.Run()
	t.Cleanup(s.Stop)
	return s
}

// URL is where the user gate finds an empty database.
func (s *Server) URL() string {
	return fmt.Sprintf("postgres://gate@%s:%d/postgres?sslmode=disable", s.Host, s.Port)
}

// Run runs the server, after Stop again, and waits until it answers.
func (s *Server) Run() {
	s.cmd = exec.Command(filepath.Join(s.bin, "postgres"), "-D", s.data, "-h", s.Host, "-p",
		strconv.Itoa(int(s.Port)), "-k", "", "-c", "fsync=off")
	s.cmd.Dir, s.cmd.SysProcAttr = filepath.Dir(s.data), s.as
	childproc.Child(s.cmd)
	require.NoError(s.t, s.cmd.Start())
	require.Eventually(s.t, func() bool {
		ready := exec.Command(filepath.Join(s.bin, "pg_isready"), "-q", "-h", s.Host, "-p", strconv.Itoa(int(s.Port)))
		return ready.Run() == nil
	}, 20*time.Second, 50*time.Millisecond, "PostgreSQL answers")
}

// Stop ends the server at once, as when its machine goes.
func (s *Server) Stop() {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(syscall.SIGQUIT)
	_ = s.cmd.Wait()
	s.cmd = nil
}

// servers counts those of this process.
var servers atomic.Uint32

// host returns a loopback address that no other server of the tests has.
func host() string {
	pid := os.Getpid()
	return fmt.Sprintf("127.%d.%d.%d", 40+pid/250%50, 1+pid%250, servers.Add(1))
}

func free(t *testing.T, host string) uint16 {
	l, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return uint16(l.Addr().(*net.TCPAddr).Port)
}
