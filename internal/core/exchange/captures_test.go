package exchange

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
)

var makeRead = flag.Bool("make-read", false, "write testdata/captures.txt anew; read what has changed in it")

// What captures that a script of its own made are read as: who asked whom, what came
// of it, under which key each way, and what is remarkable.
func TestCapturesThatOthersMadeAreReadAsWritten(t *testing.T) {
	t.Parallel()
	dirs, err := filepath.Glob("../../wire/testdata/captures/*/traffic.pcap")
	require.NoError(t, err)
	require.Greater(t, len(dirs), 200)
	var out strings.Builder
	for _, path := range dirs {
		dir := filepath.Dir(path)
		if strings.HasPrefix(filepath.Base(dir), "b-") {
			continue // the same kinds again
		}
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
		for _, d := range []struct {
			name      string
			directory Directory
		}{{"", Designed(s, keys)}, {", without the site", Directory{}}} {
			fmt.Fprintf(&out, "%s%s\n", filepath.Base(dir), d.name)
			file, err := os.Open(path)
			require.NoError(t, err)
			source, err := capture.Open(file)
			require.NoError(t, err)
			var found []string // what is open at the end comes in any order
			l := New(d.directory, func(e Exchange) {
				line := fmt.Sprintf("  %s %s > %s %s %s %s %q %s %.3f again %d key %s %s %q first %.3f %v\n",
					e.Time.Format("05.000"), e.AskedBy(), e.AskedOf(), e.Protocol, e.Person, e.Question, e.Command,
					e.Answer,
					e.Seconds,
					e.Retransmissions, e.Key, e.AnswerKey, e.KeyUsed, e.First, e.Marks)
				for _, text := range e.Remarks {
					line += fmt.Sprintf("    %s\n", text)
				}
				found = append(found, line)
			})
			_, err = capture.Read(source, l)
			require.NoError(t, err)
			l.Close()
			require.NoError(t, file.Close())
			slices.Sort(found)
			out.WriteString(strings.Join(found, ""))
		}
	}
	written(t, "testdata/captures.txt", out.String())
}

// written compares a text with a file of it.
func written(t *testing.T, path, text string) {
	t.Helper()
	if *makeRead {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	if string(want) != text {
		lines, have := strings.Split(string(want), "\n"), strings.Split(text, "\n")
		for i := range min(len(lines), len(have)) {
			require.Equal(t, lines[i], have[i], "%s:%d; -make-read writes it anew", path, i+1)
		}
		t.Fatalf("%s has %d lines, and %d are read", path, len(lines), len(have))
	}
}
