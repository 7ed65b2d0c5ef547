package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/childproc"
)

// window is a real terminal in which a program runs.
type window struct{ tmux, socket string }

// open runs a command in a terminal of a size, which ends with the test.
func open(t *testing.T, dir, size, command string) window {
	t.Helper()
	short, err := os.MkdirTemp("", "w") // the path of a socket is bounded
	require.NoError(t, err)
	w := window{tmux: peer(t, "tmux"), socket: filepath.Join(short, "s")}
	columns, lines, _ := strings.Cut(size, "x")
	// The server is no daemon, so that it ends with who started it.
	server := childproc.Child(exec.Command(w.tmux, "-S", w.socket, "-f", os.DevNull, "-D"))
	server.Env = append(slices.DeleteFunc(os.Environ(),
		func(v string) bool { return strings.HasPrefix(v, "NO_COLOR=") }),
		"MELLOWGATE_SITE=", "COLUMNS=", "LC_ALL=C.UTF-8", "TERM=xterm-256color")
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
		require.NoError(t, os.RemoveAll(short))
	})
	require.Eventually(t, func() bool { _, err := os.Stat(w.socket); return err == nil }, 20*time.Second,
		10*time.Millisecond)
	w.do(t, "new-session", "-d", "-s", "w", "-x", columns, "-y", lines, "-c", dir, "exec "+command)
	w.do(t, "set-option", "-g", "remain-on-exit", "on")
	w.do(t, "set-option", "-g", "status", "off")
	w.do(t, "resize-window", "-t", "w", "-x", columns, "-y", lines)
	return w
}

func (w window) do(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command(w.tmux, append([]string{"-S", w.socket}, args...)...).CombinedOutput()
	require.NoError(t, err, "%s: %s", args, out)
	return string(out)
}

// shows waits until the terminal shows all of some texts, and returns what it shows.
func (w window) shows(t *testing.T, texts ...string) string {
	t.Helper()
	var now string
	if !assert.Eventually(t, func() bool {
		now = w.do(t, "capture-pane", "-p", "-t", "w")
		return !slices.ContainsFunc(texts, func(text string) bool { return !strings.Contains(now, text) })
	}, 30*time.Second, 50*time.Millisecond) {
		require.FailNow(t, "it does not show", "%q\n%s", texts, now)
	}
	return now
}

func (w window) press(t *testing.T, keys ...string) {
	t.Helper()
	w.do(t, append([]string{"send-keys", "-t", "w"}, keys...)...)
}

func TestTheLiveScreenShowsLoginsAsTheyComeInARealTerminal(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	require.Zero(t, c.run(t, "demo", "-write", "demo").status)
	site := "demo/as-reviewed"
	lab := c.start(t, "lab", "-state", "st", "-network", network(t), site)
	w := open(t, c.dir, "80x24", program+" watch -state st")
	w.shows(t, "Saltmarsh Ferries (st)", "tern", "sanderling", "not asked", "nothing is wrong", "none yet",
		"OPEN SESSIONS: 0")
	colours := w.do(t, "capture-pane", "-p", "-e", "-t", "w")
	require.Contains(t, colours, "\x1b[", "on a terminal there are colours")

	in := func(device, person, password string, more ...string) {
		c.run(t, append([]string{"login", "-state", "st", "-device", device, "-person", person, "-password-file",
			filepath.Join(site, "passwords", password)}, more...)...)
	}
	in("mv-avocet-rtr", "ines.marsh", "ines.marsh")
	in("north-sw-1", "ines.marsh", "tobin.reed")
	now := w.shows(t, "ines.marsh", "mv-avocet-rtr", "level 15", "wrong-password", "1 failed", "answers ")
	require.Regexp(t, `>! \d\d:\d\d:\d\d +ines\.marsh +north-sw-1 +ssh +refused`, now, "the newest is chosen")
	for line := range strings.Lines(now) {
		require.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 80)
	}

	w.press(t, "Enter")
	w.shows(t, "wrong-password: north-sw-1", "repair", "for      ")
	w.press(t, "w")
	w.shows(t, "has the record of it")
	written, err := filepath.Glob(filepath.Join(c.dir, "incident-north-sw-1-*.md"))
	require.NoError(t, err)
	require.Len(t, written, 1)
	text, err := os.ReadFile(written[0])
	require.NoError(t, err)
	require.Contains(t, string(text), "# wrong-password: ")
	w.press(t, "w")
	w.shows(t, "is there already")
	w.press(t, "Escape")
	w.shows(t, "LOGINS", "DEVICES")
	w.press(t, "Down", "w")
	w.shows(t, "there is no incident to write")

	w.press(t, "f")
	require.NotContains(t, w.shows(t, "LOGINS with something wrong (1 others"), "mv-avocet-rtr  ssh")
	w.press(t, "/", "avo", "Enter")
	w.shows(t, `LOGINS with something wrong, and with "avo" (2 others`)
	w.press(t, "Escape")
	w.shows(t, "mv-avocet-rtr  ssh")
	w.press(t, "p")
	w.shows(t, "paused at")
	c.run(t, "lab", "-state", "st", "-set", "tern silent")
	in("north-sw-1", "wren.auditor", "wren.auditor")
	require.NotContains(t, w.do(t, "capture-pane", "-p", "-t", "w"), "wren.auditor", "paused")
	w.press(t, "p")
	require.Regexp(t, `~ .* wren\.auditor +north-sw-1 +ssh +in`, w.shows(t, "wren.auditor", "silent", "1 in with trouble"))

	w.do(t, "resize-window", "-t", "w", "-x", "200", "-y", "60")
	two := regexp.MustCompile(`SERVER +STATE.*nothing is wrong`) // halves side by side
	require.Eventually(t, func() bool { return two.MatchString(w.do(t, "capture-pane", "-p", "-t", "w")) },
		30*time.Second,
		50*time.Millisecond)
	w.do(t, "resize-window", "-t", "w", "-x", "30", "-y", "8")
	w.shows(t, "watch needs 40 columns")
	w.do(t, "resize-window", "-t", "w", "-x", "60", "-y", "24")
	w.shows(t, "q quit")

	lab.end(t)
	w.shows(t, "nothing runs here by now", "ended")
	w.press(t, "q")
	require.Equal(t, "0", w.ended(t))
}

// ended waits until the program in the terminal has ended, and returns its status.
func (w window) ended(t *testing.T) string {
	t.Helper()
	status := ""
	require.Eventually(t, func() bool { // the end of the screen is seen before the status is known
		// A terminal that has missed the end of one child looks for it when another one ends.
		w.do(t, "run-shell", "-b", "true")
		status = strings.TrimSpace(w.do(t, "display-message", "-p", "-t", "w", "#{pane_dead_status}"))
		return status != ""
	}, 30*time.Second, 50*time.Millisecond)
	return status
}

func TestTheLiveScreenOfAServiceWithoutColourEndsBySignal(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	at := labtest.Host(labtest.Network(t), 0, 1).String()
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), []byte(`site: Watched
keys: {k: clear a-key-of-this-test-only-47}
servers: [{name: tern, protocol: tacacs, address: `+at+`, port: 4949, key: k, run: true}]
groups: [{name: shore, servers: [tern]}]
lists: [{name: crew, authenticate: login, methods: [group shore]}]
platforms: [{name: quay-switch, behaviour: {refusal: ends-list}}]
devices: [{name: sw-1, platform: quay-switch, addresses: [127.0.0.1], access: {ssh: {login: crew}}}]
people: [{name: ines, teams: [net], password: '$5$rounds=1000$abc$Zb0jPAXQLxs1Yt0YMzkvP4VtUcJVlIl1QzE8ZmJtYg5'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`), 0o600))
	c.start(t, "serve", "-state", "st", "site.yaml")
	w := open(t, c.dir, "100x30", program+" watch -plain -state st")
	w.shows(t, "tern", "not asked")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "pw"), []byte("wrong\n"), 0o600))
	r := c.run(t, "ask", "-state", "st", "-as", "sw-1", "-person", "ines", "-password-file", "pw",
		"-server", "tern", "site.yaml")
	require.NotEqual(t, 2, r.status, r.err)
	now := w.shows(t, "tern    answers")
	require.NotContains(t, w.do(t, "capture-pane", "-p", "-e", "-t", "w"), "\x1b[3", "without colour")
	require.NotContains(t, now, "refused", "a question of our own is no login of a device")
	pid, err := strconv.Atoi(strings.TrimSpace(w.do(t, "display-message", "-p", "-t", "w", "#{pane_pid}")))
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGINT))
	require.Equal(t, "130", w.ended(t))
}

func TestTheLiveScreenNeedsATerminalAndARun(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	r := c.run(t, "watch", "-state", "nowhere")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "nowhere is not a state folder")
	require.Zero(t, c.run(t, "demo", "-write", "demo").status)
	c.start(t, "lab", "-state", "st", "-network", network(t), "demo/as-reviewed")
	r = c.run(t, "watch", "-state", "st")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "mellowgate why -follow -json -state st")
}
