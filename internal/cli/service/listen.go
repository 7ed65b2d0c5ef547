package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/listen"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/wire/capture"
)

func ListenCommand() *call.Command {
	return &call.Command{
		Name: "listen", Args: "[SITE]", Short: "each exchange of a capture: decoded, paired, timed and judged",
		Long: `Reads a capture, pcap or pcapng, and prints one line for each question with its answer: when,
which device and server, who, what was asked, what came back, after how long, and what is remarkable. -full adds
every attribute. Passwords are never shown.

-scrub writes a copy of the capture that can be shared: passwords, names, texts and addresses are replaced, the
same by the same, and what a key makes is made again with the stand-in key that it prints. -interface listens
live, which needs a privilege.

Without a site it knows the ports of the standards. With one it knows the names, and with the keys it reads what
TACACS+ hides and judges whether each packet was made with the right key. Its memory does not grow with the
file.`,
		Examples: []call.Example{
			{Call: "mellowgate listen", Shows: "the traffic of the lab that runs here"},
			{Call: "mellowgate listen -full -capture traffic.pcap demo/as-reviewed",
				Shows: "a capture file, with the site's names and keys, and every attribute"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			dir := c.Flags.String("state", "",
				"the state `folder` whose traffic to read (default "+call.DefaultState+", where no capture is named)")
			file := c.Flags.String("capture", "", "the capture `file` to read; - for standard input")
			scrub := c.Flags.String("scrub", "", "write a copy that can be shared to this `file`, and print "+
				"nothing else")
			on := c.Flags.String("interface", "", "listen live on this network `interface`, until Ctrl-C or -for")
			span := c.Flags.Duration("for", 0, "with -interface: end after this `time`, such as 5m")
			key := c.Flags.String("key-file", "", "a `file` with the key of servers that the site does not know")
			full := c.Flags.Bool("full", false, "every attribute of the question and of the answer")
			follow := c.Flags.Bool("follow", false, "go on with what a running lab or service adds, until Ctrl-C "+
				"or -for")
			only := &chosen{}
			c.Flags.StringVar(&only.person, "person", "", "only exchanges with this `name`")
			c.Flags.StringVar(&only.device, "device", "", "only those of this `device`, or of an address")
			c.Flags.StringVar(&only.server, "server", "", "only those with this `server`, or with an address")
			c.Flags.StringVar(&only.answer, "answer", "",
				"only those with this `answer`: "+strings.Join(answers(), ", ")+
					"; or bad for all that are none, an error or cannot be read")
			c.Flags.StringVar(&only.sinceText, "since", "", "only those from this `time` on, such as 03:10, "+
				"2026-11-23T03:10 or 10m for ten minutes ago")
			c.Flags.IntVar(&only.last, "last", 0, "only the newest `n`")
			return func() error {
				return runListen(c, listening{state: *dir, file: *file, scrub: *scrub, on: *on, key: *key, span: *span,
					full:   *full,
					follow: *follow, only: only})
			}
		},
	}
}

// listening is what a call asks for.
type listening struct {
	state, file, scrub, on, key string
	span                        time.Duration
	full, follow                bool
	only                        *chosen
}

func runListen(c *call.Call, f listening) error {
	named := 0
	for _, from := range []string{f.state, f.file, f.on} {
		if from != "" {
			named++
		}
	}
	switch {
	case named > 1:
		return call.Usagef("give one of -capture, -state and -interface")
	case f.follow && (f.file != "" || f.on != ""):
		return call.Usagef("-follow is for the state folder of what runs here; -interface is live already")
	case f.only.last > 0 && (f.follow || f.on != ""):
		return call.Usagef("-last is for what is there already: leave it out with -follow and -interface")
	case f.scrub != "" && *c.AsJSON:
		return call.Usagef("-scrub writes a capture and prints no exchange: -json has nothing to print")
	}
	if err := f.only.check(time.Now()); err != nil {
		return err
	}
	places, inState, err := f.places()
	if err != nil {
		return err
	}
	directory, of, err := directory(c, places, inState || len(places.Servers) > 0)
	if err == nil && of != nil {
		err = f.only.known(of)
	}
	if err != nil {
		return err
	}
	if f.key != "" {
		key, err := secrets.SecretFile(f.key)
		if err != nil {
			return call.UsageError(err)
		}
		directory = directory.WithKey(key)
	}
	source, name, done, err := source(c, f, inState)
	if err != nil {
		return err
	}
	defer done()
	if f.scrub != "" {
		return scrub(c, directory, source, name, f.scrub)
	}
	return exchanges(c, directory, source, name, f)
}

// places reads the state folder that a call means, if it means one.
func (f listening) places() (evidence.Places, bool, error) {
	dir := f.state
	switch {
	case f.file != "": // the capture of a state folder has the addresses of that run
		p := evidence.Places{}
		if beside, err := state.Open(filepath.Dir(f.file)); err == nil && f.file != "-" {
			p, _ = beside.Places()
		}
		return p, false, nil
	case dir == "":
		dir = call.DefaultState
	}
	folder, err := state.Open(dir)
	if err != nil && f.on != "" {
		return evidence.Places{}, false, nil
	}
	if err != nil {
		return evidence.Places{}, false,
			call.UsageError(fmt.Errorf("%w\nor name a capture with -capture", err))
	}
	p, err := folder.Places()
	if err != nil {
		return p, false, call.UsageError(err)
	}
	return p, true, nil
}

// source opens what is listened to: an interface, a file, or standard input.
func source(c *call.Call, f listening, inState bool) (capture.Source, string, func(), error) {
	if f.on != "" {
		ctx, cancel := context.WithCancel(c.Context)
		if f.span > 0 {
			ctx, cancel = context.WithTimeout(c.Context, f.span)
		}
		source, done, err := listen.Interface(ctx, f.on)
		if err != nil {
			cancel()
			return nil, "", nil, call.TaskError(err)
		}
		c.Note("listening on %s", f.on)
		return source, f.on, func() { cancel(); done() }, nil
	}
	name := f.file
	in := c.In
	done := func() {}
	if inState {
		dir := f.state
		if dir == "" {
			dir = call.DefaultState
		}
		folder := &state.Folder{Dir: dir}
		name = folder.Traffic()
		ctx, cancel := c.Context, context.CancelFunc(func() {})
		if f.span > 0 {
			ctx, cancel = context.WithTimeout(ctx, f.span)
		}
		open := folder.Packets
		if f.follow {
			open = func() (io.ReadCloser, error) { return folder.Growing(ctx) }
		}
		packets, err := open()
		if err != nil {
			cancel()
			return nil, "", nil, call.UsageError(files.Unreadable(name, err))
		}
		in, done = packets, func() { cancel(); _ = packets.Close() }
		if f.follow {
			c.Note("following %s", name)
		}
	} else if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, "", nil, call.UsageError(files.Unreadable(name, err))
		}
		in, done = file, func() { _ = file.Close() }
	}
	source, err := capture.Open(in)
	if err != nil {
		done()
		return nil, "", nil, call.UsageError(fmt.Errorf("%s: %w", name, err))
	}
	return source, name, done, nil
}

// scrub writes a copy of a capture that can be shared.
func scrub(c *call.Call, d exchange.Directory, source capture.Source, name, to string) error {
	file, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return call.Usagef("%s cannot be made: it may be there already; name a new file with -scrub", to)
	}
	defer func() { _ = file.Close() }()
	scrubber, err := exchange.NewScrubber(d, file)
	if err != nil {
		return call.TaskError(err)
	}
	stats, err := capture.Read(source, scrubber)
	if err != nil {
		err = call.UsageError(fmt.Errorf("%s: %w", name, err))
	}
	if closed := scrubber.Close(); closed != nil {
		return call.TaskError(closed)
	}
	c.Say("%s has the copy of %s.\nIts stand-in key is %s; what was made with another key has %s.\n", to,
		show.Count(stats.Packets, "packet"), exchange.StandInKey, exchange.OtherKey)
	if scrubber.Left > 0 {
		c.Say("%s could not be read, so only their form was kept: name the site, for its keys.\n",
			show.Count(scrubber.Left, "packet"))
	}
	return err
}

// directory is what is known of the site: the one named, or the one that the
// state folder was made with. The site is nil where there is none.
func directory(c *call.Call, p evidence.Places, inState bool) (exchange.Directory, *site.Site, error) {
	path := p.SitePath
	if len(c.Args) > 0 {
		path = c.Args[0]
	} else if _, err := os.Stat(path); path == "" || err != nil {
		return exchange.Directory{}, nil, nil
	}
	l, err := c.LoadFrom(path, false)
	if err != nil {
		return exchange.Directory{}, nil, err
	}
	if inState {
		return exchange.InPlaces(l.Site, l.Keys, p), l.Site, nil
	}
	return exchange.Designed(l.Site, l.Keys), l.Site, nil
}

// exchanges reads a capture and prints its exchanges. One that is listened to
// live, or printed in full, is printed as soon as it is known.
func exchanges(c *call.Call, d exchange.Directory, source capture.Source, file string, f listening) error {
	style := c.Style()
	rows := style.Rows(c.Out, []string{"time utc", "device", "server", "person", "question", "answer", "took",
		"remarks"},
		7)
	rows.Ready = rowsTogether
	if f.on != "" || f.full || f.follow {
		rows.Ready, rows.Least = 1, []int{12, 14, 12, 14, 15, 8, 7, 16}
	}
	n := 0
	shown := 0
	printed := error(nil)
	print := func(e exchange.Exchange) {
		shown++
		if *c.AsJSON {
			printed = errors.Join(printed, show.Line(c.Out, e))
			return
		}
		rows.Add(exchangeRow(style, e)...)
		if f.full {
			printFully(c, e)
		}
	}
	var newest []exchange.Exchange
	l := exchange.New(d, func(e exchange.Exchange) {
		switch n++; {
		case !f.only.takes(e):
		case f.only.last > 0:
			newest = append(newest[max(0, len(newest)+1-f.only.last):], e)
		default:
			print(e)
		}
	})
	stats, err := capture.Read(source, l)
	l.Close()
	for _, e := range newest {
		print(e)
	}
	if !rows.Empty() {
		rows.Flush()
	}
	switch {
	case err != nil || shown > 0:
	case n > 0:
		c.Note("%s: %s, and none is one of those that were asked for", file, show.Count(n, "exchange"))
	case stats.Packets == 0:
		c.Note("%s: no packet yet", file)
	default:
		c.Note("%s: %s, and no RADIUS or TACACS+ among them; name the site if its servers have other ports", file,
			show.Count(stats.Packets, "packet"))
	}
	if err != nil {
		return call.UsageError(fmt.Errorf("%s: %w", file, err))
	}
	return printed
}

// exchangeRow is a question and its answer in a row.
func exchangeRow(style show.Style, e exchange.Exchange) []string {
	took := "-"
	if e.Answer != evidence.None {
		took = call.Milliseconds(e.Seconds)
	}
	remarks := e.Remarks
	if e.Command != "" {
		remarks = append([]string{fmt.Sprintf("%q", show.Safe(e.Command))}, remarks...)
	}
	if e.Retransmissions > 0 {
		remarks = append(remarks, "sent again "+call.Times(e.Retransmissions))
	}
	return []string{e.Time.Format("15:04:05.000"), nameOrHost(e.Device, e.Client),
		nameOrHost(e.Server, e.ServerAddress),
		show.Safe(e.Person), string(e.Question), style.Paint(show.OutcomeTone(e.Answer), string(e.Answer)), took,
		strings.Join(remarks, "; ")}
}

// nameOrHost is a name, else the host of an address and port.
func nameOrHost(name, address string) string {
	if name != "" {
		return show.Safe(name)
	}
	if endpoint, err := netip.ParseAddrPort(address); err == nil {
		return endpoint.Addr().String()
	}
	return show.Safe(address)
}

// printFully prints every attribute of an exchange.
func printFully(c *call.Call, e exchange.Exchange) {
	c.Say("    %s to %s, %s, key %s\n", e.Client, e.ServerAddress, e.Protocol, e.Key)
	for _, side := range []struct {
		mark string
		all  []exchange.NameValue
	}{{">", e.Request}, {"<", e.Response}} {
		for _, a := range side.all {
			c.Say("    %s %s = %s\n", side.mark, a.Name, show.Safe(a.Value))
		}
	}
}
