package cli

import (
	"errors"
	"fmt"
	"slices"
	"sync"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/store/sitefile"
)

func compareCommand() *Command {
	return &Command{
		Name: "compare", Args: "DEVICE... [SITE]", Short: "what is on a device against the site, in the site's words",
		MaxArgs: manyDevices,
		Long: `Reads the configuration of devices over NETCONF (RFC 6241, over SSH) and says what is not as
the site has it: servers, ports, keys, order, lists, accounts. Keys are compared and never shown: only how they
differ. Each difference has the place in the site.

It reads the models that the device announces: ietf-system with ietf-system-tacacs-plus, and OpenConfig's
system. What these cannot carry is not compared. A key that the device does not show is named, and is no
difference. Nothing is changed on the device. Host keys are checked; -accept-host-key takes one the first time.

-adopt writes what is found into the site, as found of each device, so that check and foresee take it for true
until send puts the design there. A key that the site does not have goes to a file of its own,
keys/held-DEVICE-SERVER.key. What found says already is shown as known, and is no drift. What found has no word
for stays a difference.

Exit status 1 when something differs that the site does not know of, 3 when a device could not be read.`,
		Examples: []Example{
			{Call: "mellowgate compare -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh north-sw-1 " +
				"demo/as-reviewed", Shows: "a device of the lab that runs here"},
			{Call: "mellowgate compare -person ines.marsh -agent -all my-site",
				Shows: "every device that has a way in by netconf"},
			{Call: "mellowgate compare -person ines.marsh -agent -adopt switch-1 my-site",
				Shows: "take what is on it for true, until send"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			f := &compareFlags{managing: c.managingFlags()}
			c.Flags.BoolVar(&f.all, "all", false, "every device that has a way in by netconf")
			c.Flags.BoolVar(&f.adopt, "adopt", false, "write what is found into the site, as found")
			c.Flags.IntVar(&f.atOnce, "at-once", 8, "how many devices, `N`, are read at the same time, up to 50")
			return func() error { return c.compareDevices(f) }
		},
	}
}

type compareFlags struct {
	*managing
	all, adopt bool
	atOnce     int
}

// manyDevices bounds the devices that a call names.
const manyDevices = 1000

// compared is a device against the site.
type compared struct {
	Device      string       `json:"device"`
	Read        bool         `json:"read"`
	Models      string       `json:"models"`
	Problem     string       `json:"problem"`
	Differences []difference `json:"differences"`
	Unshown     []string     `json:"unshown"` // secrets that the device does not show
	Notes       []string     `json:"notes"`
	Adopted     string       `json:"adopted"` // what was written into the site as found

	held device.Held
}

// difference is one, and whether found says it in the site.
type difference struct {
	drift.Difference
	Known bool `json:"known"`
}

// drifted reports whether something differs that the site does not know of.
func (r compared) drifted() bool {
	return slices.ContainsFunc(r.Differences, func(d difference) bool { return !d.Known })
}

func (c *Call) compareDevices(f *compareFlags) error {
	devices, l, err := c.devicesOfSite(f.managing, f.all)
	if err != nil {
		return err
	}
	switch {
	case f.address != "" && len(devices) > 1:
		return wrong("-address is that of one device, and %d are named", len(devices))
	case f.atOnce < 1 || f.atOnce > mostTogether:
		return wrong("-at-once is from 1 to %d", mostTogether)
	}
	truth, err := c.loadFrom(l.Path, true)
	if err != nil {
		return err
	}
	some, err := c.compareAll(f, l, truth, devices)
	if err != nil {
		return err
	}
	if f.adopt {
		if some, _, err = c.adopt(l, truth, some); err != nil {
			return err
		}
	}
	drifted, unread := 0, 0
	for _, r := range some {
		if !r.Read {
			unread++
		} else if r.drifted() {
			drifted++
		}
	}
	if *c.json {
		err = show.JSON(c.Out, struct {
			Devices []compared `json:"devices"`
			Drifted int        `json:"drifted"`
			Unread  int        `json:"unread"`
		}{some, drifted, unread})
	} else {
		c.printCompared(some)
	}
	switch {
	case err != nil:
		return err
	case unread > 0:
		return failure{status: ExitCannot, err: errors.New("")}
	case drifted > 0:
		return errNo
	}
	return nil
}

// compareAll reads devices, several at a time, and returns them in their order.
func (c *Call) compareAll(f *compareFlags, l, truth loaded, devices []*site.Device) ([]compared, error) {
	some := make([]compared, len(devices))
	targets := make([]device.Target, len(devices))
	for i, d := range devices { // what is asked for is asked for before anything is read
		some[i] = compared{Device: d.Name, Differences: []difference{}, Unshown: []string{}, Notes: []string{}}
		t, err := f.targetOf(c, d)
		var usage failure
		if errors.As(err, &usage) && usage.status == ExitUsage {
			return nil, err
		}
		if targets[i] = t; err != nil {
			some[i].Problem = err.Error()
		}
	}
	defer c.working("reading " + show.Count(len(devices), "device"))()
	room := make(chan struct{}, f.atOnce)
	var all sync.WaitGroup
	for i, d := range devices {
		if some[i].Problem != "" {
			continue
		}
		room <- struct{}{}
		all.Go(func() {
			defer func() { <-room }()
			if err := c.compareOne(targets[i], l, truth, d, &some[i]); err != nil {
				some[i].Problem = err.Error()
			}
		})
	}
	all.Wait()
	return some, c.Context.Err()
}

// compareOne reads one device.
func (c *Call) compareOne(t device.Target, l, truth loaded, d *site.Device, r *compared) error {
	s, err := device.Open(c.Context, t)
	if err != nil {
		return err
	}
	defer s.End()
	if r.held, err = s.Read("running"); err != nil {
		return err
	}
	r.Read, r.Models = true, r.held.Models.String()
	r.judge(l, truth, d)
	return nil
}

// judge compares what was read with the design, and with what the site knows.
func (r *compared) judge(l, truth loaded, d *site.Device) {
	r.Differences, r.Unshown, r.Notes = []difference{}, []string{}, []string{}
	found := device.Differences(l.Site, d, l.Keys, r.held)
	now := truth.Device(d.Name)
	unknown, stale := device.Unknown(truth.Site, now, truth.Keys, r.held, found)
	r.Notes = append(r.Notes, r.held.Models.Notes...)
	if stale {
		r.Notes = append(r.Notes,
			fmt.Sprintf("found (%s) in the site says what is not so any more: take that out", truth.Where(now.Found.Place)))
	}
	for _, x := range found {
		if x.Kind == drift.Unread {
			r.Unshown = append(r.Unshown, x.String())
			continue
		}
		r.Differences = append(r.Differences, difference{Difference: x, Known: !slices.Contains(unknown, x)})
	}
}

// adopt writes what was found into the site, and judges it again.
func (c *Call) adopt(l, truth loaded, some []compared) ([]compared, loaded, error) {
	var err error
	for i := range some {
		r := &some[i]
		if !r.Read || !r.drifted() {
			continue
		}
		d := truth.Device(r.Device)
		fresh := map[string]site.Secret{}
		found := make([]drift.Difference, len(r.Differences))
		for j, x := range r.Differences {
			found[j] = x.Difference
		}
		h := drift.Adopt(l.Site, l.Device(r.Device), found, r.held.Facts, func(server string, value site.Secret) string {
			for name, have := range truth.Keys {
				if have.Equal(value) {
					return name
				}
			}
			name := "held-" + r.Device + "-" + server
			fresh[name] = value
			return name
		})
		if h.Empty() {
			r.Notes = append(r.Notes, "nothing was adopted: found has no word for these differences; send puts the design there")
			continue
		}
		if err := sitefile.WriteFound(truth.Site, truth.Path, truth.Base, d, h, fresh); err != nil {
			return some, truth, cannot(err)
		}
		r.Adopted = h.YAML()
		if truth, err = c.loadFrom(truth.Path, true); err != nil { // places have moved
			return some, truth, err
		}
		if r.judge(l, truth, l.Device(r.Device)); r.drifted() {
			r.Notes = append(r.Notes, "found has no word for what is not marked as known; send puts the design there")
		}
	}
	return some, truth, nil
}

func (c *Call) printCompared(all []compared) {
	style := c.style()
	var rows [][]string
	for _, r := range all {
		tone, word := r.verdict()
		rows = append(rows, []string{r.Device, style.Paint(tone, word)})
		if r.Problem != "" {
			c.say("%s: %s\n", style.Paint(tone, r.Device), show.Safe(r.Problem))
			continue
		}
		c.say("%s: %s (%s)\n", style.Paint(tone, r.Device), word, r.Models)
		for _, d := range r.Differences {
			mark := ""
			if d.Known {
				mark = "; known"
			}
			style.Item(c.Out, "  - ", show.Safe(fmt.Sprintf("%s (%s%s)", d, d.Place, mark)))
		}
		for _, text := range r.Unshown {
			style.Item(c.Out, "  not shown: ", show.Safe(text))
		}
		for _, text := range r.Notes {
			style.Item(c.Out, "  note:      ", show.Safe(text))
		}
		if r.Adopted != "" {
			style.Item(c.Out, "  adopted:   ", show.Safe("found: "+r.Adopted))
		}
	}
	if len(all) > 1 {
		c.say("\n")
		style.Table(c.Out, []string{"device", "found"}, rows, 1)
	}
}

// verdict says in few words what was found.
func (r compared) verdict() (show.Tone, string) {
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
	if len(r.Unshown) > 0 {
		word += fmt.Sprintf("; %s not shown by the device", show.Count(len(r.Unshown), "secret"))
	}
	return tone, word
}
