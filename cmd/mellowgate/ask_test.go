package main

import (
	"crypto/x509"
	"encoding/pem"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/clitest"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/secrets"
)

func TestAskPutsEachQuestionInALab(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	password := []string{"-password-file", "demo/as-reviewed/passwords/ines.marsh"}
	for _, q := range []struct {
		args   string
		status int
		says   string
	}{
		{"-server tern -as north-sw-1 -person ines.marsh", 0, "accepted by tern"},
		{"-server tern -as north-sw-1 -person ines.marsh -form pap", 0, "accepted by tern"},
		{"-server tern -as north-sw-1 -person tobin.reed", 1, "refused by tern"},
		{"-server sanderling -as mv-avocet-rtr -person ines.marsh", 0, "Management-Privilege-Level = 15"},
		{"-server sanderling -as mv-avocet-rtr -person ines.marsh -form mschapv2", 1, "refused by sanderling"},
		{"-server sanderling -as mv-avocet-rtr -question status", 0, "alive by sanderling"},
		{"-server sanderling -as mv-avocet-rtr -question record-start -person ines.marsh", 0, "recorded by sanderling"},
		{"-group shore -as north-sw-1 -person tobin.reed -question session", 0, "priv-lvl = 1"},
		{"-group shore -as north-sw-1 -person tobin.reed -question commands -command save", 1, "refused by tern"},
		{"-group shore -as north-sw-1 -person tobin.reed -question record-stop -command save", 0, "recorded by tern"},
		{"-server tern -as north-sw-1 -person ines.marsh -question elevation -level 15", 0, "accepted by tern"},
		{"-server tern -as north-sw-1 -person tobin.reed -question elevation -level 15", 1, "refused by tern"},
		{"-server sanderling -as mv-avocet-rtr -person ines.marsh -question elevation", 2,
			"has no elevation of its own"},
		{"-server tern -person ines.marsh", 3, "ask as a device of the site with -as"},
		{"-server tern", 2, "name one with -person"},
		{"-person x", 2, "needs -server or -group"},
		{"-server trn -person x", 2, `did you mean "tern"?`},
		{"-server tern -person x -question staus", 2, `did you mean "status"?`},
		{"-server tern -question status", 2, "has no status question"},
		{"-server sanderling -person x -question session", 2, "the rights come with the login"},
		{"-server sanderling -person x -form ascii", 2, "it has pap, chap, mschapv2"},
		{"-server sanderling -person x -attribute Nothing=1", 2, "no RADIUS attribute is called"},
		{"-server tern -person x -count 1000000", 2, "-count is from 1 to 100000"},
	} {
		r := c.run(t, append(append([]string{"ask"}, strings.Fields(q.args)...), password...)...)
		require.Equal(t, q.status, r.status, "%s\n%s%s", q.args, r.out, r.err)
		require.Contains(t, r.out+r.err, q.says, q.args)
	}
	r := c.run(t, "ask", "-json", "-server", "sanderling", "-as", "mv-avocet-rtr", "-question", "status", "-count",
		"50",
		"-rate", "1000")
	require.Zero(t, r.status, r.err)
	var many struct {
		Count   int
		Answers map[string]int
		Seconds struct{ Min, P50, P99, Max float64 }
	}
	clitest.Strictly(t, r.out, &many)
	require.Equal(t, 50, many.Count)
	require.Equal(t, map[string]int{"alive": 50}, many.Answers)
	require.Positive(t, many.Seconds.Min)
	require.LessOrEqual(t, many.Seconds.P50, many.Seconds.Max)
	require.Contains(t, c.run(t, "ask", "-server", "sanderling", "-as", "mv-avocet-rtr", "-question", "status",
		"-count",
		"20", "-rate", "1000").out, "HALF WITHIN")
	require.Equal(t, 130, lab.end(t))
}

// servedSite is a site with a server for each protocol and transport on
// loopback, asked from a loopback device, and a person for every form.
const servedSite = `site: Served
service: {metrics: "127.95.1.1:9471"}
keys: {k: file k, kept: file kept}
servers:
  - {name: r-udp, protocol: radius, address: 127.95.1.1, ports: {authentication: 11812, accounting: 11813}, key: k, timeout: 2s, run: true}
  - {name: r-tls, protocol: radius, address: 127.95.1.1, transport: tls, port: 12083, tls: {certificate: c/server.pem, key: c/server.key, authorities: c/authority.pem}, run: true}
  - {name: t-tcp, protocol: tacacs, address: 127.95.1.1, port: 10049, key: k, run: true}
  - {name: t-tls, protocol: tacacs, address: 127.95.1.1, transport: tls, port: 10300, tls: {certificate: c/server.pem, key: c/server.key, authorities: c/authority.pem}, run: true}
devices: [{name: sw, addresses: [127.95.1.9]}]
people: [{name: ines, teams: [net], password: key kept}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
vendors: [{name: example, number: 32473, attributes: [{name: Example-Level, number: 1, type: integer}]}]
`

// parsed is the certificate in a file.
func parsed(t *testing.T, path string) *x509.Certificate {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	certificate, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	return certificate
}

func TestAskAgainstServeInEveryFormOverEveryTransport(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	write("site.yaml", here(t, servedSite))
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	write("k", "a-key-for-this-test")
	write("kept", "right")
	now := time.Now()
	authority, err := pki.NewAuthority("a test", now)
	require.NoError(t, err)
	for name, at := range map[string]string{"server": here(t, "127.95.1.1"), "sw": here(t, "127.95.1.9")} {
		identity, err := authority.Issue(name, netip.MustParseAddr(at), now)
		require.NoError(t, err)
		require.NoError(t, authority.Write(filepath.Join(c.dir, "c"), name, identity))
	}
	serve := c.start(t, "serve", "-state", "st")
	require.Contains(t, serve.err.String(), here(t, "r-tls: RADIUS over TLS on 127.95.1.1:12083"))
	require.Contains(t, serve.err.String(), here(t, "t-tls: TACACS+ over TLS on 127.95.1.1:10300"))
	end := map[string]int64{}
	for line := range strings.Lines(fetched(t, here(t, "http://127.95.1.1:9471/metrics"))) {
		if rest, is := strings.CutPrefix(line, `mellowgate_certificate_end_timestamp_seconds{server="`); is {
			server, value, _ := strings.Cut(rest, `"} `)
			seconds, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
			require.NoError(t, err)
			end[server] = int64(seconds)
		}
	}
	ends := parsed(t, filepath.Join(c.dir, "c/server.pem")).NotAfter.Unix()
	require.Equal(t, map[string]int64{"r-tls": ends, "t-tls": ends}, end)
	certificate := []string{"-certificate", "c/sw.pem", "-certificate-key", "c/sw.key", "-authorities",
		"c/authority.pem"}
	for server, forms := range map[string][]string{"r-udp": {"pap", "chap", "mschapv2"},
		"r-tls": {"pap", "chap", "mschapv2"},
		"t-tcp": {"ascii", "pap", "chap", "mschapv2"}, "t-tls": {"ascii", "pap", "chap", "mschapv2"}} {
		ask := func(args ...string) result {
			args = append([]string{"ask", "-server", server, "-as", "sw", "-person", "ines", "-password-file", "kept"},
				args...)
			if strings.HasSuffix(server, "tls") {
				args = append(args, certificate...)
			}
			return c.run(t, args...)
		}
		for _, form := range forms {
			r := ask("-form", form)
			require.Zero(t, r.status, "%s %s: %s%s", server, form, r.out, r.err)
			require.Contains(t, r.out, "accepted by "+server)
		}
		require.Contains(t, ask("-question", "record-start").out, "recorded by "+server)
		if strings.HasPrefix(server, "t") {
			require.Contains(t, ask("-question", "commands", "-command", "save").out, "accepted by "+server)
		} else {
			require.Contains(t, ask("-question", "status").out, "alive by "+server)
			require.Zero(t, ask("-attribute", "Example-Level=3").status)
		}
	}
	// Without -form a password is sent as the kind of the device sends it: by CHAP it cannot be held against a hash.
	write("hashed", strings.NewReplacer("password: key kept", "password: '"+hash+"'", "devices: [{name: sw,",
		"platforms: [{name: k, behaviour: {password-form: {radius: chap}}}]\ndevices: [{name: sw, platform: k,").
		Replace(here(t, servedSite)))
	require.NoError(t, os.Rename(filepath.Join(c.dir, "hashed"), filepath.Join(c.dir, "site.yaml")))
	require.Eventually(t, func() bool { return strings.Contains(serve.said(), "was read again") }, 20*time.Second,
		20*time.Millisecond)
	for form, status := range map[string]int{"": 1, "pap": 0} {
		require.Equal(t, status, c.run(t, "ask", "-server", "r-udp", "-as", "sw", "-person", "ines", "-password-file",
			"kept",
			"-form", form).status, form)
	}
	require.Eventually(t, func() bool {
		return strings.Contains(c.run(t, "ledger", "failures", "-state", "st").out, "password-form")
	}, 20*time.Second, 50*time.Millisecond, "a refusal is a record within moments")
	named := strings.ReplaceAll(here(t, servedSite), here(t, "127.95.1.1, port: 10049"), "localhost, port: 10048")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "named.yaml"), []byte(named), 0o600))
	r := c.run(t, "ask", "-state", "nowhere", "-server", "t-tcp", "-person", "ines", "-password-file", "kept",
		"named.yaml")
	require.Equal(t, 2, r.status, "a state folder that is named must be there")
	elsewhere := call{dir: t.TempDir()}
	r = elsewhere.run(t, "ask", "-server", "t-tcp", "-person", "ines", "-password-file", filepath.Join(c.dir, "kept"),
		filepath.Join(c.dir, "named.yaml"))
	require.Equal(t, 3, r.status)
	require.Contains(t, r.out, "closed: the port refuses", "a host name is looked up")
	require.Contains(t, c.run(t, "ask", "-server", "t-tls", "-as", "sw", "-person", "ines", "-password-file",
		"kept").err,
		"give -certificate, -certificate-key and -authorities")
	r = c.run(t, "ledger", "-state", "st", "-kind", "session-start", "-json")
	require.Equal(t, 4, strings.Count(r.out, "\n"))
	require.Equal(t, 130, serve.end(t))
}
