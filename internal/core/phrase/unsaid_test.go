package phrase

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What a make has no word for is named, and never said as something else.
func TestWhatCannotBeSaidIsNamed(t *testing.T) {
	t.Parallel()
	value := func(text string) []Value { return []Value{{Text: text}} }
	quay := func() *Book { return book(t, shipped+"phrasebooks/quay-switch.yaml") }
	gate := func(more map[string][]Value) *Record {
		parts := map[string][]Value{"name": value("tern"), "protocol": value("tacacs"), "address": value("192.0.2.1"),
			"port": value("49")}
		for field, v := range more {
			parts[field] = v
		}
		return NewRecord(Server, parts)
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
		sentences, left := quay().Write([]*Record{r})
		if says == "" {
			require.Empty(t, left)
			lines, err := quay().Text(sentences, true)
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
