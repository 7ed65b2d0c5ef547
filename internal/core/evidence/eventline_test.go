package evidence

import (
	"encoding/json"
	"testing"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestAnEventsLineIsWhatTheJSONPackageWouldWrite(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		text := func(name string) string {
			return rapid.OneOf(rapid.Just(""), rapid.String(), rapid.StringMatching(`[ -~]{0,12}`),
				rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) })).Draw(t, name)
		}
		e := Event{Time: time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "seconds"),
			rapid.Int64Range(0, 999999999).Draw(t, "nanoseconds")).UTC(),
			Server: text("server"), Protocol: site.Protocol(text("protocol")), Client: text("client"),
			Port: rapid.Uint16().Draw(t, "client_port"), Device: text("device"),
			Access: text("access"),
			Person: text("person"), Question: site.Question(text("question")), Command: text("command"),
			Answer: Answer(text("answer")), Reason: reason.Reason(text("reason")),
			Text: text("text"), Place: text("place"), Rule: text("rule"), Key: text("key"), Returned: text("returned"),
			Cause:  text("cause"),
			Repair: text("repair")}
		if level := rapid.IntRange(-1, 15).Draw(t, "level"); level >= 0 {
			e.Level = &level
		}
		want, err := json.Marshal(e)
		require.NoError(t, err)
		require.Equal(t, string(want)+"\n", string(e.AppendLine(nil)))
	})
}
