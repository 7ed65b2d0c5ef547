// Package sitefile reads a site from its files and writes back into them, with
// all that stands in them left as it was. What the text says is site's to know.
package sitefile

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
)

// Load reads a site from a file, or from every *.yaml of a folder, and returns
// the folder that paths in it start from.
func Load(path string) (*site.Site, string, error) { return load(path, site.ParseWith) }

// LoadDesign is Load for the design alone: what devices are known to hold
// besides is left out.
func LoadDesign(path string) (*site.Site, string, error) { return load(path, site.ParseDesign) }

// LoadWith is Load with more sources, after the files.
func LoadWith(path string, more ...site.Source) (*site.Site, string, error) {
	return load(path, site.ParseWith, more...)
}

func load(path string, parse func(func(string) (site.Source, error), ...site.Source) (*site.Site, error),
	more ...site.Source) (*site.Site, string, error) {
	base, sources, err := sourcesOf(path)
	if err != nil {
		return nil, "", err
	}
	sources = append(sources, more...)
	s, err := parse(func(name string) (site.Source, error) {
		path := files.At(base, name)
		text, err := files.ReadFile(path)
		return site.Source{Name: filepath.ToSlash(path), Text: text}, err
	}, sources...)
	return s, base, err
}

// sourcesOf reads the files of a site, and returns the folder that paths in them start from.
func sourcesOf(path string) (base string, sources []site.Source, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", nil, files.Unreadable(path, err)
	}
	names, base := []string{path}, filepath.Dir(path)
	if info.IsDir() {
		base = path
		if names, err = filepath.Glob(filepath.Join(path, "*.yaml")); err != nil || len(names) == 0 {
			return "", nil, fmt.Errorf("%s: no *.yaml file in this folder; start a site with: mellowgate new %s", path,
				path)
		}
		slices.Sort(names)
	}
	for _, name := range names {
		text, err := files.ReadFile(name)
		if err != nil {
			return "", nil, err
		}
		sources = append(sources, site.Source{Name: filepath.ToSlash(name), Text: text})
	}
	return base, sources, nil
}
