package lab

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab/directory"
	"mellowgate/internal/live/lab/standin/config"
)

// Fault is one thing that is wrong in a lab, on purpose.
type Fault struct {
	// silent, closed, no-way, slow, base-differs, no-tls, name-differs, key-differs, client-unknown, error,
	// no-authentication, no-authorization, no-accounting, loses, clock, or a trouble of a stand-in
	What   string
	Server *site.Server
	Device *site.Device // nil: for every device; with loses, for every server
	By     time.Duration
	Loses  int    // percent
	With   string // of a trouble of a stand-in: with what
}

// kindsOff are the faults that switch off one kind of service, and its
// purposes.
var kindsOff = map[string][]site.Purpose{
	"no-authentication": {site.Login, site.Elevation},
	"no-authorization":  {site.Session, site.Commands},
	"no-accounting":     {site.RecordSessions, site.RecordCommands, site.RecordSystem},
}

var serverFaults = []string{"silent", "closed", "no-way", "slow", "key-differs", "client-unknown", "error",
	"no-authentication", "no-authorization", "no-accounting", "base-differs", "no-tls", "name-differs"}

// directoryFaults are those that a directory can have; key-differs is that it
// refuses who searches.
var directoryFaults = []string{"silent", "closed", "no-way", "slow", "key-differs", "error", "base-differs", "no-tls",
	"name-differs"}

// onlyOfDirectories are those that no other server has.
var onlyOfDirectories = []string{"base-differs", "no-tls", "name-differs"}

// FaultForms are the ways to write a fault.
var FaultForms = []string{"SERVER silent", "SERVER closed", "SERVER no-way", "SERVER slow 3s", "SERVER key-differs",
	"SERVER client-unknown", "SERVER error",
	"SERVER no-authentication", "SERVER no-authorization", "SERVER no-accounting", "DEVICE loses 30%",
	"DEVICE hangs OPERATION", "DEVICE drops OPERATION", "DEVICE warns OPERATION", "DEVICE refuses ELEMENT",
	"DEVICE lacks MODEL", "DIRECTORY base-differs", "DIRECTORY no-tls", "DIRECTORY name-differs", "clock +2h"}

// ParseFault reads a fault: "tern silent", "tern slow 3s for north-sw-1",
// "north-sw-1 loses 30%", "clock -1h". Each about a server may end with "for
// DEVICE".
func ParseFault(s *site.Site, text string) (Fault, error) {
	words := strings.Fields(text)
	wrong := func(format string, args ...any) (Fault, error) {
		return Fault{}, fmt.Errorf("the fault %q: %s\nfaults are: %s\none of a server may end with \"for DEVICE\"",
			text,
			fmt.Sprintf(format, args...), strings.Join(FaultForms, ", "))
	}
	var f Fault
	if n := len(words); n > 2 && words[n-2] == "for" {
		if f.Device = s.Device(words[n-1]); f.Device == nil {
			return wrong("there is no device %q%s", words[n-1],
				nearest.Suggest(words[n-1], names(s.Devices, func(d *site.Device) string { return d.Name })))
		}
		words = words[:n-2]
	}
	if len(words) < 2 {
		return wrong("it is too short")
	}
	var err error
	switch subject := words[0]; {
	case subject == "clock":
		f.What = "clock"
		if f.By, err = time.ParseDuration(strings.TrimPrefix(words[1], "+")); err != nil || len(words) > 2 {
			return wrong("by how much is the clock off? Such as +2h or -90s")
		}
		return f, nil
	case words[1] == "loses":
		if f.Device = s.Device(subject); f.Device == nil {
			return wrong("there is no device %q%s", subject,
				nearest.Suggest(subject, names(s.Devices, func(d *site.Device) string { return d.Name })))
		}
		f.What = "loses"
		if len(words) != 3 || !strings.HasSuffix(words[2], "%") {
			return wrong("how much is lost? Such as 30%%")
		}
		if f.Loses, err = strconv.Atoi(strings.TrimSuffix(words[2], "%")); err != nil || f.Loses < 1 || f.Loses > 100 {
			return wrong("from 1%% to 100%% can be lost")
		}
		return f, nil
	case slices.Contains(config.Troubles, words[1]):
		if f.Device = s.Device(subject); f.Device == nil {
			return wrong("there is no device %q%s", subject,
				nearest.Suggest(subject, names(s.Devices, func(d *site.Device) string { return d.Name })))
		}
		f.What = words[1]
		choices := config.TroubleTakes(f.What)
		switch {
		case len(words) != 3 && choices == nil:
			return wrong("which element is refused? Such as shared-secret")
		case len(words) != 3:
			return wrong("with what? One of %s", strings.Join(choices, ", "))
		case choices != nil && !slices.Contains(choices, words[2]):
			return wrong("%q is none of %s%s", words[2], strings.Join(choices, ", "),
				nearest.Suggest(words[2], choices))
		case choices == nil && !element.MatchString(words[2]):
			return wrong("%q is no name of an element", words[2])
		}
		f.With = words[2]
		return f, nil
	}
	if f.Server = s.Server(words[0]); f.Server == nil {
		return wrong("there is no server %q%s", words[0],
			nearest.Suggest(words[0], names(s.Servers, func(v *site.Server) string { return v.Name })))
	}
	f.What = words[1]
	switch {
	case !slices.Contains(serverFaults, f.What):
		return wrong("a server cannot be %q%s", f.What, nearest.Suggest(f.What, serverFaults))
	case f.What == "slow":
		if len(words) != 3 {
			return wrong("how slow? Such as 3s")
		}
		if f.By, err = time.ParseDuration(words[2]); err != nil || f.By <= 0 || f.By > time.Hour {
			return wrong("%q is no time; 3s is one", words[2])
		}
	case len(words) > 2:
		return wrong("%q was not understood", words[2])
	case f.Server.Protocol == site.LDAP && !slices.Contains(directoryFaults, f.What):
		return wrong("%s is a directory, which can be %s", f.Server.Name, strings.Join(directoryFaults, ", "))
	case f.Server.Protocol != site.LDAP && slices.Contains(onlyOfDirectories, f.What):
		return wrong("%s is no directory", f.Server.Name)
	case f.Server.Protocol == site.LDAP && f.Server.Directory.Security == "none" && f.What != "base-differs" &&
		slices.Contains(onlyOfDirectories, f.What):
		return wrong("%s is asked without TLS", f.Server.Name)
	case f.What == "error" && f.Server.Protocol == site.RADIUS:
		return wrong("RADIUS has no answer that says \"error\"; silent is what a device would see")
	}
	return f, nil
}

// element is the name of an element of a model.
var element = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)

func names[T any](values []T, name func(T) string) []string {
	some := make([]string, len(values))
	for i, v := range values {
		some[i] = name(v)
	}
	return some
}

// String returns the fault as ParseFault reads it.
func (f Fault) String() string {
	text := f.What
	switch {
	case f.What == "clock" && f.By >= 0:
		return "clock +" + f.By.String()
	case f.What == "clock":
		return "clock " + f.By.String()
	case f.What == "loses":
		return fmt.Sprintf("%s loses %d%%", f.Device.Name, f.Loses)
	case f.With != "":
		return f.Device.Name + " " + f.What + " " + f.With
	case f.What == "slow":
		text += " " + f.By.String()
	}
	text = f.Server.Name + " " + text
	if f.Device != nil {
		text += " for " + f.Device.Name
	}
	return text
}

// Set puts a fault into effect; one of the same kind in the same place ends.
// It is an event.
func (l *Lab) Set(f Fault) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.faults = slices.DeleteFunc(l.faults, func(have Fault) bool {
		return have.What == f.What && have.Server == f.Server && have.Device == f.Device && have.With == f.With
	})
	l.faults = append(l.faults, f)
	l.apply(f, true)
	l.config.State.Event(evidence.Event{Time: l.now(), Question: evidence.FaultQuestion, Answer: evidence.FaultSet,
		Text: f.String()})
}

// Lift ends a fault. It is false when there is none like it.
func (l *Lab) Lift(f Fault) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	i := slices.IndexFunc(l.faults, func(have Fault) bool { return have.String() == f.String() })
	if i < 0 {
		return false
	}
	l.faults = slices.Delete(l.faults, i, i+1)
	l.apply(f, false)
	l.config.State.Event(evidence.Event{Time: l.now(), Question: evidence.FaultQuestion, Answer: evidence.FaultLifted,
		Text: f.String()})
	return true
}

// Faults returns what is in effect.
func (l *Lab) Faults() []Fault {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.faults)
}

// apply makes a fault happen, or ends it.
func (l *Lab) apply(f Fault, on bool) {
	var from netip.Addr
	if f.Device != nil {
		from = l.at.sources[f.Device]
	}
	switch f.What {
	case "silent", "closed", "no-way":
		defer l.drop(f.Server)
	}
	switch f.What {
	case "silent":
		l.links.set(link{device: from, server: l.at.servers[f.Server]}, func(c *condition) { c.cut = on })
		return
	case "closed":
		l.links.set(link{device: from, server: l.at.servers[f.Server]}, func(c *condition) { c.closed = on })
		return
	case "no-way":
		l.links.set(link{device: from, server: l.at.servers[f.Server]}, func(c *condition) { c.noWay = on })
		return
	case "loses":
		loses := 0
		if on {
			loses = f.Loses
		}
		l.links.set(link{device: from}, func(c *condition) { c.loses = loses })
		return
	case config.Hangs, config.Drops, config.Warns, config.Refuses, config.Lacks:
		var troubles []config.Trouble
		for _, have := range l.faults {
			if have.Device == f.Device && have.With != "" {
				troubles = append(troubles, config.Trouble{What: have.What, With: have.With})
			}
		}
		l.devices[f.Device].SetTroubles(troubles)
		return
	case "clock":
		l.offset.Store(0)
		if on {
			l.offset.Store(int64(f.By))
		}
		return
	case "key-differs":
		if l.directories[f.Server] != nil {
			break
		}
		for d, standIn := range l.devices {
			if f.Device != nil && d != f.Device {
				continue
			}
			key := l.config.Keys[d.Key(f.Server).Name]
			if on {
				key = anotherKey()
			}
			standIn.SetKey(f.Server, key)
		}
		return
	}
	all := l.mergedHindrance(f.Server, f.Device)
	if d := l.directories[f.Server]; d != nil {
		has := func(what string) bool {
			return slices.ContainsFunc(l.faults, func(have Fault) bool {
				return have.What == what && have.Server == f.Server && have.Device == f.Device
			})
		}
		d.Fault(from, directory.Fault{Error: all.failing, Refuses: has("key-differs"), Delay: all.delay,
			NoBase: has("base-differs"), NoTLS: has("no-tls"), OtherName: has("name-differs")})
		d.Drop() // who has bound before must bind again
		return
	}
	l.hindrances.put(f.Server.Name, from, all)
}

// drop ends the connections to a directory, which are kept: they would outlive
// a link that is cut.
func (l *Lab) drop(s *site.Server) {
	if d := l.directories[s]; d != nil {
		d.Drop()
	}
}

// mergedHindrance returns what all faults of a server for a device, or for all, come to.
func (l *Lab) mergedHindrance(s *site.Server, d *site.Device) hindrance {
	var all hindrance
	for _, f := range l.faults {
		if f.Server != s || f.Device != d {
			continue
		}
		switch f.What {
		case "slow":
			all.delay = f.By
		case "client-unknown":
			all.stranger = true
		case "error":
			all.failing = true
		case "silent", "closed", "no-way", "key-differs": // of the link, and of keys
		default:
			all.not = append(all.not, kindsOff[f.What]...)
		}
	}
	return all
}

// anotherKey makes a key that no device and no server has.
func anotherKey() site.Secret {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails: crypto/rand ends the process instead
	return site.NewSecret("another-key-" + hex.EncodeToString(b[:]))
}

// now is the time of the lab, which a fault may have moved.
func (l *Lab) now() time.Time { return time.Now().Add(time.Duration(l.offset.Load())) }
