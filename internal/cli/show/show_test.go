package show

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestATableFitsItsWidth(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	long := strings.Repeat("words that wrap ", 12)
	Style{Width: 60}.Table(&out, []string{"name", "what", "where"},
		[][]string{{"a", long, "here"}, {"b", "short", long}},
		1, 2)
	for line := range strings.SplitSeq(out.String(), "\n") {
		require.LessOrEqual(t, len(line), 60, line)
		require.Equal(t, strings.TrimRight(line, " "), line)
	}
	require.Contains(t, out.String(), "NAME  WHAT")
}

func TestAPipeGetsNoColour(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	require.Equal(t, "text", For(&out, false).Paint(Bad, "text"))
	require.Equal(t, "\x1b[31;1mtext\x1b[0m", Style{colour: true}.Paint(Bad, "text"))
}

func TestTextFromElsewhereCannotSteerATerminal(t *testing.T) {
	t.Parallel()
	require.Equal(t, "\uFFFD[31mred\uFFFD\uFFFD\n", Safe("\x1b[31mred\x7f\u009b\n"))
}

func TestSmallWords(t *testing.T) {
	t.Parallel()
	require.Equal(t, []string{"0 s", "1.5 s", "31 s"},
		[]string{Seconds(0), Seconds(1500 * time.Millisecond), Seconds(31 * time.Second)})
	require.Equal(t, []string{"1 error", "0 errors"}, []string{Count(1, "error"), Count(0, "error")})
}
