package cli

import (
	"runtime"
	"runtime/debug"
)

// Version is the version of the program.
const Version = "0.1.0"

func versionCommand() *Command {
	return &Command{
		Name: "version", Short: "the version of the program", NoArgs: true,
		Long: "Prints the version, the revision it was built from where that is known, and what it was built with.",
		Examples: []Example{
			{Call: "mellowgate version", Shows: "one line"},
			{Call: "mellowgate version | cut -d' ' -f2", Shows: "the number alone"},
		},
		Prepare: func(c *Call) func() error {
			return func() error {
				revision := ""
				if info, ok := debug.ReadBuildInfo(); ok {
					for _, s := range info.Settings {
						if s.Key == "vcs.revision" {
							revision = " " + s.Value[:min(12, len(s.Value))]
						}
					}
				}
				c.say("mellowgate %s%s, %s, %s/%s\n", Version, revision, runtime.Version(), runtime.GOOS, runtime.GOARCH)
				return nil
			}
		},
	}
}
