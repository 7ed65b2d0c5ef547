package site

import (
	"encoding/json"
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

// Schema returns the JSON Schema of a site file, for editors.
func Schema() []byte {
	top := siteShape().form()
	top["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	top["title"] = "A site of Mellow Gate"
	text, err := json.MarshalIndent(top, "", "  ")
	if err != nil {
		return nil // forms hold nothing that cannot be encoded
	}
	return append(text, '\n')
}

// traitForms are the traits with a single value.
func traitForm(t trait) form {
	takes := t.takes
	if a, b, two := strings.Cut(takes, " or "); two && !strings.Contains(takes, ",") && !strings.Contains(takes, " the ") {
		if a == "true" {
			return form{"type": "boolean"}
		}
		return wordsForm(a, b)
	}
	return form{"type": []string{"string", "integer"}, "description": takes}
}
