package rights

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

func TestWhoIsPutOutByAnotherSite(t *testing.T) {
	t.Parallel()
	parse := func(people string) *site.Site {
		s, err := site.Parse(site.Source{Name: "site.yaml",
			Text: []byte("site: x\nservers: [{name: l, protocol: ldap, address: 192.0.2.5, base: " +
				"o=x}]\ndirectories: [l]\npeople:\n" + people)})
		require.NoError(t, err)
		return s
	}
	before := parse(`
  - {name: stays, password: $6$a$b}
  - {name: goes, password: $6$a$b}
  - {name: was-out, password: $6$a$b, disabled: true}
  - {name: ends, password: $6$a$b, until: 2026-11-27}
  - {name: removed, password: $6$a$b}
  - {name: removed-when-out, password: $6$a$b, disabled: true}
  - {name: limited, from: directory}
`)
	after := parse(`
  - {name: stays, password: $6$c$d}
  - {name: goes, password: $6$a$b, disabled: true}
  - {name: was-out, password: $6$a$b, disabled: true}
  - {name: ends, password: $6$a$b, until: 2026-11-27}
  - {name: of-a-directory, from: directory, disabled: true}
`)
	then := time.Date(2026, 11, 27, 23, 0, 0, 0, time.UTC)
	require.Equal(t, []string{"goes", "of-a-directory", "removed"}, PutOut(before, after, then, then))
	require.Equal(t, []string{"ends", "goes", "of-a-directory", "removed"},
		PutOut(before, after, then, then.Add(2*time.Hour)))
	require.Empty(t, PutOut(after, after, then, then))
}
