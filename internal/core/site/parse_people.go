package site

import (
	"strings"
	"time"

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
		to.ref = Ref{strings.TrimSpace(name), to.Place}
		return
	}
	if !strings.HasPrefix(n.Value, "$") || strings.Count(n.Value, "$") < 3 {
		r.wrong(n, "password must be a one-way hash that starts with \"$\" ($argon2id$..., $2b$..., $6$...), or \"key NAME\"; a password in clear does not belong here")
		return
	}
	to.Hash = n.Value
}

var accountShape = shape[Account]{
	what: "an account",
	fields: map[string]field[Account]{
		"name":     nameField("an account's name", func(a *Account) *Ref { return &a.Ref }),
		"level":    intField("level", 0, 15, func(a *Account) *int { return &a.Level }),
		"password": func(r *reader, n *yaml.Node, a *Account) { r.password(n, &a.Password) },
	},
	must: []string{"name", "level", "password"},
}

var personShape = shape[Person]{
	what: "a person",
	fields: map[string]field[Person]{
		"name": nameField("a person's name", func(p *Person) *Ref { return &p.Ref }),
		"teams": func(r *reader, n *yaml.Node, p *Person) {
			r.each(n, "teams", func(item *yaml.Node) {
				if ref, ok := r.name(item, "a team"); ok {
					p.Teams = append(p.Teams, ref.Name)
				}
			})
		},
		"password": func(r *reader, n *yaml.Node, p *Person) { r.password(n, &p.Password) },
		"disabled": boolField("disabled", func(p *Person) *bool { return &p.Disabled }),
		"until": func(r *reader, n *yaml.Node, p *Person) {
			day, err := time.Parse(time.DateOnly, n.Value)
			if n.Kind != yaml.ScalarNode || err != nil {
				r.wrong(n, "until is %q; the last day is wanted, as 2027-03-31", shorten(n.Value))
				return
			}
			p.Until = day.AddDate(0, 0, 1)
		},
	},
	later: []string{"one-time-code"},
	must:  []string{"name", "password"},
}

var roleShape = shape[Role]{
	what: "a role",
	fields: map[string]field[Role]{
		"name":  nameField("a role's name", func(o *Role) *Ref { return &o.Ref }),
		"level": intField("level", 0, 15, func(o *Role) *int { return &o.Level }),
		"commands": func(r *reader, n *yaml.Node, o *Role) {
			r.each(n, "commands", func(item *yaml.Node) { r.rule(item, o) })
		},
	},
	later: []string{"send", "account"},
	must:  []string{"name", "level"},
}

// rule reads one command rule: "allow WORDS" or "refuse WORDS".
func (r *reader) rule(n *yaml.Node, o *Role) {
	text, ok := r.scalar(n, "a command rule")
	if !ok {
		return
	}
	words := strings.Fields(text)
	if len(words) < 2 || words[0] != "allow" && words[0] != "refuse" {
		hint := ""
		if len(words) > 0 {
			hint = nearest.Suggest(words[0], []string{"allow", "refuse"})
		}
		r.wrong(n, "%q is no command rule; allow or refuse and then the words is wanted, such as allow look **%s", shorten(text), hint)
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
	what: "a grant",
	fields: map[string]field[Grant]{
		"who": func(r *reader, n *yaml.Node, g *Grant) {
			r.each(n, "who", func(item *yaml.Node) {
				text, ok := r.scalar(item, "who")
				if !ok {
					return
				}
				kind, name, _ := strings.Cut(text, " ")
				name = strings.TrimSpace(name)
				w := Who{Place: r.place(item)}
				switch {
				case kind == "team" && isName(name):
					w.Team = name
				case kind == "person" && isName(name):
					w.Person = name
				default:
					r.wrong(item, "%q is nobody; \"team NAME\" or \"person NAME\" is wanted", shorten(text))
					return
				}
				g.Who = append(g.Who, w)
			})
		},
		"where": func(r *reader, n *yaml.Node, g *Grant) {
			if !r.is(n, yaml.MappingNode, "where", "labels and their values") {
				return
			}
			g.Where = map[string][]string{}
			for i := 0; i+1 < len(n.Content); i += 2 {
				label := n.Content[i].Value
				if _, twice := g.Where[label]; twice {
					r.wrong(n.Content[i], "the label %q stands twice; keep one", label)
				}
				r.each(n.Content[i+1], "the label "+label, func(item *yaml.Node) {
					if v, ok := r.scalar(item, "the label "+label); ok {
						g.Where[label] = append(g.Where[label], v)
					}
				})
			}
		},
		"through": func(r *reader, n *yaml.Node, g *Grant) {
			r.each(n, "through", func(item *yaml.Node) {
				if w := r.oneOf(item, "through", accesses...); w != "" {
					g.Through = append(g.Through, w)
				}
			})
		},
		"role": refField("role", func(g *Grant) *Ref { return &g.RoleRef }),
	},
	later: []string{"from", "hours"},
	must:  []string{"who", "role"},
}
