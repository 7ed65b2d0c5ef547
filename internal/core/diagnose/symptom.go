package diagnose

import "strings"

// sights are words that screens show, and what was seen by them. The first that a text
// has decides.
var sights = []struct {
	saw   string
	words []string
}{
	{"low-level", []string{"not authorized", "not permitted", "no rights", "privilege", "read-only", "read only",
		"unknown command"}},
	{"no-prompt", []string{"timed out", "time out", "timeout", "no response", "not responding", "hangs",
		"closed by remote",
		"connection closed", "connection reset", "connection refused", "unreachable", "no route", "nothing comes",
		"no prompt"}},
	{"slow", []string{"slow", "takes long", "took long", "waits", "after a minute", "seconds"}},
	{"refused", []string{"refused", "denied", "incorrect", "invalid", "wrong", "failed", "failure", "rejected",
		"bad password",
		"not allowed", "no entry", "locked"}},
}

// SawOf returns what was seen, in the words of Saws, by what somebody read on a screen
// or says of it; "" where it has no word that tells.
func SawOf(text string) string {
	text = strings.ToLower(text)
	for _, s := range sights {
		for _, word := range s.words {
			if strings.Contains(text, word) {
				return s.saw
			}
		}
	}
	return ""
}
