package lab

import (
	"crypto/tls"
	"net/netip"
	"strconv"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/devicelogs"
)

// receiveLogs receives logs as the site's service does, at the lab's own address: what
// stands for a device sends them from that device's address.
func (l *Lab) receiveLogs(devices map[netip.Addr]*site.Device) (err error) {
	var where []site.LogSource
	for _, at := range l.config.Site.Service.DeviceLogs {
		port := netip.MustParseAddrPort(at.Address).Port()
		if port < 1024 {
			port += 10000
		}
		at.Address = l.at.control.String() + ":" + strconv.Itoa(int(port))
		where = append(where, at)
	}
	if len(where) == 0 {
		return nil
	}
	l.logs, err = devicelogs.Listen(devicelogs.Config{Where: where, Keep: l.config.State.Log, Now: l.now,
		Say: func(string) {},
		Device: func(address netip.Addr) string {
			if d := devices[address]; d != nil {
				return d.Name
			}
			return ""
		},
		TLS: func(server string) (*tls.Config, error) {
			i, err := l.identity(server, l.at.servers[l.config.Site.Server(server)])
			return i.Server(site.RADIUS), err
		}})
	if err == nil {
		l.Places.Logs = l.logs.Places()
	}
	return err
}
