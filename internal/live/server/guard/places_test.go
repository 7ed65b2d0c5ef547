package guard

import (
	"context"
	"errors"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

var here, there = netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")

// doing are pieces of work that take memory until they are let go.
type doing struct {
	h     *Hashing
	began chan string
	done  chan bool
}

func (d *doing) begin(name string, client netip.Addr, cost int64) (release func()) {
	stop := make(chan struct{})
	go func() {
		d.done <- d.h.Do(client, cost, func() {
			d.began <- name
			<-stop
		})
	}()
	return func() {
		close(stop)
		if !<-d.done {
			panic("it was not done")
		}
	}
}

func (d *doing) waits(t *testing.T, n int) {
	t.Helper()
	require.Eventually(t, func() bool { return d.h.Busy() == n }, 30*time.Second, time.Millisecond)
}

func TestMemoryOfHashesIsSharedAndGivenBack(t *testing.T) {
	t.Parallel()
	d := &doing{h: NewHashing(100), began: make(chan string, 10), done: make(chan bool, 10)}
	first := d.begin("first", here, 50)
	require.Equal(t, "first", <-d.began)
	d.begin("second of the same", here, 1) // more than half of it is not for one client
	d.waits(t, 2)
	third := d.begin("another's", there, 50)
	require.Equal(t, "another's", <-d.began, "who has nothing yet goes first")
	last := d.begin("no room", netip.MustParseAddr("192.0.2.3"), 1)
	d.waits(t, 4)
	require.Empty(t, d.began)
	third()
	require.Equal(t, "no room", <-d.began)
	last()
	require.Empty(t, d.began, "the first client has its share still")
	first()
	require.Equal(t, "second of the same", <-d.began)
	require.Equal(t, 1, d.h.Busy())
}

func TestWorkThatTakesAllMemoryIsDoneAlone(t *testing.T) {
	t.Parallel()
	d := &doing{h: NewHashing(100), began: make(chan string, 10), done: make(chan bool, 10)}
	small := d.begin("small", there, 1)
	require.Equal(t, "small", <-d.began)
	large := d.begin("large", here, 1000)
	d.waits(t, 2)
	require.Empty(t, d.began)
	small()
	require.Equal(t, "large", <-d.began)
	large()
	require.Empty(t, d.h.of, "nothing is kept of who has ended")
	require.Zero(t, d.h.used)
}

func TestTooManyThatWaitForMemoryAreTurnedAway(t *testing.T) {
	t.Parallel()
	h := NewHashing(1)
	for range MostWaitingOfOne {
		require.True(t, h.waiting.Take(here, MostWaiting, MostWaitingOfOne))
	}
	require.False(t, h.Do(here, 1, func() { t.Error("it was done") }))
	require.True(t, h.Do(there, 1, func() {}))
}

type closing struct{ closed atomic.Int32 }

func (c *closing) Close() error {
	c.closed.Add(1)
	return nil
}

func TestTheConnectionThatIsQuietTheLongestGivesItsPlaceUp(t *testing.T) {
	t.Parallel()
	var c Conns
	var conns [4]closing
	a := c.Take(here, &conns[0], 3, 2)
	b := c.Take(here, &conns[1], 3, 2)
	require.NotNil(t, a)
	require.NotNil(t, b)
	require.Nil(t, c.Take(here, &conns[3], 3, 2), "one client has no more than its share")
	require.NotNil(t, c.Take(there, &conns[2], 3, 2))
	a.Heard()
	require.NotNil(t, c.Take(there, &conns[3], 3, 2), "b was quiet the longest")
	require.Equal(t, []int32{0, 1, 0, 0}, []int32{conns[0].closed.Load(), conns[1].closed.Load(),
		conns[2].closed.Load(),
		conns[3].closed.Load()})
	b.Give() // twice: it does nothing
	require.Equal(t, 1, c.taken.Of(here))
	a.Give()
	a.Give()
	a.Heard()
	require.Zero(t, c.taken.Of(here))
	require.NotNil(t, c.Take(here, &conns[0], 3, 2))
}

func TestWithoutAPlaceAtAllNobodyIsLetIn(t *testing.T) {
	t.Parallel()
	var c Conns
	require.Nil(t, c.Take(here, &closing{}, 0, 1))
}

func TestNamesAreRememberedInTheirNormalForm(t *testing.T) {
	t.Parallel()
	var n Names
	require.False(t, n.Has("ines"))
	n.Note("Ines")
	n.Note("\x00")
	require.True(t, n.Has("ines"))
	require.False(t, n.Has("tobin"))
	require.False(t, n.Has("\x00"))
	done := make(chan bool)
	go func() { n.Note("tobin"); done <- n.Has("tobin") }()
	require.True(t, <-done, "nothing holds it")
	for i := range mostNames {
		n.seen[string(rune('a'+i%26))+time.Duration(i).String()] = struct{}{}
	}
	before := len(n.seen)
	n.Note("one-more")
	require.Len(t, n.seen, before)
}

func TestALoopEndsAtOnceWithItsContext(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(t.Context())
	calls, told := 0, 0
	Retry(ctx, func() error {
		if calls++; calls == 3 {
			cancel()
		}
		return errors.New("no descriptors")
	}, func(error) { told++ })
	require.Equal(t, 3, calls)
	require.Equal(t, 1, told, "of errors that follow each other the first")
}

// A code that could not be kept is as before: another one that was used stays used, and none is taken.
func TestACodeThatCannotBeKeptIsNotTaken(t *testing.T) {
	t.Parallel()
	seed := site.NewSecret("JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP")
	now := time.Unix(1_800_000_000, 0)
	at := secrets.CodeStepAt(now)
	code := func(step int64) string {
		c, err := secrets.Code(seed, step)
		require.NoError(t, err)
		return c
	}
	fits := func(want string) func(string) bool { return func(c string) bool { return c == want } }
	broken := errors.New("the disk is full")
	failing := broken
	c := NewCodes(map[string]int64{"ines": at - 5}, func(string, int64, map[string]int64) error { return failing })
	for range 2 {
		require.Equal(t, rights.Code{Found: true, Lost: true}, c.Take("ines", seed, now, false, fits(code(at))))
	}
	require.Equal(t, at-5, c.used["ines"], "what was used before stays")
	require.Equal(t, rights.Code{Found: true, Lost: true}, c.Take("tobin", seed, now, false, fits(code(at))))
	require.NotContains(t, c.used, "tobin")
	failing = ErrUsed
	require.Equal(t, rights.Code{Found: true, Used: true}, c.Take("ines", seed, now, false, fits(code(at))))
	failing = nil
	require.Equal(t, rights.Code{Found: true, Used: true}, c.Take("ines", seed, now, false, fits(code(at))),
		"used elsewhere is used here")
	require.Equal(t, rights.Code{Found: true, Taken: true, Steps: 1},
		c.Take("ines", seed, now, false, fits(code(at+1))))
	require.Equal(t, rights.Code{Found: true, Steps: 20}, c.Take("tobin", seed, now, false, fits(code(at+20))))
	require.Equal(t, rights.Code{Found: true, Steps: -20}, c.Take("tobin", seed, now, false, fits(code(at-20))))
	require.Equal(t, rights.Code{}, c.Take("tobin", seed, now, false, fits(code(at+21))), "too far off is not found")
	require.Equal(t, rights.Code{}, c.Take("tobin", seed, now, false, fits(code(at-21))))
}

// A person who has never used a code may use one of before 1970 too: nothing is used then.
func TestTheFirstCodeOfAPersonIsNotTakenForUsed(t *testing.T) {
	t.Parallel()
	seed := site.NewSecret("JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP")
	now := time.Unix(0, 0)
	code, err := secrets.Code(seed, secrets.CodeStepAt(now))
	require.NoError(t, err)
	c := NewCodes(nil, nil)
	require.True(t, c.Take("ines", seed, now, false, func(x string) bool { return x == code }).Taken)
}

// A right code ends the count of those that were wrong.
func TestARightCodeForgetsTheWrongOnes(t *testing.T) {
	t.Parallel()
	seed := site.NewSecret("JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP")
	now := time.Unix(1_800_000_000, 0)
	c := NewCodes(nil, nil)
	wrong := func() { c.Take("ines", seed, now, true, func(string) bool { return false }) }
	for range codeTries - 1 {
		wrong()
	}
	code, err := secrets.Code(seed, secrets.CodeStepAt(now))
	require.NoError(t, err)
	require.True(t, c.Take("ines", seed, now, true, func(x string) bool { return x == code }).Taken)
	for range codeTries {
		require.False(t, c.Take("ines", seed, now, true, func(string) bool { return false }).Tired)
	}
	require.True(t, c.Take("ines", seed, now, true, func(string) bool { return false }).Tired)
}

// A name and a password are not run together: another name with the rest of it is another guess.
func TestANameAndAPasswordAreTwoThings(t *testing.T) {
	t.Parallel()
	g := NewGuesses()
	g.seed = apart("ab", "a")
	now := time.Unix(1_800_000_000, 0)
	for range MostGuesses {
		g.Allow("ab", "c", "192.0.2.1", false, now)
	}
	first := g.Allow("a", "bc", "192.0.2.1", false, now)
	require.NotNil(t, first)
	require.NotNil(t, first.from, "it is no guess of the other name that is judged already")
}

func TestAClockThatIsSetBackGivesNoGuesses(t *testing.T) {
	t.Parallel()
	now := time.Unix(1_800_000_000, 0)
	j := judged{}
	for range MostGuesses {
		require.True(t, j.take(now))
	}
	require.False(t, j.take(now))
	require.False(t, j.take(now.Add(-time.Minute)), "a little back, by another clock, changes nothing")
	require.Equal(t, now, j.at)
	require.False(t, j.take(now.Add(-time.Minute-time.Nanosecond)))
	require.Equal(t, now.Add(-time.Minute-time.Nanosecond), j.at, "far back, time begins there")
	require.True(t, j.take(now.Add(-time.Minute+time.Second/MostGuesses)))
}

// A request of the first half minute of all times is as new as any.
func TestARequestIsNewAtAnyTime(t *testing.T) {
	t.Parallel()
	var d Duplicates
	k := DuplicateOf(netip.MustParseAddrPort("192.0.2.1:1812"), []byte("request"))
	_, fresh := d.Begin(k, time.Time{}.Add(time.Second))
	require.True(t, fresh)
}

// Half of the memory is for one client, and no less.
func TestAClientHasHalfOfTheMemory(t *testing.T) {
	t.Parallel()
	d := &doing{h: NewHashing(100), began: make(chan string, 10), done: make(chan bool, 10)}
	first := d.begin("first", here, 25)
	require.Equal(t, "first", <-d.began)
	second := d.begin("second", here, 25)
	require.Equal(t, "second", <-d.began)
	first()
	second()
}

// The code that is nearest in time is taken first, an older one before a newer one.
func TestCodesAreTriedFromTheNearestOn(t *testing.T) {
	t.Parallel()
	seed := site.NewSecret("JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP")
	now := time.Unix(1_800_000_000, 0)
	var want, tried []string
	for _, step := range []int64{0, -1, 1, -2, 2} {
		code, err := secrets.Code(seed, secrets.CodeStepAt(now)+step)
		require.NoError(t, err)
		want = append(want, code)
	}
	NewCodes(nil, nil).Take("ines", seed, now, false, func(code string) bool {
		tried = append(tried, code)
		return false
	})
	require.Equal(t, want, tried[:5])
	require.Len(t, tried, 2*codeSearch+1)
}

// What was never seen is not known, at the beginning of all times as little as later.
func TestWhatWasNeverSeenIsNotKnownAtAnyTime(t *testing.T) {
	t.Parallel()
	early := time.Time{}.Add(-time.Second)
	person := &site.Person{Ref: site.Ref{Name: "ines"}, Password: site.Password{Hash: "$6$a$b"}}
	v := NewVerified()
	require.False(t, v.Knows(person, "right", early))
	v.Remember(person, "right", early)
	require.True(t, v.Knows(person, "right", early))
	require.False(t, v.Knows(person, "wrong", early))
	require.NotEqual(t, v.Key(person, "right"), v.Key(person, "wrong"))
	require.NotEmpty(t, v.Key(person, "right"))
	readable := &site.Person{Ref: site.Ref{Name: "tobin"}}
	v.Remember(readable, "right", early)
	require.Len(t, v.until, 1, "a password that can be read is not remembered")
	var people People
	require.Nil(t, people.Recall("ines", early))
}

// One failure of a source is one; a refusal that is not held back takes no place.
func TestOneFailureOfASourceCounts(t *testing.T) {
	t.Parallel()
	f := NewFailures()
	now := time.Unix(1_800_000_000, 0)
	require.False(t, f.Failed("192.0.2.1", now))
	f.Note("ines", "192.0.2.1", now)
	require.True(t, f.Failed("192.0.2.1", now))
	began := time.Now()
	f.Hold(t.Context(), here, 0)
	f.Hold(t.Context(), here, -time.Hour)
	require.Less(t, time.Since(began), 10*time.Second)
}
