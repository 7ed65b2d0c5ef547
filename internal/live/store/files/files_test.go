package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFileThatCannotBeReadSaysWhyInPlainWords(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	require.NoError(t, os.WriteFile(file, []byte("text"), 0o600))
	for name, c := range map[string]struct {
		path, says string
		is         error
	}{
		"is not there":     {filepath.Join(dir, "none"), "there is no such file or folder", fs.ErrNotExist},
		"is a folder":      {dir, "it is a folder, and a file is wanted", syscall.EISDIR},
		"is below a file":  {filepath.Join(file, "below"), "a folder is wanted there", syscall.ENOTDIR},
		"is no plain file": {os.DevNull, "this is not a file", nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, err := ReadFile(c.path)
			require.ErrorContains(t, err, c.path+": "+c.says)
			if c.is != nil {
				require.ErrorIs(t, err, c.is)
			}
		})
	}
	require.EqualError(t, Unreadable("a", fs.ErrPermission),
		"a: it may not be read by this user; look at its owner and mode")
	require.EqualError(t, Unreadable("a", errors.New("the disk is broken")), "a: it cannot be read: the disk is broken")
	large := filepath.Join(dir, "large")
	require.NoError(t, os.WriteFile(large, nil, 0o600))
	require.NoError(t, os.Truncate(large, MaxFile+1))
	_, err := ReadFile(large)
	require.ErrorContains(t, err, "split the site into several files in a folder")
	require.NoError(t, os.Truncate(large, MaxFile))
	text, err := ReadFile(large)
	require.NoError(t, err)
	require.Len(t, text, MaxFile)
}

func TestAFileIsWrittenWholeAndKeepsItsMode(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	fresh, old := filepath.Join(dir, "fresh"), filepath.Join(dir, "old")
	require.NoError(t, os.WriteFile(old, []byte("before"), 0o644))
	for path, mode := range map[string]os.FileMode{fresh: 0o600, old: 0o644} {
		require.NoError(t, WriteWhole(path, []byte("after")))
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, "after", string(text))
		info, err := os.Stat(path)
		require.NoError(t, err)
		require.Equal(t, mode, info.Mode().Perm(), path)
	}
	require.Error(t, WriteWhole(filepath.Join(dir, "none", "file"), nil))
	folder := filepath.Join(dir, "folder")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "in it"), 0o700))
	require.Error(t, WriteWhole(folder, []byte("a folder is no file")))
	left, err := filepath.Glob(filepath.Join(dir, ".*"))
	require.NoError(t, err)
	require.Empty(t, left, "nothing is left of what could not be written")
}

func TestPathsAreMeantFromTheFolderOfTheSite(t *testing.T) {
	t.Parallel()
	require.Equal(t, "/etc/keys", At("/srv/site", "/etc/keys"))
	require.Equal(t, "/srv/site/keys", At("/srv/site", "keys"))
	here, err := os.Getwd()
	require.NoError(t, err)
	require.Equal(t, filepath.Join(here, "a"), Absolute("a"))
	require.Equal(t, "a", Near(filepath.Join(here, "a")))
	require.Equal(t, "/elsewhere", Near("/elsewhere"))
}

func TestALockIsForOneAlone(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "lock")
	first, err := os.Create(path)
	require.NoError(t, err)
	second, err := os.Open(path)
	require.NoError(t, err)
	defer func() { _ = second.Close() }()
	require.True(t, Lock(first))
	require.False(t, Lock(second))
	require.NoError(t, first.Close())
	require.True(t, Lock(second))
	free, all, err := Room(path)
	require.NoError(t, err)
	require.LessOrEqual(t, free, all)
	require.NotZero(t, all)
}
