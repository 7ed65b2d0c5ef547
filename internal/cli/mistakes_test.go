package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"mellowgate/internal/cli/clitest"

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
	write("many.yaml", "site: x\nservers: ["+strings.Repeat("{},", 10_000_000)+"]\n")
	write("wrong.yaml", "site: x\nservers: ["+strings.Repeat("{},", 20_000)+"]\n")
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "nothing"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "damaged"), 0o700))
	write("damaged/places.json", "{")
	before := clitest.Listing(t, c.dir)

	for _, b := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{}, 2, ""},
		{[]string{"chekc"}, 2, `there is no command "chekc"; did you mean "check"?`},
		{[]string{"check", "-jsn"}, 2, "check has no flag -jsn; did you mean -json?"},
		{[]string{"login", "-password", "x"}, 2, "passwords and keys are never given as a flag's value"},
		{[]string{"check", "-json", "-explain", "all"}, 2, "-explain prints a page to read, and has no JSON"},
		{[]string{"listen", "-json", "-scrub", "x.pcap", "-capture", "y"}, 2, "-json has nothing to print"},
		{[]string{"keys", "make", "-json"}, 2, "keys make has no JSON; list and compare have"},
		{[]string{"check", "a", "b"}, 2, `check takes no argument "b"`},
		{[]string{"help", "foresse"}, 2, `did you mean "foresee"?`},
		{[]string{"check", "none.yaml"}, 2, "none.yaml: there is no such file or folder"},
		{[]string{"check"}, 2, "or start one: mellowgate new DIR"},
		{[]string{"check", "empty.yaml"}, 2, "empty.yaml: there is no site in this file"},
		{[]string{"check", "half.yaml"}, 2, "half.yaml:5"},
		{[]string{"check", "binary.yaml"}, 2, "binary.yaml:1:1: this is not YAML: it holds binary data"},
		{[]string{"check", "words.yaml"}, 2, "words.yaml:1:1: the site file is a single value"},
		{[]string{"check", "big.yaml"}, 2, "the file has 50 MB and a site file may have 32"},
		{[]string{"check", "many.yaml"}, 2, "many.yaml:1:1: the file has about 20000003 entries, and 2000000 are " +
			"the most"},
		{[]string{"check", "wrong.yaml"}, 2, "and 980 more problems"},
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
	require.Equal(t, before, clitest.Listing(t, c.dir), "nothing is left behind")
}

// Everything that is wrong in a site is said in one run: what cannot be read,
// what leads nowhere, hashes and attributes; and what only results from another
// mistake is not.
func TestAllMistakesOfASiteAreSaidInOneRun(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	c.newSite(t, "mine")
	path := filepath.Join(c.dir, "mine/site.yaml")
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	hash := regexp.MustCompile(`password: "(\$[^"]+)"`).FindStringSubmatch(string(good))[1]
	with := func(changes ...string) string {
		text := strings.NewReplacer(changes...).Replace(string(good))
		require.NotEqual(t, string(good), text)
		return text
	}
	for name, b := range map[string]struct {
		text string
		says []string
		more int // that say the same of another place, or result from one
	}{
		"several": {with("key: gate-key\n    timeout: 2s", "secret: gate-key\n    deadtime: 2s",
			"servers: [gate-1, gate-2]",
			"members: [gate-1, gate-2]", "authorize: session\n    methods: [group gates, local]",
			"authorize: session\n    methods: [group gtes, local]", "password: \"$argon2id", "password: \"$argon2ib",
			"profile: standard, addresses: [192.0.2.101]", "profile: stadard, addresses: [192.0.2.101]"),
			[]string{`unknown key "secret" in a server; here it is called "key"`,
				`unknown key "deadtime" in a server; here it is called "dead-time"`,
				`unknown key "members" in a group; here it is called "servers"`,
				`there is no group "gtes"; did you mean "gates"?`, `there is no profile "stadard"; did you mean "standard"?`,
				"the password of wayback is no hash", "the password of first.admin is no hash"}, 3},
		"a tab": {with("  - name: gates\n    servers", "  - name: gates\n\tservers"),
			[]string{"a tab stands before the text of this line; YAML takes only blanks there"}, 0},
		"an unquoted hash": {with("people: ", "people: [{name: odd, teams: [network], password: "+hash+"}]\nothers: "),
			[]string{"a password hash in {...} is cut at its commas; put it in quotes",
				`unknown key "others" in the site file`}, 1},
		"a section by another name": {with("servers:                           # the AAA", "srvers:    # the AAA"),
			[]string{`unknown key "srvers" in the site file; did you mean "servers"?`}, 0},
		"an entry without a name": {with("  - name: gate-2", "  - title: gate-2"),
			[]string{`unknown key "title" in a server; here it is called "name"`, `a server needs the key "name"`}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := call{dir: t.TempDir()}
			require.NoError(t, os.CopyFS(filepath.Join(c.dir, "mine"), os.DirFS(filepath.Dir(path))))
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, "mine/site.yaml"), []byte(b.text), 0o600))
			r := c.run(t, "check", "mine")
			require.Equal(t, 2, r.status)
			require.Empty(t, r.out)
			require.NotContains(t, r.err, "mellowgate new", "there is a site")
			for _, says := range b.says {
				require.Contains(t, r.err, says)
			}
			require.Len(t, regexp.MustCompile(`(?m)^mine/site.yaml:`).FindAllString(r.err, -1), len(b.says)+b.more, r.err)
			for part := range strings.SplitSeq(hash[len("$argon2id$v=19$m="):], "$") {
				require.NotContains(t, r.err, part, "nothing of a hash is shown")
			}
			for _, command := range []string{"check", "foresee"} {
				r := c.run(t, command, "-json", "mine")
				require.Equal(t, 2, r.status)
				var got struct {
					Mistakes []struct {
						File, Text   string
						Line, Column int
					}
				}
				clitest.Strictly(t, r.out, &got)
				require.Len(t, got.Mistakes, len(b.says)+b.more)
				for _, m := range got.Mistakes {
					require.Equal(t, "mine/site.yaml", m.File)
					require.Positive(t, m.Line*m.Column)
					require.Contains(t, r.err, m.Text)
				}
			}
		})
	}
}

// The words for yes and no are one, in any spelling, and what an editor writes
// for itself is no mistake.
func TestOffFalseAndNoMeanTheSame(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	c.newSite(t, "mine")
	path := filepath.Join(c.dir, "mine/site.yaml")
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	want := c.run(t, "foresee", "mine").out
	for _, words := range [][2]string{{"no", "yes"}, {"False", "True"}, {"off", "on"}} {
		text := "$schema: ./site.schema.json\n" + strings.NewReplacer("telnet: off", "telnet: "+words[0], "run: true",
			"run: "+words[1]).Replace(string(good))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		r := c.run(t, "foresee", "mine")
		require.Zero(t, r.status, r.err)
		require.Equal(t, want, r.out)
	}
}

func TestAStarterKeepsItsSecretsOutOfARepository(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("no git here")
	}
	c := call{dir: t.TempDir()}
	r := c.run(t, "new", "mine")
	require.Zero(t, r.status)
	require.Contains(t, r.out, "mine/.gitignore keeps out of a repository")
	git := func(args ...string) string {
		cmd := exec.Command("git", args...)
		cmd.Dir = filepath.Join(c.dir, "mine")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	git("init", "-q")
	git("add", "-A")
	require.Equal(t, ".gitignore\nsite.schema.json\nsite.yaml\n", git("ls-files"))
}
