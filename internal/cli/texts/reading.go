// Package texts reads what devices have saved of themselves, for the commands that take -read.
package texts

import (
	"cmp"
	"fmt"
	"path/filepath"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task/textread"
)

func NoteText(n inventory.Note) string {
	switch {
	case n.File == "":
		return n.What
	case n.Line == 0:
		return n.File + ": " + n.What
	}
	return fmt.Sprintf("%s:%d: %s", n.File, n.Line, n.What)
}

// Reading are the flags of commands that work on what a device has saved of itself.
type Reading struct {
	Text, Book, Version string

	InPart bool // the text was read, and not all of it was understood
}

func ReadingFlags(c *call.Call) *Reading {
	r := &Reading{}
	c.Flags.StringVar(&r.Text, "read", "", "take what a device has saved in this `file`, - for standard input, by "+
		"its phrasebook: alone, or in the place of the device in SITE")
	c.Flags.StringVar(&r.Book, "book", "", "with -read: the phrasebook, a `file`; by default that of the device's "+
		"platform")
	c.Flags.StringVar(&r.Version, "version", "",
		"with -read: the `version` of what runs on the device, where the text does not say it: 6.2")
	return r
}

// HeldFlags are the flags of commands that go from what a device holds to its design.
func HeldFlags(c *call.Call) *Reading {
	r := &Reading{}
	c.Flags.StringVar(&r.Text, "read", "", "what the device holds now, in this `file`, - for standard input: only "+
		"the lines from there to the design are given")
	c.Flags.StringVar(&r.Book, "book", "", "the phrasebook of the make, a `file`; by default that of the device's "+
		"platform")
	c.Flags.StringVar(&r.Version, "version", "", "the `version` of what runs on the device, where no text says it: 6.2")
	return r
}

// SetVersion gives a phrasebook the version of the texts, where one is given.
func SetVersion(b *phrase.Book, version string) error {
	if version == "" {
		return nil
	}
	if err := b.SetVersion(version); err != nil {
		return call.Usagef("-version: %w", err)
	}
	return nil
}

// LoadReading loads the site of a call. With -read it is what a text says: alone where no
// site is named, else in the place of its device, which is returned. The name of the device
// is that of the text unless it is given.
func LoadReading(c *call.Call, r *Reading, device string) (call.Loaded, *site.Device, error) {
	switch {
	case r.Text == "" && r.Book+r.Version != "":
		return call.Loaded{}, nil, call.Usagef("-book and -version are for -read TEXT")
	case r.Text == "":
		l, err := c.Load(false)
		return l, nil, err
	}
	var base call.Loaded
	if len(c.Args) > 0 {
		var err error
		if base, err = c.Load(false); err != nil {
			return call.Loaded{}, nil, err
		}
	}
	_, s, err := ReadSaved(c, r, base, device)
	if err != nil {
		return call.Loaded{}, nil, err
	}
	r.InPart = !s.Text.Whole
	return inSite(c, base, s)
}

// TellInPart says under a result that it does not hold for certain, where not all of the text
// was understood.
func TellInPart(c *call.Call, r *Reading) {
	if r.InPart {
		c.Say("\n%s: what the lines of %s change that were not understood is not known.\n",
			c.Style().Paint(show.Careful, "nothing is proven"), r.Text)
	}
}

// ReadSaved reads the text of a call by its phrasebook, and notes each line that was not
// understood. A text of which nothing was is of another make.
func ReadSaved(c *call.Call, r *Reading, l call.Loaded, device string) (*phrase.Book, inventory.Saved, error) {
	s := inventory.Saved{File: r.Text, Device: device}
	book, err := r.BookOf(l, device)
	if err != nil {
		return nil, s, err
	}
	s.Platform = book.Make
	if s.Text, err = ReadText(c, book, r.Text, nil); err != nil {
		return nil, s, err
	}
	if len(s.Text.Records) == 0 {
		return nil, s, call.UsageError(fmt.Errorf("%s says nothing that the phrasebook of %s reads: it may be of "+
			"another make", s.File,
			s.Platform))
	}
	for _, line := range s.Text.Unread {
		c.Note("note: %s:%d: not understood: %s", r.Text, line.Number, cmp.Or(line.Text, line.Means))
	}
	return book, s, nil
}

// BookOf returns the phrasebook of a text: the one that is given, or that of the kind of a
// device of the site.
func (r *Reading) BookOf(l call.Loaded, device string) (*phrase.Book, error) {
	file := r.Book
	switch {
	case file != "":
	case l.Site == nil:
		return nil, call.Usagef("-read wants the phrasebook of the make: -book BOOK")
	case device == "":
		return nil, call.Usagef("-read wants the device, -device DEVICE, whose platform has a phrasebook; or give " +
			"-book BOOK")
	default:
		d, err := l.DeviceNamed(device)
		if err != nil {
			return nil, err
		}
		if d.Platform.Phrasebook.Name == "" {
			return nil, call.Usagef("the platform of %s names no phrasebook: write phrasebook: FILE at the "+
				"platform, or "+
				"give -book BOOK",
				d.Name)
		}
		file = files.At(l.Base, d.Platform.Phrasebook.Name)
	}
	b, err := textread.OpenBook(file)
	if err != nil {
		return nil, call.UsageError(err)
	}
	book := b.Load()
	return book, SetVersion(book, r.Version)
}

// ReadText reads a text of a file, or of standard input, by a phrasebook.
func ReadText(c *call.Call, book *phrase.Book, file string, each func(phrase.Line)) (*phrase.Text, error) {
	var text *phrase.Text
	var err error
	if file == "-" {
		text, err = textread.ReadFrom(book, "standard input", c.In, each)
	} else {
		text, err = textread.Read(book, file, each)
	}
	if err != nil {
		return nil, call.UsageError(err)
	}
	return text, nil
}

// inSite returns a site with what a text says in the place of its device; of a site that is
// not there, what the text says alone.
func inSite(c *call.Call, base call.Loaded, s inventory.Saved) (call.Loaded, *site.Device, error) {
	if len(s.Text.Records) == 0 {
		return call.Loaded{}, nil,
			call.UsageError(fmt.Errorf(
				"%s says nothing that the phrasebook of %s reads: it may be of another make", s.File, s.Platform))
	}
	if base.Site != nil {
		s.Platform = "" // that of the site's device
	}
	d := inventory.Of(s)
	options := inventory.Options{Hash: secrets.Known, Base: inventory.Base{Site: base.Site, Keys: base.Keys}}
	if base.Site == nil {
		options.Name = filepath.Base(s.File)
	} else if base.Device(d.Name) == nil {
		return call.Loaded{}, nil,
			call.Usagef("%s is of a device called %s, and the site %s has none: say which one it stands for with "+
				"-device DEVICE", s.File, d.Name, base.Path)
	}
	made := inventory.Make([]*inventory.Device{d}, options)
	for _, n := range made.Notes {
		if n.Wants {
			continue
		}
		c.Note("note: %s", NoteText(n))
	}
	if len(made.Devices) == 0 {
		return call.Loaded{}, nil, call.UsageError(fmt.Errorf("%s gives no device that a site can have", s.File))
	}
	source := site.Source{Name: s.File, Text: []byte(made.Site), Lines: made.Lines, Replaces: true}
	l := call.Loaded{Opened: sitefile.Opened{Path: s.File, Keys: site.Keys{}}}
	var err error
	if base.Site == nil {
		l.Site, err = site.Parse(source)
	} else {
		l.Path = base.Path
		l.Site, l.Base, err = sitefile.LoadWith(base.Path, source)
	}
	if err != nil {
		return call.Loaded{}, nil, call.UsageError(fmt.Errorf("what %s says makes no site: %w", s.File, err))
	}
	for name, value := range base.Keys {
		l.Keys[name] = value
	}
	for name, value := range made.Keys {
		l.Keys[name] = value
	}
	return l, l.Device(d.Name), nil
}
