package cli_test

import (
	"strings"
	"testing"

	"mellowgate/internal/cli/clitest"

	"github.com/stretchr/testify/require"
)

func TestAskExplainsFromTheSiteAlone(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	for _, q := range []struct {
		args   string
		status int
		says   []string
	}{
		{"-as north-sw-1 -person ines.marsh", 0,
			[]string{"accepted: ines.marsh has the role deck-officer here, level 15",
				"Management-Privilege-Level = 15"}},
		{"-as north-sw-1 -person ines.marsh -question session", 0, []string{"priv-lvl = 15"}},
		{"-as north-sw-1 -person tobin.reed -question commands -command save", 1,
			[]string{"refused (command-refused)", "no rule of the role lookout allows it"}},
		{"-as north-sw-1 -person wren.auditor -access web", 1, []string{"refused (no-grant)", "comes nearest"}},
		{"-as north-sw-1 -person ines.marhs", 1, []string{"ines.marsh is one typing slip away"}},
		{"-as north-sw-1 -person new.hand -teams watch", 0, []string{"new.hand (watch)", "lookout, level 1"}},
		{"-as north-sw-1 -person new.hand -teams wach", 2, []string{`did you mean "watch"?`}},
		{"-as north-sw-1 -person ines.marsh -teams watch", 2, []string{"ines.marsh stands in the site"}},
		{"-as north-sw-1 -person ines.marsh -at never", 2, []string{"14:30"}},
		{"-person ines.marsh", 2, []string{"name it with -as"}},
		{"-as north-sw-1 -person ines.marsh -question record-start", 2, []string{"nobody decides about record-start"}},
	} {
		r := c.run(t, append(append([]string{"ask", "-explain"}, strings.Fields(q.args)...), "demo/as-reviewed")...)
		require.Equal(t, q.status, r.status, "%s\n%s%s", q.args, r.out, r.err)
		for _, says := range q.says {
			require.Contains(t, strings.Join(strings.Fields(r.out+r.err), " "), says, q.args)
		}
	}
	var got struct {
		Device, Access, Person, Question, Command, At, Answer, Reason, Text string
		Level                                                               *int
		Steps                                                               []struct {
			Part, Place, Text, Result, Why string
		}
		Attributes []struct{ Name, Value string }
	}
	r := c.run(t, "ask", "-explain", "-json", "-as", "north-sw-1", "-person", "tobin.reed", "-question", "commands",
		"-command", "look secrets", "-at", "2026-11-23T03:00", "demo/as-reviewed")
	clitest.Strictly(t, r.out, &got)
	require.Equal(t, []string{"refused", "command-refused", "decides"},
		[]string{got.Answer, got.Reason, got.Steps[3].Result})
	require.Nil(t, got.Level)
}
