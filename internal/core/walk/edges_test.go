package walk

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

func TestTheWaitAndTheStepsOfACommandAreTold(t *testing.T) {
	t.Parallel()
	d := full(t, "accounting-failure: blocks", "login: t-local, commands: t-commands, record-commands: typed", "")
	w := &world{answers: map[string]string{"t1": "yes"}}
	e, v := enter(d, w, "ines")
	require.True(t, e.In)
	w.answers = map[string]string{"t1": "silent"}
	verdict := v.Command(time.Minute, "look", 1)
	require.Equal(t, Verdict{Reason: reason.ListEnded, Wait: 2 * time.Second}, verdict)
	last := v.Steps[len(v.Steps)-1]
	require.Equal(t, []any{site.Commands, "t-commands", "group t", Unavailable, reason.NoAnswer, 2 * time.Second, "t1"},
		[]any{last.Purpose, last.List.Name, last.Method.String(), last.Result, last.Reason, last.Took,
			last.Tries[0].Server.Name})
	require.Equal(t, time.Minute+2*time.Second, v.Now)
	v.Elevate(2*time.Minute, 15)
	require.Equal(t, 2*time.Minute, v.Now)
}

// scripted answers each question in turn, by purpose and start.
type scripted struct {
	world
	records []string // the answers to the records, in turn
}

type scriptedExchange struct {
	*scripted
	q Question
}

func (w *scripted) Begin(s *site.Server, q Question) Exchange {
	if q.Purpose != site.RecordCommands {
		return exchange{&w.world, s, q}
	}
	return scriptedExchange{w, q}
}
func (e scriptedExchange) Close() {}
func (e scriptedExchange) Try(int) Reply {
	answer := e.records[0]
	e.scripted.records = append(e.records[1:], answer)
	if answer == "yes" {
		return Reply{Result: Accepted}
	}
	return Reply{Result: Unavailable, Reason: reason.Closed}
}

func TestBothRecordsOfACommandMustBeKeptWhereTheKindInsists(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		start, stop string
		allowed     bool
	}{{"yes", "yes", true}, {"no", "yes", false}, {"yes", "no", false}, {"no", "no", false}} {
		d := full(t, "accounting-failure: blocks", "login: t-local, record-commands: typed", "")
		w := &scripted{world: world{answers: map[string]string{"t1": "yes"}}, records: []string{c.start, c.stop}}
		v := &Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: new(Rests)}
		require.True(t, v.Enter("ines").In)
		require.Equal(t, c.allowed, v.Command(time.Minute, "save", 15).Allowed, "%+v", c)
	}
}

func TestAServerIsLeftAloneFromTheEndOfItsWaitOn(t *testing.T) {
	t.Parallel()
	for behaviour, woken := range map[string]bool{"": false, "dead-time-ends: with-last": true} {
		d := device(t, behaviour, loginLists, "ssh: {login: t-local}", "keeper")
		w := &world{answers: map[string]string{"t1": "silent", "t2": "silent"}}
		rests := new(Rests)
		require.False(t, rests.Some())
		first := &Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: rests}
		first.Enter("ines")
		require.True(t, rests.Some())
		t1, t2 := d.Way(site.SSH).Lists[site.Login].Methods[0].Servers()[0],
			d.Way(site.SSH).Lists[site.Login].Methods[0].
				Servers()[1]
		until, resting := rests.Until(t1, 3*time.Second, true)
		require.Equal(t, []any{62 * time.Second, true}, []any{until, resting}, "2 s of waiting and a minute")
		until, _ = rests.Until(t2, 6*time.Second, true)
		require.Equal(t, 65*time.Second, until, "5 s of waiting for both")
		w.asked = nil
		second := &Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: rests, Now: 10 * time.Second}
		w.answers = map[string]string{"t1": "no"}
		second.Enter("ines")
		require.Equal(t, []string{"login t1 1"}, w.asked, "all are left alone, so the first is asked")
		_, resting = rests.Until(t2, 11*time.Second, true)
		require.Equal(t, !woken, resting, "with the last one, no server is left alone any more (%q)", behaviour)
	}
}

func TestALoginByAnAccountThatIsNotThereIsNoAnswer(t *testing.T) {
	t.Parallel()
	d := device(t, "", loginLists, "ssh: {login: local-t}", "keeper")
	w := &world{answers: map[string]string{"t1": "yes"}}
	e, v := enter(d, w, "ines")
	require.True(t, e.In)
	require.Equal(t, []any{Unavailable, reason.NoSuchAccount, "local"},
		[]any{v.Steps[0].Result, v.Steps[0].Reason, v.Steps[0].By})
}

func TestOnlyADeviceWithAListTellsThatItStarts(t *testing.T) {
	t.Parallel()
	d := full(t, "", "login: t-local", "")
	w := &world{answers: map[string]string{"t1": "yes"}}
	v := &Visit{Device: d, Way: d.Way(site.SSH), World: w, Rests: new(Rests)}
	require.False(t, v.System(time.Second, true))
	require.Empty(t, w.asked)
	v.Way.Lists[site.RecordSystem] = d.Way(site.SSH).Lists[site.Login]
	require.True(t, v.System(time.Second, true))
	require.Equal(t, []string{"record-system t1 1"}, w.asked)
	require.Equal(t, time.Second, v.Now)
}
