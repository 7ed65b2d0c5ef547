package site

import (
	_ "embed" // the meanings
	"encoding/json"
	"strconv"
	"strings"
)

// form is a part of the JSON Schema of the language (draft 2020-12). It is
// made from the same shapes that read a file, so that the two cannot differ.
type form map[string]any

const namePattern = "^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$"

func textForm() form { return form{"type": []string{"string", "number", "boolean"}} }
func nameForm() form {
	return form{"type": []string{"string", "integer"}, "pattern": namePattern}
}
func intForm(low, high int) form { return form{"type": "integer", "minimum": low, "maximum": high} }
func durationForm() form {
	return form{"type": []string{"string", "integer"}, "pattern": `^([0-9.]+(ns|us|ms|s|m|h))+$|^0$`}
}
func patternForm(pattern string) form { return form{"type": "string", "pattern": pattern} }
func listForm(item form) form         { return form{"type": "array", "items": item} }

// wordsForm is one of a few words. What YAML reads as true or false is one.
func wordsForm(words ...string) form {
	all := make([]any, len(words))
	for i, w := range words {
		all[i] = w
	}
	return form{"enum": all}
}

func oneOrMore(item form) form { return form{"anyOf": []any{item, listForm(item)}} }
func orNothing(f form) form    { return form{"anyOf": []any{f, form{"type": "null"}}} }

// mapForm is a mapping with any names as keys.
func mapForm(value form) form {
	return form{"type": "object", "propertyNames": form{"pattern": namePattern}, "additionalProperties": value}
}

//go:embed meanings.txt
var meaningsText string

// meaning is what a key is for.
type meaning struct {
	text   string
	unless any // what holds where it is not written; nil: nothing in particular
}

// meanings returns what each key means, by its path, of a text of lines
// "KEY = DEFAULT: MEANING". Lines with # are no keys.
func meanings(text string) map[string]meaning {
	all := map[string]meaning{}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		key, says, found := strings.Cut(line, ": ")
		if !found || strings.HasPrefix(line, "#") {
			continue
		}
		key, unless, has := strings.Cut(key, " = ")
		m := meaning{text: says}
		if has {
			m.unless = valueOf(unless)
		}
		all[key] = m
	}
	for name, t := range behaviour {
		path := "platforms.behaviour." + name
		m := all[path]
		m.text += " (" + t.takes + ")"
		m.unless = valueOf(t.get(DefaultBehaviour()))
		all[path] = m
	}
	return all
}

// valueOf returns a default as JSON has it.
func valueOf(text string) any {
	if items := strings.Split(text, ", "); len(items) > 1 {
		return items
	}
	if n, err := strconv.Atoi(text); err == nil {
		return n
	}
	if b, err := strconv.ParseBool(text); err == nil {
		return b
	}
	return text
}

// meaningOf finds what the key at a path means. Profiles, the ways in and the people of a
// lab have the keys of what they stand for.
func meaningOf(all map[string]meaning, path string) (string, meaning) {
	if m, ok := all[path]; ok {
		return path, m
	}
	path = strings.TrimPrefix(path, "lab.")
	path = strings.Replace(path, "profiles.", "devices.", 1)
	if parts := strings.Split(path, "."); len(parts) == 4 && parts[1] == "access" {
		path = parts[0] + ".access.*." + parts[3]
	}
	return path, all[path]
}

// described returns a form with what its keys mean. Forms are shared between places, so
// it is a copy.
func described(v any, path string, of func(path string) meaning) any {
	switch v := v.(type) {
	case form:
		f := form{}
		for key, part := range v {
			switch key {
			case "properties":
				properties := form{}
				for name, inner := range part.(form) {
					at := strings.TrimPrefix(path+"."+name, ".")
					properties[name] = meant(described(inner, at, of), of(at))
				}
				f[key] = properties
			case "additionalProperties":
				f[key] = described(part, path+".*", of)
				if inner, ok := f[key].(form); ok {
					f[key] = meant(inner, of(path+".*"))
				}
			default:
				f[key] = described(part, path, of)
			}
		}
		return f
	case []any:
		all := make([]any, len(v))
		for i, part := range v {
			all[i] = described(part, path, of)
		}
		return all
	}
	return v
}

func meant(v any, m meaning) any {
	f, ok := v.(form)
	if !ok {
		return v
	}
	if m.text != "" {
		f["description"] = m.text
	}
	if m.unless != nil {
		f["default"] = m.unless
	}
	return f
}

// SchemaID is the name of the schema.
const SchemaID = "urn:mellowgate:site"

// Schema returns the JSON Schema of a site file, for editors.
func Schema() []byte {
	all := meanings(meaningsText)
	top := described(siteShape().form(), "", func(path string) meaning {
		_, m := meaningOf(all, path)
		return m
	}).(form)
	top["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	top["$id"] = SchemaID
	top["title"] = "A site of Mellow Gate"
	top["description"] = "The design of a site's management logins. docs/site-file.md has the whole language."
	text, err := json.MarshalIndent(top, "", "  ")
	if err != nil {
		return nil // forms hold nothing that cannot be encoded
	}
	return append(text, '\n')
}

// aspectForm are the aspects with a single value.
func aspectForm(t aspect) form {
	takes := t.takes
	if a, b, two := strings.Cut(takes, " or "); two && !strings.Contains(takes, ",") &&
		!strings.Contains(takes, " the ") {
		if a == "true" {
			return form{"type": "boolean"}
		}
		return wordsForm(a, b)
	}
	return form{"type": []string{"string", "integer"}}
}
