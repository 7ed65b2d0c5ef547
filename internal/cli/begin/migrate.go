package begin

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/sitefile"
)

// MigrateCommand returns the command migrate.
func MigrateCommand() *call.Command {
	return &call.Command{
		Name: "migrate", Args: "[PATH]", MaxArgs: 1, Short: "write a site or a phrasebook in the words of this version",
		Long: `Some keys of the site file have other names than in the version before. They are still read, and each
command says so in one line. migrate writes the new names into the files of a site. PATH is a site, a phrasebook, or a
folder with some of both. Comments, order and layout stay, and each file as it was is kept beside itself as
FILE.before. What is changed is printed. It ends with the proof that the site means what it meant: every login, in
every outage, is foreseen as before. Where nothing has another name nothing is written.`,
		Examples: []call.Example{
			{Call: "mellowgate migrate -dry-run demo/as-reviewed", Shows: "what would be changed, and change nothing"},
			{Call: "mellowgate migrate -dry-run demo", Shows: "the same of every site and phrasebook in a folder"},
		},
		Prepare: func(c *call.Call) func() error {
			dry := c.Flags.Bool("dry-run", false, "print what would be changed, and change nothing")
			return func() error { return migrate(c, *dry) }
		},
	}
}

// migrate writes what a path leads to in the words of now: a site, a phrasebook, or all of a folder of both.
func migrate(c *call.Call, dry bool) error {
	path := c.SitePath()
	books, sites := below(path)
	for _, book := range books {
		if err := migrateBook(c, book); err != nil {
			return err
		}
	}
	for _, site := range sites {
		if err := migrateSite(c, site, dry); err != nil {
			return err
		}
	}
	return nil
}

// below returns the phrasebooks and the sites that a path leads to. What is neither is taken for a site, which
// says what is wrong with it.
func below(path string) (books, sites []string) {
	if isBook(path) {
		return []string{path}, nil
	}
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return nil, []string{path}
	}
	if _, err := os.Stat(filepath.Join(path, siteFile)); err == nil {
		return nil, []string{path}
	}
	_ = filepath.WalkDir(path, func(name string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil || entry.IsDir():
		case filepath.Base(name) == siteFile:
			sites = append(sites, filepath.Dir(name))
		case isBook(name):
			books = append(books, name)
		}
		return nil
	})
	if len(books)+len(sites) == 0 {
		return nil, []string{path} // the files of one site
	}
	return books, sites
}

const siteFile = "site.yaml"

// isBook reports whether a file is a phrasebook, by its first key.
func isBook(path string) bool {
	if ext := filepath.Ext(path); ext != ".yaml" && ext != ".yml" {
		return false
	}
	text, err := os.ReadFile(path)
	return err == nil && beginsBook.Match(text)
}

var beginsBook = regexp.MustCompile(`(?m)^phrasebook:`)

// migrateBook looks at a phrasebook, no word of which has another name now.
func migrateBook(c *call.Call, path string) error {
	text, err := os.ReadFile(path)
	if err == nil {
		_, err = phrase.Load(path, text)
	}
	if err != nil {
		return call.UsageError(err)
	}
	c.Say("%s: every word is one of this version; nothing is changed\n", show.Safe(path))
	return nil
}

func migrateSite(c *call.Call, path string, dry bool) error {
	before, _, err := sitefile.Load(path)
	if errors.Is(err, fs.ErrNotExist) && len(c.Args) == 0 {
		return call.Usagef("%w\nname what is to be written anew: mellowgate migrate PATH, a site, a phrasebook or a "+
			"folder of both", err)
	}
	if err != nil {
		return call.UsageError(err)
	}
	if len(before.Renamed) == 0 {
		c.Say("%s: every word is one of this version; nothing is changed\n", show.Safe(path))
		return nil
	}
	var changed []string
	for _, r := range before.Renamed {
		c.Say("%s: %s -> %s\n", before.Where(r.Place), r.Old, r.Now)
		if name := before.Files[r.Place.File]; !slices.Contains(changed, name) {
			changed = append(changed, name)
		}
	}
	words := fmt.Sprintf("%s in %s", show.Count(len(before.Renamed), "word"), show.Count(len(changed), "file"))
	if dry {
		c.Say("\n%s would be changed; leave -dry-run out to change them\n", words)
		return nil
	}
	var kept []string
	for _, name := range changed {
		copied, err := sitefile.KeepBeside(name)
		if err != nil {
			return call.TaskError(err)
		}
		kept = append(kept, copied)
	}
	if err := sitefile.Change(before, files.Absolute(path), sitefile.Renames(before)); err != nil {
		return call.TaskError(err)
	}
	c.Say("\n%s changed; as before: %s\n", words, show.Safe(strings.Join(kept, ", ")))
	return meansTheSame(c, before, path)
}

// meansTheSame compares every foreseen login of a site with those of the site before.
func meansTheSame(c *call.Call, before *site.Site, path string) error {
	after, _, err := sitefile.Load(path)
	if err != nil {
		return call.TaskError(err)
	}
	now := time.Now()
	changes := foresee.Compare(foresee.Forecaster{Site: before, Now: now}, foresee.Forecaster{Site: after, Now: now})
	if len(changes) > 0 || len(after.Renamed) > 0 {
		c.Say("%s come out otherwise than before; put the files back from those beside them\n",
			show.Count(len(changes), "login"))
		return call.ErrVerdict
	}
	c.Say("every login is foreseen as before\n")
	return nil
}
