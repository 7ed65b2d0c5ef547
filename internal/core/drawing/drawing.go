// Package drawing lays out a site as a picture: devices with their ways in, the
// groups that their lists name, and the servers, with lines between them.
// Lengths are in the units of the picture, whose left upper corner is 0, 0.
package drawing

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// Drawing is a picture of a site.
type Drawing struct {
	Width, Height int
	Boxes         []Box
	Lines         []Line
	Columns       []Label // the headings
}

// Box is one thing of the picture.
type Box struct {
	X, Y, Width, Height int
	Kind                string // device, group, server or directory
	Title               string
	Lines               []string // what stands below the title
	Tone                string   // good, careful, bad: how devices stand in their worst outage; "" for the rest
}

// Right is the right edge.
func (b Box) Right() int { return b.X + b.Width }

// Label is a text at a place.
type Label struct {
	X, Y int
	Text string
}

// Line leads from the right side of a box to the left side of another. Text
// stands at its end: the order in which servers are asked.
type Line struct {
	FromX, FromY, ToX, ToY int
	Text                   string
}

// Path returns the line as the path of an SVG: a curve that leaves and arrives
// level.
func (l Line) Path() string {
	middle := (l.FromX + l.ToX) / 2
	return fmt.Sprintf("M%d %d C%d %d %d %d %d %d", l.FromX, l.FromY, middle, l.FromY, middle, l.ToY, l.ToX, l.ToY)
}

// Sizes of the picture.
const (
	width      = 1000
	top        = 34 // below the headings
	gap        = 14
	titleLine  = 22
	textLine   = 17
	padding    = 10
	mostNames  = 3
	mostShapes = 24 // of kinds of equal devices; the rest is one box
)

// columns are where the boxes stand, and how wide they are.
var columns = [3]struct{ x, width int }{{0, 390}, {500, 170}, {770, 230}}

// Of draws a site, whose devices are given by shape: equal ones are one box.
func Of(s *site.Site, shapes []foresee.Shape) Drawing {
	d := Drawing{Width: width, Columns: []Label{{X: columns[0].x, Y: 16, Text: "devices and their ways in"},
		{X: columns[1].x, Y: 16, Text: "groups"}, {X: columns[2].x, Y: 16, Text: "servers"}}}
	var bottoms [3]int
	for i := range bottoms {
		bottoms[i] = top
	}
	put := func(column int, kind, title, tone string, lines ...string) int {
		lines = slices.DeleteFunc(lines, func(l string) bool { return l == "" })
		c := columns[column]
		b := Box{X: c.x, Y: bottoms[column], Width: c.width, Height: titleLine + textLine*len(lines) + padding,
			Kind:  kind,
			Title: title, Lines: lines, Tone: tone}
		bottoms[column] += b.Height + gap
		d.Boxes = append(d.Boxes, b)
		return len(d.Boxes) - 1
	}
	shown := shapes[:min(len(shapes), mostShapes)]
	devices := make([]int, len(shown))
	for i, sh := range shown {
		devices[i] = put(0, "device", titleOf(sh), toneOf(sh), waysOf(sh.Devices[0]), backOf(sh.Devices[0]))
	}
	if more := len(shapes) - len(shown); more > 0 {
		put(0, "device", fmt.Sprintf("%d more platforms", more), "")
	}
	groups, servers := map[*site.Group]int{}, map[*site.Server]int{}
	for _, g := range s.Groups {
		groups[g] = put(1, "group", g.Name, "", g.Protocol().Title())
	}
	for _, v := range s.Servers {
		kind, more := "server", ""
		if v.Protocol == site.LDAP {
			kind = "directory"
		}
		if slices.Contains(s.Directories, v) {
			more = "asked by the servers"
		}
		servers[v] = put(2, kind, v.Name, "", spoken(v)+" at "+v.Address, more)
	}
	d.Height = max(bottoms[0], bottoms[1], bottoms[2])
	d.center(1, bottoms[1])
	d.center(2, bottoms[2])
	for i, sh := range shown {
		for _, g := range groupsOf(sh.Devices[0]) {
			d.join(devices[i], groups[g], "")
		}
	}
	for _, g := range s.Groups {
		for n, v := range g.Servers {
			d.join(groups[g], servers[v], fmt.Sprint(n+1))
		}
	}
	return d
}

// center moves the boxes of a column to the middle of the picture.
func (d *Drawing) center(column, bottom int) {
	down := (d.Height - bottom) / 2
	for i := range d.Boxes {
		if d.Boxes[i].X == columns[column].x {
			d.Boxes[i].Y += down
		}
	}
}

func (d *Drawing) join(from, to int, text string) {
	a, b := d.Boxes[from], d.Boxes[to]
	d.Lines = append(d.Lines,
		Line{FromX: a.X + a.Width, FromY: a.Y + a.Height/2, ToX: b.X, ToY: b.Y + b.Height/2, Text: text})
}

// titleOf names the devices of a shape.
func titleOf(sh foresee.Shape) string {
	var names []string
	for i, v := range sh.Devices {
		if i == mostNames && len(sh.Devices) > mostNames+1 {
			names = append(names, fmt.Sprintf("%d more", len(sh.Devices)-mostNames))
			break
		}
		names = append(names, v.Name)
	}
	return strings.Join(names, ", ")
}

// toneOf tells how a shape stands in its worst outage.
func toneOf(sh foresee.Shape) string {
	tone := "good"
	for _, o := range foresee.Outages(sh.Servers()) {
		switch sh.Standing(o) {
		case foresee.Nobody, foresee.Ajar:
			return "bad"
		case foresee.ByConsole:
			tone = "careful"
		}
	}
	return tone
}

func waysOf(d *site.Device) string {
	var ways []string
	for _, w := range d.Ways {
		if !slices.Contains(ways, w.Name()) {
			ways = append(ways, w.Name())
		}
	}
	return strings.Join(ways, ", ")
}

// backOf names the way back in.
func backOf(d *site.Device) string {
	var names []string
	for _, a := range d.Accounts {
		names = append(names, a.Name)
	}
	if len(names) == 0 {
		return "no local account"
	}
	return "way back in: " + strings.Join(names, ", ")
}

func spoken(s *site.Server) string {
	name := s.Protocol.Title()
	if s.Secured() {
		name += " over TLS"
	}
	return name
}

// groupsOf returns the groups that a device's lists name, each once.
func groupsOf(d *site.Device) []*site.Group {
	var groups []*site.Group
	for _, w := range d.Ways {
		for _, l := range w.Lists {
			if l == nil {
				continue
			}
			for _, m := range l.Methods {
				if g, ok := m.Group(); ok && !slices.Contains(groups, g) {
					groups = append(groups, g)
				}
			}
		}
	}
	return groups
}
