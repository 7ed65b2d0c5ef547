// Package sheet has the commands that say what to type on a device: sheet and render.
package sheet

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/check"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/sheet"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/sitefile"
)

//go:embed page/sheet.html
var sheetPage string

func Command() *call.Command {
	return &call.Command{
		Computes: true,
		Name:     "sheet", Args: "DEVICE [SITE]",
		Short:   "the change sheet of a device: what to do by hand, in the safe order",
		MaxArgs: 2,
		Long: `Prints what to do on one device, in the order in which nobody is locked out: keep a session
open, set a timed way back, make the local account, then servers, groups and lists; one way in, not the console;
the logins to try from a second session with what each must show; the outage, on purpose; the other ways in;
records; and only then save.

Where the platform of the device names a phrasebook, -read TEXT, what the device holds now, puts the exact lines into
the sheet: those from there to the design and no others, each step with the lines that take it back, and the timed way
back of the make. Each step is tried on a model of the device first: nobody is locked out on the way.

The sheet is Markdown with boxes to tick; with -html a page that prints well, and whose boxes keep their ticks in the
browser. What the logins must show is
foreseen from the site. Exit status 1 when check finds an error for this device: repair that first.`,
		Examples: []call.Example{
			{Call: "mellowgate sheet mv-avocet-rtr demo/as-reviewed", Shows: "the sheet of a ship's router"},
			{Call: "mellowgate sheet -read demo/saved/mv-curlew-rtr.txt mv-curlew-rtr demo/as-reviewed",
				Shows: "the exact lines for one that holds something else"},
			{Call: "mellowgate sheet -html north-sw-1 demo/as-reviewed > sheet.html",
				Shows: "the same for a switch, to print"},
		},
		Prepare: func(c *call.Call) func() error {
			html := c.Flags.Bool("html", false, "an HTML page in place of Markdown")
			withKeys := c.Flags.Bool("with-keys", false,
				"with -read: put the values of keys in the lines, in place of placeholders")
			r := texts.HeldFlags(c)
			return func() error {
				d, l, err := deviceOfSite(c)
				if err != nil {
					return err
				}
				var typed *sheet.Typing
				if r.Text != "" {
					if typed, err = typing(c, r, d, l, *withKeys); err != nil {
						return err
					}
				}
				s := SheetOf(l, d, typed)
				if err := PrintSheet(c.Out, s, *html); err != nil {
					return err
				}
				errors := ErrorsFor(check.Check(c, l, nil, true), d)
				if len(errors) == 0 {
					return nil
				}
				c.Note("check finds %s for %s (%s): repair that before you follow this sheet",
					show.Count(len(errors), "error"),
					d.Name, strings.Join(errors, ", "))
				return call.ErrVerdict
			}
		},
	}
}

// SheetOf is the sheet of a device, with the state of the site that it is made of.
func SheetOf(l call.Loaded, d *site.Device, typed *sheet.Typing) sheet.Sheet {
	s := sheet.Of(l.Reckoner(), d, l.Path, typed)
	if revision := sitefile.Revision(l.Path); revision != "" {
		s.About = append(s.About, sheet.Fact{Name: "revision", Value: revision + " of " + l.Path})
	}
	return s
}

// deviceOfSite reads the arguments DEVICE [SITE].
func deviceOfSite(c *call.Call) (*site.Device, call.Loaded, error) {
	if len(c.Args) == 0 {
		return nil, call.Loaded{},
			call.Usagef("the name of a device is wanted\nusage: %s", "mellowgate "+c.Flags.Name()+" DEVICE [SITE]")
	}
	name := c.Args[0]
	c.Args = c.Args[1:]
	l, err := c.LoadDesign(false)
	if err != nil {
		return nil, l, err
	}
	d, err := l.DeviceNamed(name)
	return d, l, err
}

// ErrorsFor returns the codes of the errors that hold for a device.
func ErrorsFor(r findings.Report, d *site.Device) []string {
	var codes []string
	for _, f := range r.Findings {
		if f.Severity != findings.Error {
			continue
		}
		for _, device := range f.Devices {
			if device == d {
				codes = append(codes, f.Code)
			}
		}
	}
	return codes
}

// writeSheet writes a sheet as Markdown with boxes to tick.
func writeSheet(w io.Writer, s sheet.Sheet) {
	style := show.For(w, true)
	say := func(format string, args ...any) { _, _ = io.WriteString(w, style.Fold(fmt.Sprintf(format, args...))) }
	say("# Change sheet: %s\n\n", s.Device)
	for _, f := range s.About {
		say("- %s: %s\n", f.Name, f.Value)
	}
	say("- date, and who: ____________________\n")
	for i, section := range s.Sections {
		say("\n## %d. %s\n\n%s\n\n", i+1, section.Title, section.Why)
		items := func(all []sheet.Item) {
			for _, item := range all {
				style.Item(w, "- [ ] ", item.Text)
				if item.Command != "" {
					writeCommand(w, style, item.Command)
				}
				writeLines(w, style, "", item.Lines)
				writeLines(w, style, "to take it back:", item.Undo)
			}
		}
		items(section.Items)
		if len(section.Tests) > 0 {
			if len(section.Items) > 0 {
				say("\n")
			}
			for _, t := range section.Tests {
				box := "- [ ] "
				if t.Seen.OK {
					box = "- [x] "
				}
				style.Item(w, box, testLine(t))
			}
			if len(section.Then) > 0 {
				say("\n")
			}
		}
		items(section.Then)
	}
}

// testLine is a login to try, in words.
func testLine(t sheet.Test) string {
	line := fmt.Sprintf("%s, %s, %s password: %s", t.Way, t.Person, t.Password, t.Expect)
	if t.Wait != "" {
		line += ", after " + t.Wait
	}
	if t.NotKnown != "" {
		line += "; " + t.NotKnown
	}
	return line + "; seen: " + seenOf(t)
}

// seenOf is what was seen of a login of a sheet, or room for it.
func seenOf(t sheet.Test) string {
	switch s := t.Seen; {
	case s.Text == "":
		return "____________"
	case s.OK:
		return s.Text + ", " + seenAt(s)
	}
	return "NOT AS EXPECTED: " + t.Seen.Text + ", " + seenAt(t.Seen)
}

func seenAt(s sheet.Seen) string { return s.At.Local().Format("2006-01-02 15:04") }

// PrintSheet writes a sheet, as a page or as Markdown.
func PrintSheet(w io.Writer, s sheet.Sheet, html bool) error {
	if !html {
		writeSheet(w, s)
		return nil
	}
	page, err := call.OnBase("sheet", sheetPage, template.FuncMap{"at": seenAt})
	if err == nil {
		err = page.Execute(w, s)
	}
	if err != nil {
		return call.TaskError(err)
	}
	return nil
}

// writeLines writes lines that are typed on a device, with what stands before them.
func writeLines(w io.Writer, style show.Style, before string, lines []string) {
	const indent = "      "
	if len(lines) == 0 {
		return
	}
	if before != "" {
		_, _ = fmt.Fprintln(w, indent+before)
	}
	fence := style.Width == 0
	if fence {
		_, _ = fmt.Fprintln(w, indent+"```")
	}
	for _, line := range lines {
		_, _ = fmt.Fprintln(w, indent+show.Safe(line))
	}
	if fence {
		_, _ = fmt.Fprintln(w, indent+"```")
	}
}

// typing is what is typed on a device, from what a text says that it holds to its design.
func typing(c *call.Call, r *texts.Reading, d *site.Device, l call.Loaded, withKeys bool) (*sheet.Typing, error) {
	design, err := LinesOf(c, r, d, l)
	if err != nil {
		return nil, err
	}
	plan, err := planFrom(c, r, design)
	if err != nil {
		return nil, err
	}
	t, err := design.Typing(plan, withKeys)
	if err != nil {
		return nil, call.UsageError(err)
	}
	return &t, nil
}

// writeCommand writes what to type: on a terminal to be copied, else as Markdown.
func writeCommand(w io.Writer, style show.Style, command string) {
	const indent = "      "
	if style.Width == 0 {
		_, _ = fmt.Fprintf(w, "%s`%s`\n", indent, command)
		return
	}
	style.Call(w, indent, command)
}
