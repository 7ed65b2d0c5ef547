package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/store/sitefile"
)

func completionCommand() *call.Command {
	return &call.Command{
		Name: "completion", Args: "SHELL", Short: "completion of commands, flags and names of the site, for a shell",
		Long: `Prints what makes a shell complete calls of this program: bash, zsh or fish. Names of devices,
people, servers and platforms come from the site that the call is about, findings and faults from the program.

bash  eval "$(mellowgate completion bash)" in ~/.bashrc
zsh   eval "$(mellowgate completion zsh)" in ~/.zshrc, after compinit
fish  mellowgate completion fish | source, in config.fish

The scripts call it back with -line and the words of the call.`,
		Examples: []call.Example{
			{Call: "mellowgate completion bash", Shows: "the script for bash"},
			{Call: "mellowgate completion -line -- foresee -access ''", Shows: "what may stand there"},
		},
		MaxArgs: 1 << 10,
		Prepare: func(c *call.Call) func() error {
			line := c.Flags.Bool("line", false, "print what may stand in the place of the last of these words")
			return func() error {
				if *line {
					for _, word := range complete(c.Args) {
						_, _ = fmt.Fprintln(c.Out, word)
					}
					return nil
				}
				if len(c.Args) != 1 || shellScripts[c.Args[0]] == "" {
					return call.Usagef("completion takes one of bash, zsh and fish")
				}
				_, _ = fmt.Fprint(c.Out, shellScripts[c.Args[0]])
				return nil
			}
		},
	}
}

// shellScripts have each shell ask the program itself.
var shellScripts = map[string]string{
	"bash": `_mellowgate() {
  local IFS=$'\n'
  mapfile -t COMPREPLY < <(mellowgate completion -line -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)
  COMPREPLY=("${COMPREPLY[@]// /\\ }")
}
complete -o default -o nosort -F _mellowgate mellowgate
`,
	"zsh": `_mellowgate() {
  local -a found
  found=("${(@f)$(mellowgate completion -line -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
  if [[ -n "${found[1]}" ]]; then compadd -V words -- "${found[@]}"; else _files; fi
}
compdef _mellowgate mellowgate
`,
	"fish": `function __mellowgate_words
  set -l words (commandline -opc) (commandline -ct)
  mellowgate completion -line -- $words[2..-1] 2>/dev/null
end
complete -c mellowgate -k -a '(__mellowgate_words)'
`,
}

// complete returns what may stand in the place of the last of some words; nothing where a
// file may.
func complete(words []string) []string {
	if len(words) == 0 {
		return nil
	}
	typed := words[len(words)-1]
	if len(words) == 1 {
		return beginning(typed, commandNames())
	}
	command := findCommand(words[0])
	if command == nil {
		return nil
	}
	flags := call.FlagsOf(command)
	var args []string
	for i := 1; i < len(words)-1; i++ {
		f := flagOf(flags, words[i])
		switch {
		case f == nil:
			args = append(args, words[i])
		case !isSwitch(f) && !strings.Contains(words[i], "="):
			if i == len(words)-2 {
				return beginning(typed, valuesOf(f, args, command))
			}
			i++
		}
	}
	if strings.HasPrefix(typed, "-") {
		var names []string
		flags.VisitAll(func(f *flag.Flag) { names = append(names, "-"+f.Name) })
		return beginning(typed, names)
	}
	return beginning(typed, argumentsOf(command, len(args)))
}

// flagOf returns the flag that a word gives, nil for none.
func flagOf(flags *flag.FlagSet, word string) *flag.Flag {
	name := strings.TrimPrefix(strings.TrimPrefix(word, "-"), "-")
	if name == word {
		return nil
	}
	name, _, _ = strings.Cut(name, "=")
	return flags.Lookup(name)
}

func isSwitch(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

func beginning(with string, of []string) []string {
	var some []string
	for _, word := range of {
		if strings.HasPrefix(word, with) && !slices.Contains(some, word) {
			some = append(some, word)
		}
	}
	return some
}

// argumentsOf returns what a command's argument may be, by its place in the usage line.
func argumentsOf(c *call.Command, n int) []string {
	parts := strings.Fields(strings.NewReplacer("[", "", "]", "").Replace(c.Args))
	if n >= len(parts) {
		return nil
	}
	switch part := parts[n]; {
	case part == "SHELL":
		return []string{"bash", "zsh", "fish"}
	case part == "COMMAND":
		return commandNames()
	case strings.HasPrefix(part, "DEVICE"):
		return namesOf(siteOf(nil, c), "device")
	case part == "PLATFORM":
		return namesOf(siteOf(nil, c), "platform")
	}
	return nil
}

// siteOf returns the site that a call is about, as far as it can be read; nil where it
// cannot.
func siteOf(args []string, c *call.Command) *site.Site {
	call := &call.Call{}
	before := 0
	for _, part := range strings.Fields(c.Args) {
		if strings.HasPrefix(part, "[SITE") {
			break
		}
		before++
	}
	if len(args) > before {
		call.Args = args[before:]
	}
	s, _, err := sitefile.Load(call.SitePath())
	if err != nil {
		return nil
	}
	return s
}

// namesOf returns the names of a sort that a site has.
func namesOf(s *site.Site, sort string) []string {
	if s == nil {
		return nil
	}
	var names []string
	switch sort {
	case "device":
		return call.NamesIn(s.Devices, func(d *site.Device) string { return d.Name })
	case "platform":
		return call.NamesIn(s.Platforms, func(k *site.Platform) string { return k.Name })
	case "server":
		return call.NamesIn(s.Servers, func(v *site.Server) string { return v.Name })
	case "account":
		return call.NamesIn(s.Accounts, func(a *site.Account) string { return a.Name })
	case "label":
		for _, d := range s.Devices {
			for name, value := range d.Labels {
				names = append(names, name+"="+value)
			}
		}
		slices.Sort(names)
	case "fault":
		for _, v := range s.Servers {
			for _, form := range lab.FaultForms {
				if rest, ok := strings.CutPrefix(form, "SERVER "); ok {
					names = append(names, v.Name+" "+rest)
				}
			}
		}
	}
	return names
}

// valuesOf returns what a flag's value may be, by the word that stands for it in its help.
func valuesOf(f *flag.Flag, args []string, c *call.Command) []string {
	word, _ := flag.UnquoteUsage(f)
	in := func(sort string) []string { return namesOf(siteOf(args, c), sort) }
	switch {
	case word == "device":
		return in("device")
	case word == "name" || word == "person":
		if s := siteOf(args, c); s != nil {
			return call.EveryName(s)
		}
	case word == "account":
		return in("account")
	case word == "access":
		return site.Accesses()
	case word == "server" || word == "servers" || f.Name == "listen":
		return in("server")
	case word == "LABEL=VALUE":
		return in("label")
	case word == "fault":
		return in("fault")
	case word == "CODE":
		codes := []string{"all", "defaults"}
		for _, p := range findings.Pages() {
			codes = append(codes, p.Code)
		}
		return codes
	case word == "outcome":
		return []string{"in", "refused"}
	}
	return nil
}
