package capture

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var makeRead = flag.Bool("make-read", false, "write testdata/captures.txt anew; read what has changed in it")

// How connections end, who ended them and what was never acknowledged, in captures that
// a script of its own made; tunnels, cut packets and questions for link addresses too.
func TestCapturesThatOthersMadeAreTakenApartAsWritten(t *testing.T) {
	t.Parallel()
	paths, err := filepath.Glob("../testdata/captures/*/traffic.pcap")
	require.NoError(t, err)
	require.Greater(t, len(paths), 200)
	var text strings.Builder
	for _, path := range paths {
		if strings.Contains(path, "/b-") {
			continue // the same kinds again
		}
		file, err := os.ReadFile(path)
		require.NoError(t, err)
		n := &notes{}
		s, err := Open(strings.NewReader(string(file)))
		require.NoError(t, err)
		stats, err := Read(s, n)
		require.NoError(t, err)
		fmt.Fprintf(&text, "%s %+v\n", filepath.Base(filepath.Dir(path)), stats)
		var found []string // connections that are open at the end come in any order
		for _, line := range n.lines {
			found = append(found, fmt.Sprintf("  %.120q\n", line))
		}
		for _, e := range n.ends {
			found = append(found, fmt.Sprintf("  %+v\n", e))
		}
		slices.Sort(found)
		text.WriteString(strings.Join(found, ""))
	}
	if *makeRead {
		require.NoError(t, os.WriteFile("testdata/captures.txt", []byte(text.String()), 0o644))
	}
	want, err := os.ReadFile("testdata/captures.txt")
	require.NoError(t, err)
	lines, have := strings.Split(string(want), "\n"), strings.Split(text.String(), "\n")
	for i := range min(len(lines), len(have)) {
		require.Equal(t, lines[i], have[i], "testdata/captures.txt:%d; -make-read writes it anew", i+1)
	}
	require.Len(t, have, len(lines))
}
