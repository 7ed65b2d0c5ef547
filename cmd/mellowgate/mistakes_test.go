package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWrongCallsAndBadInputGetOneClearMessageAndTheRightStatus(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	good, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/site.yaml"))
	require.NoError(t, err)
	write("empty.yaml", "")
	write("half.yaml", string(good[:1450]))
	write("binary.yaml", "\x00\x01\x02\xff")
	write("words.yaml", "not a site at all")
	write("env.yaml", strings.Replace(string(good), "file keys/shore.key", "env NOT_SET_HERE", 1))
	write("hash.yaml", strings.Replace(string(good), "$argon2id$v=19$m=1024,t=1,p=1$3B1Q",
		"$nosuchform$v=19$m=1024,t=1,p=1$3B1Q", 1))
	big, err := os.Create(filepath.Join(c.dir, "big.yaml"))
	require.NoError(t, err)
	require.NoError(t, big.Truncate(50<<20))
	require.NoError(t, big.Close())
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "nothing"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "damaged"), 0o700))
	write("damaged/places.json", "{")
	before := listing(t, c.dir)

	for _, b := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{}, 2, ""},
		{[]string{"chekc"}, 2, `there is no command "chekc"; did you mean "check"?`},
		{[]string{"check", "-jsn"}, 2, "check has no flag -jsn; did you mean -json?"},
		{[]string{"login", "-password", "x"}, 2, "passwords and keys are never given as a flag's value"},
		{[]string{"check", "a", "b"}, 2, `check takes no argument "b"`},
		{[]string{"help", "foresse"}, 2, `did you mean "foresee"?`},
		{[]string{"check", "none.yaml"}, 2, "none.yaml: there is no such file or folder"},
		{[]string{"check"}, 2, "or start one: mellowgate new DIR"},
		{[]string{"check", "empty.yaml"}, 2, "empty.yaml: there is no site in this file"},
		{[]string{"check", "half.yaml"}, 2, "half.yaml:5"},
		{[]string{"check", "binary.yaml"}, 2, "binary.yaml:1:1: this is not YAML: it holds binary data"},
		{[]string{"check", "words.yaml"}, 2, "words.yaml:1:1: the site file is a single value"},
		{[]string{"check", "big.yaml"}, 2, "the file has 50 MB and a site file may have 32"},
		{[]string{"check", "nothing"}, 2, "no *.yaml file in this folder"},
		{[]string{"check", "hash.yaml"}, 2, "the password of ines.marsh is no hash in PHC or crypt form"},
		{[]string{"lab", "env.yaml"}, 2,
			"the key shore-key has no value here: the environment variable NOT_SET_HERE is not set"},
		{[]string{"lab", "-network", "10.0.0.0/8", "demo/as-reviewed"}, 2,
			"a loopback network such as 127.77.0.0/16 is wanted"},
		{[]string{"lab", "-state", "demo", "demo/as-reviewed"}, 2, "demo is not a state folder: it holds as-drafted"},
		{[]string{"serve", "demo/as-reviewed"}, 3, "this host does not have that address"},
		{[]string{"serve", "-only", "trn", "demo/as-reviewed"}, 2, `did you mean "tern"?`},
		{[]string{"why"}, 2, "mellowgate-state is not a state folder"},
		{[]string{"why", "-state", "nothing"}, 2, "nothing is not a state folder: it has no places.json"},
		{[]string{"why", "-state", "damaged"}, 2, "places.json is damaged"},
		{[]string{"ledger", "-state", "nothing"}, 2, "is not a state folder"},
		{[]string{"ledger", "-kind", "comand"}, 2, `did you mean "command"?`},
		{[]string{"ledger", "-since", "yesterday"}, 2, "2h, 03:10, 2026-11-23 or"},
		{[]string{"login"}, 2, "login needs -device or -address, and -person"},
		{[]string{"login", "-device", "a", "-person", "b", "-access", "shh"}, 2, `did you mean "ssh"?`},
		{[]string{"login", "-device", "a", "-person", "b", "-state", "nothing"}, 2, "is not a state folder"},
		{[]string{"demo", "-write", "demo"}, 2, "is there already"},
		{[]string{"new"}, 2, "new needs the name of a folder"},
		{[]string{"new", "demo"}, 2, "is there already and not empty"},
		{[]string{"new", "empty.yaml/x"}, 3, "cannot be made"},
	} {
		t.Run(strings.Join(b.args, " "), func(t *testing.T) {
			r := c.run(t, b.args...)
			require.Equal(t, b.status, r.status, r.err)
			require.Contains(t, r.err, b.says)
			if len(b.args) > 0 {
				require.Empty(t, r.out)
			}
		})
	}
	require.Equal(t, before, listing(t, c.dir), "nothing is left behind")
}

func listing(t *testing.T, dir string) []string {
	var all []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		all = append(all, path)
		return err
	}))
	return all
}
