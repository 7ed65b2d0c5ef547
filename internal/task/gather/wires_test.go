package gather_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task/gather"
)

// The captures in testdata/wires are made by a script that shares nothing with the
// program: its own RADIUS and TACACS+, its own frames. A third of the logins are well,
// or nearly not.
func TestCapturesThatOthersMadeAreJudgedRight(t *testing.T) {
	t.Parallel()
	expects, err := filepath.Glob("testdata/wires/*/expect.json")
	require.NoError(t, err)
	require.Greater(t, len(expects), 60)
	for _, path := range expects {
		dir := filepath.Dir(path)
		t.Run(filepath.Base(dir), func(t *testing.T) {
			t.Parallel()
			var want struct {
				First        []string
				Where, About string
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(text, &want))
			s, _, err := sitefile.Load(filepath.Join(dir, "site.yaml"))
			require.NoError(t, err)
			keys, _ := secrets.Keys(s, dir, secrets.Unlock{})
			e, notes, err := gather.Files{Capture: filepath.Join(dir, "traffic.pcap")}.Read(nil, exchange.Designed(s, keys))
			require.NoError(t, err)
			require.Empty(t, notes)
			e.Site, e.Keys = s, keys
			v := diagnose.Explain(e, diagnose.Symptom{})
			if slices.Equal(want.First, []string{"healthy"}) {
				require.True(t, v.Healthy, "%s: %+v", want.About, v.Causes)
				return
			}
			require.NotEmpty(t, v.Causes, want.About)
			require.Contains(t, want.First, v.Causes[0].Cause, want.About)
			all, err := json.Marshal(v.Causes[0])
			require.NoError(t, err)
			require.Contains(t, string(all), want.Where, want.About)
		})
	}
}
