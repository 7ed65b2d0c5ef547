package talk_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/phrase/talk"
)

func TestHowAMakeIsTalkedTo(t *testing.T) {
	t.Parallel()
	hull := load(t, "hull-router").Talk()
	require.Equal(t, "return in 1", hull.WayBack.SetFor(time.Second))
	require.Equal(t, "return in 2", hull.WayBack.SetFor(61*time.Second))
	require.Equal(t, "return in 10", hull.WayBack.SetFor(10*time.Minute))
	for told, lasts := range map[time.Duration]time.Duration{0: time.Minute, 2 * time.Minute: 2 * time.Minute,
		140 * time.Second: 3 * time.Minute} {
		require.Equal(t, lasts, hull.WayBack.Lasts(told))
	}
	n, sets := hull.Minutes("return in 12")
	require.True(t, sets)
	require.Equal(t, 12, n)
	for _, line := range []string{"return in 0", "return in x", "return never", "xreturn in 3", "return in"} {
		_, sets = hull.Minutes(line)
		require.False(t, sets, line)
	}
	require.True(t, hull.WayBack.OnLoss)
	require.Equal(t, talk.ToBefore, hull.WayBack.Restores)
	require.Equal(t, " ", hull.Press)
	require.Equal(t, talk.AtOnce, hull.Effect)
	require.True(t, hull.Refuses("? put entry"))
	require.True(t, hull.Warns("note: it is so"))
	for _, line := range []string{"", "put entry who 10 t", "a ? in it"} {
		require.False(t, hull.Refuses(line), line)
	}
	require.Equal(t, "? put x", hull.Refusal("put x"))
	require.Equal(t, "r>", hull.Prompt("r", false, false))
	require.Equal(t, "r>>", hull.Prompt("r", false, true))
	require.Equal(t, "r draft>>", hull.Prompt("r", true, true))
	require.True(t, hull.At("end of list\nr draft>> ", "r").Configuring)
	require.Equal(t, "full", hull.At("r>>", "r").Name)
	require.Nil(t, hull.At("other>>", "r"))
	require.Nil(t, hull.At("r>>\n", "r"), "it is at the end")

	quay := load(t, "quay-switch").Talk()
	require.Nil(t, quay.WayBack)
	_, sets = quay.Minutes("revert in 3")
	require.False(t, sets)
	answer, asks := quay.Answer("... Keep it over what is kept? (y/n) ")
	require.True(t, asks)
	require.Equal(t, "y", answer)
	_, asks = quay.Answer("Keep it over what is kept? (y/n) y")
	require.False(t, asks)
	require.Equal(t, "keep", quay.Save)

	late := written(t, "layout: {sections: indent}\nterritory: [gate]\ntalk: {prompts: {full: \"<host>#\"}, page: "+
		"{shows: more, press: enter}, takes-effect: {at: commit, say: make good}, way-back: {set: \"good for "+
		"<minutes>m\", call-off: good, restores: saved}}\nphrases: [{about: server, say: gate <name>}]\n").Talk()
	require.Equal(t, talk.AtCommit, late.Effect)
	require.Equal(t, "make good", late.Commit)
	require.Equal(t, "\r", late.Press)
	n, sets = late.Minutes("good for 7m")
	require.True(t, sets)
	require.Equal(t, 7, n)
	require.Equal(t, "refused: x", late.Refusal("x"))
	require.False(t, late.WayBack.OnLoss)

	for talk, says := range map[string]string{
		"{show: x}":                                              "talk wants the prompts",
		"{prompts: {full: x}, enter: [go]}":                      "no prompt of that place",
		"{prompts: {full: x}, way-back: {set: x}}":               "a way back wants three: set, call-off, and restores",
		"{prompts: {full: x}, page: {shows: x, press: any}}":     "press is not \"any\"",
		"{prompts: {full: x}, takes-effect: sometimes}":          "takes-effect is not \"sometimes\"",
		"{prompts: {full: x}, way-back: maybe}":                  "way-back is not \"maybe\"",
		"{prompts: {full: x}, takes-effect: {at: once, say: x}}": "at is not \"once\"",
	} {
		_, err := phrase.Load("b.yaml",
			[]byte("phrasebook: 1\nmake: small\nlayout: {sections: indent}\nterritory: [gate]\ntalk: "+talk+
				"\nphrases: [{about: server, say: gate <name>}]\n"))
		require.ErrorContains(t, err, says, talk)
	}
}

// load returns a phrasebook that ships with the program.
func load(t *testing.T, name string) *phrase.Book {
	t.Helper()
	path := "../../../../demo/phrasebooks/" + name + ".yaml"
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	b, err := phrase.Load(path, text)
	require.NoError(t, err)
	return b
}

// written returns a small phrasebook with this text.
func written(t *testing.T, text string) *phrase.Book {
	t.Helper()
	b, err := phrase.Load("small.yaml", []byte("phrasebook: 1\nmake: small\n"+text))
	require.NoError(t, err)
	return b
}
