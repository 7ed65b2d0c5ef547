package site

import (
	"net/netip"
	"strings"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

func freshAccount(*reader, *yaml.Node) Account { return Account{Level: 1} }

// password reads a one-way hash, or "key NAME".
func (r *reader) password(n *yaml.Node, to *Password) {
	if !r.is(n, yaml.ScalarNode, "password", "a hash") {
		return
	}
	to.Place = r.place(n)
	if name, ok := strings.CutPrefix(n.Value, "key "); ok && isName(strings.TrimSpace(name)) {
		to.ref = Ref{Name: strings.TrimSpace(name), Place: to.Place}
		return
	}
	if !strings.HasPrefix(n.Value, "$") || strings.Count(n.Value, "$") < 3 {
		r.wrong(n, "password must be a one-way hash that starts with \"$\" ($argon2id$..., $2b$..., $6$...), or "+
			"\"key NAME\"; a password in clear does not belong here")
		return
	}
	to.Hash = n.Value
}

var accountShape = shape[Account]{
	what: "an account",
	fields: map[string]field[Account]{
		"name":  nameField("an account's name", func(a *Account) *Ref { return &a.Ref }),
		"level": intField("level", 0, 15, func(a *Account) *int { return &a.Level }),
		"login": refField("a login list", func(a *Account) *Ref { return &a.loginRef }),
		"password": {read: func(r *reader, n *yaml.Node, a *Account) {
			if n.Value == "none" {
				a.Password = Password{None: true, Place: r.place(n)}
				return
			}
			r.password(n, &a.Password)
		}, form: patternForm(`^(\$.+|key .+|none)$`)},
	},
	must: []string{"name", "level", "password"},
}

func passwordField[T any](at func(*T) *Password) field[T] {
	return field[T]{read: func(r *reader, n *yaml.Node, v *T) { r.password(n, at(v)) },
		form: patternForm(`^(\$.+|key .+)$`)}
}

func freshElevation(*reader, *yaml.Node) ElevationSecret { return ElevationSecret{Level: 15} }

var elevationShape = shape[ElevationSecret]{
	what: "an elevation secret",
	fields: map[string]field[ElevationSecret]{
		"name":     nameField("a secret's name", func(e *ElevationSecret) *Ref { return &e.Ref }),
		"level":    intField("level", 1, 15, func(e *ElevationSecret) *int { return &e.Level }),
		"password": passwordField(func(e *ElevationSecret) *Password { return &e.Password }),
	},
	must: []string{"name", "password"},
}

var personShape = shape[Person]{
	what: "a person",
	fields: map[string]field[Person]{
		"name": nameField("a person's name", func(p *Person) *Ref { return &p.Ref }),
		"teams": itemsField("teams", nameForm(), func(r *reader, n *yaml.Node, _ string, p *Person) {
			if ref, ok := r.name(n, "a team"); ok {
				p.Teams = append(p.Teams, ref.Name)
			}
		}),
		"password": passwordField(func(p *Person) *Password { return &p.Password }),
		"one-time-code": {read: func(r *reader, n *yaml.Node, p *Person) {
			text, ok := r.scalar(n, "one-time-code")
			name, cut := strings.CutPrefix(text, "key ")
			if name = strings.TrimSpace(name); ok && (!cut || !isName(name)) {
				r.wrong(n, "one-time-code must be \"key NAME\": the seed is a secret and stays with the keys")
			}
			p.oneTime = Ref{Name: name, Place: r.place(n)}
		}, form: patternForm("^key .+$")},
		"from":     wordField("from", []string{"directory"}, func(p *Person, _ string) { p.FromDirectory = true }),
		"disabled": boolField("disabled", func(p *Person) *bool { return &p.Disabled }),
		"until":    {read: func(r *reader, n *yaml.Node, p *Person) { r.day(n, &p.Until) }, form: dayForm()},
	},
	must: []string{"name"},
}

var teamShape = shape[Team]{
	what: "a team",
	fields: map[string]field[Team]{
		"name": nameField("a team's name", func(t *Team) *Ref { return &t.Ref }),
		"one-time-code": wordField("one-time-code", []string{"needed", "free"},
			func(t *Team, w string) { t.NeedsCode = w == "needed" }),
	},
	must: []string{"name", "one-time-code"},
}

var roleShape = shape[Role]{
	what: "a role",
	fields: map[string]field[Role]{
		"name":  nameField("a role's name", func(o *Role) *Ref { return &o.Ref }),
		"level": intField("level", 0, 15, func(o *Role) *int { return &o.Level }),
		"commands": itemsField("a command rule", patternForm("^(allow|refuse) .+$"),
			func(r *reader, n *yaml.Node, text string, o *Role) { r.rule(n, text, o) }),
		"case":    wordField("case", []string{"any", "exact"}, func(o *Role, w string) { o.Exact = w == "exact" }),
		"send":    inner(&sendShape, func(o *Role) *Role { return o }),
		"account": nameField("account", func(o *Role) *Ref { return &o.Template }),
	},
	must: []string{"name", "level"},
}

var sendShape = shape[Role]{
	what: "send",
	fields: map[string]field[Role]{
		"radius": sentField(&sentRADIUSShape, func(o *Role) *[]SentAttribute { return &o.SendRADIUS }),
		"tacacs": sentField(&sentTACACSShape, func(o *Role) *[]SentAttribute { return &o.SendTACACS }),
	},
}

func sentField(sh *shape[SentAttribute], at func(*Role) *[]SentAttribute) field[Role] {
	return field[Role]{read: func(r *reader, n *yaml.Node, o *Role) {
		if !r.is(n, yaml.SequenceNode, "this", "a list of attributes") {
			return
		}
		for _, item := range n.Content {
			var a SentAttribute
			sh.read(r, item, &a)
			*at(o) = append(*at(o), a)
		}
	}, form: listForm(sh.form())}
}

var sentRADIUSShape = shape[SentAttribute]{
	what: "an attribute",
	fields: map[string]field[SentAttribute]{
		"name":  nameField("an attribute's name", func(a *SentAttribute) *Ref { return &a.Ref }),
		"value": textOf("value", func(a *SentAttribute) *string { return &a.Value }),
	},
	must: []string{"name", "value"},
}

var sentTACACSShape = shape[SentAttribute]{
	what: "an argument",
	fields: map[string]field[SentAttribute]{
		"name":     nameField("an argument's name", func(a *SentAttribute) *Ref { return &a.Ref }),
		"value":    textOf("value", func(a *SentAttribute) *string { return &a.Value }),
		"optional": boolField("optional", func(a *SentAttribute) *bool { return &a.Optional }),
	},
	must: []string{"name", "value"},
}

// rule reads one command rule: "allow WORDS" or "refuse WORDS".
func (r *reader) rule(n *yaml.Node, text string, o *Role) {
	words := strings.Fields(text)
	if len(words) < 2 || words[0] != "allow" && words[0] != "refuse" {
		hint := ""
		if len(words) > 0 {
			hint = nearest.Suggest(words[0], []string{"allow", "refuse"})
		}
		r.wrong(n, "%q is no command rule; allow or refuse and then the words is wanted, such as allow look **%s",
			shorten(text), hint)
		return
	}
	for _, w := range words[1 : len(words)-1] {
		if w == "**" {
			r.wrong(n, "** is the rest of the line and so stands last in a rule")
			return
		}
	}
	o.Commands = append(o.Commands, Rule{Allow: words[0] == "allow", Words: words[1:], Text: text, Place: r.place(n)})
}

func freshGrant(r *reader, n *yaml.Node) Grant { return Grant{Place: r.place(n)} }

var grantShape = shape[Grant]{
	what: "a grant", renamed: renamedInGrant,
	fields: map[string]field[Grant]{
		"proven-by": itemsField("proven-by", wordsForm("password", "none"),
			func(r *reader, n *yaml.Node, text string, g *Grant) {
				if w := r.oneOf(n, "proven-by", "password", "none"); w == "none" {
					g.Unproven = true
				}
			}),
		"who": itemsField("who", patternForm("^(team|person) .+$"),
			func(r *reader, n *yaml.Node, text string, g *Grant) {
				kind, name, _ := strings.Cut(text, " ")
				name = strings.TrimSpace(name)
				w := Who{Place: r.place(n)}
				switch {
				case kind == "team" && isName(name):
					w.Team = name
				case kind == "person" && isName(name):
					w.Person = name
				default:
					r.wrong(n, "%q is nobody; \"team NAME\" or \"person NAME\" is wanted", shorten(text))
					return
				}
				g.Who = append(g.Who, w)
			}),
		"where": {read: func(r *reader, n *yaml.Node, g *Grant) {
			g.Where = map[string][]string{}
			r.pairs(n, "where", "labels and their values", func(key, value *yaml.Node) {
				r.each(value, "the label "+key.Value, func(item *yaml.Node) {
					if v, ok := r.scalar(item, "the label "+key.Value); ok {
						g.Where[key.Value] = append(g.Where[key.Value], v)
					}
				})
			})
		}, form: mapForm(oneOrMore(textForm()))},
		"devices": itemsField("devices", nameForm(), func(r *reader, n *yaml.Node, text string, g *Grant) {
			g.Devices = append(g.Devices, Ref{Name: text, Place: r.place(n)})
		}),
		"access": itemsField("access", wordsForm(accesses...), func(r *reader, n *yaml.Node, _ string, g *Grant) {
			if w := r.oneOf(n, "access", accesses...); w != "" {
				g.Through = append(g.Through, w)
			}
		}),
		"from": prefixesField("from", func(g *Grant) *[]netip.Prefix { return &g.From }),
		"hours": itemsField("hours", patternForm("[0-9]{2}:[0-9]{2}-[0-9]{2}:[0-9]{2}"),
			func(r *reader, n *yaml.Node, text string, g *Grant) {
				h, err := ParseHours(text)
				if err != nil {
					r.wrong(n, "%s", err)
					return
				}
				g.Hours = append(g.Hours, h)
			}),
		"role": refField("role", func(g *Grant) *Ref { return &g.RoleRef }),
	},
	must: []string{"who", "role"},
}
