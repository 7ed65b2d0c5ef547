// Package nearest finds the known word that a mistyped one was probably meant
// to be. It is used for keys and names of the site file, for commands and for
// flags, so that "did you mean" is worked out in one way everywhere.
package nearest

import "strings"

// Word returns the word of known that is nearest to typed, and whether it is
// near enough to be worth suggesting: at most one slip for each three letters,
// and three in all, where a slip is a letter added, left out or changed, or two
// swapped. Case does not count. A word that typed alone begins is near too.
func Word(typed string, known []string) (string, bool) {
	best, least := "", min(max(len(typed)/3, 1), 3)+1
	low := strings.ToLower(typed)
	for _, w := range known {
		if w == typed {
			continue
		}
		if d := Slips(low, strings.ToLower(w)); d < least {
			best, least = w, d
		}
	}
	if best == "" {
		return begun(low, known)
	}
	return best, true
}

// begun returns the one word that typed is the beginning of.
func begun(low string, known []string) (string, bool) {
	found := ""
	for _, w := range known {
		if len(low) < 2 || !strings.HasPrefix(strings.ToLower(w), low) || len(w) == len(low) {
			continue
		}
		if found != "" {
			return "", false
		}
		found = w
	}
	return found, found != ""
}

// Suggest returns `; did you mean "word"?` for the nearest word of known, or
// nothing when none is near.
func Suggest(typed string, known []string) string {
	if w, ok := Word(typed, known); ok {
		return `; did you mean "` + w + `"?`
	}
	return ""
}

// Slips counts the typing slips between a and b: the fewest letters added,
// left out, changed, or swapped with their neighbour.
func Slips(a, b string) int {
	ra, rb := []rune(a), []rune(b)
	if len(ra) > 64 || len(rb) > 64 { // names are at most 64 long; more is no slip
		if a == b {
			return 0
		}
		return 64
	}
	before := make([]int, len(rb)+1)
	last := make([]int, len(rb)+1)
	row := make([]int, len(rb)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(ra); i++ {
		row[0] = i
		for j := 1; j <= len(rb); j++ {
			cost := 1
			if ra[i-1] == rb[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && ra[i-1] == rb[j-2] && ra[i-2] == rb[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(rb)]
}
