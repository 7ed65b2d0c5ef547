package main

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/ledger/pgtest"
	"mellowgate/internal/live/vault"
)

// served starts serve for a small site with one TACACS+ server on loopback.
func served(t *testing.T) (c call, b *background, change func(from, to string)) {
	c = call{dir: t.TempDir()}
	hash, err := vault.Hash("right", 64, 1)
	require.NoError(t, err)
	text := `site: Served
keys: {k: file k.key}
servers: [{name: t, protocol: tacacs, address: 127.93.0.1, port: 4949, key: k, run: true}]
devices: [{name: sw, addresses: [127.93.0.9]}]
people: [{name: ines, teams: [net], password: '` + hash + `'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`
	path := filepath.Join(c.dir, "site.yaml")
	change = func(from, to string) {
		require.Contains(t, text, from)
		text = strings.Replace(text, from, to, 1)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	change("", "")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "k.key"), []byte("a-key-of-this-test-only\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "right"), []byte("right\n"), 0o600))
	return c, c.start(t, "serve"), change
}

func (c call) asks(t *testing.T) int {
	return c.run(t, "ask", "-server", "t", "-as", "sw", "-person", "ines", "-password-file", "right").status
}

func TestServeReadsItsSiteAgainAndKeepsTheOldOneWhenTheNewIsBroken(t *testing.T) {
	c, b, change := served(t)
	require.Zero(t, c.asks(t))
	change("teams: [net]", "teams: [net], disabled: true")
	require.Eventually(t, func() bool { return c.asks(t) == 1 }, 10*time.Second, 50*time.Millisecond, "a change of the file is taken by itself")
	change("disabled: true", "disabled: ture")
	require.NoError(t, b.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "the old one stays in use") }, 10*time.Second, 20*time.Millisecond)
	require.Contains(t, b.said(), `did you mean "true"?`)
	change("disabled: ture", "disabled: false")
	require.Eventually(t, func() bool { return c.asks(t) == 0 }, 10*time.Second, 50*time.Millisecond)
	change("port: 4949", "port: 4950")
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "the server t is to listen elsewhere") }, 10*time.Second, 20*time.Millisecond)

	require.NoError(t, b.Process.Signal(syscall.SIGTERM))
	_ = b.Wait()
	require.Zero(t, b.ProcessState.ExitCode(), "a service manager ended it: %s", b.said())
}

func TestServeExplainsEachDecision(t *testing.T) {
	c, b, _ := served(t)
	b.end(t)
	b = c.start(t, "serve", "-explain")
	require.Zero(t, c.asks(t))
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "role    all, level 15 decides (site.yaml:6:") }, 5*time.Second, 10*time.Millisecond, b.said())
	require.Contains(t, b.said(), "t accept: login by sw for ines: ines has the role all here, level 15")
	require.Contains(t, b.said(), "grant   team net: all holds (site.yaml:7:")
}

func TestServeKeepsItsRecordsInADatabase(t *testing.T) {
	server := pgtest.Start(t, "host all all 127.0.0.1/32 trust")
	c, b, change := served(t)
	b.end(t)
	change("keys: {k: file k.key}", "keys: {k: file k.key, db: file db.key}")
	change("site: Served", "site: Served\nservice: {ledger: 'postgres "+server.URL()+"', ledger-key: db, spool: 5000}")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "db.key"), []byte("made-up\n"), 0o600))
	b = c.start(t, "serve")
	require.Zero(t, c.asks(t))
	listed := func(args ...string) string { return c.run(t, append([]string{"ledger"}, args...)...).out }
	require.Eventually(t, func() bool { return strings.Contains(listed(), "ines") }, 10*time.Second, 50*time.Millisecond)
	require.Equal(t, listed(), listed("-site", "site.yaml"))
	server.Stop()
	require.Zero(t, c.asks(t), "the database is no part of a login")
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "records wait on this disk, up to 5000 of them") }, 10*time.Second, 20*time.Millisecond)
	require.NotContains(t, b.said(), "made-up")
	r := c.run(t, "ledger")
	require.Equal(t, []any{3, true}, []any{r.status, strings.Contains(r.err, "the ledger's database: ")}, r.err)
	server.Run()
	require.Eventually(t, func() bool { return strings.Count(listed(), "ines") == 2 }, 10*time.Second, 50*time.Millisecond)
	verified := c.run(t, "ledger", "verify")
	require.Zero(t, verified.status)
	require.Contains(t, verified.out, "every record is as it was written: 2 records")
}

func TestServeThatIsInterruptedSaysSoByItsStatus(t *testing.T) {
	_, b, _ := served(t)
	require.Equal(t, 130, b.end(t))
}

func TestServeGivesAMonitorItsCounters(t *testing.T) {
	c, b, change := served(t)
	require.Zero(t, b.end(t)-130)
	change("site: Served", "site: Served\nservice: {metrics: \"127.93.0.1:9470\"}")
	b = c.start(t, "serve")
	require.Contains(t, b.said(), "metrics and health on http://127.93.0.1:9470/metrics")
	require.Zero(t, c.asks(t))
	get := func(path string) string {
		response, err := http.Get("http://127.93.0.1:9470" + path)
		require.NoError(t, err)
		defer func() { _ = response.Body.Close() }()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return string(text)
	}
	require.Equal(t, "running\n", get("/health"))
	text := get("/metrics")
	require.Contains(t, text, `mellowgate_answers_total{answer="accept",protocol="tacacs",question="login",reason="accepted",server="t"} 1`)
	require.NotContains(t, text, `"ines"`, "nobody's name is a label")
}
