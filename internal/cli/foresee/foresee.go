// Package foresee has the command foresee, and its tables.
package foresee

import (
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/check"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
)

func Command() *call.Command {
	return &call.Command{
		Computes: true,
		Name:     "foresee", Args: "[SITE]", Short: "who gets in, at what level, by whom and after how long, in " +
			"every outage",
		Long: `Works out every login of every person, local account, unknown name and wrong password, at
every way in of every device, for every combination of servers up and silent that makes a difference. With
-faults also for servers whose port refuses, whose key differs, that do not know the device, that say that they
cannot answer, or that answer logins and keep no records.

Outcomes: in; low (in, below the level that the role promises); refused; open (in without valid credentials). In
the table, devices, ways in and people for whom a login goes the same share a row; "then" is a second login
while servers already rest. -json prints a line of JSON for each group of devices that are alike, with every
login and its steps.

-matrix shows devices by outage: whether full rights are reached by people, by a local account only, on the
console only, or by nobody.

-load shows how much each server is asked: on a usual day, in its busiest minute and in the minute after an
outage, with the records and the disk of a year. How often people log in is said by rates in the site file.

-read TEXT works on what a device has saved of itself, by the phrasebook of its make: alone, or with people, servers
and behaviour of SITE in the place of the device there. "What will this configuration do?"

Behaviour of a platform that the site does not say is not known. Where a login comes out otherwise with another
value of one, it "depends" on it, and that is said below the table; learn finds it out. -assume takes what the
open standards give, or the safe side.

-compare BEFORE shows what changes for whom from the site BEFORE to this one. Exit status 1 when anyone with
full rights loses a way in, in any state.`,
		Examples: []call.Example{
			{Call: "mellowgate foresee -device mv-avocet-rtr demo/as-reviewed",
				Shows: "one ship's router, in every outage"},
			{Call: "mellowgate foresee -matrix demo/as-drafted",
				Shows: "where full rights are left, by device and outage"},
			{Call: "mellowgate foresee -compare demo/as-drafted demo/as-reviewed",
				Shows: "what the review changes, and for whom"},
			{Call: "mellowgate foresee -read demo/saved/south-sw-1.txt -book demo/phrasebooks/quay-switch.yaml",
				Shows: "what a text that somebody hands you will do"},
			{Call: "mellowgate foresee -load demo/as-reviewed", Shows: "what the servers will have to do"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			var f Narrowing
			c.Flags.StringVar(&f.Device, "device", "", "only this `device`")
			c.Flags.Var(&f.Labels, "label", "only devices with this `LABEL=VALUE`; may be given several times")
			c.Flags.StringVar(&f.Person, "person", "", "only this `name`: a person, a local account, unknown or anyone")
			c.Flags.StringVar(&f.Access, "access", "", "only this `access`: console, ssh, telnet, web, api or netconf")
			c.Flags.StringVar(&f.silent, "silent", "",
				"only the outage in which these `servers` are silent and all others up: tern,plover; none: all up")
			from := c.Flags.String("from", "",
				"people come from this `address`; by default what grants ask of it is taken as met")
			at := c.Flags.String("at", "", "logins happen at this `time`, such as 03:00 or 2026-11-23T03:00; by "+
				"default what grants ask of hours is taken as met")
			faults := c.Flags.Bool("faults", false, "every state of a server, not only up and silent")
			matrix := c.Flags.Bool("matrix", false, "devices by outage")
			table := c.Flags.Bool("csv", false, "print comma-separated values, with a line of names first")
			loads := c.Flags.Bool("load", false, "how much each server is asked, and what its records take")
			assume := check.AssumeFlag(c)
			before := c.Flags.String("compare", "", "what changes from the `site` given here to this one")
			read := texts.ReadingFlags(c)
			return func() error {
				l, device, err := texts.LoadReading(c, read, f.Device)
				if err != nil {
					return err
				}
				if device != nil {
					f.Device = device.Name
				}
				r := l.Reckoner()
				r.Faults, r.Assume = *faults, *assume
				if err := f.met(&r, *from, *at); err != nil {
					return err
				}
				switch {
				case *table && (*c.AsJSON || *matrix || *loads || *before != ""):
					return call.Usagef("-csv is for the table of logins: leave out -json, -matrix, -load and -compare")
				case *loads && (*matrix || *faults || *before != "" || f.Person != "" || f.Access != "" ||
					f.silent != ""):
					return call.Usagef("-load counts what everybody asks in one day; narrow it with -device or " +
						"-label only")
				case *loads:
					return servers(c, l, r, f)
				case *before != "" && (*matrix || *faults):
					return call.Usagef("give one of -compare, -matrix and -faults")
				case *before != "":
					return printCompare(c, *before, l, f)
				case *matrix && (*faults || f.Person != "" || f.Access != "" || f.silent != ""):
					return call.Usagef("-matrix shows every person, way in and outage; narrow it with -device or " +
						"-label only")
				case *faults && f.silent != "":
					return call.Usagef("-silent chooses one outage of servers up and silent, and -faults shows " +
						"other states too; give one of them")
				}
				shapes, err := f.Shapes(l, r)
				if err != nil {
					return err
				}
				if *c.AsJSON && !*matrix {
					return printLines(c.Out, shapes)
				}
				done := c.Working(fmt.Sprintf("working out the logins of %s", show.Count(len(l.Devices), "device")))
				all := slices.Collect(shapes)
				done()
				switch {
				case *table:
					return check.CasesCSV(c.Out, all)
				case *matrix && *c.AsJSON:
					return show.JSON(c.Out, matrixJSON(all))
				case *matrix:
					printMatrix(c.Out, c.Style(), all)
				default:
					PrintCases(c.Out, c.Style(), all)
				}
				if !*c.AsJSON {
					texts.TellInPart(c, read)
				}
				return nil
			}
		},
	}
}

// Narrowing chooses some of the cases.
type Narrowing struct {
	Device, Person, Access, silent string
	Labels                         call.Names
}

// met sets from where people come and when they log in, where that is said.
func (f Narrowing) met(r *foresee.Forecaster, from, at string) (err error) {
	if from != "" {
		if r.From, err = netip.ParseAddr(from); err != nil {
			return call.Usagef("-from is %q; an address is wanted, such as 192.0.2.7", from)
		}
	}
	if at != "" {
		r.At, err = call.Moment(at, r.Now)
	}
	return err
}

// Devices returns the devices that are chosen.
func (f Narrowing) Devices(l call.Loaded) ([]*site.Device, error) {
	devices := l.Devices
	if f.Device != "" {
		d, err := l.DeviceNamed(f.Device)
		if err != nil {
			return nil, err
		}
		devices = []*site.Device{d}
	}
	for _, label := range f.Labels {
		name, value, ok := strings.Cut(label, "=")
		if !ok {
			return nil, call.Usagef("-label is %q; LABEL=VALUE is wanted, such as place=aboard", label)
		}
		devices = slices.DeleteFunc(slices.Clone(devices), func(d *site.Device) bool { return d.Labels[name] != value })
	}
	if len(devices) == 0 && len(f.Labels) > 0 {
		return nil, call.Usagef("no device of the site bears %s", strings.Join(f.Labels, " and "))
	}
	return devices, nil
}

// Shapes returns the logins that are chosen, device by device as far as they differ.
// They are worked out one after another, as they are taken.
func (f Narrowing) Shapes(l call.Loaded, r foresee.Forecaster) (iter.Seq[foresee.Shape], error) {
	devices, err := f.Devices(l)
	if err != nil {
		return nil, err
	}
	if f.Access != "" && !slices.Contains(site.Accesses(), f.Access) {
		return nil, call.Usagef("there is no way in %q%s\nthe ways in are %s", f.Access,
			nearest.Suggest(f.Access, site.Accesses()),
			strings.Join(site.Accesses(), ", "))
	}
	var silent map[*site.Server]bool
	if f.silent != "" {
		if silent, err = l.ServersNamed(strings.TrimPrefix(f.silent, "none")); err != nil {
			return nil, err
		}
	}
	if f.Person != "" && !slices.ContainsFunc(devices, func(d *site.Device) bool {
		return slices.ContainsFunc(r.Whos(d), func(w foresee.Who) bool { return w.Called(f.Person) })
	}) {
		return nil, call.Usagef("nobody is called %q: no person, and no local account of these devices%s", f.Person,
			nearest.Suggest(f.Person, call.EveryName(l.Site)))
	}
	return func(yield func(foresee.Shape) bool) {
		for sh := range r.Each(devices) {
			sh.Cases = slices.DeleteFunc(f.of(sh.Cases), func(c foresee.Case) bool {
				return f.Access != "" && c.Way.Access != f.Access || silent != nil && !c.Holds(silent)
			})
			if !yield(r.Depending(sh)) {
				return
			}
		}
	}, nil
}

// of returns the cases of the person who is chosen, of everybody where none is.
func (f Narrowing) of(cases []foresee.Case) []foresee.Case {
	if f.Person == "" {
		return cases
	}
	var of []foresee.Case
	for _, c := range cases {
		for _, who := range c.SameOutcome {
			if who.Called(f.Person) {
				c.Who, c.SameOutcome = who, []foresee.Who{who}
				of = append(of, c)
			}
		}
	}
	return of
}

type conditionJSON struct {
	Server string `json:"server"`
	State  string `json:"state"`
}

// dependJSON is what a login comes to with a value of an aspect that is not known.
type dependJSON struct {
	Aspect  string          `json:"trait"`
	Value   string          `json:"value"`
	When    []conditionJSON `json:"when"` // beyond that of the case
	Outcome string          `json:"outcome"`
	Level   int             `json:"level"`
	Raised  int             `json:"raised_level"`
	By      string          `json:"by"`
	Reason  string          `json:"reason"`
	Stuck   bool            `json:"stuck"`
	Again   *againJSON      `json:"again"`
}

type againJSON struct {
	Outcome     string  `json:"outcome"`
	Level       int     `json:"level"`
	By          string  `json:"by"`
	Reason      string  `json:"reason"`
	WaitSeconds float64 `json:"wait_seconds"`
}

// caseJSON is a login, of everybody for whom it goes the same.
type caseJSON struct {
	Access      string               `json:"access"`
	People      []string             `json:"people"`
	When        []conditionJSON      `json:"when"`
	Outcome     string               `json:"outcome"`
	Level       int                  `json:"level"`
	By          string               `json:"by"`
	Reason      string               `json:"reason"`
	Stuck       bool                 `json:"stuck"`
	WaitSeconds float64              `json:"wait_seconds"`
	Raised      int                  `json:"raised_level"`
	Again       *againJSON           `json:"again"`
	Rules       []string             `json:"rules"`
	Depends     []dependJSON         `json:"depends"`
	Steps       []evidence.TraceStep `json:"steps"`
}

// printLines prints a line of JSON for each group of devices that are alike, as it
// is worked out: of however many devices, no more than one group is in memory.
func printLines(w io.Writer, shapes iter.Seq[foresee.Shape]) error {
	lines := json.NewEncoder(w)
	lines.SetEscapeHTML(false)
	for sh := range shapes {
		line := struct {
			Devices []string   `json:"devices"`
			Cases   []caseJSON `json:"cases"`
		}{Devices: []string{}, Cases: []caseJSON{}}
		for _, d := range sh.Devices {
			line.Devices = append(line.Devices, d.Name)
		}
		for _, c := range sh.Cases {
			line.Cases = append(line.Cases, caseOf(c))
		}
		if err := lines.Encode(line); err != nil {
			return call.TaskError(err)
		}
	}
	return nil
}

func caseOf(c foresee.Case) caseJSON {
	j := caseJSON{Access: c.Way.Name(), People: []string{}, When: conditionsOf(c.When), Outcome: string(c.Outcome),
		Level: c.Level, By: c.By, Reason: string(c.Reason), Stuck: c.Stuck, WaitSeconds: call.SecondsOf(c.Wait),
		Raised: c.Raised,
		Rules:  []string{}, Depends: []dependJSON{}, Again: againOf(c.Again), Steps: []evidence.TraceStep{}}
	for _, d := range c.Depends {
		o := d.Case
		j.Depends = append(j.Depends, dependJSON{Aspect: d.Aspect.String(), Value: d.Value, When: conditionsOf(d.When),
			Outcome: string(o.Outcome), Level: o.Level, Raised: o.Raised, By: o.By, Reason: string(o.Reason),
			Stuck: o.Stuck,
			Again: againOf(o.Again)})
	}
	for _, r := range c.Rules {
		j.Rules = append(j.Rules, r.Text)
	}
	for _, who := range c.SameOutcome {
		j.People = append(j.People, who.Name)
	}
	for _, s := range c.Steps {
		j.Steps = append(j.Steps, evidence.StepOf(s))
	}
	return j
}

func againOf(a *foresee.Again) *againJSON {
	if a == nil {
		return nil
	}
	return &againJSON{Outcome: string(a.Outcome), Level: a.Level, By: a.By, Reason: string(a.Reason),
		WaitSeconds: call.SecondsOf(a.Wait)}
}

func conditionsOf(when []foresee.Condition) []conditionJSON {
	conditions := make([]conditionJSON, len(when))
	for i, w := range when {
		conditions[i] = conditionJSON{Server: w.Server.Name, State: string(w.State)}
	}
	return conditions
}
