package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestADesignIsRenderedInTheLinesOfItsMake(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	r := c.run(t, "render", "north-sw-1", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Contains(t, r.out, "gate tern tac at 192.0.2.21\n word the-value-of-the-key-shore-key\n patience 1\n")
	require.Contains(t, r.out, "plan crew who ask shore own\n")
	require.Contains(t, r.out, "keeper harbourmaster rank full word plain the-password-of-harbourmaster\n")
	require.Contains(t, r.err, "not carried: the way in netconf: the phrasebook has no words for it")
	key, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/keys/shore.key"))
	require.NoError(t, err)
	require.NotContains(t, r.out+r.err, strings.TrimSpace(string(key)))
	r = c.run(t, "render", "-with-keys", "north-sw-1", "demo/as-reviewed")
	require.Contains(t, r.out, " word "+strings.TrimSpace(string(key))+"\n")

	// What is written is read as the design.
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "made.txt"), []byte(r.out+"that is all\n"), 0o600))
	r = c.run(t, "compare", "-read", "made.txt", "north-sw-1", "demo/as-reviewed")
	require.Contains(t, r.out, "1 difference ", "%s%s", r.out, r.err)
	require.Contains(t, r.out, " - account harbourmaster: password is another", "it is put in by hand")

	r = c.run(t, "render", "-read", "demo/saved/north-sw-1.txt", "north-sw-1", "demo/as-reviewed")
	require.Zero(t, r.status, r.err)
	require.Empty(t, r.out, "no line for what is held already")
	require.Contains(t, r.err, "nothing to type: what north-sw-1 holds is the design")

	from := []string{"-read", "demo/saved/mv-curlew-rtr.txt", "mv-curlew-rtr", "demo/as-reviewed"}
	r = c.run(t, append([]string{"render"}, from...)...)
	require.Zero(t, r.status, r.err)
	require.Equal(t, `put helper wait 10
put entry who 53 t
put entry who 66 h
put entry shell 40 h
put hatch telnet shut
lift entry who 20 t
lift entry who 30 h
`, r.out)
	held, err := os.ReadFile(filepath.Join(c.dir, "demo/saved/mv-curlew-rtr.txt"))
	require.NoError(t, err)
	const end = "end of list\n"
	typed := strings.Replace(string(held), end, r.out+end, 1)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "typed.txt"), []byte(typed), 0o600))
	require.Contains(t, c.run(t, "compare", "-read", "typed.txt", "mv-curlew-rtr", "demo/as-reviewed").out,
		"mv-curlew-rtr: as the site has it")
	undo := c.run(t, append([]string{"render", "-undo"}, from...)...)
	require.Zero(t, undo.status)
	back := strings.Replace(typed, end, undo.out+end, 1)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "back.txt"), []byte(back), 0o600))
	before := c.run(t, "compare", "-read", "demo/saved/mv-curlew-rtr.txt", "mv-curlew-rtr", "demo/as-reviewed")
	after := c.run(t, "compare", "-read", "back.txt", "mv-curlew-rtr", "demo/as-reviewed")
	what := func(out string) (all []string) {
		for line := range strings.Lines(out) {
			if is, _, found := strings.Cut(line, " (demo/"); found {
				all = append(all, is)
			}
		}
		return all
	}
	require.NotEmpty(t, what(before.out))
	require.Equal(t, what(before.out), what(after.out), "the lines that take it back do")

	r = c.run(t, append([]string{"sheet"}, from...)...)
	require.Zero(t, r.status, r.err)
	for _, part := range []string{"```\n      return in 10\n      ```", "```\n      draft\n", "put entry who 53 t",
		"to take it back:\n      ```\n      lift entry who 53 t\n", "For list deck:", "call the way back off",
		"store\n"} {
		require.Contains(t, strings.ToLower(r.out), strings.ToLower(part))
	}
	require.Less(t, strings.Index(r.out, "lift entry who 30 h"),
		strings.Index(r.out, "ssh, ines.marsh, right password"), "a login is tried when it comes out as the sheet says")
	r = c.run(t, append([]string{"sheet", "-html"}, from...)...)
	require.Contains(t, r.out, "<pre>put entry who 53 t\n</pre>")

	for args, says := range map[string]string{
		"-undo north-sw-1": "-undo is for -read TEXT",
		"-model ietf -read demo/saved/north-sw-1.txt north-sw-1": "are for the lines of a make",
		"-read demo/saved/south-sw-1.txt south-sw-1":             "line 31 of what the device holds was not understood",
		"-read none.txt north-sw-1":                              "none.txt",
	} {
		r := c.run(t, append(append([]string{"render"}, strings.Fields(args)...), "demo/as-reviewed")...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, says, args)
	}
	cut := strings.TrimSuffix(string(held), end)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "cut.txt"), []byte(cut), 0o600))
	require.Contains(t, c.run(t, "render", "-read", "cut.txt", "mv-curlew-rtr", "demo/as-reviewed").err,
		"was not seen to its end")
	require.Contains(t, c.run(t, "render", "-read", "demo/saved/hq-fw-1.txt", "mv-curlew-rtr", "demo/as-reviewed").err,
		"of the make that the phrasebook hull-router is of?")
}
