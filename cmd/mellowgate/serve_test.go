package main

import (
	"bufio"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/server/ledger/pgtest"
	"mellowgate/internal/live/store/secrets"
)

// served starts serve for a small site with one TACACS+ server on loopback.
func served(t *testing.T) (c call, b *background, change func(from, to string)) {
	c = call{dir: t.TempDir()}
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	text := `site: Served
keys: {k: file k.key}
servers: [{name: t, protocol: tacacs, address: 127.93.0.1, port: 4949, key: k, run: true}]
devices: [{name: sw, addresses: [127.93.0.9]}]
people: [{name: ines, teams: [net], password: '` + hash + `'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`
	text = here(t, text)
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
	t.Parallel()
	c, b, change := served(t)
	require.Zero(t, c.asks(t))
	change("teams: [net]", "teams: [net], disabled: true")
	require.Eventually(t, func() bool { return c.asks(t) == 1 }, 30*time.Second, 50*time.Millisecond,
		"a change of the file is taken by itself")
	change("disabled: true", "disabled: ture")
	require.NoError(t, b.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "the old one stays in use") }, 30*time.Second,
		20*time.Millisecond)
	require.Contains(t, b.said(), `disabled is "ture"; true or false is wanted`)
	change("disabled: ture", "disabled: false")
	require.Eventually(t, func() bool { return c.asks(t) == 0 }, 30*time.Second, 50*time.Millisecond)
	change("port: 4949", "port: 4950")
	require.Eventually(t, func() bool { return strings.Contains(b.said(), here(t, "t: TACACS+ on 127.93.0.1:4950")) },
		10*time.Second, 20*time.Millisecond)
	require.Contains(t, b.said(), here(t, "t: ended on 127.93.0.1:4949"))
	require.Zero(t, c.asks(t), "it has moved, and ask finds it by the state folder")
	change("run: true}]", here(t, "run: true}, {name: r, protocol: radius, address: 127.93.0.1, key: k, run: true}]"))
	require.Eventually(t, func() bool {
		return strings.Contains(b.said(), here(t, "r: RADIUS on 127.93.0.1:1812, accounting on 127.93.0.1:1813"))
	}, 30*time.Second, 20*time.Millisecond)
	require.Zero(t, c.run(t, "ask", "-server", "r", "-as", "sw", "-person", "ines", "-password-file", "right").status)
	change("key: k, run: true}]", "key: k}]")
	require.Eventually(t, func() bool { return strings.Contains(b.said(), here(t, "r: ended on 127.93.0.1:1812")) },
		10*time.Second,
		20*time.Millisecond)
	change("port: 4950", "port: 4951")
	change(here(t, "address: 127.93.0.1,"), "address: 192.0.2.77,")
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "this host does not have that address") },
		10*time.Second, 20*time.Millisecond)
	require.Zero(t, c.asks(t), "it stays where it was")

	require.NoError(t, b.Process.Signal(syscall.SIGTERM))
	_ = b.Wait()
	require.Zero(t, b.ProcessState.ExitCode(), "a service manager ended it: %s", b.said())
}

func TestServeExplainsEachDecision(t *testing.T) {
	t.Parallel()
	c, b, _ := served(t)
	b.end(t)
	b = c.start(t, "serve", "-explain")
	require.Zero(t, c.asks(t))
	require.Eventually(t, func() bool {
		return strings.Contains(
			b.said(), "role    all, level 15 decides (site.yaml:6:")
	},
		5*time.Second, 10*time.Millisecond, b.said())
	require.Contains(t, b.said(), "t accepted: login by sw for ines: ines has the role all here, level 15")
	require.Contains(t, b.said(), "grant   team net: all holds (site.yaml:7:")
}

func TestServeKeepsItsRecordsInADatabase(t *testing.T) {
	t.Parallel()
	server := pgtest.Start(t, "host all all 127.0.0.0/8 trust")
	c, b, change := served(t)
	b.end(t)
	change("keys: {k: file k.key}", "keys: {k: file k.key, db: file db.key}")
	change("site: Served", "site: Served\nservice: {ledger: 'postgres "+server.URL()+"', ledger-key: db, spool: 5000}")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "db.key"), []byte("made-up\n"), 0o600))
	b = c.start(t, "serve")
	require.Contains(t, b.said(),
		"mellowgate-state/records holds the records from before the database; they stay there")
	require.Zero(t, c.asks(t))
	listed := func(args ...string) string { return c.run(t, append([]string{"ledger"}, args...)...).out }
	require.Eventually(t, func() bool { return strings.Contains(listed(), "ines") }, 30*time.Second,
		50*time.Millisecond)
	require.Equal(t, listed(), listed("-site", "site.yaml"))
	server.Stop()
	require.Zero(t, c.asks(t), "the database is no part of a login")
	require.Eventually(t, func() bool {
		return strings.Contains(b.said(),
			"records wait on this disk, up to 5000 of them")
	}, 30*time.Second, 20*time.Millisecond)
	require.NotContains(t, b.said(), "made-up")
	r := c.run(t, "ledger")
	require.Equal(t, []any{3, true}, []any{r.status, strings.Contains(r.err, "the ledger's database: ")}, r.err)
	server.Run()
	require.Eventually(t, func() bool { return strings.Count(listed(), "ines") == 2 }, 30*time.Second,
		50*time.Millisecond)
	verified := c.run(t, "ledger", "verify")
	require.Zero(t, verified.status)
	require.Contains(t, verified.out, "every record is as it was written: 2 records")
}

// receiver is a socket that takes datagrams, and what came.
func receiver(t *testing.T, network, address string) (at string, heard func() string) {
	conn, err := net.ListenPacket(network, address)
	require.NoError(t, err)
	var mu sync.Mutex
	var text strings.Builder
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for b := make([]byte, 4096); ; {
			n, _, err := conn.ReadFrom(b)
			if err != nil {
				return
			}
			mu.Lock()
			_, _ = text.Write(append(b[:n:n], '\n'))
			mu.Unlock()
		}
	}()
	t.Cleanup(func() { _ = conn.Close(); <-ended })
	return conn.LocalAddr().String(), func() string { mu.Lock(); defer mu.Unlock(); return text.String() }
}

func TestServeTellsLogsSyslogAndTheServiceManager(t *testing.T) {
	c, b, change := served(t)
	b.end(t)
	syslog, received := receiver(t, "udp", "127.0.0.1:0")
	socket, told := receiver(t, "unixgram", filepath.Join(t.TempDir(), "notify"))
	t.Setenv("NOTIFY_SOCKET", socket)
	t.Setenv("WATCHDOG_USEC", "100000")
	change("site: Served", "site: Served\nservice: {syslog: 'udp "+syslog+"', traffic: 64KiB}")
	b = c.start(t, "serve", "-log", "json")
	require.Eventually(t, func() bool {
		return strings.Contains(told(), "READY=1\nSTATUS=1 server of Served\n") &&
			strings.Contains(told(), "WATCHDOG=1")
	}, 30*time.Second, 10*time.Millisecond)
	require.Zero(t, c.asks(t))
	require.Equal(t, 1, c.run(t, "ask", "-server", "t", "-as", "sw", "-person", "odd\nname", "-password-file",
		"right").status)
	require.Eventually(t, func() bool { return strings.Contains(received(), "reason=unknown-person") }, 30*time.Second,
		10*time.Millisecond)
	require.Regexp(t, here(t,
		`<86>1 2\S+Z \S+ mellowgate \d+ accepted \[event@32473 server="t" protocol="tacacs"[^]]* `+
			`answer="accepted"[^]]*\] \x{FEFF}server=t protocol=tacacs client=127.93.0.9 `+
			`client_port=\d+ device=sw access=ssh person=ines question=login answer=accepted`), received())
	require.Regexp(t, `<85>1 .* refused \[event@32473 .*\] .*person="\\"odd\\\\nname\\"" question=login`, received(),
		"a name cannot begin a line of its own")
	var line struct{ Level, Msg, Server, Person, Answer, Reason string }
	lines := strings.Split(strings.TrimSpace(b.said()), "\n")
	require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &line))
	require.Equal(t, []string{"WARN", "event", "t", "refused", "unknown-person"},
		[]string{line.Level, line.Msg, line.Server, line.Answer, line.Reason})

	for range 60 {
		require.Zero(t, c.asks(t))
	}
	older := filepath.Join(c.dir, "mellowgate-state", "older", "traffic.pcapng")
	require.Eventually(t, func() bool { _, err := os.Stat(older); return err == nil }, 30*time.Second,
		10*time.Millisecond,
		"the capture is bounded")
	require.Contains(t, c.run(t, "listen", "-json").out, `"answer":"accepted"`)
	require.NoError(t, b.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool {
		return regexp.MustCompile(`RELOADING=1\nMONOTONIC_USEC=\d+\n(?s:.*)READY=1\n`).MatchString(told())
	}, 30*time.Second, 10*time.Millisecond, told())
	require.NoError(t, b.Process.Signal(syscall.SIGTERM))
	_ = b.Wait()
	require.Contains(t, told(), "STOPPING=1")
	require.Regexp(t, `<86>1 \S+ \S+ mellowgate \d+ head \[head@32473 chain="\w+" newest="\d+" last="\w{64}" `+
		`signed="\S+" key="\S+" signature="\S+"\] \x{FEFF}chain=`, received(), "the end of the ledger, when serve ends")
}

// Syslog over TLS goes to a receiver whose certificate the named authority signed, and to
// no other.
func TestServeTellsASyslogReceiverOverTLS(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	b.end(t)
	server := httptest.NewUnstartedServer(nil) // for its certificate, which is of 127.0.0.1
	server.StartTLS()
	certificate := server.TLS.Certificates[0]
	server.Close()
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{certificate}})
	require.NoError(t, err)
	defer func() { _ = listener.Close() }()
	came := make(chan string, 100)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				in := bufio.NewReader(conn)
				for {
					size, err := in.ReadString(' ') // RFC 5425, section 4.3
					if err != nil {
						return
					}
					n, _ := strconv.Atoi(strings.TrimSpace(size))
					text := make([]byte, n)
					if _, err := io.ReadFull(in, text); err != nil {
						return
					}
					came <- string(text)
				}
			}()
		}
	}()
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "log.pem"),
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Certificate[0]}), 0o600))
	change("site: Served", "site: Served\nservice: {syslog: 'tls "+listener.Addr().String()+" log.pem'}")
	b = c.start(t, "serve")
	require.Zero(t, c.asks(t))
	for {
		select {
		case text := <-came:
			if strings.Contains(text, "answer=accepted") {
				b.end(t)
				change(" log.pem'", "'")
				b = c.start(t, "serve")
				require.Zero(t, c.asks(t))
				require.Eventually(t, func() bool {
					return strings.Contains(
						b.said(), "certificate signed by unknown authority")
				},
					10*time.Second, 10*time.Millisecond, "this host does not know it")
				return
			}
		case <-time.After(10 * time.Second):
			t.Fatal("no message came: " + b.said())
		}
	}
}

func TestServeTellsTheSyslogOfItsHostInItsOwnForm(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	b.end(t)
	folder, err := os.MkdirTemp("", "log")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	socket, received := receiver(t, "unixgram", filepath.Join(folder, "log"))
	change("site: Served", "site: Served\nservice: {syslog: 'unix "+socket+"'}")
	c.start(t, "serve")
	require.Zero(t, c.asks(t))
	require.Eventually(t, func() bool { return strings.Contains(received(), "answer=accepted") }, 30*time.Second,
		10*time.Millisecond)
	require.Regexp(t, `(?m)^<86>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d mellowgate\[\d+\]: server=t protocol=tacacs `,
		received(),
		"RFC 3164 without the host, which is what reads the socket of a host")
}

func TestServeSaysOnceThatASyslogReceiverIsAway(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	b.end(t)
	gone, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, gone.Close())
	change("site: Served", "site: Served\nservice: {syslog: 'udp "+gone.LocalAddr().String()+"'}")
	b = c.start(t, "serve")
	logins := 0 // what nobody takes is told with the next message, and the one after it goes out a second later
	require.Eventually(t, func() bool { logins++; return c.asks(t) == 0 && logins > 8 }, 20*time.Second,
		400*time.Millisecond)
	require.Equal(t, 1, strings.Count(b.said(), "cannot be reached"), b.said())
	require.NotContains(t, b.said(), "takes messages again", "a datagram that nobody took proves nothing")
}

func TestServePrintsAUnit(t *testing.T) {
	t.Parallel()
	c, b, _ := served(t)
	b.end(t)
	r := c.run(t, "serve", "-unit")
	require.Zero(t, r.status)
	require.Contains(t, r.out,
		"ExecStart="+program+" serve -log text -state /var/lib/mellowgate "+filepath.Join(c.dir, "site.yaml")+"\n")
	require.NotContains(t, r.out, "{{")
	require.Equal(t, 2, c.run(t, "serve", "-unit", "none.yaml").status)
	odd := filepath.Join(c.dir, "our 100% site", "site.yaml")
	require.NoError(t, os.MkdirAll(filepath.Dir(odd), 0o750))
	require.NoError(t, os.WriteFile(odd, []byte("site: Odd\n"), 0o600))
	r2 := c.run(t, "serve", "-unit", odd)
	require.Contains(t, r2.out, `mellowgate "`+strings.ReplaceAll(odd, "%", "%%")+`"`)
	require.Equal(t, 2, c.run(t, "serve", "-log", "jsn").status)
	if analyze, err := exec.LookPath("systemd-analyze"); err == nil {
		unit := filepath.Join(c.dir, "mellowgate.service")
		for _, text := range []string{r.out, r2.out} {
			require.NoError(t, os.WriteFile(unit, []byte(text), 0o600))
			out, err := exec.Command(analyze, "verify", unit).CombinedOutput()
			require.NoError(t, err, string(out))
			require.Empty(t, string(out))
		}
	}
}

func TestServeThatIsInterruptedSaysSoByItsStatus(t *testing.T) {
	t.Parallel()
	_, b, _ := served(t)
	require.Equal(t, 130, b.end(t))
}

// fetched is what is at a URL.
func fetched(t *testing.T, url string) string {
	response, err := http.Get(url)
	require.NoError(t, err)
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return string(text)
}

func TestServeGivesAMonitorItsCounters(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	require.Zero(t, b.end(t)-130)
	change("site: Served", here(t, "site: Served\nservice: {metrics: \"127.93.0.1:9470\"}"))
	b = c.start(t, "serve")
	require.Contains(t, b.said(), here(t, "metrics and health on http://127.93.0.1:9470/metrics"))
	require.Zero(t, c.asks(t))
	get := func(path string) string { return fetched(t, here(t, "http://127.93.0.1:9470")+path) }
	require.Equal(t, "running\n", get("/health"))
	text := get("/metrics")
	require.Contains(t, text,
		`mellowgate_answers_total{answer="accepted",protocol="tacacs",question="login",reason="accepted",server="t"} 1`)
	require.NotContains(t, text, `"ines"`, "nobody's name is a label")
	require.Contains(t, text, `mellowgate_trouble{what="site"} 0`)
	for _, line := range []string{`mellowgate_answer_seconds_count{question="login",server="t"} 1`,
		`mellowgate_answers_total{answer="refused",protocol="tacacs",question="login",reason="wrong-password",server="t"} 0`,
		`mellowgate_site_reads_total{result="refused"} 0`, "mellowgate_connections ", "mellowgate_passwords_checking 0",
		`mellowgate_build_info{version="0.2.0"} 1`, `mellowgate_key_timestamp_seconds{key="k"} 1`,
		"mellowgate_disk_free_bytes ", "mellowgate_index_behind_records ",
		"mellowgate_site_taken_timestamp_seconds 1"} {
		require.Contains(t, text, line)
	}

	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), []byte("site: [\n"), 0o600))
	require.Eventually(t,
		func() bool { return strings.Contains(get("/health"), "\nsite: it was not taken, and the old one") },
		10*time.Second, 20*time.Millisecond)
	require.NotContains(t, get("/health"), "site.yaml", "no line of the site is shown to who may read the health")
	response, err := http.Get(here(t, "http://127.93.0.1:9470/health"))
	require.NoError(t, err)
	require.NoError(t, response.Body.Close())
	require.Equal(t, http.StatusServiceUnavailable, response.StatusCode)
	require.Contains(t, get("/metrics"), `mellowgate_trouble{what="site"} 1`)
	require.Contains(t, get("/metrics"), `mellowgate_site_reads_total{result="refused"} 1`)
	change("site: Served", "site: Served")
	require.Eventually(t, func() bool { return get("/health") == "running\n" }, 30*time.Second, 20*time.Millisecond)
}

// One host name without an address stops no other server.
func TestServeGoesOnWithoutAServerWhoseNameHasNoAddress(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	b.end(t)
	change("run: true}]", "run: true}, {name: u, protocol: tacacs, address: u.invalid, port: 4951, key: k, run: true}]")
	change("site: Served", here(t, "site: Served\nservice: {metrics: \"127.93.0.1:9470\"}"))
	b = c.start(t, "serve")
	require.Zero(t, c.asks(t))
	require.Contains(t, b.said(), "the server u: its address u.invalid cannot be found: ")
	require.Contains(t, b.said(), "it does not run until there is one, which is looked for every 30s")
	require.Contains(t, fetched(t, here(t, "http://127.93.0.1:9470/health")), "\naddress: the server u: ")
	b.end(t)
	r := c.run(t, "serve", "-only", "u")
	require.Equal(t, 3, r.status)
	require.Contains(t, r.err, "the server u: its address u.invalid cannot be found: ", "nothing is left to run")
}

// Who writes a whole chain again is found by who kept its head elsewhere.
func TestAChainThatWasWrittenAgainDiffersFromTheHeadThatWasKept(t *testing.T) {
	t.Parallel()
	c, b, _ := served(t)
	require.Zero(t, c.asks(t))
	require.Equal(t, 1, c.run(t, "ask", "-server", "t", "-as", "sw", "-person", "nobody", "-password-file",
		"right").status)
	b.end(t)
	r := c.run(t, "ledger", "heads", "-json")
	require.Zero(t, r.status)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "heads.json"), []byte(r.out), 0o600))
	require.Regexp(t, `^chain \w+: newest record 2, [0-9a-f]{64}\n  signed \S+Z with the key \S+=\n$`,
		c.run(t, "ledger", "heads").out)
	r = c.run(t, "ledger", "verify", "-expect", "heads.json")
	require.Zero(t, r.status)
	require.Contains(t, r.out, "every record is as it was written: 2 records, and the heads in heads.json are in it")

	path := filepath.Join(c.dir, "mellowgate-state", "records")
	var kept []ledger.Record
	require.NoError(t, ledger.Folder(path).Read(t.Context(), ledger.Filter{}, func(r ledger.Record) error {
		kept = append(kept, r)
		return nil
	}))
	require.NoError(t, os.RemoveAll(path))
	book, err := ledger.Open(path, ledger.Options{})
	require.NoError(t, err)
	for _, r := range kept { // as somebody would who may write everything
		if r.Person == "nobody" {
			r.Person = "tobin"
		}
		require.NoError(t, book.Keep(t.Context(), r))
	}
	require.NoError(t, book.Close())
	require.Zero(t, c.run(t, "ledger", "verify").status, "the chain by itself holds")
	r = c.run(t, "ledger", "verify", "-expect", "heads.json")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "record 2, whose hash was kept, is not there")

	for name, says := range map[string]string{"site.yaml": "holds no heads; make such a file with: mellowgate " +
		"ledger heads -json",
		"none.json": "none.json: there is no such file or folder"} {
		r := c.run(t, "ledger", "verify", "-expect", name)
		require.Equal(t, 2, r.status)
		require.Contains(t, r.err, says)
	}
	require.Equal(t, 2, c.run(t, "ledger", "-expect", "heads.json").status)
	text, err := os.ReadFile(filepath.Join(c.dir, "heads.json"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "heads.json"),
		[]byte(strings.Replace(string(text), `"newest": 2`, `"newest": 9`, 1)), 0o600))
	require.Contains(t, c.run(t, "ledger", "verify", "-expect", "heads.json").out,
		"the head of record 9 that was kept is not as it was signed")
}

func TestServeRefusesWhatItCannotServe(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	require.Zero(t, c.asks(t))
	b.end(t)
	change("site: Served", "site: Other")
	r := c.run(t, "serve")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err,
		"the state folder mellowgate-state holds what was kept of another site, Served: name another folder with "+
			"-state. If it is this site under a new name, take mellowgate-state/places.json away first")
	require.NoError(t, os.Remove(filepath.Join(c.dir, "mellowgate-state/places.json")))
	c.start(t, "serve").end(t)
	require.Contains(t, c.run(t, "ledger").out, "ines", "the ledger goes on")

	change("run: true}]", "run: true}, {name: d, protocol: ldap, address: 127.93.0.3, base: 'o=x', bind: {dn: "+
		"'cn=x', key: k}, filter: '(uid=%u)', tls: none}]")
	require.Contains(t, c.run(t, "serve", "-only", "d").err, "d is a directory: serve asks it, and does not run it")
}

// A disk that is full for a while: logins go on, accounting is not answered, and what is
// missing then is said by the monitor, the service and the ledger.
func TestServeOnAFullDiskSaysSo(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a small disk is mounted by root")
	}
	c, b, change := served(t)
	b.end(t)
	disk := filepath.Join(c.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o700))
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=1m,mode=0700"); err != nil {
		t.Skip("nothing can be mounted here: ", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	change("site: Served", here(t, "site: Served\nservice: {metrics: \"127.93.0.1:9470\"}"))
	state := filepath.Join(disk, "state")
	b = c.start(t, "serve", "-state", state)
	require.Zero(t, c.asks(t))
	filler := filepath.Join(disk, "filler")
	err := os.WriteFile(filler, make([]byte, 2<<20), 0o600)
	require.ErrorIs(t, err, syscall.ENOSPC)
	health := func() string { return fetched(t, here(t, "http://127.93.0.1:9470/health")) }
	asked := 1
	require.Eventually(t, func() bool {
		asked++
		return c.asks(t) == 0 && strings.Contains(health(), "\nledger: it cannot be written")
	}, 60*time.Second, 10*time.Millisecond, "logins are answered")
	require.Contains(t, b.said(), "logins are answered, accounting is not")
	require.NoError(t, os.Remove(filler))
	require.Eventually(t, func() bool { asked++; return c.asks(t) == 0 && health() == "running\n" }, 60*time.Second,
		10*time.Millisecond)
	require.Contains(t, b.said(), "the ledger is written again; 0 decisions are missing in it")
	b.end(t)
	require.Equal(t, asked+1, strings.Count(c.run(t, "ledger", "-state", state, "-csv").out, "\n"),
		"every login that was answered, and the head of the table")
	require.Zero(t, c.run(t, "ledger", "verify", "-state", state).status)
}

// Devices come from a program: at the start, on SIGHUP, and by hand.
func TestServeTakesItsDevicesFromAProgram(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	b.end(t)
	list := filepath.Join(c.dir, "list.sh")
	gives := func(text string) {
		require.NoError(t, os.WriteFile(list, []byte("#!/bin/sh\necho '"+text+"'\n"), 0o700))
	}
	gives(`[{"name": "other", "addresses": ["192.0.2.7"]}]`)
	change("people:", "devices-from: {run: [./list.sh], into: devices.json}\npeople:")
	r := c.run(t, "check")
	require.Equal(t, 2, r.status, "nothing is run to read a site")
	require.Contains(t, r.err, "devices.json: there is no such file")
	r = c.run(t, "check", "-refresh")
	require.NotEqual(t, 2, r.status, r.err)
	require.Contains(t, r.err, "devices.json has other devices now")
	b = c.start(t, "serve")
	gives(`[{"name": "other", "addresses": ["192.0.2.7"]}, {"name": "third", "addresses": ["192.0.2.8"]}]`)
	require.NoError(t, b.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "1 device new: third") }, 30*time.Second,
		10*time.Millisecond)
	gives("{")
	require.NoError(t, b.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(b.said(), "the file stays as it was:") },
		30*time.Second,
		10*time.Millisecond)
	require.Zero(t, c.asks(t))
}

// The rules and the dashboard that ship ask for metrics that there are.
func TestAlertsAndTheDashboardAskForMetricsThatThereAre(t *testing.T) {
	t.Parallel()
	c, b, change := served(t)
	b.end(t)
	change("site: Served", here(t, "site: Served\nservice: {metrics: \"127.93.0.1:9470\"}"))
	c.start(t, "serve")
	require.Zero(t, c.asks(t))
	text := fetched(t, here(t, "http://127.93.0.1:9470/metrics"))
	// Where there is no database, no certificate, and nothing was signed yet.
	text += "mellowgate_records_waiting mellowgate_certificate_end_timestamp_seconds mellowgate_ledger_head"
	page, err := os.ReadFile("../../docs/serve.md")
	require.NoError(t, err)
	for _, name := range []string{"alerts.yaml", "dashboard.json"} {
		rules, err := os.ReadFile(filepath.Join("../../docs/monitoring", name))
		require.NoError(t, err)
		asked := regexp.MustCompile(`mellowgate_[a-z_]+`).FindAllString(string(rules), -1)
		require.Greater(t, len(asked), 8)
		for _, metric := range asked {
			require.Contains(t, text, metric, name)
			require.Contains(t, string(page), strings.TrimSuffix(metric, "_bucket"), name)
		}
	}
	for _, metric := range regexp.MustCompile(`(?m)^# TYPE (mellowgate_\S+)`).FindAllStringSubmatch(text, -1) {
		require.Contains(t, string(page), "`"+metric[1]+"`")
	}
}
