package cli

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/nearest"
)

func helpCommand() *call.Command {
	return &call.Command{
		Name: "help", Args: "[COMMAND]", Short: "this list, or the manual page of a command",
		Long: "Without a command it lists the commands in the order of the work; with one it prints its manual page.",
		Examples: []call.Example{
			{Call: "mellowgate help", Shows: "the commands"},
			{Call: "mellowgate help check", Shows: "the manual page of check"},
		},
		Prepare: func(c *call.Call) func() error {
			all := c.Flags.Bool("reference", false,
				"every manual page, as Markdown: docs/commands.md is made so; with findings for the command, the "+
					"page of every finding: docs/findings.md")
			folder := c.Flags.String("man", "", "write every manual page into this `folder`, for man(1)")
			return func() error {
				switch {
				case *folder != "":
					if err := mans(*folder); err != nil {
						return call.TaskError(fmt.Errorf(
							"the manual pages cannot be written into %s: %w", *folder, err))
					}
				case *all && len(c.Args) == 0:
					reference(c.Out)
				case *all && c.Args[0] == "findings":
					findingsReference(c.Out)
				case *all:
					return call.Usagef("-reference is for all commands: leave out %q; or for the findings: help "+
						"-reference findings",
						c.Args[0])
				case len(c.Args) == 0:
					overview(c.Out)
				default:
					command := findCommand(c.Args[0])
					if command == nil {
						return call.Usagef("there is no command %q%s\nhelp lists the commands", c.Args[0],
							nearest.Suggest(c.Args[0], commandNames()))
					}
					manual(c.Out, command)
				}
				return nil
			}
		},
	}
}

func overview(w io.Writer) {
	style := helpStyle(w)
	style.Wrap(w, "", "Mellow Gate proves who gets in to your network devices, is their AAA server (RADIUS and "+
		"TACACS+), and names the cause of a failed login. One site file holds the whole design.")
	_, _ = fmt.Fprint(w, "\nusage: mellowgate COMMAND [flags] [SITE]\n\n")
	for _, c := range commands() {
		style.Item(w, fmt.Sprintf("  %-9s ", c.Name), c.Short)
	}
	_, _ = fmt.Fprint(w, "\nStart with: mellowgate demo\nThen:       mellowgate help COMMAND\n")
	style.Wrap(w, "", "SITE is a file or a folder; by default $MELLOWGATE_SITE, else site.yaml, else site/.")
}

const exitStatuses = `  0    as wished
  1    the answer is no
  2    the call or the site file is wrong
  3    it could not be done
  130  ended by Ctrl-C
`

// helpStyle is how help is shown: 80 columns, fewer where a terminal has fewer.
func helpStyle(w io.Writer) show.Style {
	const most = 80
	if s := show.For(w, true); s.Width > 0 && s.Width < most {
		return s
	}
	return show.Style{Width: most}
}

// manual prints the manual page of a command.
func manual(w io.Writer, c *call.Command) {
	style := helpStyle(w)
	style.Wrap(w, "", "mellowgate "+c.Name+": "+c.Short)
	_, _ = fmt.Fprintf(w, "\nusage: %s\n\n", call.Usage(c))
	for paragraph := range strings.SplitSeq(strings.TrimSpace(c.Long), "\n\n") {
		explain(w, style, paragraph)
		_, _ = fmt.Fprintln(w)
	}
	first := true
	call.FlagsOf(c).VisitAll(func(f *flag.Flag) {
		if first {
			_, _ = fmt.Fprintln(w, "flags:")
			first = false
		}
		value, about := flag.UnquoteUsage(f)
		_, _ = fmt.Fprintln(w, strings.TrimRight("  -"+f.Name+" "+value, " "))
		style.Wrap(w, "        ", about+defaultText(f))
	})
	if !first {
		_, _ = fmt.Fprintln(w)
	}
	_, _ = fmt.Fprintln(w, "examples:")
	for _, e := range c.Examples {
		style.Call(w, "  ", e.Call)
		style.Wrap(w, "        ", e.Shows)
	}
	_, _ = fmt.Fprintf(w, "\nexit status:\n%s", exitStatuses)
}

// mark is up to how long a name stands on the line of its text: a number is one.
const mark = 3

// explain prints a paragraph. One whose every line is a name, two blanks or more
// and a text is a list; a line that begins with four blanks goes on with the
// item before it.
func explain(w io.Writer, style show.Style, paragraph string) {
	lines := strings.Split(paragraph, "\n")
	if slices.ContainsFunc(lines, func(l string) bool { return !strings.Contains(l, "  ") }) {
		style.Wrap(w, "", strings.Join(strings.Fields(paragraph), " "))
		return
	}
	for _, l := range joined(lines) {
		name, text, _ := strings.Cut(l, "  ")
		if len(name) <= mark {
			style.Item(w, fmt.Sprintf("  %-*s ", mark, name), strings.TrimSpace(text))
			continue
		}
		_, _ = fmt.Fprintf(w, "  %s\n", name)
		style.Wrap(w, "        ", strings.TrimSpace(text))
	}
}

// joined returns the items of a list, each on one line.
func joined(lines []string) []string {
	var items []string
	for _, l := range lines {
		if rest, more := strings.CutPrefix(l, "    "); more && len(items) > 0 {
			items[len(items)-1] += " " + strings.TrimSpace(rest)
			continue
		}
		items = append(items, l)
	}
	return items
}

func defaultText(f *flag.Flag) string {
	switch f.DefValue {
	case "", "false", "0", "0s":
		return ""
	}
	return " (default " + f.DefValue + ")"
}

// reference prints every manual page as Markdown.
func reference(w io.Writer) {
	_, _ = fmt.Fprintf(w, "# Commands\n\n%sMade from the help texts by `go run ./cmd/mellowgate help -reference > "+
		"docs/commands.md`.\n", toAllPages)
	for _, c := range commands() {
		_, _ = fmt.Fprintf(w, "\n## %s\n\n```\n", c.Name)
		manual(w, c)
		_, _ = fmt.Fprintln(w, "```")
	}
}

// toAllPages leads from a page of the documentation to all of them.
const toAllPages = "*All pages: [README.md](README.md)*\n\n"

// findingsReference writes the page of every finding, as Markdown.
func findingsReference(w io.Writer) {
	say := func(format string, args ...any) {
		_, _ = fmt.Fprintf(w, strings.ReplaceAll(format, "§", "`"), args...)
	}
	say(`# Findings

%sAll that §check§ finds, made by §go run ./cmd/mellowgate help -reference findings > docs/findings.md§.
An **error** locks somebody out or lets somebody in; a **warning** is something that will hurt one day; a **note** is
good to know. §mellowgate check -explain CODE§ prints one of these. Each example is a part of a site file in which
it is found, and the same part repaired.
`, toAllPages)
	for _, p := range findings.Pages() {
		say("\n## %s\n\n%s. %s\n", p.Code, strings.ToUpper(string(p.Severity[:1]))+string(p.Severity[1:]), p.About)
		if p.Good == "" {
			say("\nIt is found with %s.\n", p.Outside)
			continue
		}
		say("\n```\n%s\n```\n\nRepaired:\n\n```\n%s\n```\n", p.Shows, p.Good)
	}
}

// man writes the manual page of a command in the form of man(7).
func man(w io.Writer, c *call.Command) {
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	text := func(words string) {
		for paragraph := range strings.SplitSeq(strings.TrimSpace(words), "\n\n") {
			lines := strings.Split(paragraph, "\n")
			if slices.ContainsFunc(lines, func(l string) bool { return !strings.Contains(l, "  ") }) {
				line(".PP\n%s", roff(strings.Join(strings.Fields(paragraph), " ")))
				continue
			}
			for _, l := range joined(lines) {
				name, about, _ := strings.Cut(l, "  ")
				line(".TP\n%s\n%s", roff(name), roff(strings.TrimSpace(about)))
			}
		}
	}
	name := "mellowgate-" + c.Name
	line(`.TH %s 1 "" "Mellow Gate %s"`, strings.ToUpper(roff(name)), call.Version)
	line(".SH NAME\n%s \\- %s", roff(name), roff(c.Short))
	line(".SH SYNOPSIS\n.B %s", roff(call.Usage(c)))
	line(".SH DESCRIPTION")
	text(c.Long)
	first := true
	call.FlagsOf(c).VisitAll(func(f *flag.Flag) {
		if first {
			line(".SH OPTIONS")
			first = false
		}
		value, about := flag.UnquoteUsage(f)
		line(".TP\n.BI %s \" %s\"\n%s", roff("-"+f.Name), roff(value), roff(about+defaultText(f)))
	})
	line(".SH EXAMPLES")
	for _, e := range c.Examples {
		line(".TP\n.B %s\n%s", roff(e.Call), roff(e.Shows))
	}
	line(".SH EXIT STATUS")
	for l := range strings.SplitSeq(strings.TrimSpace(exitStatuses), "\n") {
		number, about, _ := strings.Cut(strings.TrimSpace(l), " ")
		line(".TP\n%s\n%s", number, roff(strings.TrimSpace(about)))
	}
}

// roff keeps a text from being read as a request, or as anything but itself.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`, "'", `\(aq`).Replace(text)
	if strings.HasPrefix(text, ".") {
		return `\&` + text
	}
	return text
}

// mans writes the manual page of every command into a folder.
func mans(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	write := func(name string, c *call.Command) error {
		var b bytes.Buffer
		man(&b, c)
		return os.WriteFile(filepath.Join(folder, name+".1"), b.Bytes(), 0o644)
	}
	for _, c := range commands() {
		if err := write("mellowgate-"+c.Name, c); err != nil {
			return err
		}
	}
	var b bytes.Buffer
	_, _ = fmt.Fprintf(&b, ".TH MELLOWGATE 1 \"\" \"Mellow Gate %s\"\n.SH NAME\n"+
		"mellowgate \\- who gets in to network devices\n.SH SYNOPSIS\n"+
		".B mellowgate COMMAND [flags] [SITE]\n.SH DESCRIPTION\n", call.Version)
	for _, c := range commands() {
		_, _ = fmt.Fprintf(&b, ".TP\n.BR mellowgate\\-%s (1)\n%s\n", roff(c.Name), roff(c.Short))
	}
	return os.WriteFile(filepath.Join(folder, "mellowgate.1"), b.Bytes(), 0o644)
}
