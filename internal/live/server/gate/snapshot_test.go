package gate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

// A site that is read again makes nobody's password be hashed again: only who has
// another password is checked anew.
func TestPasswordsStayRememberedWhenTheSiteIsReadAgain(t *testing.T) {
	t.Parallel()
	parsed := func(hash string) *site.Site {
		s, err := site.Parse(site.Source{Name: "site.yaml",
			Text: []byte("people: [{name: ines, password: '$6$a$" + hash +
				"'}, {name: tobin, password: $6$a$same}]\n")})
		require.NoError(t, err)
		return s
	}
	g := New(Config{Design: Design{Site: parsed("one")}})
	defer g.Shutdown()
	now := time.Now()
	before := g.design.Load()
	for _, p := range before.Site.People {
		before.verified.Remember(p, "right", now)
	}
	require.NoError(t, g.Reload(Design{Site: parsed("two")}))
	after := g.design.Load()
	require.NotSame(t, before, after)
	require.True(t, after.verified.Knows(after.Site.Person("tobin"), "right", now))
	require.False(t, after.verified.Knows(after.Site.Person("ines"), "right", now), "the hash is another")
}
