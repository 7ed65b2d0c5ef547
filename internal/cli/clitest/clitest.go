// Package clitest has what the tests of commands share, whether a command runs in the test or as the program.
package clitest

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/secrets"
)

// Strictly decodes JSON, and checks that its names are snake_case.
func Strictly(t *testing.T, text string, into any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), into), text)
	for _, key := range regexp.MustCompile(`"([^"\\]+)":`).FindAllStringSubmatch(text, -1) {
		require.Regexp(t, `^[a-z][a-z0-9_]*$|[ .%]`, key[1], "names are snake_case")
	}
}

// CheapHashes puts hashes of small cost for the passwords of a site that `new` made in a folder, so that what
// checks and logs in many times takes the time of the test alone.
func CheapHashes(t *testing.T, folder string) {
	t.Helper()
	path := filepath.Join(folder, "site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	hash := regexp.MustCompile(`"\$argon2id[^"]*"( +# of the password in )(passwords/[\w.]+)`)
	require.Regexp(t, hash, string(text))
	cheap := hash.ReplaceAllStringFunc(string(text), func(found string) string {
		parts := hash.FindStringSubmatch(found)
		password, err := os.ReadFile(filepath.Join(folder, parts[2]))
		require.NoError(t, err)
		made, err := secrets.Hash(strings.TrimSpace(string(password)), 64, 1)
		require.NoError(t, err)
		return strconv.Quote(made) + parts[1] + parts[2]
	})
	require.NoError(t, os.WriteFile(path, []byte(cheap), 0o600))
}

// Widest returns the number of characters of a text's longest line.
func Widest(text string) int {
	most := 0
	for line := range strings.SplitSeq(text, "\n") {
		most = max(most, len([]rune(line)))
	}
	return most
}

// Listing returns the paths of everything below a folder.
func Listing(t *testing.T, dir string) []string {
	t.Helper()
	var paths []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		paths = append(paths, path)
		return err
	}))
	return paths
}
