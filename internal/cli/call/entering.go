package call

import (
	"fmt"
	"net"
	"slices"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
)

// LabWay is where a device of a running lab is entered by an access method, and the SSH key that it shows.
type LabWay struct {
	Address string
	HostKey ssh.PublicKey
}

// LabWayOf returns the way in by an access method to a device of a running lab.
func LabWayOf(places evidence.Places, device, access string) (LabWay, error) {
	place, has := places.Device(device)
	if !has {
		var names []string
		for _, d := range places.Devices {
			names = append(names, d.Name)
		}
		return LabWay{}, Usagef("the lab has no device %q%s", device, nearest.Suggest(device, names))
	}
	i := slices.IndexFunc(place.Ways, func(w evidence.WayPlace) bool { return w.Access == access })
	if i < 0 {
		hint := ""
		if access == site.NETCONF {
			hint = "; give it one in the site (access: {netconf: {}})"
		}
		return LabWay{}, Usagef("%s has no way in by %s in this lab%s", device, access, hint)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
	if err != nil {
		return LabWay{}, UsageError(fmt.Errorf("the host key of %s in the state folder is damaged", device))
	}
	return LabWay{Address: place.Ways[i].Address, HostKey: key}, nil
}

// OwnAddress returns the first address of a device, with a port, for where none is given.
func OwnAddress(d *site.Device, port string) (string, error) {
	if len(d.Addresses) == 0 {
		return "", Usagef("%s has no address in the site; give it with -address", d.Name)
	}
	return net.JoinHostPort(d.Addresses[0].String(), port), nil
}
