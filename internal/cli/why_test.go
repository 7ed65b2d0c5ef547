package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What people and makes write is evidence too.
func TestTextOfAMakeAndLogsOfServeAreEvidence(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "why", "-log", "demo/logs/north-sw-1.log", "-device", "north-sw-1", "-access", "ssh",
		"demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `^unreachable: north-sw-1 to server tern\n`, r.out, "by the phrasebook of its platform")
	r = c.run(t, "why", "-log", "demo/logs/mv-avocet-rtr.log", "-phrases", "demo/phrasebooks/hull-router.yaml",
		"-device",
		"mv-avocet-rtr")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "unreachable: mv-avocet-rtr to server radius 1")
	r = c.run(t, "why", "-log", "demo/logs/mv-avocet-rtr.log", "demo/as-reviewed")
	require.Equal(t, 2, r.status)
	require.Contains(t, unwrapped(r.err), "by the phrasebook of its make: -phrases FILE")
	r = c.run(t, "why", "-log", "demo/logs/mv-avocet-rtr.log", "-phrases", "demo/phrasebooks/quay-switch.yaml")
	require.Equal(t, 2, r.status)
	require.Contains(t, unwrapped(r.err), "it may be of another make")

	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	write("serve.log", `time=2026-11-23T03:00:00.000Z level=INFO msg="the site was read"
time=2026-11-23T03:09:01.000Z level=WARN msg=event server=tern protocol=tacacs client=192.0.2.112 device=north-sw-1 `+
		`access=ssh person=odd.larsen question=login answer=refused reason=disabled-or-expired text="odd.larsen is disabled"
`)
	r = c.run(t, "why", "-log", "serve.log", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "disabled-or-expired: north-sw-1 by ssh, server tern")
	r = c.run(t, "why", "-log", "serve.log", "-device", "north-sw-1", "-person", "harbourmaster", "-symptom",
		"Access denied", "demo/as-reviewed")
	require.Equal(t, 1, r.status, "no server was asked by that name: %s", r.out)
	require.Contains(t, r.out, "not-known: north-sw-1")

	counted := func(lost string) string {
		return "R::radiusAuthServerAddress.1 = IpAddress: 192.0.2.23\n" +
			"R::radiusAuthClientAccessRequests.1 = Counter32: 1000\nR::radiusAuthClientAccessAccepts.1 = " +
			"Counter32: 990\nR::radiusAuthClientTimeouts.1 = Counter32: " + lost + "\n"
	}
	write("old", counted("10"))
	write("new", strings.Replace(counted("14"), "1000", "1004", 1))
	r = c.run(t, "why", "-counters", "old", "-device", "mv-avocet-rtr", "demo/as-reviewed")
	require.Contains(t, r.out, "not-known", "ten of a thousand are no fault")
	r = c.run(t, "why", "-counters", "old,new", "-device", "mv-avocet-rtr", "demo/as-reviewed")
	require.Contains(t, r.out, "unreachable: mv-avocet-rtr to server sanderling", "four of the last four are one")
	require.Equal(t, 2, c.run(t, "why", "-counters", "old,new,old", "-device", "mv-avocet-rtr",
		"demo/as-reviewed").status)
}
