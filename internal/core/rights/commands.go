package rights

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// command applies the rules of the role in d to a command. The first match
// decides; without one the command is refused.
func command(d Decision, q Question) Decision {
	args, whole := q.command()
	if !whole {
		d.Allow = false
		d.Reason = reason.CommandRefused
		d.Place = d.Role.Place
		d.Text = "a quote in the command is not closed, so it is not known where its words end"
		return d
	}
	for _, r := range d.Role.Commands {
		if !Applies(r, args, d.Role.Exact) {
			continue
		}
		d.Allow = r.Allow
		d.Place = r.Place
		d.Rule = r.Text
		d.Text = fmt.Sprintf("the rule %q of the role %s allows it", r.Text, d.Role.Name)
		if !r.Allow {
			d.Reason = reason.CommandRefused
			d.Text = fmt.Sprintf("the rule %q of the role %s refuses it", r.Text, d.Role.Name)
		}
		return d
	}
	d.Allow = false
	d.Reason = reason.CommandRefused
	d.Place = d.Role.Place
	d.Text = fmt.Sprintf("no rule of the role %s allows it", d.Role.Name)
	return d
}

// command returns the words of the command that is asked about: as the device
// sent them, else the typed line split. It is false for a line that cannot be
// split.
func (q Question) command() (args []string, whole bool) {
	if len(q.Args) > 0 {
		return Ended(q.Args), true
	}
	args, whole = SplitLine(q.Line)
	return Ended(args), whole
}

// Ended returns a command without the mark for its end that some devices send as
// a last argument.
func Ended(args []string) []string {
	if n := len(args); n > 1 && strings.EqualFold(args[n-1], "<cr>") {
		return args[:n-1]
	}
	return args
}

// Applies reports whether a rule decides about a command. What is allowed must
// fit as it was sent. What is refused is refused in every reading: a device may
// send several words in one argument, or quotes, and mean the words.
func Applies(r site.Rule, args []string, exact bool) bool {
	if Matches(r.Words, args, exact) {
		return true
	}
	if r.Allow {
		return false
	}
	plain := strings.NewReplacer(`"`, "", `'`, "", "`", "").Replace(strings.Join(args, " "))
	return Matches(r.Words, strings.Fields(plain), exact) ||
		Matches(r.Words, slices.DeleteFunc(slices.Clone(args), func(a string) bool { return a == "" }), exact)
}

// Matches reports whether the words of a command fit those of a rule: * is one
// word, ** any number of words at the end. A word is an argument as the device
// sent it, which may be empty or hold blanks. Case counts only where it is exact.
func Matches(words, args []string, exact bool) bool {
	for i, w := range words {
		if w == "**" {
			return true
		}
		if i >= len(args) || w != "*" && w != args[i] && (exact || !strings.EqualFold(w, args[i])) {
			return false
		}
	}
	return len(words) == len(args)
}

// SplitLine splits a command line as a shell does: at blanks, but not within
// quotes, which are taken off. It is false where a quote is not closed.
func SplitLine(line string) (words []string, whole bool) {
	var word strings.Builder
	quote, begun := rune(0), false
	for _, c := range line {
		switch {
		case quote == 0 && (c == ' ' || c == '\t'):
			if begun {
				words = append(words, word.String())
				word.Reset()
			}
			begun = false
			continue
		case quote != 0 && c == quote:
			quote = 0
			continue
		case quote == 0 && (c == '"' || c == '\''):
			quote, begun = c, true
			continue
		}
		begun = true
		word.WriteRune(c)
	}
	if begun {
		words = append(words, word.String())
	}
	return words, quote == 0
}

// JoinArgs shows the words of a command on one line; those that are empty or
// hold blanks or quotes stand in quotes.
func JoinArgs(args []string) string {
	shown := make([]string, len(args))
	for i, a := range args {
		if shown[i] = a; a == "" || strings.ContainsAny(a, " \t\"'") {
			shown[i] = fmt.Sprintf("%q", a)
		}
	}
	return strings.Join(shown, " ")
}
