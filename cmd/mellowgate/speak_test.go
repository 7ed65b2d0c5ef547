package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/testscale"
)

// typedAt types lines at a stand-in with an SSH client of somebody else.
func (c call) typedAt(t *testing.T, address, person string, lines ...string) string {
	password, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/passwords", person))
	require.NoError(t, err)
	host, port, _ := strings.Cut(address, ":")
	cmd := exec.CommandContext(t.Context(), "sshpass", "-p", strings.TrimSpace(string(password)), "ssh", "-T", "-p",
		port,
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", person+"@"+host)
	cmd.Stdin = strings.NewReader(strings.Join(append(lines, "leave", ""), "\n"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

func (c call) sshOf(t *testing.T, device string) string {
	var places struct {
		Devices []struct {
			Name string
			Ways []struct{ Access, Address string }
		}
	}
	text, err := os.ReadFile(filepath.Join(c.dir, "st/places.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &places))
	for _, d := range places.Devices {
		for _, w := range d.Ways {
			if d.Name == device && w.Access == "ssh" {
				return w.Address
			}
		}
	}
	t.Fatal("no ssh of ", device)
	return ""
}

func TestTheSheetIsTypedIntoAStandInThatSpeaks(t *testing.T) {
	t.Parallel()
	peer(t, "sshpass")
	c := demoSite(t)
	const curlew = "mv-curlew-rtr"
	from := []string{"-read", "demo/saved/mv-curlew-rtr.txt", curlew, "demo/as-reviewed"}
	lab := c.start(t, "lab", "-speak", "-holds", curlew+"=demo/saved/mv-curlew-rtr.txt", "-state", "st", "-network",
		network(t),
		"demo/as-reviewed")
	require.Contains(t, lab.said(),
		`log in with full rights, then type "list draft" to see what it holds and "draft" to change it`)
	at := c.sshOf(t, curlew)
	says := c.typedAt(t, at, "ines.marsh", "list draft", " ", "what is it", "put entry who 5 h")
	require.Contains(t, says, "put helper wait 25\n")
	require.Contains(t, says, "put helper r 1 word (kept back)\n", "it hides its secrets")
	require.Contains(t, says, "[ more ]")
	require.Contains(t, says, "? what is it\n", "a wrong line is refused")
	require.Contains(t, says, "? put entry who 5 h\n", "it is not where it is configured")

	// A mistake, and the timed way back when the line drops.
	says = c.typedAt(t, at, "ines.marsh", "return in 5", "draft", "put entry who 1 h", "put entry hwo 2 t",
		"close draft")
	require.Contains(t, says, "? put entry hwo 2 t\n")
	require.NotContains(t, c.typedAt(t, at, "ines.marsh", "list draft", " "), "put entry who 1 h",
		"the session that had set the way back was left without calling it off")

	lines := strings.Split(strings.TrimSpace(c.run(t, append([]string{"render"}, from...)...).out), "\n")
	require.Len(t, lines, 7)
	for _, line := range lines { // as by hand: each line in a session of its own
		says = c.typedAt(t, at, "ines.marsh", "draft", line, "close draft")
		require.NotContains(t, says, "? ", line)
	}
	c.typedAt(t, at, "ines.marsh", "store")
	show := c.typedAt(t, at, "ines.marsh", "list draft", " ")
	var kept []string
	for _, line := range strings.Split(show, "\n") {
		if line = line[strings.LastIndex(line, ">> ")+1:]; strings.Contains(line, "> ") {
			line = line[strings.Index(line, "> ")+2:]
		}
		if strings.HasPrefix(line, "put ") || line == "end of list" {
			kept = append(kept, line)
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "now.txt"), []byte(strings.Join(kept, "\n")+"\n"), 0o600))
	r := c.run(t, "compare", "-read", "now.txt", curlew, "demo/as-reviewed")
	require.Contains(t, r.out, curlew+": as the site has it", r.out+r.err)
	r = c.run(t, "login", "-state", "st", "-device", curlew, "-person", "ines.marsh", "-password-file",
		"demo/as-reviewed/passwords/ines.marsh", "-allows", "list draft", "-refuses", "nonsense")
	require.Zero(t, r.status, r.out+r.err)
}

func TestADesignIsSentInTheLinesOfAMake(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	const curlew = "mv-curlew-rtr"
	c.start(t, "lab", "-speak", "-holds", curlew+"=demo/saved/mv-curlew-rtr.txt", "-state", "st", "-network",
		network(t),
		"demo/as-reviewed")
	who := []string{"-state", "st", "-keep", "kept", "-person", "ines.marsh", "-password-file",
		"demo/as-reviewed/passwords/ines.marsh", curlew, "demo/as-reviewed"}
	r := c.run(t, append([]string{"send", "-dry-run"}, who...)...)
	require.Contains(t, r.out, "7 steps\n    put helper wait 10\n")
	require.Contains(t, r.out, "way back:    return in 2: the device goes back by itself")
	require.Contains(t, r.err, "nothing was changed (-dry-run)")
	// A fleet in which each device speaks as it does: over NETCONF, at its command line, and from what it has saved.
	look := []string{"compare", "-json", "-state", "st", "-person", "ines.marsh", "-password-file",
		"demo/as-reviewed/passwords/ines.marsh", "-saved", "some", "-all", "demo/as-reviewed"}
	require.NoError(t, os.Mkdir(filepath.Join(c.dir, "some"), 0o700))
	text, err := os.ReadFile(filepath.Join(c.dir, "demo/saved/north-rtr-1.txt"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "some/north-rtr-1.txt"), text, 0o600))
	for place, says := range map[string]string{"nowhere": "there is no such file or folder",
		"some/north-rtr-1.txt": "a folder is wanted there"} {
		r = c.run(t, "compare", "-saved", place, "-all", "demo/as-reviewed")
		require.Equal(t, 2, r.status, place)
		require.Contains(t, r.err, place+": "+says)
	}
	r = c.run(t, look...)
	require.Equal(t, 1, r.status, r.err)
	var seen struct {
		Devices []struct {
			Device, Models string
			Read           bool
			Differences    []struct{ At string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &seen))
	models := map[string]string{}
	for _, d := range seen.Devices {
		require.True(t, d.Read, d.Device)
		models[d.Device] = d.Models
		if d.Device == curlew {
			require.Len(t, d.Differences, 8)
			require.Contains(t, d.Differences[0].At, curlew+" by ssh:")
		}
	}
	require.Equal(t, "the phrasebook of hull-router", models[curlew])
	require.Equal(t, "the phrasebook of quay-switch", models["hq-fw-1"])
	require.Equal(t, "the phrasebook of quay-switch", models["north-rtr-1"], "from what it has saved")
	require.Contains(t, models["north-sw-1"], "ietf-system")

	r = c.run(t, append([]string{"send", "-yes", "-json"}, who...)...)
	require.Zero(t, r.status, r.err)
	var sent struct {
		Devices []struct {
			Outcome, Kept string
			Steps         int
			Proofs        []struct {
				What string
				OK   bool
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &sent))
	require.Equal(t, "kept", sent.Devices[0].Outcome)
	require.Equal(t, 7, sent.Devices[0].Steps)
	require.Len(t, sent.Devices[0].Proofs, 3)
	before, err := os.ReadFile(filepath.Join(c.dir, sent.Devices[0].Kept))
	require.NoError(t, err)
	require.Contains(t, string(before), "put entry who 20 t\n")
	require.True(t, strings.HasSuffix(sent.Devices[0].Kept, ".txt"))
	require.Contains(t, c.run(t, "ledger", "-state", "kept", "-full").out, curlew+" ssh")
	for _, over := range []string{"ssh", "console"} {
		r = c.run(t, append([]string{"send", "-yes", "-access", over}, who...)...)
		require.Contains(t, r.out, "it holds the design already", "%s: %s", over, r.err)
	}
	for args, says := range map[string]string{"-access netconf": `-access is "netconf"; ssh, telnet or console is wanted`,
		"-access telnet": "has no way in by telnet in the site"} {
		r = c.run(t, append(append([]string{"send"}, strings.Fields(args)...), who...)...)
		require.Equal(t, 2, r.status)
		require.Contains(t, r.err, says)
	}
	for args, says := range map[string]string{"-holds x": "-holds is \"x\"; DEVICE=FILE is wanted",
		"-holds mv-curlew-rtr=none.txt": "none.txt", "-holds nobody=x": `has no device "nobody"`} {
		r = c.run(t, append(append([]string{"lab", "-speak", "-state", "st2"}, strings.Fields(args)...),
			"demo/as-reviewed")...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, says)
	}
}

// Each device of the demo that speaks holds the first draft, is typed to the reviewed design
// by a client of somebody else, and then comes out as its sheet says.
func TestEachDeviceOfTheDemoIsTypedFromTheDraftToTheReview(t *testing.T) {
	t.Parallel()
	testscale.Whole(t, "one device of each make, by send")
	peer(t, "sshpass")
	c := demoSite(t)
	ends := map[string]string{"hull-router": "end of list\n", "quay-switch": "that is all\n"}
	kinds := map[string]string{"hq-fw-1": "quay-switch", "north-rtr-1": "quay-switch", "north-sw-1": "quay-switch",
		"south-sw-1": "quay-switch", "ashore-ap-1": "hull-router", "mv-avocet-rtr": "hull-router",
		"mv-curlew-rtr": "hull-router", "mv-godwit-rtr": "hull-router"}
	call := []string{"lab", "-speak", "-state", "st", "-network", network(t)}
	for device, make := range kinds {
		r := c.run(t, "render", "-with-keys", device, "demo/as-drafted")
		require.Zero(t, r.status, r.err)
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, device+".txt"), []byte(r.out+ends[make]), 0o600))
		call = append(call, "-holds", device+"="+device+".txt")
	}
	c.start(t, append(call, "demo/as-reviewed")...)
	changed := 0
	for device, make := range kinds {
		lines := func() []string {
			r := c.run(t, "render", "-with-keys", "-read", device+".txt", device, "demo/as-reviewed")
			require.Zero(t, r.status, "%s: %s", device, r.err)
			return strings.Split(strings.TrimRight(r.out, "\n"), "\n")
		}
		typed := lines()
		changed += len(typed)
		talk := map[string][]string{"quay-switch": {"alter", "back", "print all"},
			"hull-router": {"draft", "close draft", "list draft"}}
		says := c.typedAt(t, c.sshOf(t, device), "ines.marsh",
			append(append([]string{talk[make][0]}, typed...), talk[make][1])...)
		for line := range strings.Lines(says) {
			require.NotRegexp(t, `(^|>|/ )(What is|Cannot|\? )`, line, "%s: %s\n%s", device, line, strings.Join(typed, "\n"))
		}
		who := []string{"-state", "st", "-person", "ines.marsh", "-password-file",
			"demo/as-reviewed/passwords/ines.marsh"}
		r := c.run(t, append(append([]string{"compare", "-over", "ssh"}, who...), device, "demo/as-reviewed")...)
		require.Zero(t, r.status, "%s: %s%s", device, r.out, r.err)
	}
	for _, device := range []string{"south-sw-1", "mv-curlew-rtr"} { // one of each make
		r := c.run(t, "login", "-state", "st", "-device", device, "-from-site", "demo/as-reviewed/passwords")
		require.Zero(t, r.status, "%s: %s%s", device, r.out, r.err)
	}
	require.Greater(t, changed, 20)
}
