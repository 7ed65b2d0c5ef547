package cli

import (
	"errors"
	"fmt"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/manage"
)

func compareCommand() *Command {
	return &Command{
		Name: "compare", Args: "DEVICE... [SITE]", Short: "what is on a device against the site, in the site's words", MaxArgs: manyDevices,
		Long: `Reads the configuration of devices over NETCONF (RFC 6241, over SSH) and says what is not as the site has it: servers,
ports, keys, order, lists, accounts. Keys are compared and never shown: only how they differ. Each difference has the place
in the site.

It reads the models that the device announces: ietf-system with ietf-system-tacacs-plus, and OpenConfig's system. What these
cannot carry is not compared. Nothing is changed on the device. Host keys are checked; -accept-host-key takes one the first
time.

Exit status 1 when something differs, 3 when a device could not be read.`,
		Examples: []Example{
			{"mellowgate compare -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh north-sw-1 demo/as-reviewed", "a device of the lab that runs here"},
			{"mellowgate compare -person ines.marsh -agent -all my-site", "every device that has a way in by netconf"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			m := c.managingFlags()
			all := c.Flags.Bool("all", false, "every device that has a way in by netconf")
			return func() error { return c.compareDevices(m, *all) }
		},
	}
}

// manyDevices bounds the devices that a call names.
const manyDevices = 1000

// compared is a device against the site.
type compared struct {
	Device      string             `json:"device"`
	Read        bool               `json:"read"`
	Models      string             `json:"models"`
	Problem     string             `json:"problem"`
	Differences []drift.Difference `json:"differences"`
}

func (c *Call) compareDevices(m *managing, all bool) error {
	devices, l, err := c.devicesOfSite(all)
	if err != nil {
		return err
	}
	if m.address != "" && len(devices) > 1 {
		return wrong("-address is that of one device, and %d are named", len(devices))
	}
	var some []compared
	drifted, unread := 0, 0
	for _, d := range devices {
		r, err := c.compareOne(m, l, d)
		var usage failure
		if errors.As(err, &usage) && usage.status == ExitUsage {
			return err
		}
		if err != nil {
			r.Problem = err.Error()
			unread++
		}
		if len(r.Differences) > 0 {
			drifted++
		}
		some = append(some, r)
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
		return failure{ExitCannot, errors.New("")}
	case drifted > 0:
		return errNo
	}
	return nil
}

// compareOne reads one device.
func (c *Call) compareOne(m *managing, l loaded, d *site.Device) (compared, error) {
	r := compared{Device: d.Name, Differences: []drift.Difference{}}
	t, err := m.targetOf(c, d)
	if err != nil {
		return r, err
	}
	defer c.working("reading " + d.Name)()
	s, err := manage.Open(c.Context, t)
	if err != nil {
		return r, err
	}
	defer s.End()
	held, err := s.Read("running")
	if err != nil {
		return r, err
	}
	r.Read, r.Models = true, held.Models.String()
	if found := manage.Differences(l.Site, d, l.Keys, held); len(found) > 0 {
		r.Differences = found
	}
	return r, nil
}

func (c *Call) printCompared(all []compared) {
	style := c.style()
	for _, r := range all {
		switch {
		case r.Problem != "":
			c.say("%s: %s\n", style.Paint(show.Bad, r.Device), show.Safe(r.Problem))
			continue
		case len(r.Differences) == 0:
			c.say("%s: %s (%s)\n", style.Paint(show.Good, r.Device), "as the site has it", r.Models)
			continue
		}
		c.say("%s: %s (%s)\n", style.Paint(show.Bad, r.Device), show.Count(len(r.Differences), "difference"), r.Models)
		for _, d := range r.Differences {
			style.Item(c.Out, "  - ", show.Safe(fmt.Sprintf("%s (%s)", d, d.Place)))
		}
	}
}
