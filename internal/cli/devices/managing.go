// Package devices has the commands that change devices, or look at them: send, compare and keys.
package devices

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/store/pki"
)

// managing are the flags of commands that manage devices over NETCONF.
type managing struct {
	state, person, address, knownHosts, sshKey string
	authorities                                string
	agent, acceptKey                           bool
	timeout                                    time.Duration
	password                                   func(string) (site.Secret, error)
	secret                                     *site.Secret // asked once
}

const netconfPort = "830"

func managingFlags(c *call.Call) *managing {
	f := &managing{}
	c.Flags.StringVar(&f.state, "state", "",
		"the state `folder` of a lab (default "+call.DefaultState+", where one runs); where no site is here, the "+
			"lab's is taken")
	c.Flags.StringVar(&f.person, "person", "", "log in with this `name`")
	c.Flags.StringVar(&f.address, "address", "",
		"the `address` and port of the device's NETCONF, such as 192.0.2.101:830; by default the first one of the "+
			"site, at port "+netconfPort)
	c.Flags.StringVar(&f.knownHosts, "known-hosts", "",
		"the `file` of known SSH host keys (default ~/.ssh/known_hosts)")
	c.Flags.BoolVar(&f.acceptKey, "accept-host-key", false, "take a host key that is not known yet, and remember it")
	c.Flags.StringVar(&f.sshKey, "ssh-key", "",
		"log in with the private SSH key of this `file`, in place of a password")
	c.Flags.BoolVar(&f.agent, "agent", false, "log in with the SSH agent, in place of a password")
	c.Flags.StringVar(&f.authorities, "authorities", "",
		"for a device with RESTCONF: the `file` with the authorities that its certificate must come from (default "+
			"those of this host)")
	c.Flags.DurationVar(&f.timeout, "timeout", 30*time.Second,
		"how long to wait for a connection and for each answer, a `time` such as 10s")
	f.password = c.PasswordFlags()
	return f
}

// targetOf returns how a device is managed: in a running lab where it is there,
// else at its own address.
func (f *managing) targetOf(c *call.Call, d *site.Device) (device.Target, error) {
	t := device.Target{Person: f.person, Address: f.address, Timeout: f.timeout, RESTCONF: byRESTCONF(d)}
	if f.timeout <= 0 {
		return t, call.Usagef("-timeout is above 0, such as 10s")
	}
	if f.person == "" {
		return t, call.Usagef("who logs in? Name somebody with -person")
	}
	if places, ok := f.lab(c); ok && f.address == "" {
		way, err := call.LabWayOf(places, d.Name, t.Access())
		if err != nil {
			return t, err
		}
		if t.RESTCONF {
			return f.restconfInLab(t, d, way.Address)
		}
		t.Address, t.HostKey = way.Address, way.HostKey
	} else {
		if t.Address == "" {
			port := netconfPort
			if t.RESTCONF {
				port = "443"
			}
			address, err := call.OwnAddress(d, port)
			if err != nil {
				return t, err
			}
			t.Address = address
		}
		if t.RESTCONF {
			return f.restconf(t)
		}
		var err error
		if t.HostKey, err = c.HostKey(t.Address, f.knownHosts, f.acceptKey,
			login.Through(nil, 30*time.Second)); err != nil {
			return t, err
		}
	}
	var err error
	t.Auth, err = f.auth()
	return t, err
}

// byRESTCONF reports whether a device is managed over RESTCONF: it has no NETCONF.
func byRESTCONF(d *site.Device) bool {
	w := d.Managed()
	return w != nil && w.Access == site.API
}

// restconfInLab returns how a stand-in is managed over RESTCONF.
func (f *managing) restconfInLab(t device.Target, d *site.Device, address string) (device.Target, error) {
	folder, err := f.stateOf()
	if err != nil {
		return t, call.UsageError(err)
	}
	t.Address, t.ServerName = address, d.Name
	if t.Trusted, err = pki.Authorities(filepath.Join(folder.Certificates(), pki.AuthorityFile)); err != nil {
		return t, call.UsageError(err)
	}
	return f.restconf(t)
}

// restconf completes how a device is managed over RESTCONF: with a password, and a
// certificate of an authority that this host trusts, or that is named.
func (f *managing) restconf(t device.Target) (device.Target, error) {
	if f.agent || f.sshKey != "" {
		return t, call.Usagef("over RESTCONF a password proves who logs in: -ssh-key and -agent are for NETCONF")
	}
	if f.authorities != "" {
		var err error
		if t.Trusted, err = pki.Authorities(f.authorities); err != nil {
			return t, call.UsageError(err)
		}
	}
	if _, err := f.auth(); err != nil {
		return t, err
	}
	t.Password = *f.secret
	return t, nil
}

// lab returns the places of a lab that runs here.
func (f *managing) lab(c *call.Call) (evidence.Places, bool) {
	folder, err := f.stateOf()
	if err != nil {
		return evidence.Places{}, false
	}
	p, err := folder.Places()
	return p, err == nil && p.Control != nil
}

// folder is the state folder that is meant.
func (f *managing) folder() string { return cmp.Or(f.state, call.DefaultState) }

// auth returns the ways to prove who logs in.
func (f *managing) auth() ([]ssh.AuthMethod, error) {
	switch {
	case f.agent && f.sshKey != "":
		return nil, call.Usagef("give one of -ssh-key and -agent")
	case f.agent || f.sshKey != "":
		signers, err := call.SignersOf(f.sshKey, f.agent)
		return []ssh.AuthMethod{ssh.PublicKeys(signers...)}, err
	}
	if f.secret == nil {
		s, err := f.password(f.person)
		if err != nil {
			return nil, err
		}
		f.secret = &s
	}
	return device.PasswordAuth(*f.secret), nil
}

// devicesOfSite returns the devices that the arguments name, the last of which may
// be the site; with all, every device that has a way in by NETCONF.
func devicesOfSite(c *call.Call, f *managing, all bool) ([]*site.Device, call.Loaded, error) {
	names := slices.Clone(c.Args)
	c.Args = nil
	if n := len(names); n > 0 {
		if _, err := os.Stat(names[n-1]); err == nil {
			c.Args, names = names[n-1:], names[:n-1]
		} else if strings.ContainsAny(names[n-1], "/") || strings.HasSuffix(names[n-1], ".yaml") {
			return nil, call.Loaded{}, call.Usagef("there is no file or folder %s", names[n-1])
		}
	}
	if len(names) == 0 && !all {
		return nil, call.Loaded{}, call.Usagef("the name of a device is wanted\nusage: mellowgate %s DEVICE... [SITE]",
			c.Flags.Name())
	}
	if len(names) > 0 && all {
		return nil, call.Loaded{}, call.Usagef("-all is every device, and %s is one: give one of the two", names[0])
	}
	places, inLab := f.lab(c)
	if inLab && f.address == "" {
		if _, err := c.AskLab(f.folder(), places, lab.Change{}); err != nil {
			return nil, call.Loaded{},
				call.TaskError(fmt.Errorf("%w\nor, for the device itself: -address, or another folder with -state",
					err))
		}
	}
	if inLab && len(c.Args) == 0 {
		if _, err := os.Stat(c.SitePath()); err != nil { // no site is here: that of the lab is meant
			c.Args = []string{places.SitePath}
		}
	}
	l, err := c.LoadDesign(true)
	if err != nil {
		return nil, l, err
	}
	var devices []*site.Device
	if all {
		for _, d := range l.Devices {
			if d.Managed() != nil || f.commandLine(c, d, "") != "" {
				devices = append(devices, d)
			}
		}
		if len(devices) == 0 {
			return nil, l, call.Usagef("no device of the site has a way in by netconf, or a platform with a phrasebook")
		}
	}
	for _, name := range names {
		d, err := l.DeviceNamed(name)
		if err != nil {
			return nil, l, err
		}
		if !slices.Contains(devices, d) {
			devices = append(devices, d)
		}
	}
	return devices, l, nil
}
