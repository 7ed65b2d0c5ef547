package main

import (
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/wire/tacacs"
)

// A key is changed while somebody logs in all the time: none of the logins is lost.
func TestNoLoginIsLostWhileAKeyIsChanged(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	change("devices: [{name: sw,", "groups: [{name: g, servers: [t]}]\n"+
		"lists: [{name: l, authenticate: login, methods: [group g]}]\ndevices: [{name: sw, defaults: {login: l},")
	reread := func(times int) {
		require.Eventually(t, func() bool { return strings.Count(b.said(), "was read again and is in use") >= times },
			10*time.Second, 10*time.Millisecond, b.said())
	}
	reread(1)
	var key atomic.Value // of the device
	key.Store("a-key-of-this-test-only")
	at, from := here(t, "127.93.0.1:4949"), net.ParseIP(here(t, "127.93.0.9"))
	var logins atomic.Int64
	var mu sync.Mutex
	var lost []string
	done := make(chan struct{})
	var asking sync.WaitGroup
	asking.Go(func() {
		every := time.NewTicker(100 * time.Millisecond)
		defer every.Stop()
		for {
			select {
			case <-done:
				return
			case <-every.C:
			}
			if err := logsIn(at, from, key.Load().(string)); err != nil {
				mu.Lock()
				lost = append(lost, err.Error())
				mu.Unlock()
			}
			logins.Add(1)
		}
	})
	more := func() {
		before := logins.Load()
		require.Eventually(t, func() bool { return logins.Load() >= before+5 }, 20*time.Second, 10*time.Millisecond)
	}
	step := func(verb string, status int) result {
		r := c.run(t, "keys", "change", "k", verb, "site.yaml")
		require.Equal(t, status, r.status, r.out+r.err)
		return r
	}
	more()
	step("begin", 0)
	reread(2)
	more()
	require.Contains(t, step("status", 1).out, "the old key k")
	fresh, err := os.ReadFile(filepath.Join(c.dir, "k-2.key"))
	require.NoError(t, err)
	key.Store(strings.TrimSpace(string(fresh))) // what is typed on the device
	more()
	step("status", 0)
	step("finish", 0)
	reread(3)
	more()
	close(done)
	asking.Wait()
	require.Empty(t, lost)
	require.Error(t, logsIn(at, from, "a-key-of-this-test-only"), "the old key is no key any more")
}

// logsIn logs in once, on a connection of its own.
func logsIn(at string, from net.IP, key string) error {
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: from}, Timeout: 5 * time.Second}
	conn, err := dialer.Dial("tcp", at)
	if err != nil {
		return err
	}
	shared := tacacs.Share(conn, []byte(key))
	defer func() { _ = shared.Close() }()
	if !does(shared.Client(), "192.0.2.7", true) {
		return errors.New("it was not accepted")
	}
	return nil
}
