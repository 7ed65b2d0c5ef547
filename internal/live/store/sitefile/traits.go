package sitefile

import (
	"fmt"
	"strings"

	"mellowgate/internal/core/site"
)

// WriteTraits writes traits of a kind, that the site does not say yet, into its file. Each
// is written as the file has it: a key, and its value.
func WriteTraits(s *site.Site, path string, k *site.Kind, traits [][2]string) error {
	edits, err := traitEdits(s, k, traits)
	if err != nil {
		return fmt.Errorf("%s: %w: %s", s.Where(k.Place), err, TraitsText(traits))
	}
	return Change(s, path, edits)
}

// TraitsText returns traits as one mapping.
func TraitsText(traits [][2]string) string {
	all := make([]string, len(traits))
	for i, t := range traits {
		all[i] = t[0] + ": " + t[1]
	}
	return "behaviour: {" + strings.Join(all, ", ") + "}"
}

func traitEdits(s *site.Site, k *site.Kind, traits [][2]string) ([]Edit, error) {
	if !k.TraitsAt.Known() {
		e, err := afterName(s, k.Ref, TraitsText(traits))
		return []Edit{e}, err
	}
	var edits []Edit
	var here [][2]string
	for _, t := range traits {
		if inner, ok := strings.CutPrefix(t[1], "{"); ok && k.FormsAt.Known() && t[0] == site.SendsPasswords {
			e, err := into(s, k.FormsAt, strings.TrimSuffix(inner, "}"))
			if err != nil {
				return nil, err
			}
			edits = append(edits, e)
			continue
		}
		here = append(here, t)
	}
	if len(here) == 0 {
		return edits, nil
	}
	line := LineAt(s, k.TraitsAt)
	if strings.HasPrefix(line[min(len(line), int(k.TraitsAt.Column-1)):], "{") {
		text := TraitsText(here)
		e, err := into(s, k.TraitsAt, text[len("behaviour: {"):len(text)-1])
		return append(edits, e), err
	}
	lines := make([]string, len(here))
	for i, t := range here {
		lines[i] = t[0] + ": " + t[1]
	}
	indent := "\n" + strings.Repeat(" ", int(k.TraitsAt.Column-1))
	return append(edits, Edit{Place: k.TraitsAt, New: strings.Join(lines, indent) + indent}), nil
}

// into puts entries into a mapping at its beginning: one in braces, or one with an entry on
// each line.
func into(s *site.Site, p site.Place, entries string) (Edit, error) {
	line := LineAt(s, p)
	rest := line[min(len(line), int(p.Column-1)):]
	switch {
	case !strings.HasPrefix(rest, "{"):
		return EntryBefore(s, p, entries), nil
	case strings.HasPrefix(strings.TrimSpace(rest[1:]), "}"):
		return Edit{Place: p, Old: "{", New: "{" + entries}, nil
	}
	return Edit{Place: p, Old: "{", New: "{" + entries + ", "}, nil
}
