package begin

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/live/store/files"
)

//go:embed starter/phrasebook.yaml
var starterBook []byte

func PhrasebookCommand() *call.Command {
	return &call.Command{
		Name: "phrasebook", Args: "VERB BOOK [TEXT...]",
		Short: "read what a device of any make says of itself, by a phrasebook of yours", MaxArgs: call.ManyDevices,
		Long: `"new BOOK" writes a small commented phrasebook to start from; it overwrites nothing.

"check BOOK [TEXT...]" says what is wrong in a phrasebook; with saved texts, what of each was understood, and which
phrases no text has ever used.

"try BOOK TEXT" shows line by line what was understood, what was passed over, and what was not understood; with -facts
what the whole text says: servers, groups, lists, ways in, accounts. - is standard input.

"try -log BOOK LOG" shows what a log of the device says of logins and servers, by the phrases under tells.

A phrasebook is a file in which you write down, once for a make of device, how it says each fact: "gate <name> at
<address>". docs/phrasebook.md teaches it. A line of the territory that no phrase reads is listed. Nothing that might be
a secret is shown. What a text is for: new -from, check -read, foresee -read, compare -read.

Exit status 1 when a line was not understood, a name leads nowhere, or the end of the text was not seen.`,
		Examples: []call.Example{
			{Call: "mellowgate phrasebook try demo/phrasebooks/quay-switch.yaml demo/saved/south-sw-1.txt",
				Shows: "line by line, what a saved text says and where it is wrong"},
			{Call: "mellowgate phrasebook try -facts demo/phrasebooks/hull-router.yaml demo/saved/mv-avocet-rtr.txt",
				Shows: "what the whole of it says, with what holds unsaid"},
			{Call: "mellowgate phrasebook try -log demo/phrasebooks/quay-switch.yaml demo/logs/north-sw-1.log",
				Shows: "what a device's log says of logins"},
			{Call: "mellowgate phrasebook check demo/phrasebooks/quay-switch.yaml demo/saved/*-sw-1.txt",
				Shows: "many texts, and the phrases that none of them used"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			b := &bookCall{Call: c}
			c.Flags.StringVar(&b.version, "version", "", "the `version` of what runs on the device, where no text "+
				"says it: 6.2")
			c.Flags.BoolVar(&b.log, "log", false, "for try: TEXT is a log, debug output or counters of a device")
			c.Flags.StringVar(&b.zone, "zone", "", "with -log: the `zone` of times that have none, such as "+
				"Europe/Dublin; by default that of this host")
			c.Flags.BoolVar(&b.facts, "facts", false, "for try: what the whole text says, instead of its lines")
			return b.run
		},
	}
}

type bookCall struct {
	*call.Call
	facts   bool
	log     bool
	version string
	zone    string
}

func (c *bookCall) run() error {
	verbs := []string{"new", "check", "try"}
	if len(c.Args) < 2 || c.Args[0] == "try" && len(c.Args) != 3 || c.Args[0] == "new" && len(c.Args) != 2 {
		return call.Usagef("phrasebook wants a verb and files: new BOOK, check BOOK [TEXT...], or try BOOK "+
			"TEXT\nusage: %s",
			call.Usage(PhrasebookCommand()))
	}
	verb, file := c.Args[0], c.Args[1]
	if !slices.Contains(verbs, verb) {
		return call.Usagef("phrasebook has no %q%s: it has new, check and try", verb, nearest.Suggest(verb, verbs))
	}
	if verb == "new" {
		return c.begin(file)
	}
	text, err := files.ReadFile(file)
	if err != nil {
		return call.UsageError(err)
	}
	book, err := phrase.Load(file, text)
	if err != nil {
		return call.UsageError(err)
	}
	if err := texts.SetVersion(book, c.version); err != nil {
		return err
	}
	switch {
	case c.facts && c.log:
		return call.Usagef("-facts is for a saved text, and -log for a log: give one of the two")
	case verb == "try" && c.log:
		return c.tryLog(book, c.Args[2])
	case c.log || c.zone != "":
		return call.Usagef("-log and -zone are for try BOOK LOG")
	case verb == "try":
		return c.try(book, c.Args[2])
	}
	return c.check(book, c.Args[2:])
}

// begin writes a phrasebook to start from.
func (c *bookCall) begin(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return call.Usagef("%s is there already; name a new file", file)
	} else if err != nil {
		return call.TaskError(fmt.Errorf("%s cannot be written: %w", file, err))
	}
	_, err = f.Write(starterBook)
	if err = errors.Join(err, f.Close()); err != nil {
		return call.TaskError(err)
	}
	c.Say("%s is a phrasebook to edit. Write what your device says in the place of its phrases, and then:\n\n"+
		"  mellowgate phrasebook check %[1]s         is it well formed?\n"+
		"  mellowgate phrasebook try %[1]s TEXT      what does it understand of a saved text?\n", file)
	return nil
}

var lineTone = map[phrase.Kind]show.Tone{phrase.Understood: show.Good, phrase.NotUnderstood: show.Bad,
	phrase.PassedOver: show.Faint}

// bookFact is a fact as JSON.
type bookFact struct {
	Field  string   `json:"field"`
	Values []string `json:"values"`
	State  string   `json:"state"`
	Line   int      `json:"line,omitempty"`
}

// bookRecord is a record as JSON.
type bookRecord struct {
	About string     `json:"about"`
	Name  string     `json:"name,omitempty"`
	Line  int        `json:"line,omitempty"`
	Facts []bookFact `json:"facts"`
}

// bookLine is a line as JSON.
type bookLine struct {
	Line int    `json:"line"`
	What string `json:"what"`
	Text string `json:"text,omitempty"`
	Says string `json:"says,omitempty"`
}

// bookTried is what try says, as JSON.
type bookTried struct {
	Make    string       `json:"make"`
	File    string       `json:"file"`
	Whole   bool         `json:"whole"`
	Lines   []bookLine   `json:"lines"`
	Notes   []bookLine   `json:"notes"`
	Records []bookRecord `json:"records"`
}

func (c *bookCall) try(book *phrase.Book, file string) error {
	style := c.Style()
	out := bookTried{Make: book.Make, File: file, Lines: []bookLine{}, Notes: []bookLine{}, Records: []bookRecord{}}
	rows := style.Rows(c.Out, []string{"line", "what became of it", "the line", "what it says"}, 2, 3)
	text, err := texts.ReadText(c.Call, book, file, func(l phrase.Line) {
		switch {
		case l.Kind == phrase.Elsewhere:
		case *c.AsJSON:
			out.Lines = append(out.Lines, bookLine{Line: l.Number, What: string(l.Kind), Text: l.Text, Says: l.Means})
		case !c.facts:
			rows.Add(fmt.Sprint(l.Number), style.Paint(lineTone[l.Kind], string(l.Kind)), l.Text, l.Means)
		}
	})
	if err != nil {
		return err
	}
	switch {
	case *c.AsJSON:
		out.Whole = text.Whole
		for _, n := range text.Notes {
			out.Notes = append(out.Notes, bookLine{Line: n.Line, What: n.What})
		}
		for _, r := range text.Records {
			out.Records = append(out.Records, recordJSON(r))
		}
		if err := show.JSON(c.Out, out); err != nil {
			return err
		}
		return c.verdict(text)
	case c.facts:
		c.printFacts(text)
	case !rows.Empty():
		rows.Flush()
	}
	if len(text.Notes) > 0 && len(text.Records) > 0 {
		c.Say("\n")
	}
	c.printNotes(text)
	c.Say("\n%s: %s, of which %s.\n", file, show.Count(text.Lines, "line"), counts(text))
	return c.verdict(text)
}

func recordJSON(r *phrase.Record) bookRecord {
	out := bookRecord{About: string(r.About), Name: r.ID, Line: r.Line, Facts: []bookFact{}}
	for _, f := range r.Facts() {
		fact := bookFact{Field: f.Field, State: string(f.State), Line: f.Line}
		for _, v := range f.Values {
			fact.Values = append(fact.Values, v.String())
		}
		out.Facts = append(out.Facts, fact)
	}
	return out
}

// printFacts prints what the whole text says.
func (c *bookCall) printFacts(text *phrase.Text) {
	var rows [][]string
	if text.Version != "" {
		rows = append(rows, []string{"the text", "version", text.Version, ""})
	}
	for _, r := range text.Records {
		name := r.String()
		for _, f := range r.Facts() {
			if r.Identifies(f.Field) {
				continue
			}
			where := "line " + fmt.Sprint(f.Line)
			switch f.State {
			case phrase.Implied:
				where = "implied: no line says it"
			case phrase.Inherited:
				where += ", of a template"
			}
			rows = append(rows, []string{name, f.Field, f.String(), where})
			name = ""
		}
		if name != "" {
			rows = append(rows, []string{name, "", "", "line " + fmt.Sprint(r.Line)})
		}
	}
	c.Style().Table(c.Out, []string{"of what", "field", "value", "from"}, rows, 2, 3)
}

func (c *bookCall) printNotes(text *phrase.Text) {
	for _, n := range text.Notes {
		label := "the text: "
		if n.Line > 0 {
			label = fmt.Sprintf("line %d: ", n.Line)
		}
		c.Style().Item(c.Out, label, n.What)
	}
}

// counts says what became of the lines of a text.
func counts(text *phrase.Text) string {
	return fmt.Sprintf("%d understood, %d not understood, %d passed over, %d not ours",
		text.Counts[phrase.Understood], text.Counts[phrase.NotUnderstood], text.Counts[phrase.PassedOver],
		text.Counts[phrase.Elsewhere])
}

// worthALook counts the notes on a text.
func worthALook(text *phrase.Text) string {
	if len(text.Notes) == 0 {
		return ""
	}
	return show.Count(len(text.Notes), "note") + ": phrasebook try says which"
}

// verdict is the answer no for a text of which not all is clear.
func (c *bookCall) verdict(text *phrase.Text) error {
	if !text.Whole || len(text.Notes) > 0 {
		return call.ErrVerdict
	}
	return nil
}

// bookChecked is what check says of a text, as JSON.
type bookChecked struct {
	File   string         `json:"file"`
	Whole  bool           `json:"whole"`
	Counts map[string]int `json:"counts"`
	Notes  []bookLine     `json:"notes"`
}

func (c *bookCall) check(book *phrase.Book, files []string) error {
	var rows [][]string
	var answer error
	var checked []bookChecked
	for _, file := range files {
		text, err := texts.ReadText(c.Call, book, file, nil)
		if err != nil {
			return err
		}
		if err := c.verdict(text); err != nil {
			answer = err
		}
		one := bookChecked{File: file, Whole: text.Whole, Counts: map[string]int{}, Notes: []bookLine{}}
		for kind, n := range text.Counts {
			one.Counts[string(kind)] = n
		}
		for _, n := range text.Notes {
			one.Notes = append(one.Notes, bookLine{Line: n.Line, What: n.What})
		}
		checked = append(checked, one)
		rows = append(rows, []string{file, fmt.Sprint(text.Counts[phrase.Understood]),
			fmt.Sprint(text.Counts[phrase.NotUnderstood]), fmt.Sprint(text.Counts[phrase.PassedOver]),
			fmt.Sprint(text.Counts[phrase.Elsewhere]), worthALook(text)})
	}
	all, unused := book.Phrases()
	if *c.AsJSON {
		if err := show.JSON(c.Out, struct {
			Make    string        `json:"make"`
			Phrases int           `json:"phrases"`
			Unused  []string      `json:"unused"`
			Texts   []bookChecked `json:"texts"`
		}{book.Make, all, unused, checked}); err != nil {
			return err
		}
		return answer
	}
	c.Say("%s: %s for %s, well formed.\n", book.File, show.Count(all, "phrase"), book.Make)
	if len(files) == 0 {
		return nil
	}
	c.Say("\n")
	c.Style().Table(c.Out, []string{"text", "understood", "not understood", "passed over", "not ours", "to look at"},
		rows,
		0)
	if len(unused) > 0 {
		c.Say("\nNo text has used these, so nothing shows that a device says them so:\n")
		for _, text := range unused {
			c.Say("  %s\n", text)
		}
	}
	return answer
}

// bookTold is what a line of a log says, as JSON.
type bookTold struct {
	Line  int               `json:"line"`
	What  string            `json:"what"`
	Time  *time.Time        `json:"time"`
	Facts map[string]string `json:"facts"`
	Times int               `json:"times"`
}

// tryLog shows what a log says.
func (c *bookCall) tryLog(book *phrase.Book, file string) error {
	moment := phrase.Moment{Now: time.Now(), Zone: time.Local}
	if c.zone != "" {
		var err error
		if moment.Zone, err = time.LoadLocation(c.zone); err != nil {
			return call.Usagef("-zone is %q; the name of a zone is wanted, such as Europe/Dublin or UTC", c.zone)
		}
	}
	in := c.In
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return call.UsageError(files.Unreadable(file, err))
		}
		defer func() { _ = f.Close() }()
		if info, err := f.Stat(); err == nil { // a log without years is of the year in which it was saved
			moment.Now = info.ModTime()
		}
		in = f
	}
	log, err := book.ReadLog(in, moment)
	switch {
	case errors.Is(err, syscall.EISDIR):
		return call.UsageError(files.Unreadable(file, err))
	case err != nil:
		return call.UsageError(fmt.Errorf("%s: %w", file, err))
	}
	if *c.AsJSON {
		out := struct {
			Make  string     `json:"make"`
			File  string     `json:"file"`
			Told  []bookTold `json:"told"`
			Notes []bookLine `json:"notes"`
			Lines int        `json:"lines"`
			Read  int        `json:"lines_read"`
		}{book.Make, file, []bookTold{}, []bookLine{}, log.Lines, log.Read}
		for _, t := range log.Told {
			one := bookTold{Line: t.Line, What: what(t), Facts: map[string]string{}, Times: t.Times}
			for name, value := range t.Facts {
				one.Facts[strings.ReplaceAll(name, "-", "_")] = value
			}
			if !t.Time.IsZero() {
				one.Time = &t.Time
			}
			out.Told = append(out.Told, one)
		}
		for _, n := range log.Notes {
			out.Notes = append(out.Notes, bookLine{Line: n.Line, What: n.What})
		}
		return show.JSON(c.Out, out)
	}
	style := c.Style()
	rows := style.Rows(c.Out, []string{"line", "time", "what", "says"}, 3)
	for _, t := range log.Told {
		clock := ""
		if !t.Time.IsZero() {
			clock = t.Time.Format("2006-01-02 15:04:05 -07:00")
		}
		rows.Add(fmt.Sprint(t.Line), clock, style.Paint(toldTone[t.Facts["event"]], what(t)), t.String())
	}
	if !rows.Empty() {
		rows.Flush()
		c.Say("\n")
	}
	for _, n := range log.Notes {
		style.Item(c.Out, fmt.Sprintf("line %d: ", n.Line), n.What)
	}
	c.Say("%s: %s, of which phrases read %d.\n", file, show.Count(log.Lines, "line"), log.Read)
	if log.Read == 0 {
		c.Say("no phrase under tells of %s reads a line of it: it may be of another make\n", book.File)
		return call.ErrVerdict
	}
	return nil
}

// what is what was told, in a word.
func what(t phrase.Told) string {
	if t.About == phrase.Count {
		return "count"
	}
	return t.Facts["event"]
}

var toldTone = map[string]show.Tone{string(evidence.LogIn): show.Good, string(evidence.LogRefused): show.Bad,
	string(evidence.LogNoAnswer): show.Bad}
