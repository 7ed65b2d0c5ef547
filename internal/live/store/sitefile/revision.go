package sitefile

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"

	"mellowgate/internal/core/site"
)

// Revision returns by what a state of a site is known again: 12 hexadecimal digits of the
// SHA-256 of its files, with the files that it takes devices from, whatever folder they lie
// in. It is "" where they cannot be read. What keys stand for is not in it.
func Revision(path string) string {
	sum := sha256.New()
	add := func(s site.Source) {
		fmt.Fprintf(sum, "%s %d\n", filepath.Base(s.Name), len(s.Text))
		_, _ = sum.Write(s.Text)
	}
	_, _, err := load(path, func(read func(string) (site.Source, error), sources ...site.Source) (*site.Site, error) {
		for _, s := range sources {
			add(s)
		}
		return site.ParseWith(func(name string) (site.Source, error) {
			s, err := read(name)
			add(s)
			return s, err
		}, sources...)
	})
	if err != nil {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))[:12]
}
