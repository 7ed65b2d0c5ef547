package journal

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

func TestEachFormTellsWhatItIsFor(t *testing.T) {
	t.Parallel()
	event := evidence.Event{Time: time.Unix(1_800_000_000, 0), Server: "tern", Person: "ines", Answer: evidence.Refused}
	for _, form := range Forms() {
		t.Run(form, func(t *testing.T) {
			t.Parallel()
			var out bytes.Buffer
			var sentences []string
			j := New(form, &out, func(text string) { sentences = append(sentences, text) }, nil)
			j.Say("it is ready")
			j.Fact("head", "chain", "7", "odd")
			j.Event(event)
			require.Equal(t, form != Plain, j.TellsEvents())
			if form == Plain {
				require.Equal(t, []string{"it is ready"}, sentences)
				require.Empty(t, out.String())
				return
			}
			require.Empty(t, sentences)
			lines := strings.Split(strings.TrimSpace(out.String()), "\n")
			require.Len(t, lines, 3)
			require.Contains(t, lines[1], "chain")
			require.NotContains(t, lines[1], "odd")
			require.Contains(t, lines[2], "WARN")
			if form == JSON {
				var got map[string]any
				require.NoError(t, json.Unmarshal([]byte(lines[2]), &got))
				require.Equal(t, "ines", got["person"])
			}
		})
	}
	(&Journal{}).Say("nobody is told")
	(&Journal{}).Event(event)
}

// RFC 5424, section 6: a header of printable fields, structured data with its signs escaped, the text in UTF-8.
func TestASyslogMessageHoldsToItsForm(t *testing.T) {
	t.Parallel()
	s := &Syslog{host: "gate-host"}
	at := time.Date(2026, 3, 4, 3, 9, 1, 500_000_000, time.UTC)
	got := string(s.message(at, info, "log in", []slog.Attr{slog.String("person", `in"es\]`)}, "ines is in\xff"))
	require.Regexp(t, `^<\d+>1 2026-03-04T03:09:01\.500000Z gate-host mellowgate \d+ login `+
		`\[event@32473 person="in\\"es\\\\\\]"\] `+"\xef\xbb\xbf"+`ines is in`+"\uFFFD"+`$`, got)
	require.Contains(t, string(s.message(at, info, "\x00", nil, "x")), " - - \xef\xbb\xbfx")
	require.Contains(t, string(s.message(at, info, "head", []slog.Attr{slog.String("a", "b")}, "x")), "[head@32473 ")

	s.to = site.SyslogSink{Network: "unix"}
	require.Regexp(t, `^<\d+>\w{3} [ \d]\d \d\d:\d\d:\d\d mellowgate\[\d+\]: it is up$`,
		string(s.message(at, info, "service", nil, "it is up")))
}

func TestWhatIsTooLongIsCutBetweenCharacters(t *testing.T) {
	t.Parallel()
	require.Equal(t, "ab", string(whole([]byte("ab"), 2)))
	require.Equal(t, "a", string(whole([]byte("a\u00e9"), 2)))
	require.Empty(t, whole([]byte("\u00e9"), 1))
	s := &Syslog{host: "h"}
	long := strings.Repeat("\u00e9", longestField)
	got := s.message(time.Now(), info, "event", []slog.Attr{slog.String("kept", "1"), slog.String("long", long)}, long)
	require.LessOrEqual(t, len(got), longestField)
	require.True(t, utf8.Valid(got))
	require.Contains(t, string(got), `[event@32473 kept="1"]`, "what finds no room in the data is in the text")
}
