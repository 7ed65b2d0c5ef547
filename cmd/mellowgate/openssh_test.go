package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/childproc"
)

// openssh is OpenSSH's own server on a free port, for whoever runs the tests.
type openssh struct {
	dir, address, port string
	person             string // who may log in
	key                string // the file with their key
	log                string // the file with what it says
}

// opensshFolder makes the keys and the settings of a server, and chooses its port. Lines of
// settings may have %[1]s for the port and %[2]s for the folder.
func opensshFolder(t *testing.T, hostKey, settings string) openssh {
	keygen := peer(t, "ssh-keygen")
	dir, err := os.MkdirTemp("/tmp", "sshd") // a socket's path is short
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	me, err := user.Current()
	require.NoError(t, err)
	if me.Uid == "0" {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	for file, kind := range map[string]string{"host": hostKey, "person": "ed25519"} {
		out, err := exec.Command(keygen, "-q", "-t", kind, "-N", "", "-f", filepath.Join(dir, file)).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { require.NoError(t, free.Close()) }()
	address := free.Addr().String()
	_, port, _ := net.SplitHostPort(address)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), fmt.Appendf(nil, `Port %[1]s
ListenAddress 127.0.0.1
HostKey %[2]s/host
PidFile none
AuthorizedKeysFile %[2]s/person.pub
KbdInteractiveAuthentication no
UsePAM no
StrictModes no
PermitRootLogin yes
`+settings, port, dir), 0o600))
	return openssh{dir: dir, address: address, port: port, person: me.Username, key: filepath.Join(dir, "person"),
		log: filepath.Join(dir, "said")}
}

// start starts the server, and others with it, which write into the same log; it returns
// when the server takes connections and ready says that the others are ready.
func (o openssh) start(t *testing.T, ready func() bool, others ...[]string) {
	said, err := os.Create(o.log)
	require.NoError(t, err)
	defer func() { _ = said.Close() }()
	for _, call := range append(others, []string{peer(t, "/usr/sbin/sshd"), "-D", "-e", "-f", o.dir + "/config"}) {
		cmd := childproc.Child(exec.Command(call[0], call[1:]...))
		cmd.Env, cmd.Dir = append(os.Environ(), "HOME="+o.dir), o.dir
		cmd.Stdout, cmd.Stderr = said, said
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	}
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", o.address)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil && ready()
	}, 20*time.Second, 20*time.Millisecond, "the server starts")
}
