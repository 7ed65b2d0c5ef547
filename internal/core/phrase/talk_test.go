package phrase

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestHowAMakeIsTalkedTo(t *testing.T) {
	t.Parallel()
	hull := book(t, shipped+"phrasebooks/hull-router.yaml").Talk()
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
	require.Equal(t, ToBefore, hull.WayBack.Restores)
	require.Equal(t, " ", hull.Press)
	require.Equal(t, AtOnce, hull.Effect)
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

	quay := book(t, shipped+"phrasebooks/quay-switch.yaml").Talk()
	require.Nil(t, quay.WayBack)
	_, sets = quay.Minutes("revert in 3")
	require.False(t, sets)
	answer, asks := quay.Answer("... Keep it over what is kept? (y/n) ")
	require.True(t, asks)
	require.Equal(t, "y", answer)
	_, asks = quay.Answer("Keep it over what is kept? (y/n) y")
	require.False(t, asks)
	require.Equal(t, "keep", quay.Save)

	late := small(t, "layout: {sections: indent}\nterritory: [gate]\ntalk: {prompts: {full: \"<host>#\"}, page: "+
		"{shows: more, press: enter}, takes-effect: {at: commit, say: make good}, way-back: {set: \"good for "+
		"<minutes>m\", call-off: good, restores: saved}}\nphrases: [{about: server, say: gate <name>}]\n").Talk()
	require.Equal(t, AtCommit, late.Effect)
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
		_, err := Load("b.yaml",
			[]byte("phrasebook: 1\nmake: small\nlayout: {sections: indent}\nterritory: [gate]\ntalk: "+talk+
				"\nphrases: [{about: server, say: gate <name>}]\n"))
		require.ErrorContains(t, err, says, talk)
	}
}

// What a make has no word for is named, and never said as something else.
func TestWhatCannotBeSaidIsNamed(t *testing.T) {
	t.Parallel()
	value := func(text string) []Value { return []Value{{Text: text}} }
	quay := func() *Book { return book(t, shipped+"phrasebooks/quay-switch.yaml") }
	gate := func(more map[string][]Value) *Record {
		all := map[string][]Value{"name": value("tern"), "protocol": value("tacacs"), "address": value("192.0.2.1"),
			"port": value("49")}
		for field, v := range more {
			all[field] = v
		}
		return NewRecord(Server, all)
	}
	for says, r := range map[string]*Record{
		"": gate(nil),
		"the timeout of server tern: the make says it in steps that do not have this value": gate(map[string][]Value{
			"timeout": value("1500ms")}),
		"the source of server tern: the phrasebook has no words for it": gate(
			map[string][]Value{"source": value("192.0.2.9")}),
		"account night: the make would say something else": NewRecord(
			Account, map[string][]Value{"name": value("night"),
				"level": value("full"), "password": {{Text: "x", Secret: Clear}}}),
		"login list crew: the make has no word for it": NewRecord(List, map[string][]Value{"name": value("crew"),
			"purpose": value("login"), "methods": value("secret raise")}),
		"account a: it has a character that would end the line": NewRecord(
			Account, map[string][]Value{"name": value("a"),
				"level": value("1"), "password": {{Text: "x\ny", Secret: Clear}}}),
	} {
		all, left := quay().Write([]*Record{r})
		if says == "" {
			require.Empty(t, left)
			lines, err := quay().Text(all, true)
			require.NoError(t, err)
			require.Equal(t, []string{"gate tern tac at 192.0.2.1"}, lines,
				"what holds where no line says it is not said")
			continue
		}
		require.Len(t, left, 1, says)
		require.Equal(t, says, left[0].String())
	}
	for word, says := range map[string]string{`a"b`: "the make's own quote", "a\x01": "would end the line"} {
		b := quay()
		_, err := b.Text([]*Sentence{{words: []spoken{{text: word}}}}, true)
		require.ErrorContains(t, err, says)
	}
	bare := small(t, "layout: {sections: indent}\nterritory: [gate]\nphrases: [{about: server, say: gate <name>}]\n")
	_, err := bare.Text([]*Sentence{{words: []spoken{{text: "two words"}}}}, true)
	require.ErrorContains(t, err, "it has no quotes")
}
