package main

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// sending is a lab of the demo site, and sites that are to be sent to it.
func sending(t *testing.T, network string) (c call, lab *background, variant func(name string, pairs ...string), as []string) {
	c = demoSite(t)
	lab = c.start(t, "lab", "-state", "st", "-network", network, "demo/as-reviewed")
	text, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/site.yaml"))
	require.NoError(t, err)
	variant = func(name string, pairs ...string) {
		changed := strings.NewReplacer(pairs...).Replace(string(text))
		require.NotEqual(t, string(text), changed)
		require.NoError(t, os.MkdirAll(filepath.Join(c.dir, name, "keys"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name, "site.yaml"), []byte(changed), 0o600))
		keys, err := filepath.Glob(filepath.Join(c.dir, "demo/as-reviewed/keys/*"))
		require.NoError(t, err)
		for _, k := range keys {
			value, err := os.ReadFile(k)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, name, "keys", filepath.Base(k)), value, 0o600))
		}
	}
	as = []string{"-state", "st", "-person", "ines.marsh", "-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	return c, lab, variant, as
}

func (c call) holds(t *testing.T, as []string, device, site string) bool {
	r := c.run(t, append(append([]string{"compare"}, as...), device, site)...)
	return r.status == 0
}

func TestSendPutsADesignOnDevicesWithProofOrTakesItBack(t *testing.T) {
	c, lab, variant, as := sending(t, "127.84.0.0/16")
	variant("other", "servers: [tern, plover]", "servers: [plover, tern]")
	send := func(args ...string) result { return c.run(t, append(append([]string{"send"}, as...), args...)...) }

	r := send("-dry-run", "north-rtr-1", "other")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "group shore: servers in order is tern, plover, and should be plover, tern")
	require.Contains(t, r.out, "not carried: ")
	require.NoDirExists(t, filepath.Join(c.dir, "mellowgate-sent"))
	r = send("north-rtr-1", "other")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "nobody is here to be asked; agree with -yes")
	require.True(t, c.holds(t, as, "north-rtr-1", "demo/as-reviewed"))

	r = send("-yes", "north-rtr-1", "north-sw-1", "other")
	require.Zero(t, r.status, r.err)
	for _, proof := range []string{"proven: ines.marsh gets in by netconf, from a new connection", "proven: a wrong password is refused", "proven: ines.marsh by ssh: in at level 15", "(plover accepted it)", "the old session is still open", "confirmed: the change stays"} {
		require.Contains(t, r.err, proof)
	}
	require.True(t, c.holds(t, as, "north-sw-1", "other"))
	kept, err := filepath.Glob(filepath.Join(c.dir, "mellowgate-sent/*.xml"))
	require.NoError(t, err)
	require.Len(t, kept, 2)
	info, err := os.Stat(kept[0])
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.Contains(t, send("-yes", "north-rtr-1", "other").out, "it holds the design already")

	variant("broken", "address: 192.0.2.21", "address: 192.0.2.22", "address: 192.0.2.22", "address: 192.0.2.21")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "broken/keys/shore.key"), []byte("a-key-that-no-server-has-1"), 0o600))
	r = send("-yes", "-json", "north-rtr-1", "north-sw-1", "broken")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.err, "taken back: a new connection finds the device as it was")
	require.Contains(t, r.err, "find the cause with: mellowgate why -device north-rtr-1 -who ines.marsh")
	var got struct {
		Devices []struct {
			Time, Device, Person, Outcome, Why, Kept string
			Differences                              []string
			NotCarried                               []string `json:"not_carried"`
			Proofs                                   []struct {
				What, Saw string
				OK        bool
			}
		}
	}
	strictly(t, r.out, &got)
	require.Len(t, got.Devices, 1, "it stops at the first that fails")
	require.Equal(t, "taken-back", got.Devices[0].Outcome)
	require.NotContains(t, r.out+r.err, "a-key-that-no-server-has")
	require.True(t, c.holds(t, as, "north-rtr-1", "other"), "as it was")

	variant("locked", "methods: [group shore, local]", "methods: [group shore]")
	for args, says := range map[string]string{"-yes hq-fw-1 demo/as-reviewed": "no way in by netconf", "-yes north-rtr-1 locked": "check finds"} {
		r := send(strings.Fields(args)...)
		require.Equal(t, 2, r.status, "%s: %s", args, r.err)
		require.Contains(t, r.err, says)
	}
	r = c.run(t, "send", "-state", "st", "-person", "tobin.reed", "-password-file", "demo/as-reviewed/passwords/tobin.reed", "-yes", "north-rtr-1", "other")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "foresee says that tobin.reed will not get into north-rtr-1 by netconf after the change")
	require.Equal(t, 130, lab.end(t))
}

// The program is killed, or ended, while the change runs: the device is as it
// was, by itself.
func TestAChangeComesBackWhenTheProgramDies(t *testing.T) {
	c, lab, variant, as := sending(t, "127.83.0.0/16")
	variant("far", "address: 192.0.2.21", "address: 192.0.2.71", "address: 192.0.2.22", "address: 192.0.2.72") // where nobody is: the proof waits
	for _, signal := range []syscall.Signal{syscall.SIGKILL, syscall.SIGINT} {
		ctx, stop := context.WithTimeout(context.Background(), time.Minute)
		cmd := exec.CommandContext(ctx, program, append(append([]string{"send"}, as...), "-yes", "north-rtr-1", "far")...)
		said := new(strings.Builder)
		pipe, err := cmd.StderrPipe()
		require.NoError(t, err)
		cmd.Dir = c.dir
		require.NoError(t, cmd.Start())
		buffer := make([]byte, 4096)
		for !strings.Contains(said.String(), "the change runs now") {
			n, err := pipe.Read(buffer)
			require.NoError(t, err, said.String())
			said.Write(buffer[:n])
		}
		require.NoError(t, cmd.Process.Signal(signal))
		for {
			n, err := pipe.Read(buffer)
			said.Write(buffer[:n])
			if err != nil {
				break
			}
		}
		_ = cmd.Wait()
		stop()
		require.NotContains(t, said.String(), "confirmed")
		require.Eventually(t, func() bool { return c.holds(t, as, "north-rtr-1", "demo/as-reviewed") }, 20*time.Second, 100*time.Millisecond, "after %v: %s", signal, said)
	}
	require.Equal(t, 130, lab.end(t))
}
