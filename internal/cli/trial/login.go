package trial

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

	"mellowgate/internal/cli/call"
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
)

func LoginCommand() *call.Command {
	return &call.Command{
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
		Examples: []call.Example{
			{Call: "mellowgate login -device north-sw-1 -person ines.marsh -command 'set port 3 off' " +
				"-password-file demo/as-reviewed/passwords/ines.marsh",
				Shows: "one login with one command, in a lab of the demo site"},
			{Call: "mellowgate login -device north-sw-1 -from-site demo/as-reviewed/passwords",
				Shows: "every login of the device's change sheet"},
			{Call: "mellowgate login -address 192.0.2.101:22 -accept-host-key -person ines.marsh -prompt 'ready: " +
				"$' -refusal 'no right' -allows 'list ports'", Shows: "a real device"},
			{Call: "mellowgate login -device mv-avocet-rtr -person master -expect refused",
				Shows: "a local account while the servers answer; the password is asked for"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			var f LoginFlags
			c.Flags.StringVar(&f.State, "state", call.DefaultState, "the state `folder` of the running lab")
			c.Flags.StringVar(&f.Device, "device", "", "the `device` to log in to")
			c.Flags.StringVar(&f.Person, "person", "", "the `name` to log in with")
			c.Flags.StringVar(&f.Access, "access", site.SSH, "the `access`: ssh, telnet, console, web, api or netconf")
			c.Flags.StringVar(&f.expect, "expect", "", "the expected `outcome`: in or refused")
			c.Flags.StringVar(&f.teams, "teams", "",
				"the `teams` that a directory gives the person, where the site has nobody of that name: netops,watch")
			c.Flags.IntVar(&f.level, "level", -1, "the expected `level`, from 0 to 15")
			c.Flags.Var(&f.allows, "allows", "a `command` to try that must be allowed; may be given several times")
			c.Flags.Var(&f.refuses, "refuses", "a `command` to try that must be refused; may be given several times")
			c.Flags.StringVar(&f.fromSite, "from-site", "",
				"try every login of the device's change sheet; the passwords are files in this `folder`, each "+
					"named as its person")
			c.Flags.StringVar(&f.write, "write", "",
				"with -from-site: the outage too, and the sheet with what was seen into this `file`, Markdown or "+
					".html; run again it goes on where it stopped")
			c.Flags.BoolVar(&f.noOutage, "no-outage", false, "with -write: leave the outage out")
			c.Flags.StringVar(&f.address, "address", "",
				"a real device, at this `address`, with its port, or by its name in your SSH configuration")
			c.Flags.DurationVar(&f.patience, "timeout", 2*time.Minute,
				"with -address: how long to wait for a login and for each command, a `time`")
			c.Flags.StringVar(&f.jump, "jump", "", "with -address: the `hosts` on the way, as NAME@HOST:PORT, the "+
				"nearest first")
			c.Flags.StringVar(&f.sshConfig, "ssh-config", "",
				"the `file` with your SSH configuration (default ~/.ssh/config)")
			c.Flags.StringVar(&f.sshKey, "ssh-key", "", "with -address: log in with the private SSH key of this `file`")
			c.Flags.BoolVar(&f.agent, "agent", false, "with -address: log in with the keys of the SSH agent")
			c.Flags.StringVar(&f.knownHosts, "known-hosts", "",
				"the `file` with SSH host keys for -address (default ~/.ssh/known_hosts)")
			c.Flags.BoolVar(&f.acceptKey, "accept-host-key", false,
				"write a host key that is not known yet to the file, after showing it")
			c.Flags.StringVar(&f.prompt, "prompt", "", "what the prompt of a real device looks like, a regular "+
				"`expression`")
			c.Flags.StringVar(&f.refusal, "refusal", "",
				"what a refused command of a real device prints, a regular `expression`")
			c.Flags.StringVar(&f.silent, "silent", "", "foresee with these `servers` silent: tern,plover")
			c.Flags.Var(&f.commands, "command", "a `command` to try once in; may be given several times")
			c.Flags.IntVar(&f.raise, "raise", 0, "once in, ask for this higher `level`, from 2 to 15, and say "+
				"whether it came")
			c.Flags.StringVar(&f.raiseCommand, "raise-command", "",
				"what is typed on a real device to ask for the higher level, a `command`")
			password := c.PasswordFlags()
			raisePassword, _ := c.PasswordOf("raise-", "the password for the higher level")
			return func() error { return runLogin(c, f, password, raisePassword) }
		},
	}
}

type LoginFlags struct {
	State, Device, Person, Access, expect, silent  string
	teams                                          string // that a directory gives the person
	commands, allows, refuses                      call.Names
	fromSite, address, knownHosts, prompt, refusal string
	jump, sshConfig, sshKey, write                 string
	acceptKey, agent, noOutage                     bool
	patience                                       time.Duration
	level, raise                                   int
	raiseCommand                                   string
}

func (f LoginFlags) check() error {
	ways := site.Accesses()
	switch {
	case f.fromSite != "" && f.Device == "":
		return call.Usagef("-from-site needs -device")
	case f.fromSite == "" && (f.write != "" || f.noOutage):
		return call.Usagef("-write and -no-outage are for the logins of a sheet: name the folder of passwords with " +
			"-from-site")
	case f.fromSite == "" && f.Device == "" && f.address == "" || f.fromSite == "" && f.Person == "":
		return call.Usagef("login needs -device or -address, and -person\nusage: %s", call.Usage(LoginCommand()))
	case f.address == "" && (f.jump != "" || f.sshKey != "" || f.agent):
		return call.Usagef("-jump, -ssh-key and -agent are for a real device: give its -address")
	case f.sshKey != "" && f.agent:
		return call.Usagef("give one of -ssh-key and -agent")
	case f.patience <= 0:
		return call.Usagef("-timeout is above 0, such as 30s")
	case !slices.Contains(ways, f.Access):
		return call.Usagef("there is no way in %q here%s; %s are", f.Access, nearest.Suggest(f.Access, ways),
			strings.Join(ways, ", "))
	case f.address != "" && f.Access != site.SSH && f.Access != site.Telnet && f.Access != site.Console:
		return call.Usagef("a real device is entered by ssh or telnet, or by console where its serial line is " +
			"reached over TCP; pages and APIs differ from make to make")
	case f.expect != "" && f.expect != string(walk.OutcomeIn) && f.expect != string(walk.OutcomeRefused):
		return call.Usagef("-expect takes in or refused, not %q", f.expect)
	case f.level > 15 || f.level < -1:
		return call.Usagef("-level is from 0 to 15")
	case f.raise != 0 && (f.raise < 2 || f.raise > 15):
		return call.Usagef("-raise is from 2 to 15")
	case f.raise != 0 && !site.HasShell(f.Access):
		return call.Usagef("a level is raised at a shell, by console, ssh or telnet, and not by %s", f.Access)
	case f.raise != 0 && f.address != "" && f.raiseCommand == "":
		return call.Usagef("a real device has a command of its own that asks for a higher level: say it with " +
			"-raise-command")
	case f.raise == 0 && f.raiseCommand != "":
		return call.Usagef("-raise-command goes with -raise LEVEL")
	}
	for _, command := range slices.Concat(f.commands, f.allows, f.refuses) {
		if strings.ContainsAny(command, "\n\r") {
			return call.Usagef("a command is one line")
		}
	}
	return nil
}

func runLogin(c *call.Call, f LoginFlags, password, raisePassword func(string) (site.Secret, error)) error {
	if err := f.check(); err != nil {
		return err
	}
	if f.fromSite != "" && (f.address != "" || f.write != "") {
		return trySheet(c, f)
	}
	if f.fromSite != "" {
		return loginsOfSheet(c, f)
	}
	attempt, expected, err := aim(c, f)
	if err != nil {
		return err
	}
	if len(attempt.Signers) == 0 {
		if attempt.Password, err = password(f.Person); err != nil {
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
		return call.TaskError(err)
	}
	result := loginJSON{Device: cmp.Or(f.Device, f.address), Access: f.Access, Person: f.Person, Outcome: seen.Outcome,
		Level: seen.Level, Raised: seen.Raised,
		Seconds: call.SecondsOf(seen.Took), Commands: seen.Commands, AsExpected: expected.Fits(seen),
		Expected: expected.String(),
		Given:    append([]string{}, expected.given...), Detail: seen.Detail}
	result.asked, result.changed = f.raise, seen.PromptChanged
	if untried := len(attempt.Commands) - len(seen.Commands); untried > 0 &&
		(seen.Outcome == walk.OutcomeIn || seen.Outcome == walk.OutcomeUnsure) {
		result.AsExpected = false
		result.Detail = strings.TrimPrefix(result.Detail+fmt.Sprintf("; %s not tried", show.Count(untried, "command")),
			"; ")
	}
	if result.AsExpected && expected.level >= 0 && seen.Outcome == walk.OutcomeIn && seen.Level == login.UnknownLevel &&
		site.HasShell(f.Access) {
		result.Detail = strings.TrimPrefix(
			result.Detail+"; the level is not seen: -prompt says how the prompt shows it",
			"; ")
	}
	if result.Commands == nil {
		result.Commands = []login.Command{}
	}
	if *c.AsJSON {
		err = show.JSON(c.Out, result)
	} else {
		printLogin(c, result)
		if !result.AsExpected && f.address == "" {
			c.Say("next: ")
			c.Style().Call(c.Out, "", whyOf(f))
		}
	}
	switch {
	case err != nil:
		return err
	case seen.Outcome == walk.OutcomeNoAnswer:
		return call.ErrCannot
	case !result.AsExpected:
		return call.ErrVerdict
	}
	return nil
}

// Attempt finds the device in the state folder.
func (f LoginFlags) Attempt() (login.Attempt, evidence.Places, error) {
	folder, places, err := call.RunIn(f.State)
	if err != nil {
		return login.Attempt{}, evidence.Places{}, err
	}
	way, err := call.LabWayOf(places, f.Device, f.Access)
	if err != nil {
		return login.Attempt{}, places, err
	}
	a := login.Attempt{Access: f.Access, Address: way.Address, Person: f.Person, HostKey: way.HostKey,
		ServerName: f.Device,
		Commands:   slices.Concat(f.commands, f.allows, f.refuses)}
	if f.Access == site.Web || f.Access == site.API {
		if a.Trusted, err = pki.Authorities(filepath.Join(folder.Certificates(), pki.AuthorityFile)); err != nil {
			return a, places, call.UsageError(err)
		}
	}
	return a, places, nil
}

// aim returns the attempt to make, and what is expected of it.
func aim(c *call.Call, f LoginFlags) (login.Attempt, expected, error) {
	var attempt login.Attempt
	var places evidence.Places
	var err error
	if f.address != "" {
		attempt, err = realDevice(c, f)
	} else {
		attempt, places, err = f.Attempt()
	}
	if err == nil {
		err = wordsFor(c, f, places, &attempt)
	}
	if err != nil {
		return attempt, expected{}, err
	}
	want := expected{outcome: walk.Outcome(f.expect), level: f.level, allows: f.allows, refuses: f.refuses}
	var inEffect lab.InEffect
	if places.Control != nil {
		if inEffect, err = c.AskLab(f.State, places, lab.Change{}); err != nil {
			return attempt, want, err
		}
	}
	if f.Device != "" && f.expect == "" && f.level < 0 {
		if want, err = expectation(c, f, places, inEffect); err != nil {
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
func loginsOfSheet(c *call.Call, f LoginFlags) error {
	_, places, err := call.RunIn(f.State)
	if err != nil {
		return err
	}
	path := places.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	}
	l, err := c.LoadFrom(path, false)
	if err != nil {
		return err
	}
	device, err := l.DeviceNamed(f.Device)
	if err != nil {
		return err
	}
	var rows [][]string
	var shownLogins []loginJSON
	var untried []string
	style, matched := c.Style(), 0
	silent, err := l.ServersNamed(f.silent)
	if err != nil {
		return err
	}
	var inEffect lab.InEffect
	if places.Control != nil {
		if inEffect, err = c.AskLab(f.State, places, lab.Change{}); err != nil {
			return err
		}
	}
	w := worldOf(l.Site, device, silent, inEffect.Impaired)
	r := l.Reckoner()
	r.Faults = w.faulty()
	inLab(&r, places, inEffect)
	for _, k := range r.Device(device) {
		if !login.Has(k.Way.Access) || !k.In(w.states) || k.Way != device.Way(k.Way.Access) ||
			k.Who.Kind == foresee.Unknown {
			continue
		}
		g := f
		g.Access = k.Way.Access
		g.Person = k.Who.Typed()
		g.level = -1
		attempt, _, err := g.Attempt()
		if err == nil {
			err = wordsFor(c, g, places, &attempt)
		}
		if err != nil {
			return err
		}
		attempt.Password = site.NewSecret("not the password of anybody")
		path := filepath.Join(f.fromSite, g.Person)
		if _, member := k.Who.Member(); member {
			if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) { // nobody in particular, so nobody's password
				untried = call.AddNew(untried, k.Who.Name)
				continue
			}
		}
		if k.Who.Kind != foresee.Anyone {
			if attempt.Password, err = secrets.SecretFile(path); err != nil {
				return call.UsageError(fmt.Errorf("-from-site wants a folder of "+
					"passwords, each in a file with the name of its person, and cannot read that of %s: %w", g.Person,
					err))
			}
		}
		seen, err := login.Do(c.Context, attempt)
		if err != nil {
			return call.TaskError(err)
		}
		want := ExpectedOf(k)
		fits := want.Fits(seen)
		if fits {
			matched++
		}
		who := k.Who.Name
		if k.Who.Kind == foresee.Anyone {
			who = g.Person + ", wrong password"
		}
		saw := expected{outcome: seen.Outcome, level: seen.Level}
		shownLogins = append(shownLogins, loginJSON{Device: f.Device, Access: g.Access, Person: who,
			Outcome: seen.Outcome,
			Level:   seen.Level,
			Raised:  seen.Raised, Seconds: call.SecondsOf(seen.Took),
			Commands: []login.Command{}, AsExpected: fits, Expected: want.String(), Given: []string{},
			Detail: seen.Detail})
		mark := style.Paint(show.Good, "as expected")
		if !fits {
			mark = style.Paint(show.Bad, "not as expected")
		}
		rows = append(rows, []string{g.Access, who, want.String(), saw.String(),
			fmt.Sprintf("%.1f s", seen.Took.Seconds()),
			mark})
	}
	if len(untried) > 0 {
		c.Note("not tried: %s; a file of a person in a directory would have to be there", strings.Join(untried, ", "))
	}
	if *c.AsJSON {
		err = show.JSON(c.Out, struct {
			Logins  []loginJSON `json:"logins"`
			Matched int         `json:"matched"`
			Total   int         `json:"total"`
		}{shownLogins, matched, len(shownLogins)})
	} else {
		style.Table(c.Out, []string{"access", "who", "expected", "seen", "after", ""}, rows, 1)
		c.Say("\n%d of %d logins of %s were as expected\n", matched, len(shownLogins), f.Device)
	}
	if err == nil && matched < len(shownLogins) {
		return call.ErrVerdict
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
func whyOf(f LoginFlags) string {
	text := "mellowgate why"
	if f.State != call.DefaultState {
		text += " -state " + f.State
	}
	return text + " -device " + f.Device + " -person " + f.Person
}

func printLogin(c *call.Call, r loginJSON) {
	style := c.Style()
	outcome := style.Paint(show.OutcomeTone(r.Outcome), string(r.Outcome))
	if r.Outcome == walk.OutcomeIn && r.Level != login.UnknownLevel {
		outcome += fmt.Sprintf(" at level %d", r.Level)
	}
	c.Say("%s at %s by %s: %s after %.1f s\n", r.Person, r.Device, r.Access, outcome, r.Seconds)
	if r.Detail != "" {
		c.Say("  %s\n", show.Safe(r.Detail))
	}
	switch {
	case r.asked == 0 || r.Outcome != walk.OutcomeIn:
	case r.changed:
		c.Say("  %s  the prompt changed; which level it is now is not seen\n", style.Paint(show.Good, "raised "))
	case r.Raised == login.UnknownLevel && r.Level == login.UnknownLevel:
		c.Say("  %s  asked for level %d, and the prompt stays as it was\n", style.Paint(show.Bad, "refused"), r.asked)
	case r.Raised == login.UnknownLevel:
		c.Say("  asked for level %d; the prompt does not show which level it is now\n", r.asked)
	case r.Raised >= r.asked:
		c.Say("  %s  to level %d\n", style.Paint(show.Good, "raised "), r.Raised)
	default:
		c.Say("  %s  level %d, and it stays %d\n", style.Paint(show.Bad, "refused"), r.asked, r.Raised)
	}
	for _, command := range r.Commands {
		c.Say("  %s  %s\n", style.Paint(show.OutcomeTone(command.Result), fmt.Sprintf("%-7s", command.Result)),
			command.Command)
		for line := range strings.SplitSeq(show.Safe(command.Output), "\n") {
			c.Say("           %s\n", style.Paint(show.Faint, line))
		}
	}
	with := ""
	if len(r.Given) > 0 {
		with = ", with " + strings.Join(r.Given, " and ")
	}
	switch {
	case r.Outcome == walk.OutcomeUnsure && r.Expected != "":
		c.Say("%s: %s was expected%s\n", style.Paint(show.Careful, "not proven"), r.Expected, with)
	case r.Expected == "":
		c.Say("nothing was foreseen; say what you expect with -expect\n")
	case r.AsExpected:
		c.Say("as expected: %s%s\n", r.Expected, with)
	default:
		c.Say("%s: %s was expected%s\n", style.Paint(show.Bad, "not as expected"), r.Expected, with)
	}
}
