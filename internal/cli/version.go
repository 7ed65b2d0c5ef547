package cli

import (
	"runtime"
	"runtime/debug"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
)

type versionJSON struct {
	Version  string `json:"version"`
	Revision string `json:"revision"` // "" where it is not known
	Changed  bool   `json:"changed"`  // it was built from files that are not those of the revision
	Go       string `json:"go"`
	System   string `json:"system"`
	Machine  string `json:"machine"`
}

func versionCommand() *call.Command {
	return &call.Command{
		Name: "version", Short: "the version of the program", NoArgs: true,
		Long: "Prints the version, the revision it was built from where that is known, and what it was built with.",
		Examples: []call.Example{
			{Call: "mellowgate version", Shows: "one line"},
			{Call: "mellowgate version | cut -d' ' -f2", Shows: "the number alone"},
		},
		Prepare: func(c *call.Call) func() error {
			c.AsJSON = c.Flags.Bool("json", false, "print JSON, described in docs/json.md")
			return func() error {
				v := versionJSON{Version: call.Version, Go: runtime.Version(), System: runtime.GOOS,
					Machine: runtime.GOARCH}
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
				if *c.AsJSON {
					return show.JSON(c.Out, v)
				}
				revision := ""
				if v.Revision != "" {
					revision = v.Revision + ", "
				}
				c.Say("mellowgate %s (%s%s, %s/%s)\n", call.Version, revision, v.Go, v.System, v.Machine)
				return nil
			}
		},
	}
}
