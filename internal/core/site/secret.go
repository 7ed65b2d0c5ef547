package site

import (
	"crypto/subtle"
	"fmt"
	"strings"
)

// Secret is a shared secret or a password. Printing it, formatting it or
// encoding it as JSON gives "(secret)"; only Reveal gives the value.
type Secret struct{ value string }

// NewSecret keeps value as a secret.
func NewSecret(value string) Secret { return Secret{value: value} }

// Reveal returns the value, for use in a protocol and nowhere else.
func (s Secret) Reveal() string { return s.value }

// Empty reports whether there is no value.
func (s Secret) Empty() bool { return s.value == "" }

// Equal compares two secrets in constant time.
func (s Secret) Equal(t Secret) bool {
	return subtle.ConstantTimeCompare([]byte(s.value), []byte(t.value)) == 1
}

func (s Secret) String() string               { return "(secret)" }
func (s Secret) GoString() string             { return "(secret)" }
func (s Secret) Format(f fmt.State, _ rune)   { _, _ = f.Write([]byte("(secret)")) }
func (s Secret) MarshalText() ([]byte, error) { return []byte("(secret)"), nil }

// Difference says in words how two secrets differ, without showing either:
// "" when they are equal.
func (s Secret) Difference(t Secret) string {
	a, b := s.value, t.value
	switch {
	case a == b:
		return ""
	case trimBlanks(a) == trimBlanks(b):
		return "the same except for blanks at an end"
	case foldCase(a) == foldCase(b):
		return "they differ in upper and lower case only"
	case len(a) != len(b):
		return fmt.Sprintf("different lengths, %d against %d characters", len([]rune(a)), len([]rune(b)))
	}
	at := make([]int, 0, 3)
	for i := range len(a) {
		if a[i] != b[i] {
			at = append(at, i)
		}
	}
	switch {
	case len(at) == 2 && a[at[0]] == b[at[1]] && a[at[1]] == b[at[0]]:
		return "the same except for two characters swapped"
	case len(at) <= 2:
		return fmt.Sprintf("the same length, and all but %d of the characters agree", len(at))
	}
	return "the same length, otherwise different"
}

func trimBlanks(s string) string { return strings.Trim(s, " \t\r\n") }
func foldCase(s string) string   { return strings.ToLower(s) }

// Slip is a value that somebody could have typed in the place of a secret.
type Slip struct {
	Secret Secret
	Text   string // how it differs, in words
}

// alike are characters that are read as one another.
var alike = []string{"0O", "1l", "1I", "lI", "5S", "8B", "2Z", "-_"}

// Slips returns the values that people type for a secret by mistake: blanks at an
// end, another case, two characters swapped, one that looks like another, one that
// is missing or doubled.
func (s Secret) Slips() []Slip {
	var slips []Slip
	seen := map[string]bool{s.value: true, "": true}
	add := func(value, text string) {
		if !seen[value] {
			seen[value] = true
			slips = append(slips, Slip{Secret: NewSecret(value), Text: text})
		}
	}
	for _, blank := range []string{" ", "\n", "\r\n", "\r", "\t", "\x00"} {
		add(s.value+blank, "with a blank or an end of line after it")
		add(blank+s.value, "with a blank or an end of line before it")
	}
	add(trimBlanks(s.value), "without the blanks at its end")
	for _, quote := range []string{`"`, "'"} {
		add(quote+s.value+quote, "with quotes around it")
	}
	add(strings.ToLower(s.value), "in lower case")
	add(strings.ToUpper(s.value), "in upper case")
	b := []byte(s.value)
	for i := range b {
		add(string(b[:i])+string(b[i+1:]), "with one character missing")
		add(string(b[:i+1])+string(b[i:]), "with one character twice")
		if i+1 < len(b) {
			add(string(b[:i])+string(b[i+1])+string(b[i])+string(b[i+2:]), "with two characters swapped")
		}
		one := string(b[i])
		for _, other := range []string{strings.ToUpper(one), strings.ToLower(one)} {
			add(string(b[:i])+other+string(b[i+1:]), "with one letter in another case")
		}
		for _, pair := range alike {
			if side := strings.IndexByte(pair, b[i]); side >= 0 {
				add(string(b[:i])+string(pair[1-side])+string(b[i+1:]),
					"with one character that looks like another")
			}
		}
	}
	return slips
}
