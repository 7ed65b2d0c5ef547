package trial

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task/learn"
)

func LearnCommand() *call.Command {
	return &call.Command{
		Name: "learn", Args: "PLATFORM [SITE]", MaxArgs: 2,
		Short: "finds out by experiments how a make of device behaves",
		Long: `Nobody knows by heart how every platform behaves, and what foresee says is as true as the behaviour of a
platform. learn finds out those that the site does not say: it plays the servers that a device asks (each answers, keeps
no records, is silent or is closed) and logs in to it, again and again, until no further login tells anything. A
behaviour is claimed only when nothing else explains what was seen.

Before anything else the way back is proven: a local account gets in while every server is silent. The people of the
experiments are known to the played servers alone. It never makes more logins that fail in a row than -failures says
(the lock of the make), changes nothing on the device, and waits after each experiment until the device leaves no server
alone any more. First it shows the plan, how long it takes, and asks; -plan only shows it. What was seen is kept in a
file (-record), so it goes on where it stopped, also after Ctrl-C.

The device is a stand-in of a running lab -devices-only (-state), or a real one (-address, as login takes it), whose
lists are those of the site and whose servers are nobody else's at that time: their addresses are on this host, or
are given with -listen. When somebody else logs in to the device meanwhile, it stops, unless -in-service is given.
A way in that this program cannot try is tried by hand (-by-hand): it says what to do and asks what was seen.

-write puts what is shown into the behaviour of the platform in the site's file. -again finds out what the site says
too, and says where the device is otherwise: after a new version of its software. Exit status 1 when it is.

-capture FILE, or -state DIR without -device, reads off what happened anyway: timers, forms, port names and sources.`,
		Examples: []call.Example{
			{Call: "mellowgate lab -devices-only -behaves 'pier-switch refusal: tries-next' demo/as-reviewed",
				Shows: "in one terminal: stand-ins, one platform with a behaviour that the site does not know"},
			{Call: "mellowgate learn -device north-sw-1 -again -yes -password-file " +
				"demo/as-reviewed/passwords/harbourmaster pier-switch demo/as-reviewed",
				Shows: "in another: finds it out"},
			{Call: "mellowgate learn -plan -device mv-avocet-rtr ship-router demo/as-reviewed",
				Shows: "what would be tried on a ship's router, and for how long"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			f := &learnFlags{}
			c.Flags.StringVar(&f.device, "device", "", "the `device` of the site to try it on")
			c.Flags.StringVar(&f.state, "state", call.DefaultState,
				"the state `folder` of the running lab, or what happened anyway")
			c.Flags.StringVar(&f.capture, "capture", "", "read off what a capture `file` has, and try nothing")
			c.Flags.StringVar(&f.account, "account", "", "the local `account` of the way back (default: the first "+
				"of level 15)")
			c.Flags.BoolVar(&f.plan, "plan", false, "show what would be tried, and try nothing")
			c.Flags.BoolVar(&f.yes, "yes", false, "agree to the plan; for scripts")
			c.Flags.BoolVar(&f.write, "write", false, "write what is shown into the site's file")
			c.Flags.BoolVar(&f.again, "again", false, "find out what the site says too, and say where the device "+
				"is otherwise")
			c.Flags.IntVar(&f.failures, "failures", 3, "how many logins in a row may fail: the `lock` of the make")
			c.Flags.StringVar(&f.record, "record", "",
				"the `file` that keeps what was seen (default: learned-DEVICE.jsonl)")
			c.Flags.BoolVar(&f.inService, "in-service", false, "go on though others log in to the device meanwhile")
			c.Flags.Var(&f.listen, "listen", "play a server at another address of this host than the site's: "+
				"`SERVER=ADDRESS`")
			c.Flags.StringVar(&f.from, "from", "",
				"with -address: the device's questions come from this `address`, and not from that of the site")
			c.Flags.Var(&f.byHand, "by-hand", "an `access` that you try by hand when asked, such as console")
			c.Flags.StringVar(&f.login.address, "address", "",
				"a real device, at this `address`, with its port, or by its name in your SSH configuration")
			c.Flags.StringVar(&f.login.Access, "access", site.SSH,
				"with -address: the `access` there: ssh, telnet or console")
			c.Flags.StringVar(&f.login.knownHosts, "known-hosts", "",
				"the `file` with SSH host keys for -address (default ~/.ssh/known_hosts)")
			c.Flags.BoolVar(&f.login.acceptKey, "accept-host-key", false,
				"write a host key that is not known yet to the file, after showing it")
			c.Flags.StringVar(&f.login.jump, "jump", "",
				"with -address: the `hosts` on the way, as NAME@HOST:PORT, the nearest first")
			c.Flags.StringVar(&f.login.sshConfig, "ssh-config", "",
				"the `file` with your SSH configuration (default ~/.ssh/config)")
			c.Flags.StringVar(&f.login.prompt, "prompt", "",
				"what the prompt of a real device looks like, a regular `expression`; a group in it is the level")
			f.password = c.PasswordFlags()
			return func() error { return runLearn(c, f) }
		},
	}
}

type learnFlags struct {
	device, state, capture, account, record, from string
	plan, yes, write, again, inService            bool
	failures                                      int
	listen, byHand                                call.Names
	login                                         LoginFlags
	password                                      func(string) (site.Secret, error)
	platform                                      *site.Platform
	of                                            *site.Device
	places                                        evidence.Places
}

func runLearn(c *call.Call, f *learnFlags) error {
	if len(c.Args) == 0 {
		return call.Usagef("learn needs the platform\nusage: %s", call.Usage(LearnCommand()))
	}
	name := c.Args[0]
	rest := *c
	rest.Args = c.Args[1:]
	l, err := rest.Load(f.device != "" && !f.plan)
	if err != nil {
		return err
	}
	var hint string
	if f.platform, hint = l.Platform(name); f.platform == nil {
		return call.Usagef("the site has no platform %q%s", name, hint)
	}
	switch {
	case f.failures < 1:
		return call.Usagef("-failures is at least 1: without a login that fails, nothing shows of refusals")
	case f.capture != "" && f.device != "":
		return call.Usagef("-capture reads what happened, and -device tries logins: give one of them")
	case f.device == "" && (f.login.address != "" || f.plan || f.write && f.capture == ""):
		return call.Usagef("say on which device of the platform it is to be tried: -device NAME")
	case f.device == "":
		return learnRead(&rest, f, l)
	}
	if f.of, err = l.DeviceNamed(f.device); err != nil {
		return err
	}
	if f.of.Platform != f.platform {
		return call.Usagef("%s is of the platform %s, and not %s", f.device, f.of.Platform.Name, name)
	}
	if err := wayBack(&rest, f); err != nil {
		return err
	}
	return learnBy(&rest, f, l)
}

// wayBack finds the account of the way back.
func wayBack(c *call.Call, f *learnFlags) error {
	if f.account != "" {
		if a := f.of.Account(f.account); a == nil || a.Password.None {
			return call.Usagef("%s has no local account %q that logs in%s", f.device, f.account,
				nearest.Suggest(f.account,
					call.NamesIn(f.of.Logins(), func(a *site.Account) string { return a.Name })))
		}
		return nil
	}
	for _, a := range f.of.Logins() {
		if a.Level == 15 {
			f.account = a.Name
			return nil
		}
	}
	return call.Usagef("%s has no local account of level 15: without a way back nothing is tried. Name one with "+
		"-account",
		f.device)
}

// learnBy plans, asks, makes the experiments and tells what they show.
func learnBy(c *call.Call, f *learnFlags, l call.Loaded) error {
	config, err := learnConfig(c, f, l)
	if err != nil {
		return err
	}
	ahead, err := c.LoadFrom(l.Path, false) // a copy for the plan, which changes it
	if err != nil {
		return err
	}
	planned := config
	planned.Site = ahead.Site
	planned.Keys = site.Keys{}
	planned.Device = ahead.Device(f.device)
	plan, err := learn.MakePlan(planned)
	if err != nil {
		return call.TaskError(err)
	}
	if f.plan && *c.AsJSON {
		return show.JSON(c.Out, planJSON(plan))
	}
	printLearnPlan(c, f, plan)
	if f.plan {
		return nil
	}
	if len(plan.Open) == 0 {
		c.Say("nothing is left to find out\n")
		return nil
	}
	if !f.yes && !agreedTo(c, f) {
		return call.ErrVerdict
	}
	if config.Password, err = f.password(f.account); err != nil {
		return err
	}
	report, err := learn.Learn(c.Context, config)
	if err != nil && report.Logins == 0 && len(config.Known) == 0 {
		return call.TaskError(err) // nothing was tried
	}
	return tellLearned(c, f, l, report, err)
}

func agreedTo(c *call.Call, f *learnFlags) bool {
	if c.AskAtTerminal() == nil {
		c.Note("nobody is here to be asked; agree with -yes")
		return false
	}
	_, _ = fmt.Fprintf(c.Err, "try this on %s? Type its name to agree: ", f.device)
	line, _ := bufio.NewReader(c.In).ReadString('\n')
	return strings.TrimSpace(line) == f.device
}

func printLearnPlan(c *call.Call, f *learnFlags, p learn.Plan) {
	names := make([]string, len(p.Open))
	for i, t := range p.Open {
		names[i] = t.String()
	}
	style := c.Style()
	var b bytes.Buffer
	style.Wrap(&b, "", fmt.Sprintf("not known of %s: %s", f.platform.Name, strings.Join(names, ", ")))
	style.Wrap(&b, "", fmt.Sprintf("needed: the password of the local account %s, and the lists of the site on %s; "+
		"nobody else asks its servers meanwhile", f.account, f.device))
	for i, step := range p.Steps {
		style.Wrap(&b, "", fmt.Sprintf("%2d. %s", i+1, step))
	}
	style.Wrap(&b, "", fmt.Sprintf("%s in about %s on a device that behaves as usual; another one may take other steps",
		show.Count(p.Logins, "login"), call.Shortly(p.Took)))
	if f.plan {
		_, _ = c.Out.Write(b.Bytes())
		return
	}
	_, _ = c.Err.Write(b.Bytes())
}

// learnConfig says how the device is reached, and where its servers are played.
func learnConfig(c *call.Call, f *learnFlags, l call.Loaded) (learn.Config, error) {
	config := learn.Config{Site: l.Site, Keys: l.Keys, Device: f.of, Account: f.account, Failures: f.failures,
		Again: f.again, InService: f.inService, Say: func(text string) { c.Note("%s", text) }}
	record := cmp.Or(f.record, "learned-"+f.device+".jsonl")
	var err error
	if config.Known, err = learned(record); err != nil {
		return config, call.UsageError(err)
	}
	if len(config.Known) > 0 && !f.plan {
		c.Note("%s of an earlier run are taken from %s; take the file away to begin anew",
			show.Count(len(config.Known), "experiment"), record)
	}
	config.Kept = func(d learn.Done) error { return keepLearned(record, d) }
	if f.login.address != "" {
		return config, learnReal(c, f, l, &config)
	}
	if f.plan {
		return config, nil
	}
	return config, learnInLab(c, f, l, &config)
}

// learned reads what an earlier run has kept; a last line that is cut off is left out.
func learned(path string) ([]learn.Done, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var doneSteps []learn.Done
	for _, line := range bytes.Split(text, []byte("\n")) {
		var d learn.Done
		if len(line) > 0 && json.Unmarshal(line, &d) == nil {
			doneSteps = append(doneSteps, d)
		}
	}
	return doneSteps, err
}

func keepLearned(path string, d learn.Done) error {
	line, err := json.Marshal(d)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(append(line, '\n'))
	return errors.Join(err, file.Close())
}

// writeLearned puts what is shown into the site's file.
func writeLearned(c *call.Call, f *learnFlags, l call.Loaded, behaviour [][2]string) error {
	if len(behaviour) == 0 {
		c.Note("nothing new is shown: nothing was written")
		return nil
	}
	fresh, err := c.LoadFrom(l.Path, false) // as it is now, with its own people
	if err != nil {
		return err
	}
	kind, _ := fresh.Platform(f.platform.Name)
	if kind == nil {
		return call.TaskError(fmt.Errorf("the site has no platform %s any more", f.platform.Name))
	}
	if err := sitefile.WriteBehaviour(fresh.Site, files.Absolute(l.Path), kind, behaviour); err != nil {
		return call.TaskError(err)
	}
	c.Note("%s written to the platform %s in %s", show.Count(len(behaviour), "behaviour"), f.platform.Name,
		fresh.Site.Files[kind.Place.File])
	return nil
}
