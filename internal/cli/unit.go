package cli

import (
	_ "embed" // the unit
	"os"
	"path/filepath"
	"strings"

	"mellowgate/internal/live/store/files"
)

// unit is a systemd unit in which {{PROGRAM}} and {{SITE}} stand for their paths.
//
//go:embed unit/mellowgate.service
var unit string

// printUnit prints a systemd unit that runs this program for a site.
func (c *Call) printUnit() error {
	path := c.sitePath()
	if _, err := os.Stat(path); err != nil {
		return wrong("there is no site %s; name the one that the unit is to run", path)
	}
	program, err := os.Executable()
	if err != nil {
		return cannot(err)
	}
	c.say("%s", strings.NewReplacer("{{PROGRAM}}", filepath.Clean(program), "{{SITE}}",
		files.Absolute(path)).Replace(unit))
	if strings.ContainsAny(program+path, " \t") {
		c.note("the path holds blanks; put it in quotes in the unit")
	}
	return nil
}
