package begin

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/sitefile"
)

// MigrateCommand returns the command migrate.
func MigrateCommand() *call.Command {
	return &call.Command{
		Name: "migrate", Args: "[SITE]", MaxArgs: 1, Short: "write a site in the words of this version",
		Long: `Some keys of the site file have other names than in the version before. They are still read, and a command says so in
one line. migrate writes the new names into the files of the site: comments, order and layout stay, and each file as
it was is kept beside itself as FILE.before. What is changed is printed. It ends with the proof that the site means
what it meant: every login, in every outage, is foreseen as before. Where nothing has another name nothing is
written.`,
		Examples: []call.Example{
			{Call: "mellowgate migrate -dry-run demo/as-reviewed", Shows: "what would be changed, and change nothing"},
		},
		Prepare: func(c *call.Call) func() error {
			dry := c.Flags.Bool("dry-run", false, "print what would be changed, and change nothing")
			return func() error { return migrate(c, *dry) }
		},
	}
}

func migrate(c *call.Call, dry bool) error {
	path := c.SitePath()
	before, _, err := sitefile.Load(path)
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
		c.Say("\n%s would be changed; without -dry-run they are\n", words)
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
		c.Say("%s come out otherwise than before: see mellowgate foresee -compare\n", show.Count(len(changes), "login"))
		return call.ErrVerdict
	}
	c.Say("every login is foreseen as before\n")
	return nil
}
