package diagnose

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
)

// ofOthers is a capture that a script made which shares nothing with the program: its
// own RADIUS and TACACS+, its own frames.
type ofOthers struct {
	name, about, where string
	first              []string
	evidence           evidence.Evidence
}

func capturesOfOthers(t *testing.T) []ofOthers {
	t.Helper()
	expects, err := filepath.Glob("../../wire/testdata/captures/*/expect.json")
	require.NoError(t, err)
	require.Greater(t, len(expects), 200)
	var all []ofOthers
	for _, path := range expects {
		dir := filepath.Dir(path)
		var want struct {
			First        []string
			Where, About string
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, &want))
		design, err := os.ReadFile(filepath.Join(dir, "site.yaml"))
		if os.IsNotExist(err) { // that of all of them
			design, err = os.ReadFile(filepath.Join(dir, "../site.yaml"))
		}
		require.NoError(t, err)
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: design})
		require.NoError(t, err)
		keys := site.Keys{}
		for _, k := range s.Keys {
			keys[k.Name] = k.Clear
		}
		e := evidence.Evidence{Site: s, Keys: keys}
		file, err := os.Open(filepath.Join(dir, "traffic.pcap"))
		require.NoError(t, err)
		source, err := capture.Open(file)
		require.NoError(t, err)
		l := exchange.New(exchange.Designed(s, keys), func(
			x exchange.Exchange) {
			e.Exchanges = append(e.Exchanges, x)
		})
		_, err = capture.Read(source, l)
		require.NoError(t, err)
		l.Close()
		require.NoError(t, file.Close())
		all = append(all, ofOthers{name: filepath.Base(dir), about: want.About, where: want.Where, first: want.First,
			evidence: e})
	}
	return all
}

// A third of these logins are well, or nearly not.
func TestCapturesThatOthersMadeAreJudgedRight(t *testing.T) {
	t.Parallel()
	for _, c := range capturesOfOthers(t) {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			v := Explain(c.evidence, Symptom{})
			if slices.Equal(c.first, []string{"healthy"}) {
				require.True(t, v.Healthy, "%s: %+v", c.about, v.Causes)
				return
			}
			require.NotEmpty(t, v.Causes, c.about)
			require.Contains(t, c.first, v.Causes[0].Cause, c.about)
			data, err := json.Marshal(v.Causes[0])
			require.NoError(t, err)
			require.Contains(t, string(data), c.where, c.about)
		})
	}
}
