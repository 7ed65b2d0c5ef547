package exchange

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// asks is a question at so many seconds, and what came of it.
func asksAt(seconds float64, person string, answer evidence.Answer, marks ...evidence.Mark) Exchange {
	x := Exchange{Time: at.Add(time.Duration(seconds * float64(time.Second))), Client: "192.0.2.1:4000",
		ServerAddress: "192.0.2.9:1812", Person: person, Question: site.AskLogin, Answer: answer, Key: KeyUnknown,
		Says: map[evidence.Mark]string{}}
	for _, m := range marks {
		mark(&x, m, string(m))
	}
	return x
}

func TestWhatOneOfTwoPlacesHasWasLostBetweenThem(t *testing.T) {
	t.Parallel()
	const later = 40.0 // the clock of the far place is ahead
	fits := asksAt(later, "ines", evidence.Accepted)
	fits.Key, fits.AnswerKey = KeyFits, KeyFits
	near := Place{Name: "near", Exchanges: []Exchange{
		asksAt(0, "ines", evidence.None), asksAt(10, "tobin", evidence.None),
		asksAt(20, "odd", evidence.Refused), asksAt(30, "late", evidence.None), asksAt(300, "after", evidence.None)}}
	far := Place{Name: "far", Exchanges: []Exchange{fits, asksAt(20+later, "odd", evidence.Refused),
		asksAt(30+later, "late", evidence.None), asksAt(31+later, "other", evidence.Accepted)}}
	all := Together([]Place{near, far})
	type seen struct {
		person string
		at     float64
		answer evidence.Answer
		says   string
	}
	var got []seen
	for _, x := range all {
		says := ""
		for _, m := range []evidence.Mark{evidence.MarkLostBack, evidence.MarkLostThere} {
			says += x.Says[m]
		}
		got = append(got, seen{x.Person, x.Time.Sub(at).Seconds(), x.Answer, says})
	}
	require.Equal(t, []seen{
		{"ines", 0, evidence.None, "the answer is in far and not in near: it was lost between them"},
		{"tobin", 10, evidence.None, "the question is in near and not in far: it was lost between them"},
		{"odd", 20, evidence.Refused, ""}, {"late", 30, evidence.None, ""}, {"other", 31, evidence.Accepted, ""},
		{"after", 300, evidence.None, ""}, // the far capture had ended by then
	}, got)
	require.Equal(t, []evidence.KeyFit{KeyFits, KeyFits}, []evidence.KeyFit{all[0].Key, all[0].AnswerKey})

	back := Together([]Place{{Name: "far", Exchanges: []Exchange{asksAt(0, "ines", evidence.Accepted)}},
		{Name: "near", Exchanges: []Exchange{asksAt(0, "ines", evidence.None)}}})
	require.Equal(t, "the answer is in far and not in near: it was lost between them",
		back[0].Says[evidence.MarkLostBack], "in whatever order they are named")
	twice := Together([]Place{{Name: "near", Exchanges: []Exchange{asksAt(0, "ines", evidence.None),
		asksAt(1, "ines", evidence.None)}}, {Name: "far", Exchanges: []Exchange{asksAt(0, "ines", evidence.Accepted,
		evidence.MarkUnheard)}}})
	require.Empty(t, twice[0].Says, "an answer that was not heard is none")
	require.Contains(t, twice[1].Says[evidence.MarkLostThere], "not in far", "one question is not two")
	empty := Together([]Place{{Name: "near", Exchanges: []Exchange{asksAt(0, "ines", evidence.None)}}, {Name: "far"}})
	require.NotEmpty(t, empty[0].Says[evidence.MarkLostThere], "what has nothing at all has not this")
	require.Empty(t, Together(nil))
	require.Len(t, Together([]Place{near}), 5)
}

func TestWhoMistypesAKeyIsTold(t *testing.T) {
	t.Parallel()
	d := directory(t)
	for with, want := range map[string]string{key + " ": "with a blank or an end of line after it", key + "x": "",
		key[1:]: "with one character missing", key + key[len(key)-1:]: "with one character twice",
		key[1:2] + key[:1] + key[2:]: "with two characters swapped"} {
		e := one(t, d, func(f *film) { f.access(1, with) })
		require.Equal(t, KeyDiffers, e.Key, with)
		if want == "" {
			require.Empty(t, e.KeyUsed)
			continue
		}
		require.Contains(t, e.KeyUsed, want)
		require.Contains(t, e.Remarks[0], "but with the key")
		require.NotContains(t, e.Remarks[0], key)
	}
}
