package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/login"
	"mellowgate/internal/live/state"
)

func loginCommand() *Command {
	return &Command{
		Name: "login", Args: "[SITE]", Short: "a real login: what was seen, and whether it was as expected",
		Long: `Logs in to a device over SSH, or at the console of a stand-in, as an ordinary client; tries the commands given with
-command; and says what was seen: outcome, level, seconds, and each command allowed or refused.

The device is found in the state folder of a running lab. What is expected is what foresee says for the site, with every
server up unless -silent names some that are not; or what -expect says. Exit status 1 when it was otherwise.`,
		Examples: []Example{
			{"mellowgate login -device north-sw-1 -person ines.marsh -command 'set port 3 off' -password-file demo/as-reviewed/passwords/ines.marsh", "one login with one command, in a lab of the demo site"},
			{"mellowgate login -device mv-avocet-rtr -person master -expect refused", "a local account while the servers answer; the password is asked for"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			var f loginFlags
			c.Flags.StringVar(&f.state, "state", defaultState, "the state `folder` of the running lab")
			c.Flags.StringVar(&f.device, "device", "", "the `device` to log in to")
			c.Flags.StringVar(&f.person, "person", "", "the `name` to log in with")
			c.Flags.StringVar(&f.through, "through", site.SSH, "the `way` in: ssh or console")
			c.Flags.StringVar(&f.expect, "expect", "", "the expected `outcome`: in or refused")
			c.Flags.StringVar(&f.silent, "silent", "", "foresee with these `servers` silent: tern,plover")
			c.Flags.Var(&f.commands, "command", "a `command` to try once in; may be given several times")
			password := c.passwordFlags()
			return func() error { return c.login(f, password) }
		},
	}
}

type loginFlags struct {
	state, device, person, through, expect, silent string
	commands                                       names
}

func (f loginFlags) check() error {
	switch {
	case f.device == "" || f.person == "":
		return wrong("login needs -device and -person\nusage: %s", usage(loginCommand()))
	case f.through != site.SSH && f.through != site.Console:
		return wrong("there is no way in %q here%s; ssh and console are", f.through, nearest.Suggest(f.through, []string{site.SSH, site.Console}))
	case f.expect != "" && f.expect != login.In && f.expect != login.Refused:
		return wrong("-expect takes in or refused, not %q", f.expect)
	}
	for _, command := range f.commands {
		if strings.ContainsAny(command, "\n\r") {
			return wrong("a command is one line")
		}
	}
	return nil
}

func (c *Call) login(f loginFlags, password func(string) (site.Secret, error)) error {
	if err := f.check(); err != nil {
		return err
	}
	attempt, places, err := f.attempt()
	if err != nil {
		return err
	}
	expected, err := c.expectation(f, places)
	if err != nil {
		return err
	}
	if attempt.Password, err = password(f.person); err != nil {
		return err
	}
	seen, err := login.Do(c.Context, attempt)
	if err != nil {
		return cannot(err)
	}
	result := loginJSON{Device: f.device, Access: f.through, Person: f.person, Outcome: seen.Outcome, Level: seen.Level,
		Seconds: secondsOf(seen.Took), Commands: seen.Commands, AsExpected: expected.fits(seen), Expected: expected.String(), Detail: seen.Detail}
	if result.Commands == nil {
		result.Commands = []login.Command{}
	}
	if *c.json {
		err = show.JSON(c.Out, result)
	} else {
		printLogin(c, result)
	}
	switch {
	case err != nil:
		return err
	case seen.Outcome == login.NoAnswer:
		return failure{ExitCannot, errors.New("")}
	case !result.AsExpected:
		return errNo
	}
	return nil
}

// attempt finds the device in the state folder.
func (f loginFlags) attempt() (login.Attempt, state.Places, error) {
	folder, err := state.Open(f.state)
	if err != nil {
		return login.Attempt{}, state.Places{}, failure{ExitUsage, err}
	}
	places, err := folder.Places()
	if err != nil {
		return login.Attempt{}, places, failure{ExitUsage, err}
	}
	device, found := places.Device(f.device)
	if !found {
		var known []string
		for _, d := range places.Devices {
			known = append(known, d.Name)
		}
		return login.Attempt{}, places, wrong("the lab in %s has no device %q%s", f.state, f.device, nearest.Suggest(f.device, known))
	}
	i := slices.IndexFunc(device.Ways, func(w state.WayPlace) bool { return w.Access == f.through })
	if i < 0 {
		return login.Attempt{}, places, wrong("%s has no way in by %s in this lab", f.device, f.through)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(device.HostKey))
	if err != nil {
		return login.Attempt{}, places, failure{ExitUsage, fmt.Errorf("the host key of %s in %s is damaged", f.device, f.state)}
	}
	return login.Attempt{Access: f.through, Address: device.Ways[i].Address, Person: f.person, Commands: f.commands, HostKey: key}, places, nil
}

// expected is what a login should come to. The zero value expects nothing.
type expected struct {
	outcome string
	level   int // -1: any
}

func (e expected) String() string {
	switch {
	case e.outcome == "":
		return ""
	case e.outcome == login.In && e.level >= 0:
		return fmt.Sprintf("in at level %d", e.level)
	}
	return e.outcome
}

func (e expected) fits(s login.Seen) bool {
	return e.outcome == "" || e.outcome == s.Outcome && (s.Outcome != login.In || e.level < 0 || e.level == s.Level)
}

// expectation takes what is expected from -expect, else from the site: the one
// named, else the one the lab was started with.
func (c *Call) expectation(f loginFlags, p state.Places) (expected, error) {
	if f.expect != "" {
		return expected{f.expect, -1}, nil
	}
	path := p.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	} else if _, err := os.Stat(path); err != nil {
		return expected{}, nil // the site is gone: nothing is foreseen
	}
	l, err := c.loadFrom(path, false)
	if err != nil {
		return expected{}, err
	}
	d, err := l.device(f.device)
	if err != nil {
		return expected{}, err
	}
	silent, err := l.servers(f.silent)
	if err != nil {
		return expected{}, err
	}
	way := d.Way(f.through)
	if way == nil {
		return expected{}, wrong("in the site %s, %s has no way in by %s", path, f.device, f.through)
	}
	r := l.reckoner()
	who, known := r.Find(d, f.person)
	if !known {
		who, _ = r.Find(d, "unknown")
	}
	for _, foreseen := range r.Cases(d, way, who) {
		if foreseen.Holds(silent) {
			return expectedOf(foreseen), nil
		}
	}
	return expected{}, nil
}

func expectedOf(c foresee.Case) expected {
	if c.Outcome == foresee.Refused {
		return expected{login.Refused, -1}
	}
	return expected{login.In, c.Level}
}

type loginJSON struct {
	Device     string          `json:"device"`
	Access     string          `json:"access"`
	Person     string          `json:"person"`
	Outcome    string          `json:"outcome"`
	Level      int             `json:"level"`
	Seconds    float64         `json:"seconds"`
	Commands   []login.Command `json:"commands"`
	AsExpected bool            `json:"as_expected"`
	Expected   string          `json:"expected"`
	Detail     string          `json:"detail"`
}

func printLogin(c *Call, r loginJSON) {
	style := c.style()
	outcome := style.Paint(show.OutcomeTone(r.Outcome), r.Outcome)
	if r.Outcome == login.In {
		outcome += fmt.Sprintf(" at level %d", r.Level)
	}
	c.say("%s at %s by %s: %s after %.1f s\n", r.Person, r.Device, r.Access, outcome, r.Seconds)
	if r.Detail != "" {
		c.say("  %s\n", show.Safe(r.Detail))
	}
	for _, command := range r.Commands {
		c.say("  %s  %s\n", style.Paint(show.OutcomeTone(command.Result), fmt.Sprintf("%-7s", command.Result)), command.Command)
		for line := range strings.SplitSeq(show.Safe(command.Output), "\n") {
			c.say("           %s\n", style.Paint(show.Faint, line))
		}
	}
	switch {
	case r.Expected == "":
		c.say("nothing was expected: no site to foresee from, and no -expect\n")
	case r.AsExpected:
		c.say("as expected: %s\n", r.Expected)
	default:
		c.say("%s: %s was expected\n", style.Paint(show.Bad, "not as expected"), r.Expected)
	}
}
