package drift

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

// An account that the site does not have is adopted with its hash and its level;
// one whose password is in clear, or not shown, has nothing that a site could
// keep.
func TestAnAccountIsAdoptedOnlyWithAHash(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(adoptText)})
	require.NoError(t, err)
	for _, c := range []struct {
		password, role string
		fresh          []NewAccount
	}{
		{"$6$c$d", "", []NewAccount{{Name: "other", Level: 15, Hash: "$6$c$d"}}},
		{"$6$c$d", "SYSTEM_ROLE_ADMIN", []NewAccount{{Name: "other", Level: 15, Hash: "$6$c$d"}}},
		{"$5$c$d", "operator", []NewAccount{{Name: "other", Level: 1, Hash: "$5$c$d"}}},
		{"$0$in clear", "", nil},
		{"in clear", "", nil},
		{"", "", nil},
	} {
		want, have := Facts{}, Facts{}
		have.Note(Account, "other")
		have.Hide(Account, "other", "password", c.password)
		if c.role != "" {
			have.Say(Account, "other", "role", c.role)
		}
		found := Compare(want, have, func(About, string) string { return "" })
		h := Adopt(s, s.Device("d"), found, have, func(string, site.Secret) string { return "" })
		require.Equal(t, c.fresh, h.New, "%q as %q", c.password, c.role)
		if c.fresh == nil {
			require.Nil(t, h.Accounts, "it is not named either: no such account could be written")
			continue
		}
		require.Equal(t, []string{"keeper", "master", "other"}, h.Accounts)
	}
}
