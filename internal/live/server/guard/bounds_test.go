package guard

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

// Of one name so many passwords are judged in a second; sources that have not
// failed lately are judged beside that, so many of one client.
func TestGuessesOfANameAreBoundedAndFreshSourcesStandBesideThem(t *testing.T) {
	t.Parallel()
	g := NewGuesses()
	g.seed = apart("ines", "tobin", "a", "b")
	n := 0
	guess := func(client string, fresh bool) *Guess {
		n++
		return g.Allow("ines", fmt.Sprint("guess ", n), client, fresh, now)
	}
	for range MostGuesses {
		require.NotNil(t, guess("a", false))
	}
	require.Nil(t, guess("a", false), "the name's are used up")
	require.Nil(t, guess("b", false), "of whichever client")
	var fresh *Guess
	for range MostGuesses {
		fresh = guess("a", true)
		require.NotNil(t, fresh)
	}
	require.Nil(t, guess("a", true), "so are those of the client")
	require.NotNil(t, guess("b", true), "another client has its own")
	fresh.Ends(true)
	require.Nil(t, guess("a", false), "a right password gives back the place that it took, the client's")
	require.NotNil(t, guess("a", true))
	require.NotNil(t, g.Allow("tobin", "x", "a", false, now), "another name has its own")
	require.NotNil(t, g.Allow("ines", "x", "a", false, now.Add(time.Second)), "a second later")
}

// Many logins with one password at once are one guess, until all have ended.
func TestOnePasswordInFlightIsOneGuess(t *testing.T) {
	t.Parallel()
	g := NewGuesses()
	first := g.Allow("ines", "right", "a", false, now)
	var guesses []*Guess
	for range 3 * MostGuesses {
		same := g.Allow("ines", "right", "a", false, now)
		require.NotNil(t, same)
		guesses = append(guesses, same)
	}
	for range MostGuesses - 1 {
		require.NotNil(t, g.Allow("ines", "", "a", false, now), "what is not known is a guess each time")
	}
	require.Nil(t, g.Allow("ines", "another", "a", false, now))
	for _, same := range append(guesses, first) {
		same.Ends(false)
	}
	require.Nil(t, g.Allow("ines", "right", "a", false, now), "none is in flight, and a wrong one gave nothing back")
	held := 0
	for _, n := range g.tried {
		held += n
	}
	require.Equal(t, MostGuesses-1, held)
	require.Len(t, g.tried, 1, "only those that have not ended are remembered")
}

// A full memory lets go of what is over, and of nothing else.
func TestAChallengeThatIsOpenOutlivesThoseThatAreOver(t *testing.T) {
	t.Parallel()
	var c Challenges
	for range mostChallenges - 1 {
		c.Put("tobin", one, now)
	}
	open := c.Put("ines", one, now.Add(ChallengeLasts-time.Second))
	later := now.Add(ChallengeLasts + time.Second)
	c.Put("ebba", one, later)
	require.True(t, c.Answered(open, "ines", one, later))
}

func TestTheMostPasswordsThatWereRightAreKept(t *testing.T) {
	t.Parallel()
	v := NewVerified()
	ines := &site.Person{Ref: site.Ref{Name: "ines"}, Password: site.Password{Hash: "$h$1"}}
	for i := range mostVerified {
		v.Remember(ines, fmt.Sprint(i), now)
	}
	require.True(t, v.Knows(ines, "0", now), "so many fit")
	v.Remember(ines, "one more", now)
	require.False(t, v.Knows(ines, "0", now))
	require.True(t, v.Knows(ines, "one more", now))
}

// Who has the password and gives wrong codes is not looked at any more for a
// while; codes without the password do not bring that about.
func TestCodesThatDoNotFitTireTheServer(t *testing.T) {
	t.Parallel()
	seed := site.NewSecret("JBSWY3DPEHPK3PXP")
	right, err := secrets.Code(seed, secrets.CodeStepAt(now))
	require.NoError(t, err)
	none, fits := func(string) bool { return false }, func(c string) bool { return c == right }
	c := NewCodes(nil, nil)
	for range 3 * codeTries {
		require.Equal(t, rights.Code{}, c.Take("ines", seed, now, false, none))
	}
	for range codeTries {
		require.Equal(t, rights.Code{}, c.Take("ines", seed, now, true, none))
	}
	require.Equal(t, rights.Code{Tired: true}, c.Take("ines", seed, now, true, fits))
	require.Equal(t, rights.Code{Tired: true}, c.Take("ines", seed, now.Add(codePause-1), true, fits))
	require.Equal(t, rights.Code{}, c.Take("tobin", seed, now, true, none), "of another person one is looked at")
	later := now.Add(codePause)
	right, err = secrets.Code(seed, secrets.CodeStepAt(later))
	require.NoError(t, err)
	require.True(t, c.Take("ines", seed, later, true, fits).Taken)
}

func TestWhatWasToldIsNotToldAgain(t *testing.T) {
	t.Parallel()
	var o Once
	require.True(t, o.First("a"))
	require.False(t, o.First("a"))
	for i := range mostTold - 1 {
		require.True(t, o.First(fmt.Sprint(i)))
	}
	require.False(t, o.First("one more"), "memory is bounded")
}
