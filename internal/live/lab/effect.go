package lab

import (
	"slices"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// Impaired is a server that a device does not find as it should be: because of a
// fault, or because it leaves the server alone after it gave no answer.
type Impaired struct {
	Device string        `json:"device"`
	Server string        `json:"server"`
	State  foresee.State `json:"state"`         // up where it only rests
	Rests  float64       `json:"rests_seconds"` // for how much longer it is left alone; 0: it is asked; -1: until all are
}

// Until is when a rest ends that ends by time, after now; zero where there is none.
func (i Impaired) Until(now time.Time) time.Time {
	if i.Rests <= 0 {
		return time.Time{}
	}
	return now.Add(time.Duration(i.Rests * float64(time.Second)))
}

// loginFaults are what a fault of a server makes of it for a login, in the words
// of a forecast.
var loginFaults = map[string]foresee.State{"silent": foresee.Down, "closed": foresee.Closed,
	string(reason.NoWay):       foresee.Closed, // to a device the same
	string(foresee.KeyDiffers): foresee.KeyDiffers, string(foresee.ClientUnknown): foresee.ClientUnknown,
	"error": foresee.InError, string(foresee.NoRecords): foresee.NoRecords}

// state is what a fault makes of a server in a forecast for a device, nil for one that is
// as patient as the server says; known is false where no forecast has a word for it.
func (f Fault) state(d *site.Device) (s foresee.State, known bool) {
	switch {
	case f.Server == nil:
		return foresee.Up, f.With != "" || f.What == "clock" // of NETCONF, and of clocks: no part of a login
	case f.What == "slow" && f.By >= f.waited(d):
		return foresee.Down, true
	case f.What == "slow":
		return foresee.Up, true
	}
	s, known = loginFaults[f.What]
	return s, known
}

// waited returns how long a device waits for the server of a fault, all tries together.
func (f Fault) waited(d *site.Device) time.Duration {
	if d == nil {
		return f.Server.Timeout * time.Duration(f.Server.Attempts)
	}
	p := d.Patience(f.Server)
	return p.Timeout * time.Duration(p.Attempts)
}

// impaired returns how devices find the servers that they would ask, where that
// is not as it should be, and the faults for which no forecast has a word.
func (l *Lab) impaired() (impairments []Impaired, unforeseen []Fault) {
	faults := l.Faults()
	for _, f := range faults {
		if _, known := f.state(nil); !known {
			unforeseen = append(unforeseen, f)
		}
	}
	for _, d := range l.config.Site.Devices {
		for _, h := range l.devices[d].Servers() {
			i := Impaired{Device: d.Name, Server: h.Server, State: foresee.Up, Rests: h.Rests}
			for _, f := range faults {
				s, known := f.state(d)
				if known && s != foresee.Up && f.Server != nil && f.Server.Name == h.Server &&
					(f.Device == nil || f.Device == d) && worse(s, i.State) {
					i.State = s
				}
			}
			if i.State != foresee.Up || i.Rests != 0 {
				impairments = append(impairments, i)
			}
		}
	}
	return impairments, unforeseen
}

// worse reports whether a device meets one state before another: what keeps
// packets away hides what a server would make of them.
func worse(a, b foresee.State) bool {
	order := []foresee.State{foresee.Up, foresee.NoRecords, foresee.InError, foresee.ClientUnknown, foresee.KeyDiffers,
		foresee.Closed,
		foresee.Down}
	return slices.Index(order, a) > slices.Index(order, b)
}
