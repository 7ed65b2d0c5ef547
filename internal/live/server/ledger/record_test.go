package ledger

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"mellowgate/internal/core/evidence"
)

// A record that was written is read as it was, whatever is in it.
func TestARecordIsReadAsItWasWritten(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		text := func(name string) string { return rapid.OneOf(rapid.Just(""), rapid.String()).Draw(t, name) }
		r := Record{Time: time.Unix(0, rapid.Int64().Draw(t, "time")).UTC(), Node: text("node"),
			Kind:   Kind(text("kind")),
			Person: text("person"), Device: text("device"), Access: text("access"), From: text("from"),
			Level: rapid.Int().Draw(t, "level"), Result: evidence.Answer(text("result")), Command: text("command"),
			Reason: text("reason"), Session: text("session"), Protocol: text("protocol"), Rule: text("rule"),
			Returned: text("returned"), Sequence: rapid.Int64Range(1, math.MaxInt64).Draw(t, "sequence"),
			Hash: text("hash")}
		entry := appendField(appendBody(nil, r), r.Hash)
		read, err := decode(entry)
		require.NoError(t, err)
		require.Equal(t, r, read)
		at, err := timeOf(entry)
		require.NoError(t, err)
		require.Equal(t, r.Time.UnixNano(), at)
	})
}

// A head is read as it was written, and one of another form is said to be.
func TestAHeadIsReadAsItWasWritten(t *testing.T) {
	t.Parallel()
	h := head{chain: "c0ffee", first: 77, before: strings.Repeat("a", 64)}
	read, err := decodeHead(h.encode())
	require.NoError(t, err)
	require.Equal(t, h, read)
	for _, text := range []string{"", "x", "20:mellowgate records 26:c0ffee2:770:", "5:hello",
		string(h.encode()) + "1:x"} {
		_, err := decodeHead([]byte(text))
		require.Error(t, err, text)
	}
}

// Texts are made fit for every database, and long ones are cut.
func TestTextsAreFitAndNotTooLong(t *testing.T) {
	t.Parallel()
	require.Equal(t, "a\uFFFDb", text("a\x00b"))
	require.Equal(t, "a\uFFFDb", text("a\xffb"))
	require.Len(t, text(strings.Repeat("x", mostField)), mostField)
	require.Equal(t, strings.Repeat("x", mostField)+" (cut)", text(strings.Repeat("x", mostField+1)))
}

// Whatever stands where a record should be, it is a record or is said to be none.
func TestWhatIsNoRecordIsSaidToBeNone(t *testing.T) {
	t.Parallel()
	good := appendField(appendBody(nil, Record{Time: time.Unix(1, 0), Kind: Login, Person: "ines", Sequence: 1}),
		"hash")
	rapid.Check(t, func(t *rapid.T) {
		entry := []byte(string(good))
		for range rapid.IntRange(1, 4).Draw(t, "changes") {
			at := rapid.IntRange(0, len(entry)-1).Draw(t, "at")
			entry[at] = rapid.SampledFrom([]byte("0123456789:-+x\xff")).Draw(t, "octet")
			if rapid.Bool().Draw(t, "short") {
				entry = entry[:max(1, at)]
			}
		}
		_, _ = timeOf(entry)
		_, _ = decodeHead(entry)
		r, err := decode(entry)
		if err != nil {
			require.ErrorIs(t, err, errNoRecord)
			return
		}
		again, err := decode(appendField(appendBody(nil, r), r.Hash))
		require.NoError(t, err)
		require.Equal(t, r, again)
	})
}
