package evidence

import (
	"net/netip"
	"slices"
	"time"
)

// OwnQuestion is a question that this program put to a server by itself, in the
// place of a device: it is no login of that device.
type OwnQuestion struct {
	Time time.Time `json:"time"`
	From string    `json:"from"` // address:port
}

// ownFor is for how long after its beginning what comes from the port of a
// question of our own belongs to it; after that a device may have the port.
const ownFor = 30 * time.Second

// WithoutOwn returns the evidence without what servers and packets show of
// questions of our own.
func (e Evidence) WithoutOwn(own []OwnQuestion) Evidence {
	if len(own) == 0 {
		return e
	}
	at := map[string][]time.Time{}
	for _, q := range own {
		at[q.From] = append(at[q.From], q.Time)
	}
	ours := func(from string, when time.Time) bool {
		return slices.ContainsFunc(at[from], func(began time.Time) bool {
			return when.After(began.Add(-time.Second)) && when.Before(began.Add(ownFor))
		})
	}
	e.Events = slices.DeleteFunc(slices.Clone(e.Events), func(v Event) bool {
		client, err := netip.ParseAddr(v.Client)
		return err == nil && ours(netip.AddrPortFrom(client, v.Port).String(), v.Time)
	})
	e.Exchanges = slices.DeleteFunc(slices.Clone(e.Exchanges), func(x Exchange) bool { return ours(x.Client, x.Time) })
	return e
}
