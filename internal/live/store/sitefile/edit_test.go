package sitefile

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
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
	t.Parallel()
	s, path := written(t, edited)
	require.NoError(t, Change(s, path, []Edit{{Place: s.Keys[0].Place, New: "k-2: sealed\n  "},
		{Place: s.Server("t").KeyRef.Place, Old: "k", New: "{now: k, next: k-2}"}}))
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
	t.Parallel()
	s, path := written(t, edited)
	at := s.Server("t").KeyRef.Place
	require.ErrorContains(t, Change(s, path, []Edit{{Place: at, Old: "k", New: "gone"}}), `there is no key "gone"`)
	require.ErrorContains(t, Change(s, path, []Edit{{Place: at, Old: "other", New: "x"}}),
		"the file is not as it was read")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, edited, string(text))
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	require.Len(t, left, 1, "no temporary file is left")
}

func TestPasswordsThatEverybodyTriesAreGuessedWithinTheirTime(t *testing.T) {
	t.Parallel()
	hash := func(password string) string {
		h, err := secrets.Hash(password, 64, 1)
		require.NoError(t, err)
		return h
	}
	s, path := written(t,
		"site: Saltmarsh Ferries\naccounts:\n  - {name: keeper, level: 15, password: '"+hash(
			"keeper")+"'}\n  - {name: two, level: 15, password: '"+hash("saltmarsh")+
			"'}\n  - {name: three, level: 15, password: '"+hash(
			"changeme")+"'}\n  - {name: good, level: 15, password: '"+hash("long and of its own")+"'}\n")
	quick := func(text string) { t.Error("said of quick hashes: " + text) }
	facts, untried := Facts(context.Background(), s, filepath.Dir(path), quick)
	require.Empty(t, untried)
	guessed := map[string]string{}
	for a, what := range facts.Guessed {
		guessed[a.Name] = what
	}
	require.Equal(t, map[string]string{"keeper": "its own name", "two": "the site's name",
		"three": "one that everybody tries first"}, guessed)
	over, cancel := context.WithCancel(context.Background())
	cancel()
	_, untried = Facts(over, s, filepath.Dir(path), quick)
	require.Equal(t, []string{"good", "keeper", "three", "two"}, untried, "what was not tried is said")
}

func TestWhatTakesLongIsSaidBeforeItIsDone(t *testing.T) {
	t.Parallel()
	hash, err := secrets.Hash("long and of its own", 64, 1)
	require.NoError(t, err)
	require.Contains(t, hash, "m=64,t=1")
	slow := strings.Replace(hash, "m=64,t=1", "m=262144,t=4", 1)
	s, path := written(t, "site: x\naccounts:\n  - {name: keeper, level: 15, password: '"+slow+"'}\n")
	ctx, cancel := context.WithCancel(context.Background())
	said := ""
	_, untried := Facts(ctx, s, filepath.Dir(path), func(text string) {
		said = text
		cancel()
	})
	require.Regexp(t, `^trying whether the password of the account keeper is easy to guess: its hash is slow, 13 tries `+
		`take about [1-5]s$`, said)
	require.Equal(t, []string{"keeper"}, untried)
}
