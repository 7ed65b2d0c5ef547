package cli

import (
	"runtime"
	"runtime/debug"

	"mellowgate/internal/cli/show"
)

// Version is the version of the program.
const Version = "0.2.0"

type versionJSON struct {
	Version  string `json:"version"`
	Revision string `json:"revision"` // "" where it is not known
	Changed  bool   `json:"changed"`  // it was built from files that are not those of the revision
	Go       string `json:"go"`
	System   string `json:"system"`
	Machine  string `json:"machine"`
}

func versionCommand() *Command {
	return &Command{
		Name: "version", Short: "the version of the program", NoArgs: true,
		Long: "Prints the version, the revision it was built from where that is known, and what it was built with.",
		Examples: []Example{
			{Call: "mellowgate version", Shows: "one line"},
			{Call: "mellowgate version | cut -d' ' -f2", Shows: "the number alone"},
		},
		Prepare: func(c *Call) func() error {
			c.json = c.Flags.Bool("json", false, "print JSON, described in docs/json.md")
			return func() error {
				v := versionJSON{Version: Version, Go: runtime.Version(), System: runtime.GOOS, Machine: runtime.GOARCH}
				if info, ok := debug.ReadBuildInfo(); ok {
					for _, s := range info.Settings {
						switch s.Key {
						case "vcs.revision":
							v.Revision = s.Value[:min(12, len(s.Value))]
						case "vcs.modified":
							v.Changed = s.Value == "true"
						}
					}
				}
				if *c.json {
					return show.JSON(c.Out, v)
				}
				revision := ""
				if v.Revision != "" {
					revision = v.Revision + ", "
				}
				c.say("mellowgate %s (%s%s, %s/%s)\n", Version, revision, v.Go, v.System, v.Machine)
				return nil
			}
		},
	}
}
