package main

import (
	"encoding/csv"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTablesAreWrittenAsCommaSeparatedValues(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	read := func(r result) [][]string {
		rows, err := csv.NewReader(strings.NewReader(r.out)).ReadAll()
		require.NoError(t, err, r.out)
		return rows
	}
	found := read(c.run(t, "check", "-csv", "demo/as-drafted"))
	require.Equal(t, "severity code file line column devices accesses text repair", strings.Join(found[0], " "))
	require.Equal(t, "gives-up-first", found[1][1])
	logins := read(c.run(t, "foresee", "-csv", "-device", "hq-fw-1", "-person", "harbourmaster", "-access", "ssh",
		"demo/as-reviewed"))
	require.Contains(t, logins, []string{"hq-fw-1", "ssh", "harbourmaster", "tern, plover silent", "in", "15", "15",
		"local", "", "2", ""})
	require.Equal(t, 2, c.run(t, "foresee", "-csv", "-matrix", "demo/as-reviewed").status)
	c.start(t, "lab", "-network", network(t), "demo/as-reviewed")
	changeSite(t, c, "servers: [tern, plover]", "servers: [plover, tern]")
	r := c.run(t, "compare", "-csv", "-person", "ines.marsh", "-password-file", "demo/as-reviewed/passwords/ines.marsh",
		"north-sw-1", "demo/as-reviewed")
	require.Equal(t, 1, r.status, r.err)
	differences := read(r)
	require.Equal(t, "device read problem about name what kind want have how known", strings.Join(differences[0], " "))
	require.Equal(t, "north-sw-1", differences[1][0])
	require.Contains(t, r.out, "\"plover, tern\",\"tern, plover\"")
}

func TestAShellCompletesWhatMayStandThere(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	c.env = []string{"MELLOWGATE_SITE=demo/as-reviewed"}
	for _, k := range []struct {
		words []string
		want  string
	}{
		{[]string{"fore"}, "foresee"},
		{[]string{"foresee", "-acc"}, "-access"},
		{[]string{"foresee", "-access", "s"}, "ssh"},
		{[]string{"foresee", "-person", "unk"}, "unknown"},
		{[]string{"foresee", "-label", "duty=f"}, "duty=firewall"},
		{[]string{"foresee", "-device", "mv-a"}, "mv-avocet-rtr"},
		{[]string{"sheet", "-html", "north-s"}, "north-sw-1"},
		{[]string{"learn", "-device", "north-sw-1", "pier"}, "pier-switch"},
		{[]string{"check", "-explain", "gives"}, "gives-up-first"},
		{[]string{"lab", "-set", "tern sl"}, "tern slow 3s"},
		{[]string{"help", "dri"}, "drill"},
		{[]string{"completion", "f"}, "fish"},
		{[]string{"check", "demo"}, ""},
		{[]string{"check", "-explain=unused", ""}, ""},
		{[]string{"nothing", ""}, ""},
		{[]string{"login", "-state", ""}, ""},
	} {
		r := c.run(t, append([]string{"completion", "-line", "--"}, k.words...)...)
		require.Zero(t, r.status, r.err)
		require.Equal(t, k.want, strings.Join(strings.Fields(r.out), " "), "%q", k.words)
	}
	require.Equal(t, 2, c.run(t, "completion", "tcsh").status)
	for shell, k := range map[string]struct{ script, want string }{
		"bash": {`source <(mellowgate completion bash); COMP_WORDS=(mellowgate foresee -device mv); COMP_CWORD=3; ` +
			`_mellowgate; echo "${COMPREPLY[@]}"`, "mv-avocet-rtr mv-curlew-rtr mv-godwit-rtr"},
		"fish": {`mellowgate completion fish | source; complete -C "mellowgate foresee -device mv"`,
			"mv-avocet-rtr mv-curlew-rtr mv-godwit-rtr"},
		"zsh": {`autoload -U compinit; compinit -u -D; eval "$(mellowgate completion zsh)"; echo ${_comps[mellowgate]}`,
			"_mellowgate"},
	} {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			cmd := exec.Command(peer(t, shell), "-c", k.script)
			cmd.Dir, cmd.Env = c.dir, append(cmd.Environ(), "MELLOWGATE_SITE=demo/as-reviewed", "HOME="+c.dir,
				"PATH="+filepath.Dir(program)+":/usr/local/bin:/usr/bin:/bin")
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			require.Equal(t, k.want, strings.Join(strings.Fields(string(out)), " "))
		})
	}
}
