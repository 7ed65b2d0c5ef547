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
