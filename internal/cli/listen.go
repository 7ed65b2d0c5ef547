package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/live/listen"
	"mellowgate/internal/live/state"
	"mellowgate/internal/live/vault"
	"mellowgate/internal/wire/capture"
)

func listenCommand() *Command {
	return &Command{
		Name: "listen", Args: "[SITE]", Short: "each exchange of a capture: decoded, paired, timed and judged",
		Long: `Reads a capture, pcap or pcapng, and prints one line for each question with its answer: when, which device and
server, who, what was asked, what came back, after how long, and what is remarkable. -full adds every attribute.
Passwords are never shown.

Without a site it knows the ports of the standards. With one it knows the names, and with the keys it reads what TACACS+
hides and judges whether each packet was made with the right key. Its memory does not grow with the file.`,
		Examples: []Example{
			{"mellowgate listen", "the traffic of the lab that runs here"},
			{"mellowgate listen -full -capture traffic.pcap demo/as-reviewed", "a capture file, with the site's names and keys, and every attribute"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			dir := c.Flags.String("state", "", "the state `folder` whose traffic to read (default "+defaultState+", where no capture is named)")
			file := c.Flags.String("capture", "", "the capture `file` to read; - for standard input")
			full := c.Flags.Bool("full", false, "every attribute of the question and of the answer")
			return func() error { return c.listen(*dir, *file, *full) }
		},
	}
}

func (c *Call) listen(dir, file string, full bool) error {
	if dir != "" && file != "" {
		return wrong("give one of -capture and -state")
	}
	var places state.Places
	inState := file == ""
	if inState {
		if dir == "" {
			dir = defaultState
		}
		folder, err := state.Open(dir)
		if err != nil {
			return failure{ExitUsage, fmt.Errorf("%w\nor name a capture with -capture", err)}
		}
		if places, err = folder.Places(); err != nil {
			return failure{ExitUsage, err}
		}
		file = folder.Traffic()
	}
	directory, err := c.directory(places, inState)
	if err != nil {
		return err
	}
	var in io.Reader = c.In
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return failure{ExitUsage, vault.Unreadable(file, err)}
		}
		defer func() { _ = f.Close() }()
		in = f
	}
	return c.exchanges(directory, in, file, full)
}

// directory is what is known of the site: the one named, or the one that the
// state folder was made with.
func (c *Call) directory(p state.Places, inState bool) (listen.Directory, error) {
	path := p.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	} else if _, err := os.Stat(path); err != nil {
		return listen.Directory{}, nil
	}
	l, err := c.loadFrom(path, false)
	if err != nil {
		return listen.Directory{}, err
	}
	if inState {
		return listen.InPlaces(l.Site, l.Keys, p), nil
	}
	return listen.Designed(l.Site, l.Keys), nil
}

// exchanges reads a capture and prints its exchanges.
func (c *Call) exchanges(d listen.Directory, in io.Reader, file string, full bool) error {
	source, err := capture.Open(in)
	if err != nil {
		return failure{ExitUsage, fmt.Errorf("%s: %w", file, err)}
	}
	style := c.style()
	n, printed := 0, error(nil)
	l := listen.New(d, func(e listen.Exchange) {
		if n == 0 && !*c.json {
			c.say("%s\n", style.Paint(show.Strong, strings.TrimRight(fmt.Sprintf(exchangeLine, "TIME UTC", "DEVICE", "SERVER", "PERSON", "QUESTION", "ANSWER", "TOOK", ""), " ")))
		}
		n++
		if *c.json {
			printed = errors.Join(printed, show.Line(c.Out, e))
		} else {
			c.printExchange(style, e, full)
		}
	})
	stats, err := capture.Read(source, l)
	l.Close()
	if n == 0 && err == nil {
		c.note("%s: %s, and no RADIUS or TACACS+ among them; name the site if its servers have other ports", file, show.Count(stats.Packets, "packet"))
	}
	if err != nil {
		return failure{ExitUsage, fmt.Errorf("%s: %w", file, err)}
	}
	return printed
}

const exchangeLine = "%-12s  %-14s  %-12s  %-14s  %-15s  %-10s  %8s  %s"

func (c *Call) printExchange(style show.Style, e listen.Exchange, full bool) {
	or := func(name, address string) string {
		if name != "" {
			return show.Safe(name)
		}
		host, _, _ := strings.Cut(address, ":")
		return host
	}
	took := "-"
	if e.Answer != "none" {
		took = milliseconds(e.Seconds)
	}
	remarks := e.Remarks
	if e.Command != "" {
		remarks = append([]string{fmt.Sprintf("%q", show.Safe(e.Command))}, remarks...)
	}
	if e.Retransmissions > 0 {
		remarks = append(remarks, "sent again "+times(e.Retransmissions))
	}
	answer := style.Paint(show.OutcomeTone(e.Answer), fmt.Sprintf("%-10s", e.Answer))
	line := fmt.Sprintf(exchangeLine, e.Time.Format("15:04:05.000"), or(e.Device, e.Client), or(e.Server, e.ServerAddress), show.Safe(e.Person), e.Question, "\x00", took, strings.Join(remarks, "; "))
	c.say("%s\n", strings.TrimRight(strings.Replace(line, "\x00         ", answer, 1), " "))
	if !full {
		return
	}
	c.say("    %s to %s, %s, key %s\n", e.Client, e.ServerAddress, e.Protocol, e.Key)
	for _, side := range []struct {
		mark string
		all  []listen.NameValue
	}{{">", e.Request}, {"<", e.Response}} {
		for _, a := range side.all {
			c.say("    %s %s = %s\n", side.mark, a.Name, show.Safe(a.Value))
		}
	}
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
