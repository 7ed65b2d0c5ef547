package textread

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// folder has files of these names and texts.
func folder(t *testing.T, texts map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range texts {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	return dir
}

const (
	small = "phrasebook: 1\nmake: small\nlayout: {sections: indent}\nterritory: [gate]\n" +
		"phrases: [{about: server, say: gate <name> at <address>}]\n"
	other = "phrasebook: 1\nmake: other\nlayout: {sections: indent}\nterritory: [door]\n" +
		"phrases: [{about: server, say: door <name> at <address>}]\n"
)

func TestEachTextIsReadByThePhrasebookThatReadsItBest(t *testing.T) {
	t.Parallel()
	dir := folder(t, map[string]string{"books/small.yaml": small, "books/other.yaml": other,
		"a.txt": "gate tern at 192.0.2.1\n", "deep/b.txt": "door tern at 192.0.2.1\ndoor plover at 192.0.2.2\n",
		"c.txt": "nothing of ours\n", ".hidden/d.txt": "gate x at 192.0.2.3\n", ".e": "gate x at 192.0.2.3\n"})
	var books []Book
	for _, name := range []string{"small", "other"} {
		b, err := OpenBook(filepath.Join(dir, "books", name+".yaml"))
		require.NoError(t, err)
		require.Equal(t, name, b.Make)
		books = append(books, b)
	}
	taken, err := Estate(context.Background(), dir, books)
	require.NoError(t, err)
	makes := map[string]string{}
	for _, one := range taken {
		name, err := filepath.Rel(dir, one.File)
		require.NoError(t, err)
		makes[name] = one.Make + one.Problem
	}
	require.Equal(t, map[string]string{"a.txt": "small", "deep/b.txt": "other",
		"c.txt": "no phrasebook that was given reads a line of it"}, makes,
		"phrasebooks and what is hidden are passed over")

	twice, err := Estate(context.Background(), filepath.Join(dir, "a.txt"), append(books, books[0]))
	require.NoError(t, err)
	require.Len(t, twice, 1, "one file alone is an estate of one")
	require.Contains(t, twice[0].Problem, "two phrasebooks read it equally well")

	ended, stop := context.WithCancel(context.Background())
	stop()
	_, err = Estate(ended, dir, books)
	require.ErrorIs(t, err, context.Canceled)
}

func TestWhatCannotBeReadIsSaidWithItsFile(t *testing.T) {
	t.Parallel()
	dir := folder(t, map[string]string{"book.yaml": small, "wrong.yaml": "phrasebook: 1\nmake: x\nno-such: 1\n"})
	_, err := OpenBook(filepath.Join(dir, "none.yaml"))
	require.ErrorContains(t, err, "none.yaml")
	_, err = OpenBook(filepath.Join(dir, "wrong.yaml"))
	require.ErrorContains(t, err, "wrong.yaml:3")
	b, err := OpenBook(filepath.Join(dir, "book.yaml"))
	require.NoError(t, err)
	_, err = Read(b.Load(), filepath.Join(dir, "none.txt"), nil)
	require.ErrorContains(t, err, "none.txt")
	_, err = Read(b.Load(), dir, nil)
	require.ErrorContains(t, err, dir, "a folder is no text")
	_, err = Estate(context.Background(), filepath.Join(dir, "none"), []Book{b})
	require.ErrorContains(t, err, "none")
}
