package phrase

import (
	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/phrase/talk"
)

// Talk returns how devices of the make are talked to, nil where the phrasebook does not say.
func (b *Book) Talk() *talk.Talk { return b.talk }

// talk reads how devices of the make are talked to.
func (l *loader) talk(n *yaml.Node) {
	t := &talk.Talk{Effect: talk.AtOnce, Fits: l.book.fits}
	line := func(to *string, what string) func(*yaml.Node) {
		return func(n *yaml.Node) { *to = l.text(n, what) }
	}
	list := func(to *[]string, what string) func(*yaml.Node) {
		return func(n *yaml.Node) {
			for _, v := range l.texts(n, what) {
				*to = append(*to, v.Value)
			}
		}
	}
	l.fields(n, "talk", map[string]func(*yaml.Node){
		"prompts": func(n *yaml.Node) {
			l.pairs(n, "prompts", func(key, value *yaml.Node) {
				t.Prompts = append(t.Prompts, talk.Prompt{Name: key.Value, Shows: l.text(value, "a prompt"),
					Configuring: key.Value == "configuring"})
			})
		},
		"page": func(n *yaml.Node) {
			l.fields(n, "page", map[string]func(*yaml.Node){"shows": line(&t.Page, "shows"),
				"press": func(n *yaml.Node) {
					t.Press = map[string]string{"space": " ",
						"enter": "\r"}[l.oneOf(n, "press", []string{"space", "enter"})]
				}})
		},
		"enter": list(&t.Enter, "enter"),
		"leave": list(&t.Leave, "leave"),
		"show":  line(&t.Show, "show"),
		"save": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				t.Save = n.Value
				return
			}
			l.fields(n, "save", map[string]func(*yaml.Node){"say": line(&t.Save, "say"), "asks": func(n *yaml.Node) {
				t.Asks = map[string]string{}
				l.pairs(n, "asks", func(key, value *yaml.Node) { t.Asks[key.Value] = l.text(value, "an answer") })
			}})
		},
		"refused": func(n *yaml.Node) { t.Refused = l.patterns(n, "refused") },
		"warns":   func(n *yaml.Node) { t.Remarks = l.patterns(n, "warns") },
		"takes-effect": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				t.Effect = talk.Effect(l.oneOf(n, "takes-effect", []string{string(talk.AtOnce), string(talk.AtSave)}))
				return
			}
			l.fields(n, "takes-effect", map[string]func(*yaml.Node){
				"at":  func(n *yaml.Node) { t.Effect = talk.Effect(l.oneOf(n, "at", []string{string(talk.AtCommit)})) },
				"say": line(&t.Commit, "say")})
		},
		"way-back": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				l.oneOf(n, "way-back", []string{"none"})
				return
			}
			w := &talk.WayBack{}
			l.fields(n, "way-back", map[string]func(*yaml.Node){"set": line(&w.Set, "set"),
				"call-off": line(&w.CallOff, "call-off"),
				"also-on":  func(n *yaml.Node) { w.OnLoss = l.oneOf(n, "also-on", []string{"lost-session"}) != "" },
				"restores": func(n *yaml.Node) {
					w.Restores = l.oneOf(n, "restores", []string{talk.ToSaved, talk.ToBefore})
				}})
			if w.Set == "" || w.CallOff == "" || w.Restores == "" {
				l.wrong(n, "a way back wants three: set, call-off, and restores: saved or before")
			}
			t.WayBack = w
		},
	})
	switch {
	case len(t.Prompts) == 0:
		l.wrong(n, "talk wants the prompts: prompts: {full: \"<host>#\"}, with configuring for where it is configured")
	case len(t.Enter) > 0 && !t.HasConfiguring():
		l.wrong(n, "talk says how to come where it is configured, and no prompt of that place: prompts: "+
			"{configuring: ...}")
	}
	l.book.talk = t
}
