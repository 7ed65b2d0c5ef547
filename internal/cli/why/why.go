// Package why has the commands that find a cause: why, and ask, which puts one question.
package why

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task/gather"
)

func Command() *call.Command {
	return &call.Command{
		Name: "why", Args: "[SITE]", Short: "the cause of a failed login, with its evidence and the repair",
		Long: `Names the cause of a failed login from whatever evidence there is. Without a file it reads the
state folder of a lab or of serve; or give any of -capture, -interface, -events, -trace, -counters and -log. Any
one kind alone is enough for the best answer that it allows; more of them sharpen it. With a SITE it knows
names, keys and the design.

It judges the newest login that went wrong; -person, -device, -access, -at and -saw choose another. The first
line is the cause and the place; then follow what speaks for it and against it, the repair, and what to look at
where it is not sure. With a site and these flags alone it says what the design makes of such a login.

-probe asks the servers now, with questions that change nothing: is the port open, is it alive, and a login with
a name that nobody has. -all lists everything that is wrong, by cause. -write makes a record of the incident,
ready for a ticket; -confirm repeats the login for it, and says whether it works now.

Exit status 1 when there is no login to judge, or nothing is wrong in the part of it that is there; and with
-confirm when it still fails.`,
		Examples: []call.Example{
			{Call: "mellowgate why", Shows: "the newest login that went wrong in the lab that runs here"},
			{Call: "mellowgate why -person tobin.reed -device north-sw-1",
				Shows: "the newest one of this person on this device"},
			{Call: "mellowgate why -capture traffic.pcapng -all demo/as-reviewed",
				Shows: "everything that is wrong in a capture"},
			{Call: "mellowgate why -person odd.larsen -device north-sw-1 -access ssh -saw refused demo/as-reviewed",
				Shows: "no evidence at all: what the design says"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			f := &WhyFlags{}
			c.Flags.StringVar(&f.State, "state", "",
				"the state `folder` to read (default "+call.DefaultState+", where no file is named)")
			c.Flags.StringVar(&f.files.Capture, "capture", "",
				"a capture `file`, pcap or pcapng; - for standard input; several, of several places, with commas "+
					"between")
			c.Flags.StringVar(&f.on, "interface", "",
				"listen live on this network `interface` for the time of -for; needs a privilege")
			c.Flags.DurationVar(&f.span, "for", time.Minute,
				"with -interface and -follow: how long, such as 30s; -follow goes on unless it is said")
			c.Flags.StringVar(&f.files.Events, "events", "", "a `file` of servers' events, JSON Lines")
			c.Flags.StringVar(&f.files.Trace, "trace", "", "a `file` of what a device noted, JSON Lines")
			c.Flags.StringVar(&f.files.Counters, "counters", "",
				"a `file` with the counters of a device: JSON, values of SNMP, or its own text; OLD,NEW for what "+
					"was counted between two readings")
			c.Flags.StringVar(&f.files.Log, "log", "", "a `file` with a log: of a device, or of serve in any form")
			c.Flags.StringVar(&f.files.Phrases, "phrases", "", "the phrasebook `file` of the make whose text -log "+
				"and -counters are; by default that of the device's platform")
			c.Flags.StringVar(&f.files.Zone, "zone", "", "the `zone` of times of a text that have none, such as "+
				"Europe/Dublin; by default that of this host")
			c.Flags.StringVar(&f.key, "key-file", "",
				"for a capture: a `file` with the key of servers that the site does not know")
			c.Flags.StringVar(&f.Symptom.Person, "person", "", "the `name` that was used")
			c.Flags.StringVar(&f.Symptom.Device, "device", "", "the `device`")
			c.Flags.StringVar(&f.Symptom.Access, "access", "", "the `access`: "+strings.Join(site.Accesses(), ", "))
			c.Flags.StringVar(&f.at, "at", "", "about this `time`, such as 03:10 or 2026-11-23T03:10")
			c.Flags.StringVar(&f.Symptom.Saw, "saw", "", "what was `seen`: "+strings.Join(diagnose.Saws, ", "))
			c.Flags.StringVar(&f.Symptom.Read, "symptom", "",
				"what was read on the screen, or is said of it, as `text`: it stands for -saw where it has a word "+
					"that tells")
			c.Flags.BoolVar(&f.follow, "follow", false, "name the cause of each failed login as it happens, of a "+
				"running lab or service, until Ctrl-C or -for")
			c.Flags.BoolVar(&f.probe, "probe", false,
				"ask the servers now, with questions that change nothing; needs a site and -device")
			c.Flags.BoolVar(&f.all, "all", false, "everything that is wrong, by cause, the worst first")
			c.Flags.StringVar(&f.write, "write", "", "write a record of the incident into this new `file`, as Markdown")
			c.Flags.BoolVar(&f.confirm, "confirm", false, "repeat the login in the lab, and say whether it works now")
			f.password = c.PasswordFlags()
			return func() error {
				c.Flags.Visit(func(named *flag.Flag) { f.spanSaid = f.spanSaid || named.Name == "for" })
				return why(c, f)
			}
		},
	}
}

type WhyFlags struct {
	State, key, at, write string
	on                    string
	span                  time.Duration
	files                 gather.Files
	Symptom               diagnose.Symptom
	probe, all, confirm   bool
	follow, spanSaid      bool
	password              func(string) (site.Secret, error)
}

func (f *WhyFlags) check() error {
	y := &f.Symptom
	var err error
	if y.Saw == "" {
		y.Saw = diagnose.SawOf(y.Read)
	}
	switch {
	case y.Saw != "" && !slices.Contains(diagnose.Saws, y.Saw):
		return call.Usagef("-saw is %q%s; it is one of %s", y.Saw, nearest.Suggest(y.Saw, diagnose.Saws),
			strings.Join(diagnose.Saws, ", "))
	case y.Access != "" && !slices.Contains(site.Accesses(), y.Access):
		return call.Usagef("there is no way in %q%s; they are %s", y.Access, nearest.Suggest(y.Access, site.Accesses()),
			strings.Join(site.Accesses(), ", "))
	case f.on != "" && f.files.Capture != "":
		return call.Usagef("give one of -capture and -interface")
	case f.probe && y.Device == "":
		return call.Usagef("-probe asks as a device: name it with -device")
	case f.follow && (!f.files.None() || f.on != "" || f.all || f.probe || f.write != "" || f.confirm || y.Saw != ""):
		return call.Usagef("-follow reads the state folder of what runs here, and takes -person, -device, -access " +
			"and -for")
	case f.all && (f.write != "" || f.confirm):
		return call.Usagef("-write and -confirm are about one login, and -all is about all")
	}
	y.At, err = call.Moment(f.at, time.Now())
	return err
}

func why(c *call.Call, f *WhyFlags) error {
	if err := f.check(); err != nil {
		return err
	}
	if f.Symptom.Read != "" && f.Symptom.Saw == "" {
		c.Note("no word of %q tells what was seen, so it is not weighed; say it with -saw: %s", f.Symptom.Read,
			strings.Join(diagnose.Saws, ", "))
	}
	if f.follow {
		return followWhy(c, f)
	}
	k, err := Evidence(c, f)
	if err != nil {
		return err
	}
	if f.probe {
		if err := probe(c, f, k); err != nil {
			return err
		}
	}
	if f.all {
		return everything(c, f, k)
	}
	v := diagnose.Explain(k.Evidence, f.Symptom)
	if !v.Found && k.Opened != nil && f.Symptom.Device != "" {
		c.Note("%s holds no such login%s; this is what the design says", k.From, f.choices(k))
		v = diagnose.ByDesign(k.Evidence, f.Symptom)
	}
	if !v.Found {
		if *c.AsJSON {
			if err := show.JSON(c.Out, v); err != nil {
				return err
			}
			return call.ErrVerdict
		}
		c.Note("%s holds no such login%s", k.From, f.choices(k))
		return call.ErrVerdict
	}
	var again *proof
	if f.confirm {
		if again, err = confirm(c, f, k, v); err != nil {
			return err
		}
	}
	if f.write != "" {
		if err := writeIncident(c, f, k, v, again); err != nil {
			return err
		}
	}
	if *c.AsJSON {
		err = show.JSON(c.Out, struct {
			diagnose.Verdict
			Proof *proof `json:"proof,omitempty"`
		}{v, again})
	} else {
		PrintVerdict(c, v)
		again.print(c)
	}
	if err == nil && (v.Unseen || again != nil && !again.Works) {
		return call.ErrVerdict
	}
	return err
}

// choices says which names there are, when none fits.
func (f *WhyFlags) choices(k *gather.Found) string {
	var people, devices []string
	for _, t := range k.Traces {
		people, devices = call.AddNew(people, t.Person), call.AddNew(devices, t.Device)
	}
	for _, e := range k.Events {
		people, devices = call.AddNew(people, e.Person), call.AddNew(devices, e.Device)
	}
	for _, x := range k.Exchanges {
		people, devices = call.AddNew(people, x.Person), call.AddNew(devices, x.Device)
	}
	text := ""
	if f.Symptom.Person != "" && !slices.Contains(people, f.Symptom.Person) {
		text += fmt.Sprintf("; nobody called %s tried%s", f.Symptom.Person, nearest.Suggest(f.Symptom.Person, people))
	}
	if f.Symptom.Device != "" && !slices.Contains(devices, f.Symptom.Device) {
		text += fmt.Sprintf("; nothing is about %s%s", f.Symptom.Device, nearest.Suggest(f.Symptom.Device, devices))
	}
	if text == "" {
		text = "; with -all it lists everything that is wrong"
	}
	return text
}

// Evidence reads what a call names: files, a state folder, a site.
func Evidence(c *call.Call, f *WhyFlags) (*gather.Found, error) {
	f.files.Device = f.Symptom.Device
	w := gather.Wanted{Files: f.files, State: f.State, Default: call.DefaultState, Interface: f.on, Span: f.span,
		In:    c.In,
		Alone: f.files.None() && f.on == "" && len(c.Args) > 0 && (f.Symptom.Device != "" || f.probe)}
	if len(c.Args) > 0 {
		w.Site = c.Args[0]
	}
	if f.key != "" {
		key, err := secrets.SecretFile(f.key)
		if err != nil {
			return nil, call.UsageError(err)
		}
		w.Key = key
	}
	finder := gather.Finder{
		Load: func(path string) (sitefile.Opened, error) {
			l, err := c.LoadFrom(path, false)
			if err == nil && f.Symptom.Device != "" {
				_, err = l.DeviceNamed(f.Symptom.Device)
			}
			return l.Opened, err
		},
		Has:  func(path string) bool { _, err := os.Stat(path); return err == nil },
		Note: func(text string) { c.Note("%s", text) },
	}
	k, err := finder.Find(c.Context, w)
	return k, call.TaskError(err)
}

// everything prints all that is wrong.
func everything(c *call.Call, f *WhyFlags, k *gather.Found) error {
	s := diagnose.All(k.Evidence, f.Symptom)
	if *c.AsJSON {
		return show.JSON(c.Out, s)
	}
	style := c.Style()
	for _, text := range s.Clocks {
		c.Say("%s\n", text)
	}
	if s.Logins == 0 {
		c.Note("%s holds no login%s", k.From, f.choices(k))
		return call.ErrVerdict
	}
	if len(s.Groups) == 0 {
		c.Say("%s: %s, and nothing is wrong with any\n", style.Paint(show.Good, "healthy"),
			show.Count(s.Logins, "login"))
		return nil
	}
	for i, g := range s.Groups {
		if i > 0 {
			c.Say("\n")
		}
		mark := ""
		if g.Follows {
			mark = " (follows from the others)"
		}
		c.Say("%s: %s%s\n", style.Paint(show.Bad, g.Cause.Cause), show.Safe(g.Where), mark)
		style.Wrap(c.Out, "  ", show.Safe(g.Says))
		on := ""
		if len(g.Devices) > 1 {
			on = " on " + strings.Join(Some(g.Devices, 5), ", ")
		}
		style.Item(c.Out, "  hit      ", show.Safe(fmt.Sprintf("%s of %s%s, %s", show.Count(g.Logins, "login"),
			strings.Join(Some(g.People, 5), ", "), on, call.Zoned(call.Span(g.First, g.Last)))))
		style.Item(c.Out, "  repair   ", show.Safe(g.Repair))
	}
	unseen := ""
	if s.Unseen > 0 {
		unseen = fmt.Sprintf("; of %d more only a part is there, with nothing wrong in it", s.Unseen)
	}
	c.Say("\n%s, %d of them healthy; %s%s\n", show.Count(s.Logins, "login"), s.Healthy,
		show.Count(len(s.Groups), "cause"),
		unseen)
	return nil
}

// Some returns the first names of a list, and how many more there are.
func Some(all []string, most int) []string {
	switch {
	case len(all) == 0:
		return []string{"somebody"}
	case len(all) <= most:
		return all
	}
	return append(slices.Clone(all[:most]), fmt.Sprintf("%d more", len(all)-most))
}
