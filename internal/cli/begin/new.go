// Package begin has the commands with which a site and a phrasebook begin: new and phrasebook.
package begin

import (
	"crypto/rand"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/template"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

//go:embed starter/site.yaml
var starter string

func NewCommand() *call.Command {
	return &call.Command{
		Name: "new", Args: "DIR", Short: "start a site: a small one to edit, or one made of what devices have saved",
		Long: `Writes DIR/site.yaml with comments, a fresh shared secret in DIR/keys and two fresh passwords in DIR/passwords,
in files that only you can read, a .gitignore that keeps both out of a repository, and DIR/site.schema.json, by which
an editor completes and checks while you type. It overwrites nothing.

-from FOLDER makes the site of what devices have saved of themselves: every file of the folder is read by the
phrasebook that reads it best, and gives a device. What many devices share is written once. Keys that a device
shows go into files that only you can read; DIR/questions.md lists what was assumed, what was not understood, with
file and line, and what no text says: who may log in.

-schema prints that JSON Schema of the site file. After an upgrade it may have new keys: write it again.`,
		Examples: []call.Example{
			{Call: "mellowgate new my-site", Shows: "a starter site in the folder my-site"},
			{Call: "mellowgate new my-site && mellowgate check my-site",
				Shows: "the same, and the proof that it is safe"},
			{Call: "mellowgate new -from demo/saved -book demo/phrasebooks/quay-switch.yaml -book " +
				"demo/phrasebooks/hull-router.yaml my-site",
				Shows: "a site made of saved texts of devices of two makes"},
		},
		Prepare: func(c *call.Call) func() error {
			schema := c.Flags.Bool("schema", false, "print the JSON Schema of a site file, for editors, and make "+
				"nothing")
			from := c.Flags.String("from", "",
				"make the site of the saved texts in this `folder`, by the phrasebooks that are given with -book")
			var books call.Names
			c.Flags.Var(&books, "book", "with -from: the phrasebook of a make, a `file`; may be given several times")
			return func() error {
				if *schema {
					_, err := c.Out.Write(site.Schema())
					return err
				}
				if len(c.Args) == 0 {
					return call.Usagef("new needs the name of a folder to make\nusage: %s", call.Usage(NewCommand()))
				}
				dir := c.Args[0]
				switch {
				case *from != "":
					return newFrom(c, *from, books, dir)
				case len(books) > 0:
					return call.Usagef("-book is for -from FOLDER: the texts that it reads")
				}
				if err := writeStarter(dir); err != nil {
					return err
				}
				c.Say(`%s is a site to edit, with a fresh key and fresh passwords in it.
They are in %[1]s/keys and %[1]s/passwords, which only you can read, and which
%[1]s/.gitignore keeps out of a repository.

  mellowgate check %[1]s      is it safe?
  mellowgate foresee %[1]s    who gets in, in every outage?
  mellowgate lab %[1]s        try it on this machine
`, dir)
				return nil
			}
		},
	}
}

// schemaFile is the schema beside a site, and forEditors the line by which an editor of
// YAML finds it.
const (
	schemaFile = "site.schema.json"
	forEditors = "# yaml-language-server: $schema=" + schemaFile + "\n"
)

// writeStarter writes a starter site, or nothing.
func writeStarter(dir string) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return call.Usagef("%s is there already and not empty; name a new folder", dir)
	}
	account := freshWords()
	person := freshWords()
	key := rand.Text()
	accountHash, err := secrets.Hash(account, 19456, 2)
	if err != nil {
		return err
	}
	personHash, err := secrets.Hash(person, 19456, 2)
	if err != nil {
		return err
	}
	absolute, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	name := filepath.Base(absolute)
	var text strings.Builder
	err = template.Must(template.New("site").Parse(starter)).Execute(&text, map[string]string{
		"Name": fmt.Sprintf("%q", name), "AccountHash": accountHash, "PersonHash": personHash})
	if err != nil {
		return err
	}
	for _, file := range []struct{ name, text string }{
		{"site.yaml", forEditors + text.String()}, {schemaFile, string(site.Schema())}, {".gitignore", ignored},
		{"keys/gate.key", key + "\n"},
		{"passwords/wayback", account + "\n"}, {"passwords/first.admin", person + "\n"},
	} {
		path := filepath.Join(dir, filepath.FromSlash(file.name))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return call.TaskError(fmt.Errorf("%s cannot be made: %w", filepath.Dir(path), err))
		}
		if err := os.WriteFile(path, []byte(file.text), 0o600); err != nil {
			return call.TaskError(fmt.Errorf("%s cannot be written: %w", path, err))
		}
	}
	return nil
}

// ignored is what of a site is kept out of a repository: what opens devices.
const ignored = `# What opens devices stays out of the repository. Sealed keys may go into it:
# mellowgate help keys
/keys/
/passwords/
/mellowgate-state/
/mellowgate-sent/
`

// freshWords makes a password of 18 random letters and digits (90 bits) in
// groups that can be typed.
func freshWords() string {
	text := strings.ToLower(rand.Text())
	return text[:6] + "-" + text[6:12] + "-" + text[12:18]
}
