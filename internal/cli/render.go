package cli

import (
	"os"
	"strings"
	"text/template"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/store/files"
)

func renderCommand() *Command {
	return &Command{
		Computes: true,
		Name:     "render", Args: "DEVICE [SITE]", Short: "the design of a device as configuration data of an open model",
		MaxArgs: 2,
		Long: `Prints what one device should have, as data: -model ietf is ietf-system (RFC 7317) with
ietf-system-tacacs-plus (RFC 9105); -model openconfig is OpenConfig's system model; as JSON (RFC 7951) or XML.
With -template FILE it is the user's own text/template over the view that docs/templates.md describes, for
devices that speak neither.

Every part of the design that the model cannot carry is named on standard error. Keys stand as placeholders
unless -with-keys puts their values in.`,
		Examples: []Example{
			{Call: "mellowgate render north-sw-1 demo/as-reviewed", Shows: "a switch, as data of ietf-system"},
			{Call: "mellowgate render -model openconfig -format xml mv-avocet-rtr demo/as-reviewed",
				Shows: "a ship's router, as OpenConfig XML"},
		},
		Prepare: func(c *Call) func() error {
			model := c.Flags.String("model", "ietf", "the `model`: ietf or openconfig")
			format := c.Flags.String("format", "json", "the `form`: json or xml")
			path := c.Flags.String("template", "", "a text/template `file` in place of a model")
			withKeys := c.Flags.Bool("with-keys", false, "put the values of keys in, in place of placeholders")
			return func() error {
				d, l, err := c.deviceOfSite()
				if err != nil {
					return err
				}
				secrets := yang.Placeholders
				if *withKeys {
					secrets = func(key string) string { return l.Keys[key].Reveal() }
				}
				plan := blueprint.Of(d)
				if *path != "" {
					return c.fill(*path, plan, secrets)
				}
				if *format != "json" && *format != "xml" {
					return wrong("-format is %q; json or xml is wanted", *format)
				}
				by, known := yang.Models[*model]
				if !known {
					return wrong("-model is %q; ietf or openconfig is wanted", *model)
				}
				data, left := by.Of(plan, secrets)
				encode := data.JSON
				if *format == "xml" {
					encode = data.XML
				}
				text, err := encode()
				if err != nil {
					return cannot(err)
				}
				for _, n := range left {
					c.note("not carried: %s", n)
				}
				_, err = c.Out.Write(text)
				return err
			}
		},
	}
}

// fill fills the user's own template with the view of a device.
func (c *Call) fill(path string, plan blueprint.Blueprint, keys yang.Secrets) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return failure{status: ExitUsage, err: files.Unreadable(path, err)}
	}
	t, err := template.New(path).Funcs(template.FuncMap{"key": keys,
		"join": strings.Join}).Option("missingkey=error").Parse(string(text))
	if err == nil {
		err = t.Execute(c.Out, plan)
	}
	if err != nil {
		return wrong("%s", strings.TrimPrefix(err.Error(), "template: "))
	}
	return nil
}
