package ledger

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/server/ledger/pgtest"
)

// hearing is a node that notes what it hears.
type hearing struct {
	*Shared
	mu   sync.Mutex
	told []string
}

func node(t *testing.T, d Database, name string) *hearing {
	h := &hearing{}
	note := func(text string) {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.told = append(h.told, text)
	}
	h.Shared = OpenShared(d, name, Hears{
		Failed: func(name, source string, at time.Time) {
			note(fmt.Sprint(name, " failed from ", source, " at ", at.Unix()))
		},
		Confirmed: func(name string) { note(name + " is known") }}, note)
	h.Shared.mu.Lock()
	h.codeIn = time.Minute // on the busiest machine
	h.Shared.mu.Unlock()
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	return h
}

func (h *hearing) hears(t *testing.T, what string) {
	require.Eventually(t, func() bool { return h.count(what) > 0 }, 20*time.Second, 10*time.Millisecond, what)
}

func (h *hearing) count(what string) int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return strings.Count(strings.Join(h.told, "\n")+"\n", what)
}

func TestNodesKnowWhatOthersHaveLearned(t *testing.T) {
	t.Parallel()
	server := pgtest.Start(t)
	database := Database{URL: server.URL()}
	tern, plover := node(t, database, "tern"), node(t, database, "plover")
	for step, want := range map[int64]bool{5: false} {
		used, err := tern.UseCode("ines", step)
		require.NoError(t, err)
		require.Equal(t, want, used)
	}
	for _, step := range []int64{4, 5} {
		used, err := plover.UseCode("ines", step)
		require.NoError(t, err)
		require.True(t, used, "a code is used once at all nodes, and none before it")
	}
	used, err := plover.UseCode("ines", 6)
	require.NoError(t, err)
	require.False(t, used)
	used, err = tern.UseCode("tobin", 5)
	require.NoError(t, err)
	require.False(t, used, "of somebody else")

	now := time.Now()
	failed := fmt.Sprintf("ines failed from 192.0.2.7 at %d\n", now.Unix())
	tern.Tell(Learned{Name: "ines", Source: "192.0.2.7", At: now})
	tern.Tell(Learned{Name: "wren", At: now})
	plover.hears(t, failed)
	plover.hears(t, "wren is known")
	tern.Tell(Learned{Name: "ines", Source: "192.0.2.8", At: now})
	plover.hears(t, "from 192.0.2.8")
	require.Equal(t, 1, plover.count(failed), "once")
	require.Zero(t, tern.count("failed from"), "it knows that already")

	server.Stop()
	tern.Tell(Learned{Name: "ines", Source: "192.0.2.9", At: now})
	tern.hears(t, "a one-time code may be used once at each node")
	began := time.Now()
	for range 3 {
		_, err = tern.UseCode("ines", 7)
		require.Error(t, err)
	}
	require.Less(t, time.Since(began), time.Minute, "who is away is not asked each time")
	server.Run()
	plover.hears(t, "from 192.0.2.9")
	tern.hears(t, "is known again")
	fresh := node(t, database, "fresh")
	fresh.hears(t, "wren is known")
	fresh.hears(t, "from 192.0.2.9")
}
