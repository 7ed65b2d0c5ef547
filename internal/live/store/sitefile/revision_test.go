package sitefile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestARevisionIsOfWhatTheFilesSay(t *testing.T) {
	t.Parallel()
	write := func(inventory, key string) string {
		dir := t.TempDir()
		for name, text := range map[string]string{"site.yaml": "site: S\nkeys: {k: file key}\ndevices-from: list.csv\n",
			"list.csv": inventory, "key": key} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		}
		return dir
	}
	first := Revision(write("name,addresses\nsw-1,192.0.2.1\n", "one"))
	require.Regexp(t, "^[0-9a-f]{12}$", first)
	again := Revision(write("name,addresses\nsw-1,192.0.2.1\n", "two"))
	require.Equal(t, first, again, "in another folder, with another key")
	require.NotEqual(t, first, Revision(write("name,addresses\nsw-1,192.0.2.2\n", "one")), "the inventory counts")
	require.Empty(t, Revision(filepath.Join(t.TempDir(), "none")))
}
