package phrase

import (
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/phrase/pattern"
)

// Value is a value as the site says it. The text of a secret is never shown: it is here to
// be compared.
type Value struct {
	Text   string
	Secret Secrecy
	Stands string // what is shown in the place of a secret that is written, "" for a mark
}

// equals reports whether two values are the same, a time in any form of writing it.
func (v Value) equals(o Value) bool {
	if v.Text == o.Text {
		return true
	}
	a, err1 := time.ParseDuration(v.Text)
	b, err2 := time.ParseDuration(o.Text)
	return err1 == nil && err2 == nil && a == b
}

// Secrecy says what is known of a secret.
type Secrecy string

// What can be known of a secret; Open is what is none.
const (
	Open   Secrecy = ""
	Clear  Secrecy = "clear"  // the device shows it
	Hidden Secrecy = "hidden" // it is there, and what it is cannot be known
	Hash   Secrecy = "hash"   // the device shows a hash of it
	Mark   Secrecy = "mark"   // the device shows a mark that is the same for equal secrets, such as a fingerprint
)

// String returns the value as it can be shown.
func (v Value) String() string {
	switch v.Secret {
	case Clear:
		return "(not shown here)"
	case Hidden:
		return "(hidden by the device)"
	case Mark:
		return "(a mark of it, not shown here)"
	case Hash:
		return "(a hash, not shown here)"
	}
	return v.Text
}

func formsOf(t *valueType) []form {
	if t == nil {
		return nil
	}
	return t.forms
}

// secretFields are secrets whatever their type.
var secretFields = map[string]bool{"key": true, "password": true}

// longest returns the most words that a value of a type or table has.
func (b *Book) longest(as string) int {
	most := 1
	if t := b.tables[as]; t != nil {
		for _, w := range t.words {
			most = max(most, len(w.device.Elements))
		}
	}
	if t := b.types[as]; t != nil {
		if t.time != "" {
			most = len(strings.Fields(t.time))
		}
		for _, f := range t.forms {
			most = max(most, len(f.say.Elements))
		}
	}
	return most
}

// takes reports whether words are a value of a type or table.
func (b *Book) takes(as string, words []string) bool {
	_, ok := b.value(as, words)
	return ok
}

// value returns the site's value for words of a device.
func (b *Book) value(as string, words []string) (Value, bool) {
	if as == "" {
		return Value{Text: strings.Join(words, " ")}, len(words) == 1
	}
	if t := b.tables[as]; t != nil {
		for _, w := range t.words {
			if have, fits := b.match(w.device, words); fits {
				return Value{Text: w.means(have)}, true
			}
		}
		return Value{}, false
	}
	t := b.types[as]
	switch {
	case t == nil:
		return Value{}, false
	case len(t.forms) > 0:
		for _, f := range t.forms {
			if have, fits := b.match(f.say, words); fits {
				v := Value{Secret: f.as}
				for _, h := range have {
					v.Text += strings.Join(h.Words, " ")
				}
				return v, true
			}
		}
		return Value{}, false
	}
	if t.time != "" {
		text := strings.Join(words, " ")
		_, err := time.Parse(t.time, text)
		return Value{Text: text}, err == nil
	}
	if len(words) != 1 {
		return Value{}, false
	}
	n, err := strconv.Atoi(words[0])
	if err != nil || n < 0 {
		return Value{}, false
	}
	n += t.add
	if t.unit > 0 {
		return Value{Text: (time.Duration(n) * t.unit).String()}, true
	}
	return Value{Text: strconv.Itoa(n)}, true
}

// means returns the site's word, with what its hole has.
func (w word) means(have []pattern.Bound) string {
	text := w.site
	for _, h := range have {
		text = strings.ReplaceAll(text, "<"+h.Hole+">", strings.Join(h.Words, " "))
	}
	return text
}
