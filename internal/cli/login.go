package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
)

func loginCommand() *Command {
	return &Command{
		Name: "login", Args: "[SITE]", Short: "a real login: what was seen, and whether it was as expected",
		Long: `Logs in to a device as an ordinary client, over SSH, telnet, a console, the web pages, the API
or NETCONF; tries the commands given with -command; and says what was seen: outcome, level, seconds, and each
command allowed or refused.

The device is found in the state folder of a running lab. What is expected is what foresee says for the site,
with the faults that are in effect in the lab and the servers that rest because of them, and with those silent
that -silent names; or what -expect, -level, -allows and -refuses say.
Exit status 1 when it was otherwise, or when what was seen proves nothing: who was asked for a code, or for
anything else, or came to no prompt, is not in and not refused, and nothing more is typed there. -from-site tries every login of a device that its change sheet names, with
the passwords of a folder. With -write, or on a real device, it ticks the sheet: every login in its order, with the
elevations, and last the outage, for which a lab takes the servers away by itself, and you are asked to on a real
network. It stops at the first login that comes out otherwise, and goes on from there when it is run again.

-raise LEVEL asks for a higher level once in, with the password or the secret of -raise-password-file, and says
whether it came; in a lab what is expected of it is foreseen too.

A real device is reached with -address, over SSH, telnet, or a console that is reached over TCP; with -device beside
it, what foresee says of that device is expected. Its prompt is learned (empty lines are sent, and what repeats is the
prompt), unless -prompt says in a regular expression what it looks like; a group in it is the level, which else is not
seen. -refusal says what a refused command prints. Page breaks are answered, and the session is left by closing it.
The address may be a host of your SSH configuration, whose port, keys, known hosts and hosts on the way (ProxyJump) are
used; -jump names such hosts by hand. Its SSH host key is checked against -known-hosts; -accept-host-key writes it
there the first time, after showing its fingerprint. -ssh-key or -agent log in with a key in place of a password.`,
		Examples: []Example{
			{Call: "mellowgate login -device north-sw-1 -person ines.marsh -command 'set port 3 off' -password-file " +
				"demo/as-reviewed/passwords/ines.marsh", Shows: "one login with one command, in a lab of the demo site"},
			{Call: "mellowgate login -device north-sw-1 -from-site demo/as-reviewed/passwords",
				Shows: "every login of the device's change sheet"},
			{Call: "mellowgate login -address 192.0.2.101:22 -accept-host-key -person ines.marsh -prompt 'ready: $' -refusal " +
				"'no right' -allows 'list ports'", Shows: "a real device"},
			{Call: "mellowgate login -device mv-avocet-rtr -person master -expect refused",
				Shows: "a local account while the servers answer; the password is asked for"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			var f loginFlags
			c.Flags.StringVar(&f.state, "state", defaultState, "the state `folder` of the running lab")
			c.Flags.StringVar(&f.device, "device", "", "the `device` to log in to")
			c.Flags.StringVar(&f.person, "person", "", "the `name` to log in with")
			c.Flags.StringVar(&f.access, "access", site.SSH, "the `access`: ssh, telnet, console, web, api or netconf")
			c.Flags.StringVar(&f.expect, "expect", "", "the expected `outcome`: in or refused")
			c.Flags.StringVar(&f.teams, "teams", "",
				"the `teams` that a directory gives the person, where the site has nobody of that name: netops,watch")
			c.Flags.IntVar(&f.level, "level", -1, "the expected `level`, from 0 to 15")
			c.Flags.Var(&f.allows, "allows", "a `command` to try that must be allowed; may be given several times")
			c.Flags.Var(&f.refuses, "refuses", "a `command` to try that must be refused; may be given several times")
			c.Flags.StringVar(&f.fromSite, "from-site", "",
				"try every login of the device's change sheet; the passwords are files in this `folder`, each named as its person")
			c.Flags.StringVar(&f.write, "write", "",
				"with -from-site: the outage too, and the sheet with what was seen into this "+
					"`file`, Markdown or .html; run again it goes on where it stopped")
			c.Flags.BoolVar(&f.noOutage, "no-outage", false, "with -write: leave the outage out")
			c.Flags.StringVar(&f.address, "address", "",
				"a real device, at this `address`, with its port, or by its name in your SSH configuration")
			c.Flags.DurationVar(&f.patience, "patience", 2*time.Minute,
				"with -address: how long to wait for a login and for each command, a `time`")
			c.Flags.StringVar(&f.jump, "jump", "", "with -address: the `hosts` on the way, as NAME@HOST:PORT, the nearest first")
			c.Flags.StringVar(&f.sshConfig, "ssh-config", "", "the `file` with your SSH configuration (default ~/.ssh/config)")
			c.Flags.StringVar(&f.sshKey, "ssh-key", "", "with -address: log in with the private SSH key of this `file`")
			c.Flags.BoolVar(&f.agent, "agent", false, "with -address: log in with the keys of the SSH agent")
			c.Flags.StringVar(&f.knownHosts, "known-hosts", "",
				"the `file` with SSH host keys for -address (default ~/.ssh/known_hosts)")
			c.Flags.BoolVar(&f.acceptKey, "accept-host-key", false,
				"write a host key that is not known yet to the file, after showing it")
			c.Flags.StringVar(&f.prompt, "prompt", "", "what the prompt of a real device looks like, a regular `expression`")
			c.Flags.StringVar(&f.refusal, "refusal", "",
				"what a refused command of a real device prints, a regular `expression`")
			c.Flags.StringVar(&f.silent, "silent", "", "foresee with these `servers` silent: tern,plover")
			c.Flags.Var(&f.commands, "command", "a `command` to try once in; may be given several times")
			c.Flags.IntVar(&f.raise, "raise", 0, "once in, ask for this higher `level`, from 2 to 15, and say whether it came")
			c.Flags.StringVar(&f.raiseCommand, "raise-command", "",
				"what is typed on a real device to ask for the higher level, a `command`")
			password := c.passwordFlags()
			raisePassword, _ := c.passwordOf("raise-", "the password for the higher level")
			return func() error { return c.login(f, password, raisePassword) }
		},
	}
}

type loginFlags struct {
	state, device, person, access, expect, silent  string
	teams                                          string // that a directory gives the person
	commands, allows, refuses                      names
	fromSite, address, knownHosts, prompt, refusal string
	jump, sshConfig, sshKey, write                 string
	acceptKey, agent, noOutage                     bool
	patience                                       time.Duration
	level, raise                                   int
	raiseCommand                                   string
}

func (f loginFlags) check() error {
	ways := site.Accesses()
	switch {
	case f.fromSite != "" && f.device == "":
		return wrong("-from-site needs -device")
	case f.fromSite == "" && (f.write != "" || f.noOutage):
		return wrong("-write and -no-outage are for the logins of a sheet: name the folder of passwords with -from-site")
	case f.fromSite == "" && f.device == "" && f.address == "" || f.fromSite == "" && f.person == "":
		return wrong("login needs -device or -address, and -person\nusage: %s", usage(loginCommand()))
	case f.address == "" && (f.jump != "" || f.sshKey != "" || f.agent):
		return wrong("-jump, -ssh-key and -agent are for a real device: give its -address")
	case f.sshKey != "" && f.agent:
		return wrong("give one of -ssh-key and -agent")
	case f.patience <= 0:
		return wrong("-patience is above 0, such as 30s")
	case !slices.Contains(ways, f.access):
		return wrong("there is no way in %q here%s; %s are", f.access, nearest.Suggest(f.access, ways),
			strings.Join(ways, ", "))
	case f.address != "" && f.access != site.SSH && f.access != site.Telnet && f.access != site.Console:
		return wrong("a real device is entered by ssh or telnet, or by console where its serial line is reached over TCP; " +
			"pages and APIs differ from make to make")
	case f.expect != "" && f.expect != string(walk.OutcomeIn) && f.expect != string(walk.OutcomeRefused):
		return wrong("-expect takes in or refused, not %q", f.expect)
	case f.level > 15 || f.level < -1:
		return wrong("-level is from 0 to 15")
	case f.raise != 0 && (f.raise < 2 || f.raise > 15):
		return wrong("-raise is from 2 to 15")
	case f.raise != 0 && !site.HasShell(f.access):
		return wrong("a level is raised at a shell, by console, ssh or telnet, and not by %s", f.access)
	case f.raise != 0 && f.address != "" && f.raiseCommand == "":
		return wrong("a real device has a command of its own that asks for a higher level: say it with -raise-command")
	case f.raise == 0 && f.raiseCommand != "":
		return wrong("-raise-command goes with -raise LEVEL")
	}
	for _, command := range slices.Concat(f.commands, f.allows, f.refuses) {
		if strings.ContainsAny(command, "\n\r") {
			return wrong("a command is one line")
		}
	}
	return nil
}

func (c *Call) login(f loginFlags, password, raisePassword func(string) (site.Secret, error)) error {
	if err := f.check(); err != nil {
		return err
	}
	if f.fromSite != "" && (f.address != "" || f.write != "") {
		return c.trySheet(f)
	}
	if f.fromSite != "" {
		return c.loginsOfSheet(f)
	}
	attempt, expected, err := c.aim(f)
	if err != nil {
		return err
	}
	if len(attempt.Signers) == 0 {
		if attempt.Password, err = password(f.person); err != nil {
			return err
		}
	}
	if f.raise > 0 {
		attempt.Raise = &login.Raise{Level: f.raise, Command: f.raiseCommand}
		if attempt.Raise.Password, err = raisePassword(fmt.Sprintf("level %d", f.raise)); err != nil {
			return err
		}
	}
	seen, err := login.Do(c.Context, attempt)
	if err != nil {
		return cannot(err)
	}
	result := loginJSON{Device: cmp.Or(f.device, f.address), Access: f.access, Person: f.person, Outcome: seen.Outcome,
		Level: seen.Level, Raised: seen.Raised,
		Seconds: secondsOf(seen.Took), Commands: seen.Commands, AsExpected: expected.fits(seen), Expected: expected.String(),
		Given: append([]string{}, expected.given...), Detail: seen.Detail}
	result.asked, result.changed = f.raise, seen.PromptChanged
	if untried := len(attempt.Commands) - len(seen.Commands); untried > 0 &&
		(seen.Outcome == walk.OutcomeIn || seen.Outcome == walk.OutcomeUnsure) {
		result.AsExpected = false
		result.Detail = strings.TrimPrefix(result.Detail+fmt.Sprintf("; %s not tried", show.Count(untried, "command")), "; ")
	}
	if result.AsExpected && expected.level >= 0 && seen.Outcome == walk.OutcomeIn && seen.Level == login.UnknownLevel &&
		site.HasShell(f.access) {
		result.Detail = strings.TrimPrefix(result.Detail+"; the level is not seen: -prompt says how the prompt shows it",
			"; ")
	}
	if result.Commands == nil {
		result.Commands = []login.Command{}
	}
	if *c.json {
		err = show.JSON(c.Out, result)
	} else {
		printLogin(c, result)
		if !result.AsExpected && f.address == "" {
			c.say("next: ")
			c.style().Call(c.Out, "", whyOf(f))
		}
	}
	switch {
	case err != nil:
		return err
	case seen.Outcome == walk.OutcomeNoAnswer:
		return failure{status: ExitCannot, err: errors.New("")}
	case !result.AsExpected:
		return errNo
	}
	return nil
}

// attempt finds the device in the state folder.
func (f loginFlags) attempt() (login.Attempt, evidence.Places, error) {
	folder, err := state.Open(f.state)
	if err != nil {
		return login.Attempt{}, evidence.Places{}, failure{status: ExitUsage, err: err}
	}
	places, err := folder.Places()
	if err != nil {
		return login.Attempt{}, places, failure{status: ExitUsage, err: err}
	}
	device, found := places.Device(f.device)
	if !found {
		var known []string
		for _, d := range places.Devices {
			known = append(known, d.Name)
		}
		return login.Attempt{}, places,
			wrong("the lab in %s has no device %q%s", f.state, f.device, nearest.Suggest(f.device, known))
	}
	i := slices.IndexFunc(device.Ways, func(w evidence.WayPlace) bool { return w.Access == f.access })
	if i < 0 {
		return login.Attempt{}, places, wrong("%s has no way in by %s in this lab", f.device, f.access)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(device.HostKey))
	if err != nil {
		return login.Attempt{}, places,
			failure{status: ExitUsage, err: fmt.Errorf("the host key of %s in %s is damaged", f.device, f.state)}
	}
	a := login.Attempt{Access: f.access, Address: device.Ways[i].Address, Person: f.person, HostKey: key,
		ServerName: f.device,
		Commands:   slices.Concat(f.commands, f.allows, f.refuses)}
	if f.access == site.Web || f.access == site.API {
		if a.Trusted, err = pki.Authorities(filepath.Join(folder.Certificates(), pki.AuthorityFile)); err != nil {
			return a, places, failure{status: ExitUsage, err: err}
		}
	}
	return a, places, nil
}

// aim returns the attempt to make, and what is expected of it.
func (c *Call) aim(f loginFlags) (login.Attempt, expected, error) {
	var attempt login.Attempt
	var places evidence.Places
	var err error
	if f.address != "" {
		attempt, err = c.realDevice(f)
	} else {
		attempt, places, err = f.attempt()
	}
	if err == nil {
		err = c.wordsFor(f, places, &attempt)
	}
	if err != nil {
		return attempt, expected{}, err
	}
	want := expected{outcome: walk.Outcome(f.expect), level: f.level, allows: f.allows, refuses: f.refuses}
	var inEffect lab.InEffect
	if places.Control != nil {
		if inEffect, err = c.askLab(f.state, places, lab.Change{}); err != nil {
			return attempt, want, err
		}
	}
	if f.device != "" && f.expect == "" && f.level < 0 {
		if want, err = c.expectation(f, places, inEffect); err != nil {
			return attempt, want, err
		}
		want.allows, want.refuses = f.allows, f.refuses
	} else if f.raise > 0 {
		want.raised = f.raise
	}
	if want.outcome == walk.OutcomeRefused && f.expect == "" && len(f.allows)+len(f.refuses) > 0 {
		want.outcome, want.level = walk.OutcomeIn, -1 // who is to try commands is to be in
	}
	if want.outcome == "" && (want.level >= 0 || len(f.allows)+len(f.refuses) > 0) {
		want.outcome = walk.OutcomeIn
	}
	return attempt, want, nil
}

// loginsOfSheet tries the logins that the change sheet of a device names.
func (c *Call) loginsOfSheet(f loginFlags) error {
	folder, err := state.Open(f.state)
	if err != nil {
		return failure{status: ExitUsage, err: err}
	}
	places, err := folder.Places()
	if err != nil {
		return failure{status: ExitUsage, err: err}
	}
	path := places.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	}
	l, err := c.loadFrom(path, false)
	if err != nil {
		return err
	}
	device, err := l.device(f.device)
	if err != nil {
		return err
	}
	var rows [][]string
	var all []loginJSON
	var untried []string
	style, matched := c.style(), 0
	silent, err := l.servers(f.silent)
	if err != nil {
		return err
	}
	var inEffect lab.InEffect
	if places.Control != nil {
		if inEffect, err = c.askLab(f.state, places, lab.Change{}); err != nil {
			return err
		}
	}
	w := worldOf(l.Site, device, silent, inEffect.Impaired)
	r := l.reckoner()
	r.Faults = w.faulty()
	inLab(&r, places, inEffect)
	for _, k := range r.Device(device) {
		if !login.Has(k.Way.Access) || !k.In(w.states) || k.Way != device.Way(k.Way.Access) ||
			k.Who.Kind == foresee.Unknown {
			continue
		}
		g := f
		g.access, g.person, g.level = k.Way.Access, k.Who.Typed(), -1
		attempt, _, err := g.attempt()
		if err == nil {
			err = c.wordsFor(g, places, &attempt)
		}
		if err != nil {
			return err
		}
		attempt.Password = site.NewSecret("not the password of anybody")
		path := filepath.Join(f.fromSite, g.person)
		if _, member := k.Who.Member(); member {
			if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) { // nobody in particular, so nobody's password
				untried = addNew(untried, k.Who.Name)
				continue
			}
		}
		if k.Who.Kind != foresee.Anyone {
			if attempt.Password, err = secrets.SecretFile(path); err != nil {
				return failure{status: ExitUsage, err: fmt.Errorf("-from-site wants a folder of "+
					"passwords, each in a file with the name of its person, and cannot read that of %s: %w", g.person, err)}
			}
		}
		seen, err := login.Do(c.Context, attempt)
		if err != nil {
			return cannot(err)
		}
		want := expectedOf(k)
		fits := want.fits(seen)
		if fits {
			matched++
		}
		who := k.Who.Name
		if k.Who.Kind == foresee.Anyone {
			who = g.person + ", wrong password"
		}
		saw := expected{outcome: seen.Outcome, level: seen.Level}
		all = append(all, loginJSON{Device: f.device, Access: g.access, Person: who, Outcome: seen.Outcome, Level: seen.Level,
			Raised: seen.Raised, Seconds: secondsOf(seen.Took),
			Commands: []login.Command{}, AsExpected: fits, Expected: want.String(), Given: []string{},
			Detail: seen.Detail})
		mark := style.Paint(show.Good, "as expected")
		if !fits {
			mark = style.Paint(show.Bad, "not as expected")
		}
		rows = append(rows, []string{g.access, who, want.String(), saw.String(), fmt.Sprintf("%.1f s", seen.Took.Seconds()),
			mark})
	}
	if len(untried) > 0 {
		c.note("not tried: %s; a file of a person in a directory would have to be there", strings.Join(untried, ", "))
	}
	if *c.json {
		err = show.JSON(c.Out, struct {
			Logins  []loginJSON `json:"logins"`
			Matched int         `json:"matched"`
			Total   int         `json:"total"`
		}{all, matched, len(all)})
	} else {
		style.Table(c.Out, []string{"access", "who", "expected", "seen", "after", ""}, rows, 1)
		c.say("\n%d of %d logins of %s were as expected\n", matched, len(all), f.device)
	}
	if err == nil && matched < len(all) {
		return errNo
	}
	return err
}

type loginJSON struct {
	Device     string          `json:"device"`
	Access     string          `json:"access"`
	Person     string          `json:"person"`
	Outcome    walk.Outcome    `json:"outcome"`
	Level      int             `json:"level"`
	Raised     int             `json:"raised_level"`
	Seconds    float64         `json:"seconds"`
	Commands   []login.Command `json:"commands"`
	AsExpected bool            `json:"as_expected"`
	Expected   string          `json:"expected"`
	Given      []string        `json:"given"`
	Detail     string          `json:"detail"`
	Seen       string          `json:"seen,omitempty"`
	asked      int             // the higher level that was asked for; 0: none
	changed    bool            // and the prompt looks otherwise since then
}

// whyOf is the call that names the cause of a login in a lab.
func whyOf(f loginFlags) string {
	text := "mellowgate why"
	if f.state != defaultState {
		text += " -state " + f.state
	}
	return text + " -device " + f.device + " -person " + f.person
}

func printLogin(c *Call, r loginJSON) {
	style := c.style()
	outcome := style.Paint(show.OutcomeTone(r.Outcome), string(r.Outcome))
	if r.Outcome == walk.OutcomeIn && r.Level != login.UnknownLevel {
		outcome += fmt.Sprintf(" at level %d", r.Level)
	}
	c.say("%s at %s by %s: %s after %.1f s\n", r.Person, r.Device, r.Access, outcome, r.Seconds)
	if r.Detail != "" {
		c.say("  %s\n", show.Safe(r.Detail))
	}
	switch {
	case r.asked == 0 || r.Outcome != walk.OutcomeIn:
	case r.changed:
		c.say("  %s  the prompt changed; which level it is now is not seen\n", style.Paint(show.Good, "raised "))
	case r.Raised == login.UnknownLevel && r.Level == login.UnknownLevel:
		c.say("  %s  asked for level %d, and the prompt stays as it was\n", style.Paint(show.Bad, "refused"), r.asked)
	case r.Raised == login.UnknownLevel:
		c.say("  asked for level %d; the prompt does not show which level it is now\n", r.asked)
	case r.Raised >= r.asked:
		c.say("  %s  to level %d\n", style.Paint(show.Good, "raised "), r.Raised)
	default:
		c.say("  %s  level %d, and it stays %d\n", style.Paint(show.Bad, "refused"), r.asked, r.Raised)
	}
	for _, command := range r.Commands {
		c.say("  %s  %s\n", style.Paint(show.OutcomeTone(command.Result), fmt.Sprintf("%-7s", command.Result)),
			command.Command)
		for line := range strings.SplitSeq(show.Safe(command.Output), "\n") {
			c.say("           %s\n", style.Paint(show.Faint, line))
		}
	}
	with := ""
	if len(r.Given) > 0 {
		with = ", with " + strings.Join(r.Given, " and ")
	}
	switch {
	case r.Outcome == walk.OutcomeUnsure && r.Expected != "":
		c.say("%s: %s was expected%s\n", style.Paint(show.Careful, "not proven"), r.Expected, with)
	case r.Expected == "":
		c.say("nothing was foreseen; say what you expect with -expect\n")
	case r.AsExpected:
		c.say("as expected: %s%s\n", r.Expected, with)
	default:
		c.say("%s: %s was expected%s\n", style.Paint(show.Bad, "not as expected"), r.Expected, with)
	}
}
