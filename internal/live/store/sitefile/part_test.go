package sitefile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

func TestAPartOfASiteHasOneDeviceAndAllElse(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("a.yaml", "site: S\ndevices:\n  - {name: one, addresses: [192.0.2.1]}\n"+
		"  - {name: two, addresses: [192.0.2.2]}\n")
	write("b.yaml", "accounts: [{name: keeper, level: 15, password: key k}]\nkeys: {k: file k}\n"+
		"devices: [{name: three, addresses: [192.0.2.3], accounts: [keeper]}]\n")
	names := func(s *site.Site) (all []string) {
		for _, d := range s.Devices {
			all = append(all, d.Name)
		}
		return all
	}
	for _, device := range []string{"one", "two", "three"} {
		p, err := LoadPart(dir, device)
		require.NoError(t, err)
		s, err := p.With()
		require.NoError(t, err)
		require.Equal(t, []string{device}, names(s))
		require.Len(t, s.Accounts, 1, "all else is there")
		s, err = p.With(site.Source{Name: "more", Text: []byte("devices: [{name: four, addresses: [192.0.2.4]}]\n")})
		require.NoError(t, err)
		require.Equal(t, []string{device, "four"}, names(s))
	}
	p, err := LoadPart(dir, "nobody")
	require.NoError(t, err)
	s, err := p.With()
	require.NoError(t, err)
	require.Equal(t, []string{"one", "two", "three"}, names(s), "one that does not stand there may come from elsewhere")

	write("a.yaml", "site: S\ndevices:\n  - &one {name: one, addresses: [192.0.2.1]}\n  - *one\n  - {name: two, "+
		"addresses: [192.0.2.2]}\n")
	_, err = LoadPart(dir, "two")
	require.NoError(t, err)
	write("a.yaml", "site: [\n")
	_, err = LoadPart(dir, "two")
	require.Error(t, err)
	_, err = LoadPart(filepath.Join(dir, "none"), "two")
	require.ErrorContains(t, err, "there is no such file or folder")
}
