package service

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// What came of thousands of devices is a few lines and a sum.
func TestWhatCameOfManyDevicesIsSaidShortly(t *testing.T) {
	t.Parallel()
	var lines []string
	told := &telling{say: func(text string) { lines = append(lines, text) }}
	for i := range mostSaid {
		told.note(true, fmt.Sprint("device ", i))
	}
	told.end()
	require.Len(t, lines, mostSaid, "no sum of nothing")
	for i := range 5 {
		told.note(i < 3, "one more")
	}
	told.end()
	require.Len(t, lines, mostSaid+1)
	require.Contains(t, lines[mostSaid], "in 3 more places, and not in 2")
}
