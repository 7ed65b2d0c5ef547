package phrase

import (
	"fmt"
	"strconv"
	"strings"

	"mellowgate/internal/core/phrase/pattern"
)

// A make says some things otherwise in another version of what runs on its devices. Which
// version a text is of stands in a line of it, or is given.

// span are the versions in which something holds; "" is without a bound.
type span struct{ since, until string }

// version is that of a text: its numbers in order, such as 6 and 2 of 6.2.
type version []int

// versionOf reads the numbers of a version; nil for a text that begins with none.
func versionOf(text string) (v version) {
	for _, part := range strings.FieldsFunc(text, func(c rune) bool { return c == '.' || c == '-' || c == '_' }) {
		digits := part[:len(part)-len(strings.TrimLeft(part, "0123456789"))]
		n, err := strconv.Atoi(digits)
		if err != nil {
			break
		}
		v = append(v, n)
		if digits != part {
			break
		}
	}
	return v
}

// String writes the version with its numbers alone.
func (v version) String() string {
	var all []string
	for _, n := range v {
		all = append(all, strconv.Itoa(n))
	}
	return strings.Join(all, ".")
}

// compare compares the numbers that the bound has: 6.2 is neither before nor after 6.
func (v version) compare(bound version) int {
	for i, n := range bound {
		have := 0
		if i < len(v) {
			have = v[i]
		}
		if have != n {
			return have - n
		}
	}
	return 0
}

// has reports whether a version lies in the span.
func (s span) has(v version) bool {
	return (s.since == "" || v.compare(versionOf(s.since)) >= 0) &&
		(s.until == "" || v.compare(versionOf(s.until)) <= 0)
}

// apart reports whether no version lies in both spans.
func (s span) apart(o span) bool {
	before := func(until, since string) bool {
		return until != "" && since != "" && versionOf(since).compare(versionOf(until)) > 0
	}
	return before(s.until, o.since) || before(o.until, s.since)
}

func (s span) bounded() bool { return s.since != "" || s.until != "" }

// String says the span in words.
func (s span) String() string {
	switch {
	case s.since == "":
		return "until version " + s.until
	case s.until == "":
		return "since version " + s.since
	}
	return fmt.Sprintf("of versions %s to %s", s.since, s.until)
}

// SetVersion gives the version of the texts that are read next; it goes before the one that a
// text says. The error is that of a text that is no version.
func (b *Book) SetVersion(text string) error {
	v := versionOf(text)
	if v == nil {
		return fmt.Errorf("%q is no version: it begins with a number, such as 6.2", text)
	}
	b.given = v
	return nil
}

// findVersion looks for the version in a line as it stands, comments and all.
func (r *parser) findVersion(line string) {
	if len(r.book.version.Elements) == 0 || r.version != nil {
		return
	}
	words := strings.FieldsFunc(line, func(c rune) bool { return strings.ContainsRune(" \t,;()", c) })
	for index := range words {
		if !r.book.version.CouldBegin(comparing{r.book}, words[index:]) {
			continue
		}
		r.book.version.Heads(comparing{r.book}, words[index:], func(have []pattern.Bound) bool {
			for _, h := range have {
				if h.Hole == versionHole {
					r.version = versionOf(strings.Join(h.Words, " "))
				}
			}
			return r.version != nil
		})
	}
}

// versionHole is the hole of the line that says the version.
const versionHole = "version"

// saysNow reports whether a phrase is one of the text's version; unknown is true where the
// version is not known, and matters.
func (r *parser) saysNow(p *phrase) (now, unknown bool) {
	switch {
	case !p.when.bounded():
		return true, false
	case r.version == nil:
		return true, true
	}
	return p.when.has(r.version), false
}
