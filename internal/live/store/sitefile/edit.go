package sitefile

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
)

// Edit is one change to a site's file: at a place, Old becomes New. An empty
// Old puts New before what stands there.
type Edit struct {
	Place    site.Place
	Old, New string
}

// Change edits the files of a site. What cannot be edited, or would be no site
// afterwards, is left as it was.
func Change(s *site.Site, path string, edits []Edit) error {
	ofFile := map[int32][]Edit{}
	for _, e := range edits {
		ofFile[e.Place.File] = append(ofFile[e.Place.File], e)
	}
	before := map[string][]byte{}
	undo := func() {
		for name, text := range before {
			_ = files.WriteWhole(name, text)
		}
	}
	for file, some := range ofFile {
		name := s.Files[file]
		text, err := os.ReadFile(name)
		if err != nil {
			undo()
			return err
		}
		changed, err := apply(text, some, s)
		if err == nil {
			err = files.WriteWhole(name, changed)
		}
		if err != nil {
			undo()
			return err
		}
		before[name] = text
	}
	if _, _, err := Load(path); err != nil {
		undo()
		return fmt.Errorf("the change would leave no good site, and was undone: %w", err)
	}
	return nil
}

// apply makes the edits from the last to the first, so that places stay right.
func apply(text []byte, edits []Edit, s *site.Site) ([]byte, error) {
	slices.SortFunc(edits, func(a, b Edit) int {
		if a.Place.Before(b.Place) {
			return 1
		}
		return -1
	})
	lines := bytes.SplitAfter(text, []byte("\n"))
	for _, e := range edits {
		index := int(e.Place.Line) - 1
		if index >= len(lines) {
			return nil, fmt.Errorf("%s: the file is not as it was read; nothing was changed", s.Where(e.Place))
		}
		line := string(lines[index])
		column, there := columnOf(line, int(e.Place.Column)-1, e.Old)
		if !there {
			return nil, fmt.Errorf("%s: the file is not as it was read; nothing was changed", s.Where(e.Place))
		}
		lines[index] = []byte(line[:column] + e.New + line[column+len(e.Old):])
	}
	return bytes.Join(lines, nil), nil
}

// columnOf returns where in a line a text begins that stands at a column: counted in bytes, or in characters, as
// YAML does, and behind the quote where it stands in quotes.
func columnOf(line string, column int, text string) (int, bool) {
	characters := column
	if runes := []rune(line); column <= len(runes) {
		characters = len(string(runes[:column]))
	}
	for _, begins := range []int{column, characters} {
		for _, quote := range []string{"", `"`, "'"} {
			if begins <= len(line) && strings.HasPrefix(line[begins:], quote+text) {
				return begins + len(quote), true
			}
		}
	}
	return 0, false
}

// LineAt returns the line of a place, and "" where it cannot be read.
func LineAt(s *site.Site, p site.Place) string {
	text, err := os.ReadFile(s.Files[p.File])
	if err != nil {
		return ""
	}
	lines := strings.Split(string(text), "\n")
	if int(p.Line) > len(lines) {
		return ""
	}
	return lines[p.Line-1]
}
