package call

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

func TestADeviceOfALabIsEnteredWhereItIs(t *testing.T) {
	t.Parallel()
	const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIBCEiWoGIDbINLqahJCUpTlhpxwYfHN4HtlJnDxjWnMz\n"
	ways := []evidence.WayPlace{{Access: site.SSH, Address: "127.1.0.1:22"},
		{Access: site.Web, Address: "127.1.0.1:443"}}
	places := evidence.Places{Devices: []evidence.DevicePlace{{Name: "sw-1", HostKey: key, Ways: ways},
		{Name: "broken", HostKey: "no key", Ways: ways}}}
	way, err := LabWayOf(places, "sw-1", site.Web)
	require.NoError(t, err)
	require.Equal(t, "127.1.0.1:443", way.Address)
	require.Equal(t, "ssh-ed25519", way.HostKey.Type())
	for of, says := range map[[2]string]string{
		{"sw-2", site.SSH}:     `the lab has no device "sw-2"; did you mean "sw-1"?`,
		{"sw-1", site.Telnet}:  "sw-1 has no way in by telnet in this lab",
		{"sw-1", site.NETCONF}: "give it one in the site (access: {netconf: {}})",
		{"broken", site.SSH}:   "the host key of broken in the state folder is damaged",
	} {
		_, err := LabWayOf(places, of[0], of[1])
		require.ErrorContains(t, err, says)
	}
}
