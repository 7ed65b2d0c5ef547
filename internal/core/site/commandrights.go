package site

import (
	"strings"

	"go.yaml.in/yaml/v4"
)

// CommandPlace stands for the command in the form of an attribute's value.
const CommandPlace = "{command}"

// CommandRights are how a make of device is told by RADIUS which commands somebody may
// use: with attributes that carry rules, in the make's own form.
type CommandRights struct {
	Allow, Refuse         string // the attributes for allowed and refused commands; one may be "", both may be one
	AllowForm, RefuseForm string // the forms of their values
	Between               string // stands between rules that share one attribute; "": an attribute for each
	Word, Rest            string // how * and ** are written
	BothAllowed           bool   // a command that two attributes name is allowed
	NeitherAllowed        bool   // a command that none names is allowed
	Place                 Place
}

// Written returns the words of a rule as the make has them.
func (c *CommandRights) Written(words []string) string {
	all := make([]string, len(words))
	for i, w := range words {
		switch w {
		case "*":
			w = c.Word
		case "**":
			w = c.Rest
		}
		all[i] = w
	}
	return strings.Join(all, " ")
}

// Read returns the rule that the value of an attribute has; false where it has none. At
// the end of a rule, what is written for * and ** alike is **.
func (c *CommandRights) Read(name, value string) (Rule, bool) {
	for _, k := range []struct {
		allow      bool
		name, form string
	}{{true, c.Allow, c.AllowForm}, {false, c.Refuse, c.RefuseForm}} {
		before, after, _ := strings.Cut(k.form, CommandPlace)
		if k.name == "" || k.name != name || !strings.HasPrefix(value, before) || !strings.HasSuffix(value, after) ||
			len(value) < len(before)+len(after) {
			continue
		}
		r := Rule{Allow: k.allow, Words: strings.Fields(value[len(before) : len(value)-len(after)])}
		for i, w := range r.Words {
			switch {
			case w == c.Rest && i == len(r.Words)-1:
				r.Words[i] = "**"
			case w == c.Word:
				r.Words[i] = "*"
			}
		}
		r.Text = "refuse " + strings.Join(r.Words, " ")
		if r.Allow {
			r.Text = "allow " + strings.Join(r.Words, " ")
		}
		return r, len(r.Words) > 0
	}
	return Rule{}, false
}

var commandRightsShape = shape[CommandRights]{
	what: "commands",
	fields: map[string]field[CommandRights]{
		"allow":       textOf("allow", func(c *CommandRights) *string { return &c.Allow }),
		"refuse":      textOf("refuse", func(c *CommandRights) *string { return &c.Refuse }),
		"allow-form":  commandForm("allow-form", func(c *CommandRights) *string { return &c.AllowForm }),
		"refuse-form": commandForm("refuse-form", func(c *CommandRights) *string { return &c.RefuseForm }),
		"between":     textOf("between", func(c *CommandRights) *string { return &c.Between }),
		"word":        textOf("word", func(c *CommandRights) *string { return &c.Word }),
		"rest":        textOf("rest", func(c *CommandRights) *string { return &c.Rest }),
		"both": wordField("both", []string{"refused", "allowed"},
			func(c *CommandRights, w string) { c.BothAllowed = w == "allowed" }),
		"neither": wordField("neither", []string{"refused", "allowed"},
			func(c *CommandRights, w string) { c.NeitherAllowed = w == "allowed" }),
	},
}

func commandForm(what string, at func(*CommandRights) *string) field[CommandRights] {
	return field[CommandRights]{form: textForm(), read: func(r *reader, n *yaml.Node, c *CommandRights) {
		text, ok := r.scalar(n, what)
		if ok && strings.Count(text, CommandPlace) != 1 {
			r.wrong(n, "%s is %q; a form of the value with %s in it is wanted", what, shorten(text), CommandPlace)
			return
		}
		*at(c) = text
	}}
}

func readCommandRights(r *reader, n *yaml.Node, v *Vendor) {
	c := &CommandRights{AllowForm: CommandPlace, RefuseForm: CommandPlace, Word: "*", Rest: "**", Place: r.place(n)}
	commandRightsShape.read(r, n, c)
	switch {
	case c.Allow == "" && c.Refuse == "":
		r.wrong(n, "commands needs an attribute: allow: NAME, refuse: NAME, or both")
	case c.Allow == c.Refuse && c.AllowForm == c.RefuseForm:
		r.wrong(n, "allowed and refused commands are in the same attribute and the same form, so nobody can tell "+
			"them apart; give them forms: allow-form: \"+%s\", refuse-form: \"-%s\"", CommandPlace, CommandPlace)
	case c.Word == "" || c.Rest == "":
		r.wrong(n, "word and rest are how * and ** are written, and cannot be empty")
	}
	v.Commands = c
}

// commandRights leads platforms to the vendors whose form of command rules they take.
func (l *linker) commandRights() {
	vendors := make(map[string]*Vendor, len(l.site.Vendors))
	for _, v := range l.site.Vendors {
		vendors[v.Name] = v
	}
	for _, k := range l.site.Platforms {
		from := k.Behaviour.CommandsFrom
		if from.Name == "" {
			continue
		}
		v := find(l, "vendor", vendors, from)
		switch {
		case v == nil:
		case v.Commands == nil:
			l.wrong(from.Place, "the vendor %s does not say how it carries commands; write commands: {allow: "+
				"ATTRIBUTE} there",
				v.Name)
		default:
			k.Commands = v.Commands
		}
	}
}
