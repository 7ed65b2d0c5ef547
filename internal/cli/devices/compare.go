package devices

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/check"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task/compare"
	"mellowgate/internal/task/textread"
)

func CompareCommand() *call.Command {
	return &call.Command{
		Name: "compare", Args: "DEVICE... [SITE]", Short: "what is on a device against the site, in the site's words",
		MaxArgs: call.ManyDevices,
		Long: `Reads the configuration of devices over NETCONF (RFC 6241, over SSH) and says what is not as
the site has it: servers, ports, keys, order, lists, accounts. Keys are compared and never shown: only how they
differ. Each difference has the place in the site.

It reads the models that the device announces: ietf-system with ietf-system-tacacs-plus, and OpenConfig's
system. What these cannot carry is not compared. A key that the device does not show is named, and is no
difference. Nothing is changed on the device. Host keys are checked; -accept-host-key takes one the first time.

-read TEXT compares what the device has saved of itself, by the phrasebook of its platform, and connects to nothing.
What the make has no words for is not compared, and named; from a text that is not whole nothing follows from what it
does not say. Each difference then has its place in the text too.

A device without NETCONF whose platform names a phrasebook is read at its command line, by ssh or by -access; with
-saved FOLDER those that have saved themselves there are taken from there. So -all is of a fleet in which each device
speaks as it does.

-adopt writes what is found into the site, as found of each device, so that check and foresee take it for true
until send puts the design there. A key that the site does not have goes to a file of its own,
keys/held-DEVICE-SERVER.key. What found says already is shown as known, and is no drift. What found has no word
for stays a difference.

For a scheduler, -since FILE keeps each look and says what is new and what is gone since the last one. A device that
cannot be read stops no other, and keeps its last look.

Exit status 1 when something differs that the site does not know of (with -since: that is new), or not all of a text was
read, 3 when a device could
not be read.`,
		Examples: []call.Example{
			{Call: "mellowgate compare -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh " +
				"north-sw-1 demo/as-reviewed", Shows: "a device of the lab that runs here"},
			{Call: "mellowgate compare -read demo/saved/south-sw-1.txt south-sw-1 demo/as-reviewed",
				Shows: "what the device has saved of itself, in place of the device"},
			{Call: "mellowgate compare -person ines.marsh -agent -all my-site",
				Shows: "every device that can be read"},
			{Call: "mellowgate compare -person ines.marsh -agent -adopt switch-1 my-site",
				Shows: "take what is on it for true, until send"},
			{Call: "mellowgate compare -person ines.marsh -ssh-key key -all -since last-look.json my-site",
				Shows: "every night: what has changed since yesterday"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			f := &compareFlags{managing: managingFlags(c)}
			c.Flags.BoolVar(&f.all, "all", false, "every device that has a way in by netconf, or whose platform names "+
				"a phrasebook")
			c.Flags.StringVar(&f.over, "access", "",
				"read devices at their command line, in the lines of their make, by this `way`: ssh, telnet or "+
					"console (default ssh, for a device without netconf whose platform names a phrasebook)")
			c.Flags.StringVar(&f.saved, "saved", "",
				"take devices that have saved themselves into this `folder`, as DEVICE.txt, from there")
			c.Flags.StringVar(&f.since, "since", "",
				"say what has changed since the last look, which is in this `file`, and put this one in its place")
			c.Flags.BoolVar(&f.csv, "csv", false, "print comma-separated values, with a line of names first")
			c.Flags.BoolVar(&f.adopt, "adopt", false, "write what is found into the site, as found")
			c.Flags.IntVar(&f.atOnce, "at-once", 8, "how many devices, `N`, are read at the same time, up to 50")
			f.read = texts.ReadingFlags(c)
			return func() error {
				if f.csv && (*c.AsJSON || f.since != "" || f.read.Text != "") {
					return call.Usagef("-csv is for what devices hold: leave out -json, -since and -read")
				}
				if f.over != "" && !slices.Contains([]string{site.SSH, site.Telnet, site.Console}, f.over) {
					return call.Usagef("-access is %q; ssh, telnet or console is wanted", f.over)
				}
				if f.saved != "" {
					if _, err := os.ReadDir(f.saved); err != nil {
						return call.Usagef("-saved wants the folder of what devices have saved: %w",
							files.Unreadable(f.saved, err))
					}
				}
				if f.read.Text != "" {
					return compareText(c, f)
				}
				return compareDevices(c, f)
			}
		},
	}
}

type compareFlags struct {
	*managing
	read            *texts.Reading
	all, adopt, csv bool
	since           string
	over            string // the way in at whose command line devices are read
	saved           string // the folder of what devices have saved
	site            call.Loaded
	atOnce          int
}

// savedOf returns the file in which a device has saved itself, "" for none.
func (f *compareFlags) savedOf(d *site.Device) string {
	if f.saved == "" {
		return ""
	}
	for _, name := range []string{d.Name + ".txt", d.Name + ".conf", d.Name} {
		if path := filepath.Join(f.saved, name); isFile(path) {
			return path
		}
	}
	return ""
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

func compareDevices(c *call.Call, f *compareFlags) error {
	devices, l, err := devicesOfSite(c, f.managing, f.all)
	if err != nil {
		return err
	}
	switch {
	case f.address != "" && len(devices) > 1:
		return call.Usagef("-address is that of one device, and %d are named", len(devices))
	case f.atOnce < 1 || f.atOnce > mostAtOnce:
		return call.Usagef("-at-once is from 1 to %d", mostAtOnce)
	}
	truth, err := c.LoadFrom(l.Path, true)
	if err != nil {
		return err
	}
	f.site = l
	targets, err := compareTargets(c, f, devices)
	if err != nil {
		return err
	}
	sites := compare.Sites{Design: l.Opened, Found: truth.Opened}
	done := c.Working("reading " + show.Count(len(devices), "device"))
	some, err := compare.All(c.Context, sites, targets, f.atOnce)
	done()
	if err != nil {
		return err
	}
	if f.adopt {
		if err := compare.Adopt(sites, some, reload(c, truth.Path)); err != nil {
			return call.TaskError(err)
		}
	}
	return tellCompared(c, f, some)
}

// compareText compares what a device has saved of itself, in place of the device.
func compareText(c *call.Call, f *compareFlags) error {
	if f.all {
		return call.Usagef("-read is of one device, and -all is of every one")
	}
	devices, l, err := devicesOfSite(c, f.managing, len(c.Args) < 2)
	if err != nil {
		return err
	}
	device := ""
	if len(devices) == 1 {
		device = devices[0].Name
	} else if len(c.Args) > 1 || f.read.Book == "" {
		return call.Usagef("-read is of one device: name it, as DEVICE")
	}
	book, s, err := texts.ReadSaved(c, f.read, l, device)
	if err != nil {
		return err
	}
	name := inventory.Of(s).Name
	d, err := l.DeviceNamed(name)
	if err != nil {
		return err
	}
	truth, err := c.LoadFrom(l.Path, true)
	if err != nil {
		return err
	}
	sites := compare.Sites{Design: l.Opened, Found: truth.Opened}
	some := []compare.Compared{compare.Judge(sites, d, compare.Text{File: s.File, Text: s.Text, Book: book})}
	if f.adopt {
		if err := compare.Adopt(sites, some, reload(c, truth.Path)); err != nil {
			return call.TaskError(err)
		}
	}
	return tellCompared(c, f, some)
}

// reload returns a function that reads a site again.
func reload(c *call.Call, path string) func() (sitefile.Opened, error) {
	return func() (sitefile.Opened, error) {
		l, err := c.LoadFrom(path, true)
		return l.Opened, err
	}
}

// tellCompared keeps the look, where one is kept, and says what was found.
func tellCompared(c *call.Call, f *compareFlags, some []compare.Compared) error {
	if f.since != "" {
		look, err := compare.ReadLook(f.since)
		if err != nil {
			return call.UsageError(err)
		}
		look.Add(some, time.Now().UTC())
		if err := look.Write(f.since); err != nil {
			return call.TaskError(err)
		}
	}
	drifted := 0
	unread := 0
	inPart := false
	for _, r := range some {
		inPart = inPart || r.InPart
		if !r.Read {
			unread++
		} else if r.Changed() || f.since == "" && r.Drifted() {
			drifted++
		}
	}
	var err error
	switch {
	case f.csv:
		err = check.ComparedCSV(c.Out, some)
	case *c.AsJSON:
		err = show.JSON(c.Out, struct {
			Devices []compare.Compared `json:"devices"`
			Drifted int                `json:"drifted"`
			Unread  int                `json:"unread"`
		}{some, drifted, unread})
	default:
		printCompared(c, some)
	}
	switch {
	case err != nil:
		return err
	case unread > 0:
		return call.ErrCannot
	case drifted > 0 || inPart: // what was not read may differ
		return call.ErrVerdict
	}
	return nil
}

// compareTargets finds out how each device is reached: what is asked for is asked
// for before anything is read.
func compareTargets(c *call.Call, f *compareFlags, devices []*site.Device) ([]compare.Target, error) {
	targets := make([]compare.Target, len(devices))
	for i, d := range devices {
		targets[i] = compare.Target{Device: d}
		if file := f.savedOf(d); file != "" {
			book, err := f.read.BookOf(f.site, d.Name)
			if err != nil {
				return nil, err
			}
			targets[i].Lines = func(context.Context) (compare.Text, error) {
				text, err := textread.Read(book, file, nil)
				return compare.Text{File: file, Text: text, Book: book}, err
			}
			continue
		}
		if access := f.commandLine(c, d, f.over); access != "" {
			var err error
			if targets[i].Lines, err = linesShown(c, f.managing, f.read, f.site, d, access); err != nil {
				return nil, err
			}
			continue
		}
		t, err := f.targetOf(c, d)
		var usage call.ExitError
		if errors.As(err, &usage) && usage.Status == call.ExitUsage {
			return nil, err
		}
		targets[i].Reach = t
		if err != nil {
			targets[i].Problem = err.Error()
		}
	}
	return targets, nil
}

func printCompared(c *call.Call, comparisons []compare.Compared) {
	style := c.Style()
	var rows [][]string
	for _, r := range comparisons {
		tone, word := verdict(r)
		rows = append(rows, []string{r.Device, style.Paint(tone, word), sinceText(r)})
		if r.Problem != "" {
			c.Say("%s: %s\n", style.Paint(tone, r.Device), show.Safe(r.Problem))
			continue
		}
		c.Say("%s: %s (%s)\n", style.Paint(tone, r.Device), word, r.Models)
		for _, d := range r.Differences {
			mark := ""
			if d.Known {
				mark = "; known"
			}
			at := d.Place
			if d.At != "" {
				at = strings.TrimPrefix(at+"; "+d.At, "; ")
			}
			style.Item(c.Out, "  - ", show.Safe(fmt.Sprintf("%s (%s%s)", d, at, mark)))
		}
		for _, text := range r.Unshown {
			style.Item(c.Out, "  not shown: ", show.Safe(text))
		}
		for _, text := range r.Notes {
			style.Item(c.Out, "  note:      ", show.Safe(text))
		}
		if r.Since != nil {
			for _, text := range r.Since.New {
				style.Item(c.Out, "  new:       ", show.Safe(text))
			}
			for _, text := range r.Since.Gone {
				style.Item(c.Out, "  gone:      ", show.Safe(text))
			}
		}
		if r.Adopted != "" {
			style.Item(c.Out, "  adopted:   ", show.Safe("found: "+r.Adopted))
		}
	}
	if len(comparisons) > 1 {
		c.Say("\n")
		header := []string{"device", "found", "since the last look"}
		if !slices.ContainsFunc(comparisons, func(r compare.Compared) bool { return r.Since != nil }) {
			header = header[:2]
			for i := range rows {
				rows[i] = rows[i][:2]
			}
		}
		style.Table(c.Out, header, rows, 1)
	}
}

// sinceText says what has changed since the last look, in few words.
func sinceText(r compare.Compared) string {
	switch s := r.Since; {
	case s == nil:
		return ""
	case s.Last.IsZero():
		return "first look"
	case len(s.New)+len(s.Gone) == 0:
		return "the same since " + s.Last.Local().Format("2006-01-02 15:04")
	default:
		return fmt.Sprintf("%d new, %d gone since %s", len(s.New), len(s.Gone),
			s.Last.Local().Format("2006-01-02 15:04"))
	}
}

// verdict says in few words what was found.
func verdict(r compare.Compared) (show.Tone, string) {
	known := 0
	for _, d := range r.Differences {
		if d.Known {
			known++
		}
	}
	tone, word := show.Good, "as the site has it"
	switch n := len(r.Differences); {
	case r.Problem != "":
		return show.Bad, "not read"
	case n > 0 && known == n:
		tone, word = show.Careful, show.Count(n, "difference")+", known to the site"
	case n > 0 && known > 0:
		tone, word = show.Bad, fmt.Sprintf("%s, %d known to the site", show.Count(n, "difference"), known)
	case n > 0:
		tone, word = show.Bad, show.Count(n, "difference")
	}
	switch {
	case r.InPart && len(r.Differences) == 0:
		tone, word = show.Careful, "nothing differs in what was read, and not all was"
	case r.InPart:
		word += "; not all was read"
	}
	if len(r.Unshown) > 0 {
		word += fmt.Sprintf("; %s not shown by the device", show.Count(len(r.Unshown), "secret"))
	}
	return tone, word
}
