package secrets

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

func TestPasswordsInEachForm(t *testing.T) {
	t.Parallel()
	argon, err := Hash("right", 64, 1)
	require.NoError(t, err)
	for form, hash := range map[string]string{
		"argon2id":    argon,
		"bcrypt":      "$2b$04$abcdefghijklmnopqrstuuqWGRUSqsK4KPxeq6RnU5cCbU5gXy0R6",
		"SHA-512":     "$6$rounds=1000$saltsalt$",
		"broken":      "$argon2id$v=19$m=64,t=1,p=1$",
		"nothing":     "$nosuch$x$y",
		"argon2 huge": "$argon2id$v=19$m=64,t=1,p=1$c2FsdHNhbHQ$",
	} {
		ok, err := PasswordIs(site.Password{Hash: hash}, "wrong", nil)
		require.False(t, ok, form)
		if err != nil {
			require.NotContains(t, err.Error(), hash)
		}
	}
	ok, err := PasswordIs(site.Password{Hash: argon}, "right", nil)
	require.NoError(t, err)
	require.True(t, ok)
	ok, err = PasswordIs(site.Password{Hash: "$6$saltsalt$" +
		"qFmFH.bQmmtXzyBY0s9v7Oicd2z4XSIecDzlB5KiA2/jctKu9YterLp8wwnSq.qc.eoxqOmSuNp2xS0ktL3nh/"}, "password", nil)
	require.NoError(t, err)
	require.True(t, ok, "a SHA-crypt hash as other tools print it")

	k := &site.Key{Ref: site.Ref{Name: "k"}}
	ok, err = PasswordIs(site.Password{Key: k}, "kept", site.Keys{"k": site.NewSecret("kept")})
	require.NoError(t, err)
	require.True(t, ok)
	_, err = PasswordIs(site.Password{Key: k}, "kept", nil)
	require.ErrorContains(t, err, "the key k, which has no value here")
}

func TestKeysComeFromWhereTheSiteSays(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("one.key", "from a file\n")
	write("blank.key", "ends with a blank \r\n")
	write("empty.key", "\n")
	t.Setenv("MELLOWGATE_TEST_KEY", "from the environment")
	s, err := site.Parse(site.Source{Name: "s.yaml",
		Text: fmt.Appendf(nil,
			"keys:\n  a: file one.key\n  b: env MELLOWGATE_TEST_KEY\n  c: clear in the file\n  d: file %s\n  e: "+
				"file none.key\n  f: file empty.key\n  g: env MELLOWGATE_NOT_SET\n", filepath.Join(dir, "blank.key"))})
	require.NoError(t, err)
	keys, missing := Keys(s, dir, Unlock{})
	for name, want := range map[string]string{"a": "from a file", "b": "from the environment", "c": "in the file",
		"d": "ends with a blank "} {
		require.Equal(t, want, keys[name].Reveal())
	}
	require.Len(t, keys, 4)
	require.Len(t, missing, 3)
	require.ErrorContains(t, missing[0],
		"s.yaml:6:3: the key e has no value here: "+filepath.Join(dir, "none.key")+": there is no such file")
	require.ErrorContains(t, missing[1], "the file is empty")
	require.ErrorContains(t, missing[2], "MELLOWGATE_NOT_SET is not set")
}
