package secrets

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

func TestSealedKeysComeBackAndADamagedFileSaysWhatItIs(t *testing.T) {
	t.Parallel()
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

// A passphrase is slow to try on purpose: a call that opens the same file twice,
// or opens what it wrote, tries it once. A file that was changed is opened.
func TestAFileThatWasOpenedIsNotOpenedAgain(t *testing.T) {
	t.Parallel()
	identity := filepath.Join(t.TempDir(), "id.txt")
	i, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(identity, []byte(i.String()), 0o600))
	dir, unlock := t.TempDir(), UnlockFromEnvironment(nil)
	unlock.Identity = identity
	s := NewSealed()
	s.Set("a", site.NewSecret("value of a"), time.Now())
	require.NoError(t, s.Write(dir, unlock))
	s.Set("b", site.NewSecret("not written"), time.Now())
	without := unlock
	without.Identity = "" // so that nothing can be opened
	for range 2 {
		back, err := OpenSealed(dir, without)
		require.NoError(t, err)
		require.Equal(t, []string{"a"}, back.Names(), "what was written, and not what was changed since")
		back.Remove("a")
	}
	require.NoError(t, s.Write(dir, Unlock{Identity: identity}))
	_, err = OpenSealed(dir, without)
	require.ErrorContains(t, err, "name the identity file")
	for _, u := range []Unlock{unlock, without} {
		back, err := OpenSealed(dir, u)
		require.NoError(t, err)
		require.Equal(t, []string{"a", "b"}, back.Names())
	}
}

func TestAHashThatIsNoneIsSaidWithItsPlace(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml",
		Text: []byte("site: x\npeople: [{name: ines, password: $argon2id$this$is$none}]\nelevation-secrets: " +
			"[{name: bridge, password: $9$a$b$c}]\n")})
	require.NoError(t, err)
	bad := CheckHashes(s)
	require.Len(t, bad, 2)
	require.ErrorContains(t, bad[0], "site.yaml:2:33: the password of ines is no hash in PHC or crypt form")
	require.ErrorContains(t, bad[1], "the password of bridge is no hash")
}
