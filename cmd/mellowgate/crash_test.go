package main

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/testscale"
	"mellowgate/internal/wire/tacacs"
)

// crashes is how often the service is killed.
var crashes = testscale.Of(10, 100)

func TestEverythingAnsweredIsInTheLedgerAfterTheServiceWasKilled(t *testing.T) {
	t.Parallel()
	c, b, _ := served(t)
	at, from := here(t, "127.93.0.1:4949"), net.ParseIP(here(t, "127.93.0.9"))
	answered := map[string]bool{}
	for round := range crashes {
		if round > 0 {
			b = c.start(t, "serve")
		}
		var mu sync.Mutex
		enough := make(chan struct{})
		var once sync.Once
		var askers sync.WaitGroup
		for i := range 8 {
			askers.Go(func() {
				dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: from}}
				conn, err := dialer.Dial("tcp", at)
				if err != nil {
					return
				}
				shared := tacacs.Share(conn, []byte("a-key-of-this-test-only"))
				defer func() { _ = shared.Close() }()
				for n := 0; ; n++ {
					what := fmt.Sprintf("set port %d.%d.%d", round, i, n)
					if !does(shared.Client(), what, i%2 == 0) {
						return
					}
					mu.Lock()
					answered[what] = true
					if len(answered) >= 20*(round+1) {
						once.Do(func() { close(enough) })
					}
					mu.Unlock()
				}
			})
		}
		select {
		case <-enough:
		case <-time.After(time.Minute):
			t.Error("the service does not answer")
		}
		require.NoError(t, b.Process.Kill()) // in the middle of it, as a power cut would
		_ = b.Wait()
		askers.Wait()
	}
	kept := map[string]bool{}
	path := filepath.Join(c.dir, "mellowgate-state", "records")
	require.NoError(t, ledger.Folder(path).Read(context.Background(), ledger.Filter{}, func(r ledger.Record) error {
		kept[r.Command], kept[r.From] = true, true
		return nil
	}))
	for what := range answered {
		require.True(t, kept[what], "%s was answered and is not in the ledger", what)
	}
	proof, err := ledger.Verify(context.Background(), ledger.Folder(path))
	require.NoError(t, err)
	require.Empty(t, proof.Breaks)
	require.GreaterOrEqual(t, int(proof.Records), len(answered))
}

// does reports a command, or logs in from somewhere, and reports whether that was answered
// with yes.
func does(c *tacacs.Client, what string, login bool) bool {
	if login {
		reply, err := c.Authenticate(tacacs.AuthenStart{Action: tacacs.ActionLogin, Service: tacacs.ServiceLogin,
			User: "ines", Port: "ssh0", RemoteAddress: what}, tacacs.PAP, "right")
		return err == nil && reply.Status == tacacs.AuthenPass
	}
	reply, err := c.Account(tacacs.AcctRequest{Flags: tacacs.AcctStop, AuthorRequest: tacacs.AuthorRequest{
		User: "ines", Port: "ssh0", Args: []string{"task_id=1", "service=shell", "cmd=" + what}}})
	return err == nil && reply.Status == tacacs.AcctSuccess
}
