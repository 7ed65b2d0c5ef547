package sheet

import (
	"fmt"
	"net/netip"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/site"
)

// searches says how a device asks a directory.
func searches(v blueprint.Server) string {
	d := v.Directory
	who := "it searches as nobody"
	if d.BindAs != "" {
		who = fmt.Sprintf("it searches as %s with the key %s", d.BindAs, v.Key)
	}
	security := map[string]string{"start": "StartTLS", "ldaps": "TLS from the start (ldaps)", "none": "no TLS: " +
		"passwords cross the network in clear"}[d.Security]
	return fmt.Sprintf("below %s with %s, %s, %s", d.Base, d.Find, who, security)
}

// named says what a device needs to find servers that have a name in place of an
// address.
func named(v *site.Server) []Item {
	if _, err := netip.ParseAddr(v.Address); err == nil {
		return nil
	}
	return []Item{{Text: fmt.Sprintf("%s is a name: see that the device asks a name service that answers at night too, "+
		"or write the address in its place. While no name service answers, %s is as good as silent.", v.Address, v.Name)}}
}
