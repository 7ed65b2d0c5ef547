package walk

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

const moreLists = loginLists + `
  - {name: r-only, authenticate: login, methods: [group r]}
  - {name: typed, authorize: commands, methods: [group t]}
  - {name: typed-r, authorize: commands, methods: [group r, signed-in]}
  - {name: kept-r, account: commands, methods: [group r, group t]}
  - {name: up, authenticate: elevation, methods: [group t]}
  - {name: up-r, authenticate: elevation, methods: [group r, local]}
`

// carrying lets in over RADIUS with command rules of the make, and answers the rest as its world does.
type carrying struct{ world }

func (c *carrying) Begin(s *site.Server, q Question) Exchange {
	return carried{exchange{&c.world, s, q}}
}

type carried struct{ exchange }

func (c carried) Try(n int) Reply {
	r := c.exchange.Try(n)
	if c.s.Protocol == site.RADIUS && c.q.Purpose == site.Login {
		r.Attributes = append(r.Attributes, rights.Attribute{Name: "Example-May", Value: "look **"})
	}
	return r
}

func limiting(t *testing.T, ways string) *site.Device {
	d := device(t, "rights-with-login: true", moreLists, ways, "keeper")
	d.Platform.Commands = &site.CommandRights{Allow: "Example-May", AllowForm: site.CommandPlace, Word: "*", Rest: "**"}
	return d
}

// Rules that came with the login decide about a command before any list is asked.
func TestRulesThatCameWithALoginDecideFirst(t *testing.T) {
	t.Parallel()
	d := limiting(t, "ssh: {login: r-only, commands: typed}")
	w := &carrying{world{answers: map[string]string{"r1": "yes 15", "t1": "yes"}}}
	v := &Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: new(Rests)}
	require.True(t, v.Enter("ines").In)
	rules, limited := v.Rules()
	require.True(t, limited)
	require.Len(t, rules, 2)
	w.asked = nil
	require.Equal(t, Verdict{Allowed: false, By: "r1", Reason: reason.CommandRefused,
		Message: `the rule "refuse **" that came with the login refuses it`}, v.Command(time.Minute, "set port", 15))
	require.Empty(t, w.asked, "the list is not asked about what is refused already")
	last := v.Steps[len(v.Steps)-1]
	require.Equal(t, []any{site.Commands, site.ByRules, Refused, reason.CommandRefused, "r1"},
		[]any{last.Purpose, last.Method.Kind, last.Result, last.Reason, last.By})
	require.Equal(t, Verdict{Allowed: true, By: "t1"}, v.Command(time.Minute, "look ports", 15))
	require.Equal(t, []string{"commands t1 1"}, w.asked)
}

// RADIUS has no question about a command, none about an elevation, and no record of a command.
func TestWhatAProtocolHasNoQuestionForIsNotAsked(t *testing.T) {
	t.Parallel()
	d := device(t, "", moreLists,
		"ssh: {login: r-only, commands: typed-r, record-commands: kept-r, elevation: up-r}", "keeper")
	w := &world{answers: map[string]string{"r1": "yes", "t1": "yes"}, right: "keeper"}
	_, v := enter(d, w, "ines")
	w.asked = nil
	require.True(t, v.Command(time.Minute, "look", 15).Allowed)
	require.Equal(t, []string{"record-commands t1 1"}, w.asked)
	v.Elevate(time.Minute, 15)
	require.Equal(t, []string{"record-commands t1 1"}, w.asked)
	notCarried := 0
	for _, s := range v.Steps {
		if s.Reason == reason.NotCarried {
			require.Equal(t, Unavailable, s.Result)
			notCarried++
		}
	}
	require.Equal(t, 3, notCarried)
}

// What an elevation or a command waits is its own waiting, not that of the login before it.
func TestTheWaitOfAnElevationIsItsOwn(t *testing.T) {
	t.Parallel()
	d := device(t, "", moreLists, "ssh: {login: t-only, elevation: up}", "keeper")
	w := &world{answers: map[string]string{"t1": "silent", "t2": "yes"}}
	e, v := enter(d, w, "ines")
	require.Equal(t, 2*time.Second, e.Wait)
	w.answers = map[string]string{"t1": "no", "t2": "silent"}
	verdict := v.Elevate(time.Minute+time.Second, 15)
	require.Equal(t, 3*time.Second, verdict.Wait, "t1 is left alone still, and t2 says nothing")
	require.False(t, verdict.Allowed)
}

// A server that answers though it was left alone is not left alone any more.
func TestAServerThatAnswersIsAwake(t *testing.T) {
	t.Parallel()
	d := device(t, "", moreLists, "ssh: {login: t-only}", "keeper")
	w := &world{answers: map[string]string{"t1": "silent", "t2": "silent"}}
	rests := new(Rests)
	(&Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: rests}).Enter("ines")
	require.Len(t, rests.All(), 2)
	w.answers = map[string]string{"t1": "yes"}
	(&Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: rests, Now: 10 * time.Second}).Enter("ines")
	var left []string
	for s, until := range rests.All() {
		left = append(left, s.Name)
		require.Equal(t, 65*time.Second, until)
	}
	require.Equal(t, []string{"t2"}, left)
	rests.All()[nil] = 0
	require.Len(t, rests.All(), 1, "it is a copy")
}

// What did not come to matter is not noted as what the login hangs on.
func TestALoginHangsOnlyOnWhatItCameTo(t *testing.T) {
	t.Parallel()
	d := device(t, "", moreLists, "ssh: {login: t-only}", "keeper")
	_, v := enter(d, &world{answers: map[string]string{"t1": "yes"}}, "ines")
	require.NotContains(t, v.Consulted(), site.AspectRestEnds, "no server is left alone")
	_, v = enter(d, &world{answers: map[string]string{"t1": "no"}}, "ines")
	require.NotContains(t, v.Consulted(), site.AspectRefusal, "the last method refuses")
}

// One question to a group is asked for the person of the visit, and is a step of its own.
func TestOneQuestionToAGroupIsAStep(t *testing.T) {
	t.Parallel()
	d := device(t, "", moreLists, "ssh: {login: t-only}", "keeper")
	w := &world{answers: map[string]string{"t1": "silent", "t2": "no"}}
	v := &Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: new(Rests), Person: "ines"}
	g, is := d.Way(site.SSH).Lists[site.Login].Methods[0].Group()
	require.True(t, is)
	step := v.Ask(g, Question{Purpose: site.Session})
	require.Equal(t, []string{"session t1 1", "session t2 1"}, w.asked)
	require.Equal(t, []any{site.Session, "group t", Refused, "t2", 2 * time.Second},
		[]any{step.Purpose, step.Method.String(), step.Result, step.By, step.Took})
	require.Equal(t, []site.Purpose{site.Session}, []site.Purpose{step.Purpose})
}

// A method whose group or secret leads nowhere is no answer, and no yes.
func TestAMethodThatLeadsNowhereLetsNobodyIn(t *testing.T) {
	t.Parallel()
	d := device(t, "", moreLists, "ssh: {login: t-only}", "keeper")
	list := d.Way(site.SSH).Lists[site.Login]
	list.Methods = []site.Method{{Kind: site.ByGroup}}
	e, v := enter(d, &world{secret: true}, "ines")
	require.Equal(t, []any{false, reason.ListEnded, reason.NotSupported}, []any{e.In, e.Reason, v.Steps[0].Reason})
	list.Methods = []site.Method{{Kind: site.BySecret}}
	e, _ = enter(d, &world{secret: true}, "ines")
	require.Equal(t, []any{false, reason.WrongSecret}, []any{e.In, e.Reason})
}
