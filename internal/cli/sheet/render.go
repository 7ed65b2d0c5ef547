package sheet

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/template"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/task/cliplan"
)

func RenderCommand() *call.Command {
	return &call.Command{
		Computes: true,
		Name:     "render", Args: "DEVICE [SITE]",
		Short:   "the design of a device in the lines of its make, or as data",
		MaxArgs: 2,
		Long: `Prints what one device should have. Where the platform of the device names a phrasebook, or -book
does, these are the lines of its make. With -read TEXT, what the device holds now, they are only the lines that bring
it from there to the design, in an order in which nobody is locked out: each step is tried on a model of the device
first, and -undo prints what takes the steps back.

For a device without a phrasebook, or with -model, it is data: -model ietf is ietf-system (RFC 7317) with
ietf-system-tacacs-plus (RFC 9105); -model openconfig is OpenConfig's system model; as JSON (RFC 7951) or XML.
With -template FILE it is the user's own text/template over the view that docs/templates.md describes.

What cannot be carried is named on standard error, and stands in no line. Keys and passwords stand as placeholders
unless -with-keys puts their values in.`,
		Examples: []call.Example{
			{Call: "mellowgate render north-sw-1 demo/as-reviewed", Shows: "a switch, in the lines of its make"},
			{Call: "mellowgate render -read demo/saved/north-sw-1.txt north-sw-1 demo/as-reviewed",
				Shows: "the lines from what it holds to its design"},
			{Call: "mellowgate render -model openconfig -format xml mv-avocet-rtr demo/as-reviewed",
				Shows: "a ship's router, as OpenConfig XML"},
		},
		Prepare: func(c *call.Call) func() error {
			r := &rendering{Reading: texts.HeldFlags(c)}
			c.Flags.StringVar(&r.model, "model", "",
				"the `model`: ietf or openconfig (default ietf, where no phrasebook is known)")
			c.Flags.StringVar(&r.format, "format", "", "the `form` of data: json or xml (default json)")
			c.Flags.StringVar(&r.template, "template", "", "a text/template `file` in place of a model")
			c.Flags.BoolVar(&r.withKeys, "with-keys", false, "put the values of keys in, in place of placeholders")
			c.Flags.BoolVar(&r.undo, "undo", false, "with -read: the lines that take the change back, the last "+
				"step first")
			return func() error { return render(c, r) }
		},
	}
}

// rendering is what a call of render asks for.
type rendering struct {
	*texts.Reading
	model, format, template string
	withKeys, undo          bool
}

func render(c *call.Call, r *rendering) error {
	d, l, err := deviceOfSite(c)
	if err != nil {
		return err
	}
	secrets := yang.Placeholders
	if r.withKeys {
		secrets = func(key string) string { return l.Keys[key].Reveal() }
	}
	plan := blueprint.Of(d)
	switch {
	case r.template != "":
		return fill(c, r.template, plan, secrets)
	case r.undo && r.Text == "":
		return call.Usagef("-undo is for -read TEXT: what is taken back depends on what the device holds")
	case r.model+r.format == "" && (r.Book != "" || r.Text != "" || d.Platform.Phrasebook.Name != ""):
		return renderLines(c, r, d, l)
	case r.Book != "" || r.Text != "":
		return call.Usagef("-book and -read are for the lines of a make, and -model is for data: leave one out")
	case r.format != "" && r.format != "json" && r.format != "xml":
		return call.Usagef("-format is %q; json or xml is wanted", r.format)
	}
	by, known := yang.Models[cmp.Or(r.model, "ietf")]
	if !known {
		return call.Usagef("-model is %q; ietf or openconfig is wanted", r.model)
	}
	data, left := by.Of(plan, secrets)
	encode := data.JSON
	if r.format == "xml" {
		encode = data.XML
	}
	text, err := encode()
	if err != nil {
		return call.TaskError(err)
	}
	for _, n := range left {
		c.Note("not carried: %s", n)
	}
	_, err = c.Out.Write(text)
	return err
}

// renderLines prints the lines of the make: all of the design, or from what a text says to it.
func renderLines(c *call.Call, r *rendering, d *site.Device, l call.Loaded) error {
	design, err := LinesOf(c, r.Reading, d, l)
	if err != nil {
		return err
	}
	if r.Text == "" {
		sentences, left := design.Write()
		lines, err := design.Book.Text(sentences, r.withKeys)
		if err != nil {
			return call.UsageError(err)
		}
		for _, n := range left {
			c.Note("not carried: %s", show.Safe(n))
		}
		_, err = io.WriteString(c.Out, strings.Join(append(lines, ""), "\n"))
		return err
	}
	plan, err := planFrom(c, r.Reading, design)
	if err != nil {
		return err
	}
	steps := plan.Steps
	if len(steps) == 0 {
		c.Note("nothing to type: what %s holds is the design, as far as its make can say it", d.Name)
	}
	if r.undo {
		steps = slices.Clone(steps)
		slices.Reverse(steps)
	}
	for _, s := range steps {
		typed := s.Lines
		if r.undo {
			typed = s.Undo
			if s.Stuck != "" {
				c.Note("not taken back: %s: %s", s.Record, s.Stuck)
			}
		}
		lines, err := design.Book.Text(typed, r.withKeys)
		if err != nil {
			return call.UsageError(err)
		}
		if _, err := io.WriteString(c.Out, strings.Join(append(lines, ""), "\n")); err != nil {
			return err
		}
	}
	return nil
}

// LinesOf is the design of a device with the phrasebook of its make.
func LinesOf(c *call.Call, r *texts.Reading, d *site.Device, l call.Loaded) (cliplan.Design, error) {
	book, err := r.BookOf(l, d.Name)
	if err != nil {
		return cliplan.Design{}, err
	}
	return cliplan.Design{Path: l.Path, Site: l.Site, Keys: l.Keys, Device: d, Book: book}, nil
}

// planFrom plans from the text of -read, and notes what the plan does not reach.
func planFrom(c *call.Call, r *texts.Reading, design cliplan.Design) (*cliplan.Plan, error) {
	held, err := HeldText(c, r.Text)
	if err != nil {
		return nil, err
	}
	plan, err := design.Plan(held)
	if err != nil {
		return nil, call.UsageError(fmt.Errorf("%s: %w", r.Text, err))
	}
	for _, n := range plan.Left {
		c.Note("not carried: %s", show.Safe(n))
	}
	for _, n := range plan.Typed {
		c.Note("put in by hand: %s, which the site does not have in clear", n)
	}
	if plan.Unsafe > 0 {
		c.Note("not safe: %d of the steps let nobody with full rights in until the next one is typed; keep a "+
			"session open, and set a timed way back", plan.Unsafe)
	}
	return plan, nil
}

// HeldText reads a text whole, from a file or from standard input.
func HeldText(c *call.Call, file string) (string, error) {
	if file == "-" {
		text, err := io.ReadAll(io.LimitReader(c.In, files.MaxFile))
		return string(text), err
	}
	text, err := files.ReadFile(file)
	if err != nil {
		return "", call.UsageError(err)
	}
	return string(text), nil
}

// fill fills the user's own template with the view of a device.
func fill(c *call.Call, path string, plan blueprint.Blueprint, keys yang.Secrets) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return call.UsageError(files.Unreadable(path, err))
	}
	t, err := template.New(path).Funcs(template.FuncMap{"key": keys,
		"join": strings.Join}).Option("missingkey=error").Parse(string(text))
	if err == nil {
		err = t.Execute(c.Out, plan)
	}
	if err != nil {
		return call.Usagef("%s", strings.TrimPrefix(err.Error(), "template: "))
	}
	return nil
}
