package service

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAUnitShowsTheServiceWhatItWouldNotSee(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ program, site, holds string }{
		{"/usr/local/bin/mellowgate", "/etc/mellowgate/site.yaml", "\nProtectHome=yes\nPrivateTmp=yes\n"},
		{"/usr/local/bin/mellowgate", "/home/ines/site/site.yaml",
			"\nProtectHome=tmpfs\nBindReadOnlyPaths=/home/ines/site\nPrivateTmp=yes\n"},
		{"/root/mellowgate", "/srv/site.yaml", "\nProtectHome=tmpfs\nBindReadOnlyPaths=/root/mellowgate\nPrivateTmp"},
		{"/tmp/mellowgate", "/var/tmp/our 100% site/site.yaml",
			"\nProtectHome=tmpfs\nBindReadOnlyPaths=/tmp/mellowgate\nBindReadOnlyPaths=\"/var/tmp/our 100%% site\"\n"},
		{"/usr/bin/mellowgate", "/homes/site.yaml", "\nProtectHome=yes\n"},
		{"/usr/bin/mellowgate", "/srv/a\"b\\c/site.yaml", `/var/lib/mellowgate "/srv/a\"b\\c/site.yaml"`},
	} {
		text, aside, err := unitOf(c.program, c.site)
		require.NoError(t, err)
		require.Equal(t, strings.Contains(c.holds, "BindReadOnlyPaths"), aside, c.site)
		require.Contains(t, text, c.holds)
		require.NotContains(t, text, "{{")
	}
	_, _, err := unitOf("/usr/bin/mellowgate", "/home/a:b/site.yaml")
	require.ErrorContains(t, err, "rename it without a colon, or move it to /etc/mellowgate")
}
