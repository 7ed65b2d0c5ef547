// Package trial has the commands that try logins: lab, login, drill and learn.
package trial

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	sheetcmd "mellowgate/internal/cli/sheet"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/standin"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/state"
)

func LabCommand() *call.Command {
	return &call.Command{
		Name: "lab", Args: "[SITE]", Short: "the site's devices as stand-ins, and its servers, on loopback addresses",
		Long: `Runs every server that the site says to run, and every device as a stand-in, on addresses of
lab.network (127.77.0.0/16 unless the site says otherwise). It prints who is where and how to log in with any
SSH client, and goes on until Ctrl-C or the end of -for.

Ports below 1024 are raised by 10000 when they may not be opened. The console of a device is a plain text port
that stands for the serial line.

With -speak, devices whose platform names a phrasebook that says how the make is talked to take and show the lines of
that make at console, ssh and telnet, and obey them: a change sheet is rehearsed by hand, from what the device holds
(-holds).

With -behaves a stand-in behaves otherwise than the site says, or one that it does not say; with -devices-only its
servers are left to learn, which finds it out.

While it runs, things are broken and mended from a second terminal: -set FAULT, -lift FAULT (or -lift all) and
-faults, with the same -state. The faults are:

SERVER silent               what devices send is lost
SERVER closed               its ports refuse
SERVER no-way               a router on the way says that there is none
SERVER slow 3s              every answer comes so late
SERVER key-differs          the devices have another key; a directory refuses who searches
SERVER client-unknown        it does not know the devices
SERVER error                it says that it cannot answer
SERVER no-authentication    it does not take this kind of question; also no-authorization, no-accounting
DEVICE loses 30%            so much of what it sends is lost
DEVICE hangs commit         over NETCONF: an operation is never answered; also drops (the line ends), warns
DEVICE refuses ELEMENT      over NETCONF: an element such as shared-secret is refused; also lacks MODEL
DIRECTORY base-differs      it has nothing at its base; also no-tls (it refuses TLS), name-differs (in its certificate)
clock +2h                   the clock of servers and devices is off

One of a server may be for one device only: 'tern silent for north-sw-1'. Each change is an event. A directory
can be silent, closed, no-way, slow, key-differs or error too; it knows the site's people and those of lab.people.`,
		Examples: []call.Example{
			{Call: "mellowgate lab demo/as-reviewed", Shows: "the demo site, until Ctrl-C"},
			{Call: "mellowgate lab -set 'tern silent' -set 'plover slow 3s'",
				Shows: "break a running lab; -lift all mends it"},
			{Call: "mellowgate lab -speak -holds mv-curlew-rtr=demo/saved/mv-curlew-rtr.txt demo/as-reviewed",
				Shows: "stand-ins that speak as their makes, one of them from what the device has saved"},
			{Call: "mellowgate lab -for 5m -state /tmp/lab demo/as-reviewed",
				Shows: "for five minutes, with its evidence in /tmp/lab"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			dir := c.StateFlag()
			span := c.Flags.Duration("for", 0, "end after this `time`, such as 5m")
			network := c.Flags.String("network", "",
				"other loopback `addresses` than the site's lab.network, such as 127.78.0.0/16")
			from := c.Flags.String("from", "",
				"the `address` that people come from, as the devices tell the servers: for grants with from")
			var set, lift call.Names
			c.Flags.Var(&set, "set", "in a running lab: put this `fault` into effect; may be given several times")
			c.Flags.Var(&lift, "lift", "in a running lab: end this `fault`, or all; may be given several times")
			speak := c.Flags.Bool("speak", false,
				"devices whose platform names a phrasebook take and show the lines of their make at console, ssh and "+
					"telnet")
			var holds call.Names
			c.Flags.Var(&holds, "holds",
				"with -speak: a device holds what a text says at first, as `DEVICE=FILE`; may be given several times")
			devices := c.Flags.Bool("devices-only", false,
				"run the stand-ins and no server: learn plays the servers that they ask")
			behave := behaveFlag(c)
			list := c.Flags.Bool("faults", false, "in a running lab: list the faults in effect")
			return func() error {
				if len(set)+len(lift) > 0 || *list {
					return changeLab(c, *dir, set, lift)
				}
				l, err := c.Load(true)
				if err != nil {
					return err
				}
				var comes netip.Addr
				if *from != "" {
					if comes, err = netip.ParseAddr(*from); err != nil {
						return call.Usagef("-from is %q; an address is wanted, such as 192.0.2.7", *from)
					}
				}
				spoken, err := speeches(c, l, *speak, holds)
				if err != nil {
					return err
				}
				behaving, err := behave.of(l)
				if err != nil {
					return err
				}
				running, folder, err := StartLab(l, *dir, *network, lab.Config{From: comes, Speech: SpeechOf(spoken),
					Behaves: behaving, Devices: *devices})
				if err != nil {
					return err
				}
				defer func() { _ = folder.Close() }()
				defer running.Shutdown()
				if *c.AsJSON {
					places := running.Places
					places.Control = nil // its token is for the state folder alone
					err = show.JSON(c.Out, places)
				} else {
					printPlaces(c, running.Places, *dir)
				}
				if err != nil {
					return err
				}
				for _, s := range l.Servers {
					if !*devices && !s.Run && s.Protocol != site.LDAP {
						c.Note("%s is not run from this site (run: true is not set): the lab plays it, with the "+
							"people and rules of the site", s.Name)
					}
				}
				if *devices {
					c.Note("no server runs here; what devices ask is answered by: mellowgate learn -state %s "+
						"-device DEVICE PLATFORM SITE",
						*dir)
				}
				sayHowToSpeak(c, l, spoken)
				c.Note("ready")
				c.EndAfter(*span)
				return nil
			}
		},
	}
}

// changeLab sets and lifts faults in the lab that runs with a state folder.
func changeLab(c *call.Call, dir string, set, lift call.Names) error {
	_, places, err := call.RunIn(dir)
	if err != nil {
		return err
	}
	if places.Control == nil {
		return call.Usagef("%s is the state folder of serve, and faults are for a lab", dir)
	}
	all := slices.Contains(lift, "all")
	answer, err := c.AskLab(dir, places, lab.Change{Set: set, LiftAll: all,
		Lift: slices.DeleteFunc(slices.Clone(lift), func(f string) bool { return f == "all" })})
	if err != nil {
		return err
	}
	if answer.Wrong != "" {
		return call.Usagef("%s", answer.Wrong)
	}
	if *c.AsJSON {
		return show.JSON(c.Out, struct {
			Faults   []string       `json:"faults"`
			Impaired []lab.Impaired `json:"impaired"`
		}{answer.Faults, answer.Impaired})
	}
	if len(answer.Faults) == 0 {
		c.Say("no fault is in effect\n")
	}
	for _, f := range answer.Faults {
		c.Say("%s\n", f)
	}
	for _, text := range resting(answer.Impaired, time.Now()) {
		c.Say("%s\n", text)
	}
	return nil
}

// resting says which servers are still left alone although they are up, by which
// devices, and until when.
func resting(impairments []lab.Impaired, now time.Time) []string {
	type rest struct{ server, until string }
	by := map[rest][]string{}
	var order []rest
	for _, i := range impairments {
		if i.Rests == 0 || i.State != foresee.Up {
			continue
		}
		r := rest{server: i.Server, until: "until all servers of its group are"}
		if until := i.Until(now); !until.IsZero() {
			r.until = "until " + until.Local().Format("15:04:05") + ", when its dead-time ends"
		}
		if by[r] == nil {
			order = append(order, r)
		}
		by[r] = append(by[r], i.Device)
	}
	var texts []string
	for _, r := range order {
		texts = append(texts, fmt.Sprintf("%s is still left alone by %s %s", r.server, call.FewNames(by[r]), r.until))
	}
	return texts
}

// StartLab starts a lab of the site with its state in dir.
func StartLab(l call.Loaded, dir, network string, config lab.Config) (*lab.Lab, *state.Folder, error) {
	config.Site = l.Site
	config.SitePath = files.Absolute(l.Path)
	config.Keys = l.Keys
	if network != "" {
		var err error
		if config.Network, err = site.ParseLabNetwork(network); err != nil {
			return nil, nil, call.UsageError(err)
		}
	}
	folder, err := state.Create(dir)
	if err != nil {
		return nil, nil, call.UsageError(err)
	}
	config.State = folder
	running, err := lab.Start(config)
	if err != nil {
		folder.Abandon()
		return nil, nil, call.TaskError(err)
	}
	return running, folder, nil
}

// SpeechOf gives a device its words by its name.
func SpeechOf(spoken map[string]*standin.Speech) func(*site.Device) *standin.Speech {
	return func(d *site.Device) *standin.Speech { return spoken[d.Name] }
}

// behaves are aspects of stand-ins beside what the site says of their platforms.
type behaves struct{ texts call.Names }

func behaveFlag(c *call.Call) *behaves {
	var b behaves
	c.Flags.Var(&b.texts, "behaves",
		"stand-ins of a platform behave otherwise than the site says, or one that it does not say: `PLATFORM "+
			"BEHAVIOUR: "+
			"VALUE`, such as 'switch refusal: tries-next'; may be given several times")
	return &b
}

func (b *behaves) of(l call.Loaded) ([]site.Supposition, error) {
	var suppositions []site.Supposition
	for _, text := range b.texts {
		one, err := l.Supposition(text)
		if err != nil {
			return nil, call.Usagef("-behaves: %v", err)
		}
		suppositions = append(suppositions, one)
	}
	return suppositions, nil
}

// speeches gives devices the words of their makes, by name.
func speeches(c *call.Call, l call.Loaded, speak bool, holds call.Names) (map[string]*standin.Speech, error) {
	held := map[string]string{}
	for _, one := range holds {
		device, file, both := strings.Cut(one, "=")
		if !both {
			return nil, call.Usagef("-holds is %q; DEVICE=FILE is wanted", one)
		}
		if _, err := l.DeviceNamed(device); err != nil {
			return nil, err
		}
		text, err := sheetcmd.HeldText(c, file)
		if err != nil {
			return nil, err
		}
		held[device] = text
	}
	if !speak {
		if len(held) > 0 {
			return nil, call.Usagef("-holds is for devices that speak: -speak")
		}
		return nil, nil
	}
	all := map[string]*standin.Speech{}
	for _, d := range l.Devices {
		if d.Platform.Phrasebook.Name == "" {
			if held[d.Name] != "" {
				return nil, call.Usagef("the platform of %s names no phrasebook, so nothing reads what it is to hold",
					d.Name)
			}
			continue
		}
		design, err := sheetcmd.LinesOf(c, &texts.Reading{}, d, l)
		if err != nil {
			return nil, err
		}
		speech, err := design.Speech(held[d.Name])
		if err != nil {
			return nil, call.UsageError(err)
		}
		if speech != nil {
			all[d.Name] = speech
		}
	}
	if len(all) == 0 {
		return nil, call.Usagef("no device of the site speaks: its platform wants a phrasebook that says how it is " +
			"talked to (talk)")
	}
	return all, nil
}

// sayHowToSpeak says what is typed first on the devices that speak.
func sayHowToSpeak(c *call.Call, l call.Loaded, spoken map[string]*standin.Speech) {
	said := map[string]bool{}
	for _, d := range l.Devices {
		s := spoken[d.Name]
		if s == nil || said[d.Platform.Name] {
			continue
		}
		said[d.Platform.Name] = true
		talk := s.Book.Talk()
		c.Note("%s speaks as %s: log in with full rights, then type %q to see what it holds and %q to change it; "+
			"\"leave\" ends the session", d.Name, s.Book.Make, talk.Show, strings.Join(talk.Enter, ", "))
	}
}

// printPlaces says who is where and how to log in.
func printPlaces(c *call.Call, p evidence.Places, dir string) {
	style := c.Style()
	var rows [][]string
	for _, s := range p.Servers {
		ports := fmt.Sprintf("port %d", s.Port)
		if s.Port == 0 {
			ports = fmt.Sprintf("ports %d and %d", s.Authentication, s.Accounting)
		}
		what := s.Protocol + " server"
		if s.TLS {
			what += " over TLS"
		}
		rows = append(rows, []string{s.Name, what, s.Address + " " + ports})
	}
	examples := map[string]evidence.WayPlace{} // the first of each way in
	for _, d := range p.Devices {
		var ways []string
		for _, w := range d.Ways {
			ways = append(ways, w.Access+" "+w.Address)
			if _, have := examples[w.Access]; !have {
				examples[w.Access] = w
			}
		}
		rows = append(rows, []string{d.Name, "device", strings.Join(ways, ", ")})
	}
	style.Table(c.Out, []string{"name", "what", "where"}, rows, 2)
	for _, at := range p.Logs {
		c.Say("\nlogs of devices are received at %s\n", at)
	}
	c.Say("\nlog in with any client, for instance:\n")
	for _, way := range []string{site.SSH, site.Telnet, site.Web, site.API} {
		if at, have := examples[way]; have {
			style.Call(c.Out, "  ", clientCall(way, at.Address, dir))
		}
	}
	if len(p.Devices) > 0 {
		style.Call(c.Out, "  ", fmt.Sprintf("mellowgate login -state %s -device %s -person NAME", dir,
			p.Devices[0].Name))
	}
	for _, d := range p.Devices { // over NETCONF, the first that has it
		if slices.ContainsFunc(d.Ways, func(w evidence.WayPlace) bool { return w.Access == site.NETCONF }) {
			style.Call(c.Out, "  ", fmt.Sprintf("mellowgate compare -state %s -person NAME %s", dir, d.Name))
			break
		}
	}
}

// clientCall is how an ordinary client of a way in is called.
func clientCall(way, address, dir string) string {
	host, port, _ := net.SplitHostPort(address)
	authority := dir + "/certificates/" + pki.AuthorityFile
	switch way {
	case site.Telnet:
		return "telnet " + host + " " + port
	case site.Web:
		return "a browser at https://" + address + "/ (its certificate comes from " + authority + ")"
	case site.API:
		return `curl --cacert ` + authority +
			` -H 'Content-Type: application/json' -d '{"name": "NAME", "password": "..."}' https://` + address + `/api/login`
	}
	return SshCall(address, dir, "NAME")
}

// SshCall is how an SSH client is called for a stand-in.
func SshCall(address, dir, person string) string {
	host, port, _ := net.SplitHostPort(address)
	return fmt.Sprintf("ssh -o UserKnownHostsFile=%s/known_hosts -p %s %s@%s", dir, port, person, host)
}
