package compare_test

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/compare"
)

// open reads a site of a folder, with what was found on devices or without.
func open(t *testing.T, folder string, found bool) sitefile.Opened {
	t.Helper()
	load := sitefile.LoadDesign
	if found {
		load = sitefile.Load
	}
	s, base, err := load(folder)
	require.NoError(t, err)
	keys, missing := secrets.Keys(s, base, secrets.Unlock{})
	require.Empty(t, missing)
	return sitefile.Opened{Site: s, Path: folder, Base: base, Keys: keys}
}

// running is a lab of the reviewed demo site.
func running(t *testing.T) *lab.Lab {
	t.Helper()
	o := open(t, folderOf(t), true)
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	l, err := lab.Start(lab.Config{Site: o.Site, SitePath: o.Path, Keys: o.Keys, State: folder,
		Network: labtest.Network(t)})
	require.NoError(t, err)
	t.Cleanup(func() {
		l.Shutdown()
		require.NoError(t, folder.Close())
	})
	return l
}

// target is a device of the lab, reached as ines.marsh.
func target(t *testing.T, l *lab.Lab, d *site.Device) compare.Target {
	t.Helper()
	place, known := l.Places.Device(d.Name)
	require.True(t, known)
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
	require.NoError(t, err)
	i := slices.IndexFunc(place.Ways, func(w evidence.WayPlace) bool { return w.Access == site.NETCONF })
	require.GreaterOrEqual(t, i, 0)
	password, err := secrets.SecretFile("../../../demo/passwords/ines.marsh")
	require.NoError(t, err)
	return compare.Target{Device: d, Reach: device.Target{Address: place.Ways[i].Address, Person: "ines.marsh",
		Auth: device.PasswordAuth(password), HostKey: key}}
}

// folderOf writes the demo site, changed, to a folder of its own.
func folderOf(t *testing.T, changes ...string) string {
	t.Helper()
	text, err := os.ReadFile("../../../demo/as-reviewed/site.yaml")
	require.NoError(t, err)
	changed := strings.NewReplacer(changes...).Replace(string(text))
	require.Equal(t, len(changes) > 0, string(text) != changed)
	folder := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(folder, "keys"), os.DirFS("../../../demo/keys")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "site.yaml"), []byte(changed), 0o600))
	return folder
}

func TestDevicesAreComparedInTheirOrderAndOneThatCannotBeReadStopsNoOther(t *testing.T) {
	t.Parallel()
	l := running(t)
	folder := folderOf(t, "servers: [tern, plover]", "servers: [plover, tern]")
	sites := compare.Sites{Design: open(t, folder, false), Found: open(t, folder, true)}
	targets := []compare.Target{
		target(t, l, sites.Design.Device("north-sw-1")),
		target(t, l, sites.Design.Device("north-rtr-1")),
		{Device: sites.Design.Device("hq-fw-1"), Problem: "its host key is not known"},
		target(t, l, sites.Design.Device("north-rtr-1")),
	}
	// nothing listens there
	targets[1].Reach.Address = netip.AddrPortFrom(labtest.Host(labtest.Network(t), 9, 9), 9).String()
	for _, atOnce := range []int{0, 1, 8} {
		some, err := compare.All(context.Background(), sites, targets, atOnce)
		require.NoError(t, err)
		require.Len(t, some, 4)
		for i, read := range []bool{true, false, false, true} {
			require.Equal(t, targets[i].Device.Name, some[i].Device)
			require.Equal(t, read, some[i].Read)
			require.Equal(t, read, some[i].Problem == "")
			require.Equal(t, read, some[i].Drifted())
		}
		require.Equal(t, "its host key is not known", some[2].Problem)
		require.Contains(t, some[1].Problem, "connection refused")
		var texts []string
		for _, d := range some[0].Differences {
			require.False(t, d.Known)
			require.True(t, strings.HasPrefix(d.Place, folder), d.Place)
			texts = append(texts, d.String())
		}
		require.Equal(t, []string{"group shore: servers in order is tern, plover, and should be plover, tern"}, texts)
	}
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	some, err := compare.All(gone, sites, targets, 1)
	require.ErrorIs(t, err, context.Canceled)
	require.False(t, some[0].Read)
}

func TestWhatIsFoundIsWrittenIntoTheSiteAndThenKnown(t *testing.T) {
	t.Parallel()
	l := running(t)
	folder := folderOf(t, "servers: [tern, plover]", "servers: [plover, tern]", "address: 192.0.2.22",
		"address: 192.0.2.29")
	sites := compare.Sites{Design: open(t, folder, false), Found: open(t, folder, true)}
	targets := []compare.Target{target(t, l, sites.Design.Device("north-sw-1")),
		target(t, l, sites.Design.Device("north-rtr-1"))}
	some, err := compare.All(context.Background(), sites, targets, 2)
	require.NoError(t, err)
	loads := 0
	load := func() (sitefile.Opened, error) {
		loads++
		return open(t, folder, true), nil
	}
	require.NoError(t, compare.Adopt(sites, some, load))
	require.Equal(t, 2, loads, "places move with each write")
	for _, r := range some {
		known := map[bool]int{}
		for _, d := range r.Differences {
			known[d.Known]++
		}
		require.Equal(t, map[bool]int{true: 1, false: 1}, known, "the order has a word, an address has none: %+v", r)
		require.NotEmpty(t, r.Adopted)
		require.Contains(t, r.Notes, "found has no word for what is not marked as known; send puts the design there")
	}
	require.NotEqual(t, sites.Design.Device("north-sw-1").Found, open(t, folder, true).Device("north-sw-1").Found)

	before, err := os.ReadFile(filepath.Join(folder, "site.yaml"))
	require.NoError(t, err)
	again := compare.Sites{Design: open(t, folder, false), Found: open(t, folder, true)}
	some, err = compare.All(context.Background(), again, targets[:1], 1)
	require.NoError(t, err)
	require.NoError(t, compare.Adopt(again, some, load))
	after, err := os.ReadFile(filepath.Join(folder, "site.yaml"))
	require.NoError(t, err)
	require.Equal(t, string(before), string(after), "the same, found once more, is written once")
}
