package trial

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/kevinburke/ssh_config"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/login"
)

// realDevice returns an attempt at a device outside any lab.
func realDevice(c *call.Call, f LoginFlags) (login.Attempt, error) {
	a := login.Attempt{Access: f.Access, Person: f.Person, Real: true, Patience: f.patience,
		Commands: slices.Concat(f.commands, f.allows, f.refuses)}
	for _, p := range []struct {
		flag, text string
		to         **regexp.Regexp
	}{{"prompt", f.prompt, &a.Prompt}, {"refusal", f.refusal, &a.Refusal}} {
		if p.text == "" {
			continue
		}
		r, err := regexp.Compile(p.text)
		if err != nil {
			return a, call.Usagef("-%s is no regular expression: %v", p.flag, err)
		}
		*p.to = r
	}
	s, err := userSettings(f.sshConfig)
	if err != nil {
		return a, err
	}
	at, err := s.host(f.address, map[string]string{site.Telnet: "23", site.SSH: "22", site.Console: ""}[f.Access])
	if err != nil {
		return a, err
	}
	a.Address = at.address
	if f.jump != "" {
		at.jumps = strings.Split(f.jump, ",")
	}
	hops, err := hops(c, s, at.jumps, f)
	if err != nil {
		return a, err
	}
	a.Dial = login.Through(hops, f.patience)
	if f.Access != site.SSH {
		return a, nil
	}
	if f.sshKey != "" || f.agent {
		if a.Signers, err = call.SignersOf(f.sshKey, f.agent); err != nil {
			return a, err
		}
	}
	a.HostKey, err = c.HostKey(a.Address, cmp.Or(f.knownHosts, at.knownHosts), f.acceptKey, a.Dial)
	return a, err
}

// settings are what a user's SSH configuration says of hosts.
type settings struct{ config *ssh_config.Config }

// userSettings reads the SSH configuration of who runs this, or of a file that is named.
func userSettings(path string) (settings, error) {
	named := path != ""
	if !named {
		home, err := os.UserHomeDir()
		if err != nil {
			return settings{config: &ssh_config.Config{}}, nil // who has no home has no settings
		}
		path = filepath.Join(home, ".ssh", "config")
	}
	file, err := os.Open(path)
	if err != nil {
		if !named && errors.Is(err, fs.ErrNotExist) {
			return settings{config: &ssh_config.Config{}}, nil
		}
		return settings{}, call.UsageError(fmt.Errorf("the SSH configuration cannot be read: %w", err))
	}
	defer func() { _ = file.Close() }()
	config, err := ssh_config.Decode(file)
	if err != nil {
		return settings{}, call.UsageError(fmt.Errorf("%s is no SSH configuration: %w", path, err))
	}
	return settings{config: config}, nil
}

// host is how a host is reached.
type host struct {
	address    string // address:port
	person     string
	knownHosts string
	keys       []string // files
	jumps      []string
}

// host returns how a host is reached that is given as [NAME@]HOST[:PORT], where HOST may be
// one of the configuration.
func (s settings) host(text, port string) (host, error) {
	var h host
	if person, rest, has := strings.Cut(text, "@"); has {
		h.person, text = person, rest
	}
	name := text
	if at, p, err := net.SplitHostPort(text); err == nil {
		name, port = at, p
	} else if p := s.get(name, "Port"); p != "" {
		port = p
	}
	if name == "" || port == "" {
		return h, call.Usagef("%q is no address; an address and a port are wanted, such as 192.0.2.101:22, or a "+
			"host of your SSH configuration", text)
	}
	h.address = net.JoinHostPort(cmp.Or(strings.ReplaceAll(s.get(name, "HostName"), "%h", name), name), port)
	h.person = cmp.Or(h.person, s.get(name, "User"))
	if file, _, _ := strings.Cut(s.get(name, "UserKnownHostsFile"), " "); file != "" {
		h.knownHosts = homely(file)
	}
	if key := s.get(name, "IdentityFile"); key != "" {
		h.keys = append(h.keys, homely(key))
	}
	if jump := s.get(name, "ProxyJump"); jump != "" && jump != "none" {
		h.jumps = strings.Split(jump, ",")
	}
	return h, nil
}

func (s settings) get(host, key string) string {
	value, _ := s.config.Get(host, key)
	return value
}

// homely puts the home of who runs this in place of ~.
func homely(path string) string {
	rest, ok := strings.CutPrefix(path, "~/")
	home, err := os.UserHomeDir()
	if !ok || err != nil {
		return path
	}
	return filepath.Join(home, rest)
}

// hops returns the hosts on the way to a device. They are logged in to with the keys of
// the configuration, or with the agent: never with the password that is tried.
func hops(c *call.Call, s settings, jumps []string, f LoginFlags) (all []login.Hop, err error) {
	for _, text := range jumps {
		at, err := s.host(strings.TrimSpace(text), "22")
		if err != nil {
			return nil, err
		}
		if at.person == "" {
			if me, err := user.Current(); err == nil {
				at.person = me.Username
			}
		}
		hop := login.Hop{Address: at.address, Person: at.person}
		for _, path := range at.keys {
			signers, err := call.SignersOf(path, false)
			if err != nil {
				return nil, err
			}
			hop.Auth = append(hop.Auth, ssh.PublicKeys(signers...))
		}
		if len(hop.Auth) == 0 {
			signers, err := call.SignersOf("", true)
			if err != nil {
				return nil, call.Usagef("the host %s on the way is logged in to with a key: name one in your SSH "+
					"configuration (IdentityFile), or have an agent", at.address)
			}
			hop.Auth = append(hop.Auth, ssh.PublicKeys(signers...))
		}
		hop.HostKey, err = c.HostKey(at.address, cmp.Or(f.knownHosts, at.knownHosts), f.acceptKey,
			login.Through(all, f.patience))
		if err != nil {
			return nil, err
		}
		all = append(all, hop)
	}
	return all, nil
}

// wordsFor gives an attempt the words of the device's make: of a stand-in that speaks them, or
// of a real device whose platform in the site names a phrasebook.
func wordsFor(c *call.Call, f LoginFlags, places evidence.Places, a *login.Attempt) error {
	place, _ := places.Device(f.Device)
	if f.Device == "" || f.prompt != "" || !site.HasShell(f.Access) || f.address == "" && !place.Speaks {
		return nil
	}
	path := places.SitePath
	if f.address != "" && len(c.Args) > 0 {
		path = c.Args[0]
	}
	l, err := c.LoadFrom(path, false)
	if err != nil {
		return nil // a real device without a site: its prompt is learned
	}
	d := l.Device(f.Device)
	if d == nil || d.Platform.Phrasebook.Name == "" {
		return nil
	}
	book, err := (&texts.Reading{}).BookOf(l, d.Name)
	if err != nil {
		return err
	}
	if a.Words, a.Host = book.Talk(), d.Name; a.Words == nil {
		a.Host = ""
	}
	return nil
}
