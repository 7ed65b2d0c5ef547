package phrase

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestADeviceTakesLinesAndShowsWhatHolds(t *testing.T) {
	t.Parallel()
	d := book(t, shipped+"phrasebooks/quay-switch.yaml").NewModel("that is all\n")
	for _, line := range []string{"gate tern tac at 192.0.2.21", " word plain Secret-1", " patience 3", "",
		"GATE plover tac at 192.0.2.22",
		"word plain Secret-2", "ring shore", " gate tern", " gate plover", "plan crew who ask shore own", "door wire",
		" follow who crew", "keeper master rank full word plain Aboard-1"} {
		require.Empty(t, d.Type(line), line)
	}
	require.Equal(t, []string{"gate tern tac at 192.0.2.21", " word sealed c0ffee", " patience 3",
		"GATE plover tac at 192.0.2.22",
		" word sealed c0ffee", "ring shore", " gate tern", " gate plover", "plan crew who ask shore own", "door wire",
		" follow who crew", "keeper master rank full word mixed c0ffee", "that is all"}, d.Show())
	require.Contains(t, d.Text(), "Secret-1")
	before := d.Text()
	for line, why := range map[string]string{"gait tern tac at 192.0.2.21": "no phrase reads it",
		"patience soon": "no phrase",
		"drop ring sea": "of which no line before it speaks", "alter": "no phrase reads it"} {
		require.Contains(t, d.Type(line), why, line)
		require.Equal(t, before, d.Text(), "a line that is refused changes nothing")
	}
	for _, line := range []string{"plan crew who own", "gate tern tac at 192.0.2.21", " drop patience 3", "ring shore",
		" drop gate plover"} {
		require.Empty(t, d.Type(line), line)
	}
	require.Equal(t, []string{"gate tern tac at 192.0.2.21", " word sealed c0ffee", "GATE plover tac at 192.0.2.22",
		" word sealed c0ffee", "ring shore", " gate tern", "plan crew who own", "door wire", " follow who crew",
		"keeper master rank full word mixed c0ffee", "that is all"}, d.Show())
	require.Empty(t, d.Type("gate tern tac at 192.0.2.21"))
	for line, shown := range map[string]string{" word plain Secret-9": "word plain …",
		"keeper x rank full word plain Aboard-2": "keeper x rank full word plain …",
		"gate x tac at 192.0.2.9":                "gate x tac at 192.0.2.9",
		"kepeer x Aboard-2":                      "…"} {
		require.Equal(t, shown, d.Shown(line), line)
	}
	again := d.Copy()
	require.Empty(t, again.Type("drop gate plover tac at 192.0.2.22"))
	require.NotContains(t, again.Text(), "plover")
	require.Contains(t, d.Text(), "plover")
}

func TestADeviceOfFlatLinesKeepsItsNumbers(t *testing.T) {
	t.Parallel()
	d := book(t, shipped+"phrasebooks/hull-router.yaml").NewModel("end of list\n")
	for _, line := range []string{"put helper t 1 host 192.0.2.21", "put helper t 1 word 'Two words'",
		"put entry who 20 h",
		"put entry who 10 t", "put crew master level 15", "put crew master plain Aboard-1", "put helper wait 10",
		"put helper wait 20"} {
		require.Empty(t, d.Type(line), line)
	}
	require.Equal(t, []string{"put helper t 1 host 192.0.2.21", "put helper t 1 word (kept back)", "put helper wait 20",
		"put entry who 20 h", "put entry who 10 t", "put crew master level 15", "put crew master mixed c0ffee",
		"end of list"},
		d.Show())
	require.Contains(t, d.Text(), "'Two words'")
	require.Empty(t, d.Type("lift entry who 20 h"))
	require.Empty(t, d.Type("put entry who 10 h"))
	require.Contains(t, strings.Join(d.Show(), "\n"), "put helper wait 20\nput entry who 10 h\nput crew")
}

// What a device says of itself is said again in the same words, as far as it is ours.
func TestASavedTextIsWrittenAsItIs(t *testing.T) {
	t.Parallel()
	for file, from := range texts {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		b := book(t, from)
		plan, err := b.Back(string(text), string(text))
		require.NoError(t, err)
		var left []string
		for _, s := range plan.Steps {
			for _, l := range s.Lines {
				left = append(left, l.Shown())
			}
		}
		require.Empty(t, left, file)
	}
}
