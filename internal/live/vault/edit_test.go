package vault

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

const edited = `site: Test   # a comment that stays
keys:
  k: file k   # and so does this
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k}
`

func written(t *testing.T, text string) (s *site.Site, path string) {
	path = filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	s, _, err := Load(path)
	require.NoError(t, err)
	return s, path
}

func TestASiteIsEditedAtItsPlacesAndKeepsItsComments(t *testing.T) {
	s, path := written(t, edited)
	require.NoError(t, Change(s, path, []Edit{{Place: s.Keys[0].Place, New: "k-2: sealed\n  "}, {Place: s.Server("t").KeyRef.Place, Old: "k", New: "{now: k, next: k-2}"}}))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, `site: Test   # a comment that stays
keys:
  k-2: sealed
  k: file k   # and so does this
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: {now: k, next: k-2}}
`, string(text))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestAnEditThatWouldLeaveNoGoodSiteIsUndone(t *testing.T) {
	s, path := written(t, edited)
	at := s.Server("t").KeyRef.Place
	require.ErrorContains(t, Change(s, path, []Edit{{Place: at, Old: "k", New: "gone"}}), `there is no key "gone"`)
	require.ErrorContains(t, Change(s, path, []Edit{{Place: at, Old: "other", New: "x"}}), "the file is not as it was read")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, edited, string(text))
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	require.Len(t, left, 1, "no temporary file is left")
}

func TestSealedKeysComeBackAndADamagedFileSaysWhatItIs(t *testing.T) {
	dir := t.TempDir()
	phrase := func(words string) Unlock {
		return Unlock{Passphrase: func() (string, error) { return words, nil }}
	}
	s := NewSealed()
	made := time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	s.Set("a", site.NewSecret("value of a"), made)
	s.Set("b", site.NewSecret("value of b"), made)
	require.True(t, s.Remove("b"))
	require.False(t, s.Remove("b"))
	require.NoError(t, s.Write(dir, phrase("four plain words here")))
	back, err := OpenSealed(dir, phrase("four plain words here"))
	require.NoError(t, err)
	require.Equal(t, []string{"a"}, back.Names())
	value, err := back.Key("a")
	require.NoError(t, err)
	require.Equal(t, "value of a", value.Reveal())
	at, known := back.Made("a")
	require.True(t, known && at.Equal(made))
	_, err = back.Key("b")
	require.ErrorContains(t, err, "seal it with: mellowgate keys seal b")
	_, err = OpenSealed(dir, phrase("other words"))
	require.ErrorContains(t, err, "the passphrase is wrong")
	_, err = OpenSealed(dir, phrase(""))
	require.ErrorContains(t, err, "the passphrase is empty")
	_, err = OpenSealed(t.TempDir(), phrase("x"))
	require.ErrorContains(t, err, "there is no such file")
	require.NoError(t, os.WriteFile(filepath.Join(dir, SealedName), []byte("not an age file"), 0o600))
	_, err = OpenSealed(dir, Unlock{Identity: filepath.Join(dir, SealedName)})
	require.ErrorContains(t, err, "this is no age identity file")
}

func TestAHashThatIsNoneIsSaidWithItsPlace(t *testing.T) {
	s, _ := written(t, "site: x\npeople: [{name: ines, password: $argon2id$this$is$none}]\nelevation-secrets: [{name: bridge, password: $9$a$b$c}]\n")
	bad := CheckHashes(s)
	require.Len(t, bad, 2)
	require.ErrorContains(t, bad[0], "site.yaml:2:33: the password of ines is no hash in PHC or crypt form")
	require.ErrorContains(t, bad[1], "the password of bridge is no hash")
}

func TestPasswordsThatEverybodyTriesAreGuessedWithinTheirTime(t *testing.T) {
	hash := func(password string) string {
		h, err := Hash(password, 64, 1)
		require.NoError(t, err)
		return h
	}
	s, path := written(t, "site: Saltmarsh Ferries\naccounts:\n  - {name: keeper, level: 15, password: '"+hash("keeper")+"'}\n  - {name: two, level: 15, password: '"+hash("saltmarsh")+
		"'}\n  - {name: three, level: 15, password: '"+hash("changeme")+"'}\n  - {name: good, level: 15, password: '"+hash("long and of its own")+"'}\n")
	facts, untried := Facts(context.Background(), s, filepath.Dir(path))
	require.Zero(t, untried)
	guessed := map[string]string{}
	for a, what := range facts.Guessed {
		guessed[a.Name] = what
	}
	require.Equal(t, map[string]string{"keeper": "its own name", "two": "the site's name", "three": "one that everybody tries first"}, guessed)
	over, cancel := context.WithCancel(context.Background())
	cancel()
	_, untried = Facts(over, s, filepath.Dir(path))
	require.Equal(t, 4, untried, "what was not tried is said")
}
