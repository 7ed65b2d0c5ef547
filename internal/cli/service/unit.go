package service

import (
	_ "embed" // the unit
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/live/store/files"
)

// unit is a systemd unit in which {{PROGRAM}} and {{SITE}} stand for their paths.
//
//go:embed unit/mellowgate.service
var unit string

// hidden are folders that the unit does not see: ProtectHome and PrivateTmp, systemd.exec(5).
var hidden = []string{"/home", "/root", "/run/user", "/tmp", "/var/tmp"}

// printUnit prints a systemd unit that runs this program for a site. Of what lies
// in folders that the service does not see, just the site's folder and the program
// are shown to it.
func printUnit(c *call.Call) error {
	path := c.SitePath()
	if _, err := os.Stat(path); err != nil {
		return call.Usagef("there is no site %s; name the one that the unit is to run", path)
	}
	program, err := os.Executable()
	if err != nil {
		return call.TaskError(err)
	}
	text, aside, err := unitOf(filepath.Clean(program), files.Absolute(path))
	if err != nil {
		return err
	}
	if aside {
		c.Note("%s", "the program or the site lies in a folder that is private to a person or emptied at a start; "+
			"the unit shows the service just these, and a file that the site names elsewhere there stays unseen; "+
			"/usr/local/bin and /etc/mellowgate are better places")
	}
	c.Say("%s", text)
	return nil
}

// unitOf is the unit that runs a program for a site, and whether one of them lies where
// the service does not see.
func unitOf(program, path string) (text string, aside bool, err error) {
	home := "ProtectHome=yes"
	for _, place := range []string{program, filepath.Dir(path)} {
		if !slices.ContainsFunc(hidden, func(folder string) bool { return within(place, folder) }) {
			continue
		}
		if strings.Contains(place, ":") {
			return "", true, call.Usagef("a unit cannot name %s: rename it without a colon, or move it to "+
				"/etc/mellowgate", place)
		}
		if !aside {
			home, aside = "ProtectHome=tmpfs", true
		}
		home += "\nBindReadOnlyPaths=" + quoted(place)
	}
	return strings.NewReplacer("{{PROGRAM}}", quoted(program), "{{SITE}}", quoted(path), "{{HOME}}", home).Replace(
			unit),
		aside, nil
}

// within reports whether a path is a folder or below it.
func within(path, folder string) bool {
	return path == folder || strings.HasPrefix(path, folder+"/")
}

// quoted is a path as a word of a unit, systemd.syntax(7): in quotes where it holds
// blanks or quotes, and % doubled, which begins a specifier.
func quoted(path string) string {
	path = strings.ReplaceAll(path, "%", "%%")
	if strings.ContainsAny(path, " \t\"'\\") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(path) + `"`
	}
	return path
}
