package sitefile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
)

const holding = `site: Test
keys:
  k: file k   # a comment that stays
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k}
groups: [{name: g, servers: [t]}]
lists: [{name: l, authenticate: login, methods: [group g, local]}]
accounts:
  # the way back in
  - name: keeper
    level: 15
    password: key k
devices:
  - name: "block"
    addresses: [192.0.2.11]
    accounts: [keeper]
    defaults: {login: l}
    access: {console: {}}
  - {addresses: [192.0.2.12], name: flow, accounts: [keeper], defaults: {login: l}, access: {console: {}}}
`

func TestWhatADeviceHoldsIsWrittenIntoItsSite(t *testing.T) {
	t.Parallel()
	_, path := written(t, holding)
	hold := func(device string, h drift.Found, fresh map[string]site.Secret) error {
		s, base, err := Load(path)
		require.NoError(t, err)
		return WriteFound(s, path, base, s.Device(device), h, fresh)
	}
	h := drift.Found{Keys: map[string]string{"t": "held"}, Accounts: []string{"keeper", "other"},
		New: []drift.NewAccount{{Name: "other", Level: 1,
			Hash: "$6$saltsaltsalt$kR8UpqWrzbIr2DmnMx3GhlhQOEPs3cE6yWiOoMbnFEX1IvxEf6Cee2ET" +
				"bvkvyEqQkSiH1H1rTHcLvDNyyvNQ8."}}}
	require.NoError(t, hold("block", h, map[string]site.Secret{"held": site.NewSecret("what-was-found-there")}))
	require.NoError(t, hold("flow", drift.Found{Lists: map[string][]string{"l": {"local"}}}, nil))
	require.NoError(t, hold("flow", drift.Found{Source: "2001:db8::1"}, nil), "in place of what was there")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, part := range []string{"keys:\n  held: file keys/held.key\n  k: file k   # a comment that stays\n",
		"  # the way back in\n  - {name: other, level: 1, password: '$6$", "'}\n  - name: keeper\n",
		"  - name: \"block\"\n    found: {keys: {t: held}, accounts: [keeper, other]}\n    addresses:",
		"name: flow, found: {source: \"2001:db8::1\"}, accounts"} {
		require.Contains(t, string(text), part)
	}
	key, err := os.ReadFile(filepath.Join(filepath.Dir(path), "keys/held.key"))
	require.NoError(t, err)
	require.Equal(t, "what-was-found-there\n", string(key))
	s, _, err := Load(path)
	require.NoError(t, err)
	require.Equal(t, "held", s.Device("block").Key(s.Server("t")).Name)
	require.Len(t, s.Device("block").Accounts, 2)
	design, _, err := LoadDesign(path)
	require.NoError(t, err)
	require.Equal(t, "k", design.Device("block").Key(design.Server("t")).Name)
	require.Len(t, design.Device("block").Accounts, 1)

	// What cannot be done leaves everything as it was.
	require.ErrorContains(t, hold("flow", drift.Found{Lists: map[string][]string{"none": {"local"}}},
		map[string]site.Secret{"new": site.NewSecret("x")}), "was undone")
	require.NoFileExists(t, filepath.Join(filepath.Dir(path), "keys/new.key"))
	require.ErrorContains(t, hold("flow", drift.Found{}, map[string]site.Secret{"held": site.NewSecret("x")}),
		"cannot be kept", "a file is never written over")
	now, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, string(text), string(now))
	require.Equal(t, []int{-1, 1, 7, -1}, []int{closing("{"), closing("{}"), closing("{a: {}}b: }") + 1, closing("x")})
}
