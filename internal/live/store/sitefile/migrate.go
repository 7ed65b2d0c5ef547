package sitefile

import (
	"fmt"
	"os"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
)

// Renames returns the edits that write the words of now in the place of those of versions before.
func Renames(s *site.Site) []Edit {
	edits := make([]Edit, len(s.Renamed))
	for i, r := range s.Renamed {
		edits[i] = Edit{Place: r.Place, Old: r.Old, New: r.Now}
	}
	return edits
}

// KeepBeside copies a file beside itself, and returns the name of the copy, which no file had.
func KeepBeside(name string) (string, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	kept := name + ".before"
	for n := 2; ; n++ {
		if _, err := os.Lstat(kept); os.IsNotExist(err) {
			break
		}
		kept = fmt.Sprintf("%s.before-%d", name, n)
	}
	return kept, files.WriteWhole(kept, text)
}
