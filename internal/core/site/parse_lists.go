package site

import (
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

func freshList(*reader, *yaml.Node) List {
	return List{Purpose: PurposeCount, Levels: Range{Low: 0, High: 15}}
}

// purposeField reads one of the three keys that say what a list is for.
func purposeField(verb string, words []string, purposes ...Purpose) field[List] {
	return field[List]{form: wordsForm(words...), read: func(r *reader, n *yaml.Node, l *List) {
		word := r.oneOf(n, verb, words...)
		if word == "" {
			l.Purpose = Login // the problem is said; do not report a missing purpose too
			return
		}
		if l.Purpose != PurposeCount {
			r.wrong(n, "a list has one purpose; keep one of authenticate, authorize and account")
		}
		l.Purpose = purposes[slices.Index(words, word)]
	}}
}

var whenField = wordField("when", []string{"start and stop", "stop", "start"},
	func(l *List, w string) { l.Start, l.NoStop = w != "stop", w == "start" })

var listShape = shape[List]{
	what: "a list",
	fields: map[string]field[List]{
		"name":         nameField("a list's name", func(l *List) *Ref { return &l.Ref }),
		"authenticate": purposeField("authenticate", []string{"login", "elevation"}, Login, Elevation),
		"authorize":    purposeField("authorize", []string{"session", "commands"}, Session, Commands),
		"account": purposeField("account", []string{"sessions", "commands", "system"}, RecordSessions, RecordCommands,
			RecordSystem),
		"levels": {read: func(r *reader, n *yaml.Node, l *List) {
			if span, ok := r.span(n, "levels", 15); ok {
				l.Levels = span
			}
		}, form: rangeForm()},
		"when": {read: func(r *reader, n *yaml.Node, l *List) {
			whenField.read(r, r.currentValue(n, renamedWhen), l)
		}, form: whenField.form},
		"only": refsField("only", func(l *List) *[]Ref { return &l.Only }),
		"methods": {read: func(r *reader, n *yaml.Node, l *List) { l.Methods = r.methods(n) },
			form: oneOrMore(patternForm("^(group .+|secret .+|local|signed-in|none)$"))},
	},
	must: []string{"name", "methods"},
}

func (r *reader) methods(n *yaml.Node) []Method {
	var all []Method
	r.each(n, "methods", func(item *yaml.Node) {
		if m, ok := r.method(item); ok {
			all = append(all, m)
		}
	})
	return all
}

// method reads one method of a list: "group NAME", "secret NAME", "local",
// "signed-in", "none".
func (r *reader) method(n *yaml.Node) (Method, bool) {
	text, ok := r.scalar(n, "a method")
	if !ok {
		return Method{}, false
	}
	word, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	m := Method{Kind: MethodKind(word), Place: r.place(n)}
	switch {
	case (m.Kind == ByGroup || m.Kind == BySecret) && isName(rest):
		m.Ref = Ref{Name: rest, Place: m.Place}
	case (m.Kind == ByLocal || m.Kind == SignedIn || m.Kind == ByNone) && rest == "":
	default:
		r.wrong(n, "%q is no method; group NAME, local, signed-in, none or, for an elevation, secret NAME is wanted%s",
			shorten(text),
			nearest.Suggest(word, []string{"group", "local", "signed-in", "none", "secret"}))
		return m, false
	}
	return m, true
}

func freshPlatform(*reader, *yaml.Node) Platform { return Platform{Behaviour: DefaultBehaviour()} }

var platformShape = shape[Platform]{
	what: "a platform", renamed: renamedInPlatform,
	fields: map[string]field[Platform]{
		"name": nameField("a platform's name", func(k *Platform) *Ref { return &k.Ref }),
		"phrasebook": {read: func(r *reader, n *yaml.Node, k *Platform) {
			if text, ok := r.scalar(n, "phrasebook"); ok {
				k.Phrasebook = Ref{Name: text, Place: r.place(n)}
			}
		}, form: textForm()},
		"behaviour": {read: func(r *reader, n *yaml.Node, k *Platform) {
			if n.Tag != "!!null" {
				k.BehaviourAt = r.place(n)
				aspectShape().read(r, n, k)
			}
		}, form: orNothing(aspectShape().form())},
	},
	must: []string{"name"},
}

var aspectShape = sync.OnceValue(func() *shape[Platform] {
	fields := make(map[string]field[Platform], len(behaviour)+4)
	for name, t := range behaviour {
		fields[name] = field[Platform]{read: func(r *reader, n *yaml.Node, k *Platform) {
			k.says(name)
			if text, ok := r.scalar(n, name); ok && !t.set(&k.Behaviour, text) {
				r.wrong(n, "%s is %q; %s is wanted", name, shorten(text), t.takes)
			}
		}, form: aspectForm(t)}
	}
	fields["speaks"] = field[Platform]{read: func(r *reader, n *yaml.Node, k *Platform) {
		k.Behaviour.Unspoken = []Protocol{RADIUS, TACACS, LDAP}
		r.each(n, "speaks", func(item *yaml.Node) {
			spoken := Protocol(r.oneOf(item, "speaks", "radius", "tacacs", "ldap"))
			k.Behaviour.Unspoken = slices.DeleteFunc(k.Behaviour.Unspoken, func(p Protocol) bool { return p == spoken })
		})
	}, form: oneOrMore(wordsForm("radius", "tacacs", "ldap"))}
	fields["models"] = field[Platform]{read: func(r *reader, n *yaml.Node, k *Platform) {
		k.Behaviour.LacksModels = slices.Clone(Models)
		r.each(n, "models", func(item *yaml.Node) {
			has := r.oneOf(item, "models", Models...)
			k.Behaviour.LacksModels = slices.DeleteFunc(
				k.Behaviour.LacksModels, func(m string) bool { return m == has })
		})
	}, form: oneOrMore(wordsForm(Models...))}
	fields["commands-from"] = field[Platform]{read: func(r *reader, n *yaml.Node, k *Platform) {
		if text, ok := r.scalar(n, "commands-from"); ok && text != "none" {
			k.Behaviour.CommandsFrom, _ = r.name(n, "a vendor")
		}
	}, form: nameForm()}
	fields["port-names"] = inner(&portNamesShape, func(k *Platform) *PortNames { return &k.Behaviour.PortNames })
	forms := inner(&passwordAsShape, func(k *Platform) *PasswordForms { return &k.Behaviour.PasswordAs })
	fields["password-form"] = field[Platform]{read: func(r *reader, n *yaml.Node, k *Platform) {
		for i := 0; n.Kind == yaml.MappingNode && i < len(n.Content); i += 2 {
			k.says("password-form " + n.Content[i].Value)
		}
		k.FormsAt = r.place(n)
		forms.read(r, n, k)
	}, form: forms.form}
	return &shape[Platform]{what: "behaviour", fields: fields, renamed: renamedBehaviour}
})

var passwordAsShape = shape[PasswordForms]{
	what: "password-form",
	fields: map[string]field[PasswordForms]{
		"radius": wordField("radius", FormsOf(RADIUS), func(f *PasswordForms, w string) { f.RADIUS = w }),
		"tacacs": wordField("tacacs", FormsOf(TACACS), func(f *PasswordForms, w string) { f.TACACS = w }),
	},
}

func rangeForm() form {
	return form{"type": []string{"string", "integer"}, "pattern": "^[0-9]+(-[0-9]+)?$"}
}
