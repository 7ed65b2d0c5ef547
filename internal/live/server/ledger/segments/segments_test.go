package segments

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// put appends texts as entries, in one go.
func put(t *testing.T, w *Writer, texts ...string) {
	t.Helper()
	var frames []byte
	for _, text := range texts {
		frames = AppendFrame(frames, []byte(text))
	}
	require.NoError(t, w.Append(frames, len(texts)))
}

// texts reads what a folder holds from an entry on, each with its number.
func texts(t *testing.T, dir string, r Reading) []string {
	t.Helper()
	var all []string
	r.Entry = func(n int64, _ Position, entry []byte) error {
		all = append(all, fmt.Sprint(n, " ", string(entry)))
		return nil
	}
	require.NoError(t, Read(dir, r))
	return all
}

// opened opens a folder that is there.
func opened(t *testing.T, dir string) *Writer {
	t.Helper()
	w, err := Open(dir, false)
	require.NoError(t, err)
	require.NotNil(t, w)
	return w
}

func TestEntriesAreReadWhileTheyAreWrittenAndGoOnAfterAnEnd(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "log")
	none, err := Open(dir, false)
	require.NoError(t, err)
	require.Nil(t, none)
	require.Empty(t, texts(t, dir, Reading{}))
	w, err := Create(dir, 5, []byte("head"), false)
	require.NoError(t, err)
	put(t, w, "a", "b")
	put(t, w, "c")
	require.Equal(t, []string{"5 a", "6 b", "7 c"}, texts(t, dir, Reading{}))
	info, err := os.Stat(Path(dir, 5))
	require.NoError(t, err)
	require.Greater(t, info.Size(), w.Size(), "there is room for what comes next")
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, w.Begin([]byte("second")))
	info, err = os.Stat(Path(dir, 5))
	require.NoError(t, err)
	require.Equal(t, int64(len(Magic)+4*frameHeader+len("head")+3), info.Size(), "and none in an older file")
	put(t, w, "d")
	require.Equal(t, []int64{8, 9}, []int64{w.First(), w.Next()})
	require.NoError(t, w.Close())

	w = opened(t, dir)
	require.Equal(t, []string{"second", "d", ""}, []string{string(w.Head), string(w.Newest), w.Cut})
	put(t, w, "e")
	require.NoError(t, w.Begin([]byte("third")))
	require.ErrorIs(t, w.Begin([]byte("fourth")), os.ErrExist, "no entry was written since")
	put(t, w, "f")
	require.Equal(t, []string{"8 d", "9 e", "10 f"}, texts(t, dir, Reading{From: 8}))
	require.NoError(t, w.Close())
}

func TestAReadingPassesOverWhatIsNotWanted(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	w, err := Create(dir, 1, []byte("h1"), true)
	require.NoError(t, err)
	put(t, w, "a", "b", "c")
	require.NoError(t, w.Begin([]byte("h4")))
	put(t, w, "d", "e")
	require.NoError(t, w.Close())
	require.Equal(t, []string{"3 c", "4 d", "5 e"}, texts(t, dir, Reading{From: 3}))
	require.Equal(t, []string{"4 d", "5 e"}, texts(t, dir, Reading{From: 4}))
	require.Empty(t, texts(t, dir, Reading{From: 6}))
	require.Equal(t, []string{"4 d", "5 e"}, texts(t, dir,
		Reading{Skips: func(s Segment) bool { return s.First == 1 }}))
	var heads []string
	var at []Position
	require.NoError(t, Read(dir, Reading{
		Head: func(s Segment, head []byte) error {
			heads = append(heads, fmt.Sprint(s.First, string(head)))
			return nil
		},
		Entry: func(_ int64, p Position, _ []byte) error { at = append(at, p); return nil }}))
	require.Equal(t, []string{"1h1", "4h4"}, heads)
	require.Equal(t, at[1], at[0].After([]byte("a")))
	require.Equal(t, []string{"2 b", "3 c", "4 d", "5 e"}, texts(t, dir, Reading{From: 2, Begin: at[1]}))
	enough := errors.New("enough")
	require.ErrorIs(t, Read(dir, Reading{Entry: func(int64, Position, []byte) error { return enough }}), enough)

	pick := Pick(dir)
	for i, want := range []string{"a", "b", "c", "d", "e"} {
		entry, err := pick.Entry(at[i])
		require.NoError(t, err)
		require.Equal(t, want, string(entry))
	}
	text, err := os.ReadFile(Path(dir, 1))
	require.NoError(t, err)
	impossible := append(append(text, "\xff\xff\xff\xff"...), text...) // as an index from elsewhere might point to
	require.NoError(t, os.WriteFile(Path(dir, 1), impossible, 0o600))
	for _, wrong := range []Position{{Segment: 1, Offset: int64(len(text))}, {Segment: 1, Offset: at[0].Offset + 1},
		{Segment: 1, Offset: 1 << 20}} {
		_, err := pick.Entry(wrong)
		var d *Damage
		require.ErrorAs(t, err, &d)
	}
	_, err = pick.Entry(Position{Segment: 9})
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, pick.Close())
	require.NoError(t, pick.Close())
}

func TestAnEntryLongerThanOneReadIsPicked(t *testing.T) {
	t.Parallel()
	dir, long := t.TempDir(), strings.Repeat("long ", 5000)
	w, err := Create(dir, 1, []byte("h"), false)
	require.NoError(t, err)
	put(t, w, long, "short")
	require.NoError(t, w.Close())
	var at []Position
	require.NoError(t, Read(dir,
		Reading{Entry: func(_ int64, p Position, _ []byte) error { at = append(at, p); return nil }}))
	pick := Pick(dir)
	defer func() { require.NoError(t, pick.Close()) }()
	for i, want := range []string{long, "short"} {
		entry, err := pick.Entry(at[i])
		require.NoError(t, err)
		require.Equal(t, want, string(entry))
	}
}

// What a machine that stops leaves behind the last whole entry is put aside.
func TestWhatIsNotWholeAtTheEndIsPutAside(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		behind string
		zeros  int // before it
		cut    bool
	}{
		"nothing":                  {},
		"zeros":                    {zeros: 300_000},
		"a length alone":           {behind: "\x05", cut: true},
		"part of an entry":         {behind: string(AppendFrame(nil, []byte("hello")))[:10], cut: true},
		"another sum":              {behind: "\x01\x00\x00\x00\x00\x00\x00\x00x", cut: true},
		"an impossible length":     {behind: "\xff\xff\xff\xff\x00\x00\x00\x00x", cut: true},
		"octets behind some zeros": {zeros: 100, behind: "x", cut: true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			w, err := Create(dir, 1, []byte("head"), false)
			require.NoError(t, err)
			put(t, w, "a", "b")
			require.NoError(t, w.Close())
			file, err := os.OpenFile(Path(dir, 1), os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = file.WriteString(strings.Repeat("\x00", c.zeros) + c.behind)
			require.NoError(t, errors.Join(err, file.Close()))
			w = opened(t, dir)
			require.Equal(t, c.cut, w.Cut != "", w.Cut)
			require.Equal(t, "b", string(w.Newest))
			put(t, w, "c")
			require.Equal(t, []string{"1 a", "2 b", "3 c"}, texts(t, dir, Reading{}))
			require.NoError(t, w.Close())
			if aside, err := os.ReadFile(Path(dir, 1) + ".torn"); c.cut {
				require.NoError(t, err)
				require.Equal(t, strings.Repeat("\x00", c.zeros)+c.behind, string(aside))
			} else {
				require.ErrorIs(t, err, os.ErrNotExist)
			}
		})
	}
}

// A file that was only being begun when the machine stopped is begun again.
func TestAFileWithoutAWholeHeadIsBegunAgain(t *testing.T) {
	t.Parallel()
	for _, begun := range []string{"", Magic[:3], Magic, Magic + "\x05\x00"} {
		dir := t.TempDir()
		w, err := Create(dir, 1, []byte("head"), false)
		require.NoError(t, err)
		put(t, w, "a")
		require.NoError(t, w.Close())
		require.NoError(t, os.WriteFile(Path(dir, 2), []byte(begun), 0o600))
		w = opened(t, dir)
		require.Equal(t, []int64{1, 2}, []int64{w.First(), w.Next()})
		require.NoError(t, w.Begin([]byte("again")))
		put(t, w, "b")
		require.NoError(t, w.Close())
		require.Equal(t, []string{"1 a", "2 b"}, texts(t, dir, Reading{}))
	}
}

func TestDamageIsNamedAndTheNextFileIsGoneOnWith(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	w, err := Create(dir, 1, []byte("h"), true)
	require.NoError(t, err)
	put(t, w, "a", "bbbb", "c")
	require.NoError(t, w.Begin([]byte("h")))
	put(t, w, "d")
	require.NoError(t, w.Close())
	text, err := os.ReadFile(Path(dir, 1))
	require.NoError(t, err)
	at := strings.Index(string(text), "bbbb")
	text[at]++
	require.NoError(t, os.WriteFile(Path(dir, 1), text, 0o600))
	var d *Damage
	require.ErrorAs(t, Read(dir, Reading{Entry: func(int64, Position, []byte) error { return nil }}), &d)
	require.Equal(t, Damage{Path: Path(dir, 1), Offset: int64(at - frameHeader), Number: 2,
		What: "an entry is not as it was written"}, *d)
	require.Contains(t, d.Error(), "0000000000000000001.records is damaged at octet ")
	found := 0
	require.Equal(t, []string{"1 a", "4 d"}, texts(t, dir,
		Reading{Damaged: func(*Damage) error { found++; return nil }}))
	require.Equal(t, 1, found)
	last, err := os.ReadFile(Path(dir, 4))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(Path(dir, 4), append(last[:len(last)-1], 'x'), 0o600))
	require.Equal(t, []string{"1 a"}, texts(t, dir, Reading{Damaged: func(*Damage) error { found++; return nil }}))
	require.Equal(t, 3, found, "also where it might only be being written, once it stays so")
	require.NoError(t, os.WriteFile(Path(dir, 4), append([]byte("recorde"), last...), 0o600))
	require.ErrorAs(t, Read(dir, Reading{From: 4, Entry: func(int64, Position, []byte) error { return nil }}), &d)
	require.Equal(t, []any{int64(0), int64(3), "it does not begin as a file of records does"},
		[]any{d.Offset, d.Number, d.What})
	require.NoError(t, os.Truncate(Path(dir, 1), int64(at+2)))
	require.ErrorAs(t, Read(dir, Reading{Entry: func(int64, Position, []byte) error { return nil }}), &d)
	require.Equal(t, "the file ends within an entry", d.What)
	other := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "letter.records"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(other, "-5.records"), nil, 0o600))
	require.Empty(t, texts(t, other, Reading{}), "they are no files of entries")
}

// After a write that failed the next one begins where the last whole entry ends.
func TestAWriteThatFailedLeavesNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	w, err := Create(dir, 1, []byte("h"), false)
	require.NoError(t, err)
	put(t, w, "a")
	whole := w.file
	w.file, err = os.Open(Path(dir, 1)) // for reading only
	require.NoError(t, err)
	require.Error(t, w.Append(AppendFrame(nil, []byte("lost")), 1))
	require.True(t, w.torn)
	require.Error(t, w.Append(AppendFrame(nil, []byte("lost")), 1), "it cannot even be put right")
	require.NoError(t, w.file.Close())
	w.file = whole
	put(t, w, "b")
	require.Equal(t, []string{"1 a", "2 b"}, texts(t, dir, Reading{}))
	require.NoError(t, w.Close())
}
