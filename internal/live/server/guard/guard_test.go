package guard

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

var (
	one = netip.MustParseAddr("192.0.2.1")
	two = netip.MustParseAddr("192.0.2.2")
	now = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
)

func TestSharesAreBoundedForOneAndForAll(t *testing.T) {
	t.Parallel()
	var s Shares
	require.True(t, s.Take(one, 3, 2))
	require.True(t, s.Take(one, 3, 2))
	require.False(t, s.Take(one, 3, 2), "two of one")
	require.True(t, s.Take(two, 3, 2))
	require.False(t, s.Take(two, 3, 2), "three of all")
	s.Give(one)
	require.True(t, s.Take(two, 3, 2))
	require.False(t, s.Take(one, 3, 2), "three of all again")
	s.Give(one)
	s.Give(two)
	s.Give(two)
	require.Empty(t, s.of, "who has none is forgotten")
	require.Zero(t, s.all)
}

// Of one client at most half the places are used at once, whatever it asks, and
// another client has its turn at once.
func TestTurnsAreSharedFairly(t *testing.T) {
	t.Parallel()
	turns := NewFairQueue()
	var busy, most atomic.Int32
	release := make(chan struct{})
	var all sync.WaitGroup
	for range 2 * MostAtOnce {
		require.True(t, turns.Enter(one))
		all.Go(func() {
			turns.Run(one, func() {
				if n := busy.Add(1); n > most.Load() {
					most.Store(n)
				}
				<-release
				busy.Add(-1)
			})
		})
	}
	require.Eventually(t, func() bool { return busy.Load() == MostAtOnceOfOne }, 30*time.Second, time.Millisecond)
	require.True(t, turns.Enter(two))
	done := make(chan struct{})
	go turns.Run(two, func() { close(done) })
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("the other client has no turn")
	}
	close(release)
	all.Wait()
	require.EqualValues(t, MostAtOnceOfOne, most.Load())
	require.Eventually(t, func() bool {
		turns.mu.Lock()
		defer turns.mu.Unlock()
		return len(turns.own) == 0
	}, 30*time.Second, time.Millisecond, "nobody is remembered")
	for range MostWaitingOfOne {
		require.True(t, turns.Enter(one))
	}
	require.False(t, turns.Enter(one))
	require.True(t, turns.Enter(two))
	turns.Leave(one)
	require.True(t, turns.Enter(one))
}

func TestRatesBoundEachClient(t *testing.T) {
	t.Parallel()
	var r Rates
	for range 1000 {
		require.True(t, r.Allow(one, 0), "0 bounds nothing")
	}
	allowed := 0
	for range 50 {
		if r.Allow(one, 5) {
			allowed++
		}
	}
	require.GreaterOrEqual(t, allowed, 5)
	require.Less(t, allowed, 40)
	require.True(t, r.Allow(two, 5), "another client has its own")
	require.True(t, r.Allow(one, 7), "a new bound begins anew")
}

func TestFailuresAreCountedByNameAndSourceAndForgotten(t *testing.T) {
	t.Parallel()
	f := NewFailures()
	f.seed = apart("ines", "tobin", "wren", "a", "b", "c", "d", "e", "f")
	for n := range 4 {
		require.Equal(t, n, f.Note("ines", "a", now))
	}
	require.True(t, f.Failed("a", now))
	require.False(t, f.Failed("e", now))
	require.Equal(t, 4, f.Note("ines", "b", now), "from anywhere")
	require.Equal(t, 4, f.Note("tobin", "a", now), "the source counts too")
	require.Equal(t, 3, f.Note("ines", "c", now.Add(2*time.Minute)), "one is forgotten each minute")
	f.Forget("ines")
	require.Equal(t, 0, f.Note("ines", "d", now))
	require.Equal(t, 0, f.Note("wren", "e", now.Add(-time.Hour)))
	require.Equal(t, 1, f.Note("wren", "f", now.Add(-2*time.Hour)), "a clock that was set back forgets nothing")
	for before, want := range map[int]time.Duration{0: 0, 2: 0, 3: 250 * time.Millisecond, 4: 500 * time.Millisecond,
		5: time.Second, 7: 4 * time.Second, 8: 5 * time.Second, 100: 5 * time.Second} {
		require.Equal(t, want, HoldFor(before, 5*time.Second), "after %d", before)
	}
}

func TestARefusalIsHeldUntilItsTimeOrTheEnd(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		f := NewFailures()
		held := func(ctx context.Context, d time.Duration) time.Duration {
			began := time.Now()
			f.Hold(ctx, one, d)
			return time.Since(began)
		}
		require.Equal(t, 3*time.Second, held(context.Background(), 3*time.Second))
		require.Zero(t, held(context.Background(), 0))
		require.Zero(t, held(context.Background(), -time.Second))
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		require.Equal(t, time.Second, held(ctx, time.Hour), "the end ends it")
		var all sync.WaitGroup
		for range mostHeldOfOne {
			all.Go(func() { f.Hold(context.Background(), one, time.Minute) })
		}
		synctest.Wait()
		require.Zero(t, held(context.Background(), time.Minute), "of too many the rest is not held")
		all.Wait()
		require.Equal(t, time.Minute, held(context.Background(), time.Minute))
	})
}

func TestACodeIsTakenOnceAndWithinItsTime(t *testing.T) {
	t.Parallel()
	seed := site.NewSecret("JBSWY3DPEHPK3PXP")
	at := func(steps int64) func(string) bool {
		code, err := secrets.Code(seed, secrets.CodeStepAt(now)+steps)
		require.NoError(t, err)
		return func(c string) bool { return c == code }
	}
	var kept map[string]int64
	fails := false
	c := NewCodes(map[string]int64{"wren": secrets.CodeStepAt(now)},
		func(_ string, _ int64, used map[string]int64) error {
			if fails {
				return errors.New("the disk is full")
			}
			kept = used
			return nil
		})
	require.Equal(t, rights.Code{Found: true, Taken: true}, c.Take("ines", seed, now, false, at(0)))
	require.Equal(t, secrets.CodeStepAt(now), kept["ines"])
	require.Equal(t, rights.Code{Found: true, Used: true}, c.Take("ines", seed, now, false, at(0)), "once")
	require.Equal(t, rights.Code{Found: true, Used: true, Steps: -1}, c.Take("ines", seed, now, false, at(-1)),
		"an older one neither")
	require.Equal(t, rights.Code{Found: true, Taken: true, Steps: 1}, c.Take("ines", seed, now, false, at(1)))
	require.Equal(t, rights.Code{Found: true, Used: true}, c.Take("wren", seed, now, false, at(0)),
		"used before the start")
	require.Equal(t, rights.Code{Found: true, Taken: true, Steps: -1}, c.Take("tobin", seed, now, false, at(-1)))
	require.Equal(t, rights.Code{Found: true, Steps: 2}, c.Take("ebba", seed, now, false, at(2)),
		"too far off, and said how far")
	require.Equal(t, rights.Code{Found: true, Steps: -20}, c.Take("ebba", seed, now, false, at(-20)))
	require.Equal(t, rights.Code{}, c.Take("ebba", seed, now, false, at(21)))
	require.Equal(t, rights.Code{},
		c.Take("ebba", site.NewSecret("no base32!"), now, false, func(string) bool { return true }))
	fails = true
	require.Equal(t, rights.Code{Found: true, Lost: true}, c.Take("per", seed, now, false, at(0)),
		"one that might be taken again after a restart is not taken")
	fails = false
	require.Equal(t, rights.Code{Found: true, Taken: true}, c.Take("per", seed, now, false, at(0)))
	elsewhere := NewCodes(nil, func(string, int64, map[string]int64) error { return ErrUsed })
	require.Equal(t, rights.Code{Found: true, Used: true}, elsewhere.Take("ines", seed, now, false, at(0)),
		"another node has taken it")
	require.Equal(t, rights.Code{Found: true, Taken: true}, NewCodes(nil, nil).Take("ines", seed, now, false, at(0)))
}

func TestAChallengeIsAnsweredOnceByWhoWasAsked(t *testing.T) {
	t.Parallel()
	var c Challenges
	state := c.Put("ines", one, now)
	require.Len(t, state, 16)
	require.False(t, c.Answered(state, "tobin", one, now))
	require.False(t, c.Answered(state, "ines", two, now))
	require.False(t, c.Answered([]byte("another"), "ines", one, now))
	require.True(t, c.Answered(state, "ines", one, now.Add(ChallengeLasts-1)))
	require.False(t, c.Answered(state, "ines", one, now), "once")
	late := c.Put("ines", one, now)
	require.False(t, c.Answered(late, "ines", one, now.Add(ChallengeLasts)))
	early := c.Put("ines", one, now)
	require.False(t, c.Answered(early, "ines", one, now.Add(-time.Second)),
		"a clock that was set back makes none last longer")
	require.NotEqual(t, c.Put("ines", one, now), c.Put("ines", one, now))
	for range mostChallenges + 10 {
		c.Put("ines", one, now)
	}
	require.LessOrEqual(t, len(c.open), mostChallenges)
	for range mostChallenges {
		c.Put("ines", one, now.Add(time.Hour))
	}
	last := c.Put("ines", one, now.Add(time.Hour))
	require.True(t, c.Answered(last, "ines", one, now.Add(time.Hour)))
}

func TestADuplicateGetsTheSameAnswerForAWhile(t *testing.T) {
	t.Parallel()
	var d Duplicates
	from := netip.MustParseAddrPort("192.0.2.1:1024")
	packet := func(octets ...byte) []byte { return append([]byte{1, 7, 0, 20}, octets...) }
	key := DuplicateOf(from, packet(1))
	for name, other := range map[string]Duplicate{"identifier": DuplicateOf(from, []byte{1, 8, 0, 20, 1}),
		"another octet": DuplicateOf(from, packet(2)), "one octet more": DuplicateOf(from, packet(1, 0)),
		"port":    DuplicateOf(netip.MustParseAddrPort("192.0.2.1:1025"), packet(1)),
		"address": DuplicateOf(netip.MustParseAddrPort("192.0.2.2:1024"), packet(1))} {
		require.NotEqual(t, key, other, name)
	}
	begin := func(k Duplicate, at time.Time) (string, bool) {
		answer, fresh := d.Begin(k, at)
		return string(answer), fresh
	}
	answer, fresh := begin(key, now)
	require.Equal(t, []any{"", true}, []any{answer, fresh})
	answer, fresh = begin(key, now.Add(time.Second))
	require.Equal(t, []any{"", false}, []any{answer, fresh}, "while it is worked out")
	d.End(key, []byte("yes"))
	answer, fresh = begin(key, now.Add(remembered-1))
	require.Equal(t, []any{"yes", false}, []any{answer, fresh})
	_, fresh = begin(key, now.Add(remembered))
	require.True(t, fresh, "then it is new")
	d.End(key, nil)
	_, fresh = begin(key, now.Add(remembered+1))
	require.True(t, fresh, "one without an answer is forgotten")
	for i := range mostRemembered + 5 {
		d.Begin(DuplicateOf(from, packet(byte(i), byte(i>>8), 9)), now)
	}
	require.LessOrEqual(t, len(d.known), mostRemembered)
	d.End(key, []byte("late")) // it was forgotten meanwhile: nothing happens
	_, known := d.known[key]
	require.False(t, known)
}

func TestAPasswordThatWasRightIsKnownForAMinute(t *testing.T) {
	t.Parallel()
	v := NewVerified()
	ines := &site.Person{Ref: site.Ref{Name: "ines"}, Password: site.Password{Hash: "$h$1"}}
	require.False(t, v.Knows(ines, "right", now))
	v.Remember(ines, "right", now)
	require.True(t, v.Knows(ines, "right", now.Add(verifiedFor-1)))
	require.False(t, v.Knows(ines, "right", now.Add(verifiedFor)))
	require.False(t, v.Knows(ines, "right", now.Add(-time.Hour)))
	require.False(t, v.Knows(ines, "wrong", now))
	require.False(t, v.Knows(&site.Person{Ref: ines.Ref, Password: site.Password{Hash: "$h$2"}}, "right", now),
		"a new password is a new one")
	require.False(t, v.Knows(&site.Person{Ref: site.Ref{Name: "tobin"}, Password: ines.Password}, "right", now))
	// What one part has more, another cannot have less.
	v.Remember(&site.Person{Ref: site.Ref{Name: "a"}, Password: site.Password{Hash: "bc"}}, "d", now)
	require.False(t, v.Knows(&site.Person{Ref: site.Ref{Name: "ab"}, Password: site.Password{Hash: "c"}}, "d", now))
	kept := &site.Person{Ref: site.Ref{Name: "kept"}}
	v.Remember(kept, "right", now)
	require.False(t, v.Knows(kept, "right", now), "a password that is kept is compared itself")
	for i := range mostVerified + 1 {
		v.Remember(ines, fmt.Sprint(i), now)
	}
	require.LessOrEqual(t, len(v.until), mostVerified)
	require.False(t, NewVerified().Knows(ines, "right", now), "another process has another key")
	require.NotEqual(t, NewVerified().sum(ines, "right"), v.sum(ines, "right"))
}

func TestWhomADirectoryFoundIsKnownForAMinute(t *testing.T) {
	t.Parallel()
	var p People
	ebba := &site.Person{Ref: site.Ref{Name: "ebba"}}
	require.Nil(t, p.Recall("ebba", now))
	p.Remember(ebba, now)
	require.Same(t, ebba, p.Recall("ebba", now.Add(knownFor-1)))
	require.Nil(t, p.Recall("ebba", now.Add(knownFor)))
	require.Nil(t, p.Recall("per", now))
	for i := range mostKnown + 1 {
		p.Remember(&site.Person{Ref: site.Ref{Name: fmt.Sprint(i)}}, now)
	}
	require.LessOrEqual(t, len(p.known), mostKnown)
}

func TestAFloodIsAFewEventsAndASum(t *testing.T) {
	t.Parallel()
	var f Floods[string]
	said := 0
	for range 100 {
		if _, yes := f.Say(one, "malformed", now); yes {
			said++
		}
	}
	require.Equal(t, mostSaid, said)
	more, yes := f.Say(two, "malformed", now)
	require.True(t, yes, "another client is heard")
	require.Empty(t, more)
	_, yes = f.Say(one, "tls", now)
	require.True(t, yes, "another kind too")
	more, yes = f.Say(one, "malformed", now.Add(time.Second))
	require.True(t, yes)
	require.Equal(t, " (and 80 more since 03:00:00)", more)
	more, _ = f.Say(one, "malformed", now.Add(3*time.Second))
	require.Empty(t, more)
	for i := range mostComplaints {
		f.Say(one, fmt.Sprint(i), now)
	}
	require.LessOrEqual(t, len(f.since), mostComplaints)
}

// A loop that has no descriptors left waits, longer each time, says so once, and
// goes on at once when it can.
func TestALoopThatFailsWaitsAndSaysSoOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		full := &net.OpError{Op: "accept", Err: syscall.EMFILE}
		var at []time.Duration
		var said []string
		began := time.Now()
		results := []error{full, full, full, nil, nil, full, full, full, full, full, full, full, full, full, full,
			net.ErrClosed}
		Retry(context.Background(), func() error {
			at = append(at, time.Since(began))
			r := results[0]
			results = results[1:]
			return r
		}, func(err error) { said = append(said, err.Error()) })
		ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
		require.Equal(t, []time.Duration{0, ms(5), ms(15), ms(35), ms(35), ms(35)}, at[:6])
		for i := 7; i < len(at); i++ {
			require.LessOrEqual(t, at[i]-at[i-1], time.Second)
			require.GreaterOrEqual(t, at[i]-at[i-1], min(at[i-1]-at[i-2], time.Second))
		}
		require.Equal(t, time.Second, at[len(at)-1]-at[len(at)-2], "at most a second")
		require.Len(t, said, 2, "once for each time")
		require.Contains(t, strings.Join(said, ""), "too many open files")

		ctx, cancel := context.WithCancel(context.Background())
		calls := 0
		Retry(ctx, func() error {
			calls++
			cancel()
			return full
		}, func(error) { t.Error("the end is no trouble") })
		require.Equal(t, 1, calls)
		Retry(ctx, func() error { t.Error("it is over"); return nil }, nil)
	})
}

func TestAGuessIsAPasswordOfANameAndTheRightOneIsNone(t *testing.T) {
	t.Parallel()
	g, now := NewGuesses(), time.Unix(1000, 0)
	g.seed = apart("ines", "otto")
	allow := func(name, typed string) *Guess { return g.Allow(name, typed, "192.0.2.1", false, now) }
	var open []*Guess
	for i := range MostGuesses {
		one := allow("ines", fmt.Sprint("guess", i))
		require.NotNil(t, one)
		open = append(open, one)
	}
	require.Nil(t, allow("ines", "another"))
	require.NotNil(t, allow("otto", "another"), "another name has its own")
	same := allow("ines", "guess3")
	require.NotNil(t, same, "a password that is being judged is the same guess")
	require.Nil(t, allow("ines", ""), "one that is not known is never the same")
	same.Ends(true)
	require.Nil(t, allow("ines", "another"), "it took no place and gives none back")
	require.NotNil(t, allow("ines", "guess3"), "the first is still judged")
	open[0].Ends(false)
	require.Nil(t, allow("ines", "guess0"), "it was wrong, and that is over")
	open[1].Ends(true)
	require.NotNil(t, allow("ines", "another"), "one that was right is no guess")
	require.Nil(t, allow("ines", "one more"))
	require.NotNil(t, g.Allow("ines", "fresh", "192.0.2.1", true, now),
		"a source that has not failed has a place of its own")
	now = now.Add(100 * time.Millisecond)
	require.NotNil(t, allow("ines", "one more"), "ten in a second")
	require.Nil(t, allow("ines", "two more"))
}

// apart returns a seed by which keys fall into different places: two that share one are counted together, which
// is so by design and not what a test of one of them is about.
func apart(keys ...string) maphash.Seed {
	for {
		seed, places := maphash.MakeSeed(), map[uint64]bool{}
		for _, key := range keys {
			places[maphash.String(seed, key)%failurePlaces] = true
		}
		if len(places) == len(keys) {
			return seed
		}
	}
}
