package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowgate/internal/cli/clitest"

	"github.com/stretchr/testify/require"
)

func TestCompareSaysWhatIsOnADeviceAgainstTheSite(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	lab := c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	as := func(person string, args ...string) result {
		return c.run(t, append([]string{"compare", "-state", "st", "-person", person, "-password-file",
			"demo/as-reviewed/passwords/" + person}, args...)...)
	}
	r := as("ines.marsh", "north-sw-1", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "north-sw-1: as the site has it (ietf-system, ietf-system-tacacs-plus, "+
		"openconfig-system)")

	require.Contains(t, as("ines.marsh", "north-sw-1").out, "as the site has it", "without a site, that of the lab")
	path := filepath.Join(c.dir, "demo/as-reviewed/site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	other := strings.NewReplacer("address: 192.0.2.22", "address: 192.0.2.29", "servers: [tern, plover]",
		"servers: [plover, tern]").Replace(string(text))
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "other/keys"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "other/site.yaml"), []byte(other), 0o600))
	for name, value := range map[string]string{"shore": "demo-only-Tidemill-Lantenr-41-cairn",
		"ship": "x-a-key-of-the-ships", "directory": "y-the-key-of-the-book"} {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, "other/keys", name+".key"), []byte(value+"\n"), 0o600))
	}
	// What has changed since the last look, for a scheduler.
	r = as("ines.marsh", "-since", "look.json", "north-sw-1", "north-rtr-1", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `north-sw-1 +as the site has it +first look`, r.out)
	r = as("ines.marsh", "-since", "look.json", "north-sw-1", "north-rtr-1", "other")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "  new:       group shore: servers in order is tern, plover, and should be plover, tern")
	require.Regexp(t, `north-sw-1 +\d differences +\d new, 0 gone since 20`, r.out)
	r = as("ines.marsh", "-since", "look.json", "north-sw-1", "north-rtr-1", "other")
	require.Zero(t, r.status, "nothing is new: %s", r.out)
	require.Regexp(t, `north-sw-1 +\d differences +the same since 20`, r.out)
	r = as("ines.marsh", "-json", "-since", "look.json", "north-sw-1", "demo/as-reviewed")
	var looked struct {
		Drifted int
		Devices []struct{ Since struct{ New, Gone []string } }
	}
	clitest.Strictly(t, r.out, &looked)
	require.Zero(t, looked.Drifted)
	require.Contains(t, looked.Devices[0].Since.Gone,
		"group shore: servers in order is tern, plover, and should be plover, tern")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "look.json"), []byte("{"), 0o600))
	require.Contains(t, as("ines.marsh", "-since", "look.json", "north-sw-1").err, "is damaged")

	r = as("ines.marsh", "-all", "other")
	require.Equal(t, 1, r.status, r.err)
	for _, part := range []string{"north-rtr-1: ",
		"server plover: address is 192.0.2.22, and should be 192.0.2.29 (other/site.yaml:",
		"server tern: key is another: the same except for two characters swapped",
		"group shore: servers in order is tern, plover, and should be plover, tern"} {
		require.Contains(t, r.out, part)
	}
	require.NotContains(t, r.out+r.err, "Tidemill")
	require.Contains(t, r.out, "DEVICE       FOUND")
	var got struct {
		Devices []struct {
			Device, Models, Problem, Adopted string
			Read                             bool
			Unshown, Notes                   []string
			Differences                      []struct {
				About, Name, What, Kind, Want, Have, How, Place string
				Known                                           bool
			}
		}
		Drifted, Unread int
	}
	r = as("ines.marsh", "-json", "north-rtr-1", "north-sw-1", "other")
	require.Equal(t, 1, r.status)
	clitest.Strictly(t, r.out, &got)
	require.Equal(t, []int{2, 0, 2}, []int{got.Drifted, got.Unread, len(got.Devices)})
	require.NotContains(t, r.out, "Tidemill")

	r = as("tobin.reed", "north-sw-1", "demo/as-reviewed")
	require.Equal(t, 3, r.status)
	require.Contains(t, r.out, "north-sw-1: the device refuses the login")
	for args, says := range map[string]string{"nort-sw-1 demo/as-reviewed": `did you mean "north-sw-1"?`,
		"demo/as-reviewed":                 "the name of a device is wanted",
		"hq-fw-1 demo/as-reviewed":         "no way in by netconf in this lab",
		"-all north-sw-1 demo/as-reviewed": "give one of the two",
		"north-sw-1 none.yaml":             "there is no file or folder none.yaml",
		"-ssh-key demo/as-reviewed/site.yaml north-sw-1 demo/as-reviewed": "holds no private SSH key"} {
		r := as("ines.marsh", strings.Fields(args)...)
		require.Equal(t, 2, r.status, "%s: %s", args, r.err)
		require.Contains(t, r.err, says, args)
	}
	r = c.run(t, "compare", "-state", "none", "-person", "ines.marsh", "-password-file",
		"demo/as-reviewed/passwords/ines.marsh", "-address", here(t, "127.85.0.99:830"), "north-sw-1",
		"demo/as-reviewed")
	require.Equal(t, 3, r.status)
	require.Contains(t, r.out, "cannot be reached")
	require.Equal(t, 130, lab.end(t))
}

func TestWhatIsOnADeviceIsAdoptedUntilTheDesignIsSent(t *testing.T) {
	t.Parallel()
	c, lab, variant, as := sending(t, network(t))
	run := func(command string, args ...string) result {
		return c.run(t, append(append([]string{command}, as...), args...)...)
	}
	variant("old", "servers: [tern, plover]", "servers: [plover, tern]", "192.0.2.22\n    key: shore-key",
		"192.0.2.22\n    key: old-key", "  ship-key: file", "  old-key: clear another-key-of-the-demo-1\n  "+
			"ship-key: file",
		"accounts: [harbourmaster]", "accounts: [harbourmaster, mate]", "accounts:\n  - name",
		"accounts:\n  - {name: mate, level: 15, password: key old-key}\n  - name")
	r := run("send", "-yes", "-servers-may-be-down", "north-sw-1", "old")
	require.Zero(t, r.status, r.out+r.err)

	variant("truth", "# Saltmarsh", "# Truth of Saltmarsh")
	path := filepath.Join(c.dir, "truth/site.yaml")
	require.Contains(t, c.run(t, "check", "truth").out, "nothing found")
	r = run("compare", "-all", "-adopt", "truth")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, unwrapped(r.out),
		"adopted: found: {keys: {plover: held-north-sw-1-plover}, accounts: [harbourmaster, mate], groups: {shore: "+
			"[plover, tern]}}")
	require.NotContains(t, r.out+r.err, "another-key-of-the-demo")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Contains(t, string(text), "{name: north-sw-1, found: {keys:")
	require.Contains(t, string(text), "{name: mate, level: 15, password: '$")
	key, err := os.ReadFile(filepath.Join(c.dir, "truth/keys/held-north-sw-1-plover.key"))
	require.NoError(t, err)
	require.Equal(t, "another-key-of-the-demo-1\n", string(key))
	require.Contains(t, c.run(t, "check", "truth").out, "key-differs", "check takes it for true")

	r = run("compare", "north-sw-1", "truth")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "3 differences, known to the site")
	before := string(text)
	r = run("compare", "-adopt", "north-sw-1", "truth")
	require.Zero(t, r.status)
	text, err = os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, before, string(text), "nothing is written twice")

	r = run("send", "-yes", "north-sw-1", "truth")
	require.Zero(t, r.status, "what holds says is not sent: "+r.out+r.err)
	require.Contains(t, r.out, "north-sw-1: what found says in the site (truth/site.yaml:")
	r = run("compare", "north-sw-1", "truth")
	require.Contains(t, unwrapped(r.out), "says what is not so any more: take that out")
	require.Equal(t, 130, lab.end(t))
}
