package sitefile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestASiteIsAFileOrAFolder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.yaml"),
		[]byte("people:\n  - {name: ines, password: $6$a$b}\n"),
		0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("site: Both\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "note.txt"), []byte("not read"), 0o600))
	s, base, err := Load(dir)
	require.NoError(t, err)
	require.Equal(t, []any{"Both", dir, 2}, []any{s.Name, base, len(s.Files)})
	require.NotNil(t, s.Person("ines"))
	s, base, err = Load(filepath.Join(dir, "a.yaml"))
	require.NoError(t, err)
	require.Equal(t, []any{"Both", dir, 1}, []any{s.Name, base, len(s.Files)})
	require.NoError(t, os.Mkdir(filepath.Join(dir, "c.yaml"), 0o700))
	_, _, err = Load(dir)
	require.ErrorContains(t, err, "c.yaml: it is a folder, and a file is wanted")
}
