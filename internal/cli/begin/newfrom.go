package begin

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/task/textread"
)

// questionsFile is the page of what a person must look at in a site that was made of texts.
const questionsFile = "questions.md"

// newFrom makes a site of the texts below a folder.
func newFrom(c *call.Call, folder string, books []string, dir string) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return call.Usagef("%s is there already and not empty; name a new folder", dir)
	}
	opened, err := OpenBooks(books)
	if err != nil {
		return err
	}
	done := c.Working("reading " + folder)
	taken, err := textread.Estate(c.Context, folder, opened)
	done()
	switch {
	case err != nil && c.Context.Err() == nil:
		return call.UsageError(err)
	case err != nil:
		return err
	}
	var devices []*inventory.Device
	for _, t := range taken {
		if t.Device != nil {
			devices = append(devices, t.Device)
		}
	}
	if len(devices) == 0 {
		for _, t := range taken[:min(len(taken), 5)] {
			c.Note("%s: %s", t.File, t.Problem)
		}
		return call.UsageError(fmt.Errorf(
			"%s has no text that could be read, so no site was made", folder))
	}
	options := inventory.Options{Name: filepath.Base(files.Absolute(dir)), Books: map[string]string{},
		Hash: secrets.Known}
	for _, b := range opened {
		options.Books[b.Make] = "phrasebooks/" + filepath.Base(b.File)
	}
	made := inventory.Make(devices, options)
	if len(made.Devices) == 0 {
		for _, n := range made.Notes[:min(len(made.Notes), 5)] {
			c.Note("%s", texts.NoteText(n))
		}
		return call.UsageError(fmt.Errorf("no text of %s gives a device that a site can have, so no site was made",
			folder))
	}
	if _, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(made.Site)}); err != nil {
		return call.TaskError(fmt.Errorf("what was read makes no site, which is a mistake of this program: %w", err))
	}
	if err := writeEstate(dir, opened, taken, made); err != nil {
		return err
	}
	printEstate(c, dir, taken, made)
	return nil
}

func OpenBooks(names []string) (books []textread.Book, err error) {
	if len(names) == 0 {
		return nil, call.Usagef("-from wants the phrasebooks of the makes: -book BOOK, as often as there are makes\n" +
			"start one with: mellowgate phrasebook new BOOK")
	}
	for _, name := range names {
		b, err := textread.OpenBook(name)
		if err != nil {
			return nil, call.UsageError(err)
		}
		if i := slices.IndexFunc(books, func(o textread.Book) bool {
			return o.Make == b.Make || filepath.Base(o.File) == filepath.Base(name)
		}); i >= 0 {
			return nil, call.Usagef("%s and %s are of one make, or have one name: give each make once", books[i].File,
				name)
		}
		books = append(books, b)
	}
	return books, nil
}

const estateHead = `# Made by "mellowgate new -from" of what devices say of themselves.
# ` + questionsFile + ` has what was assumed, what was not understood, and what is to be answered: read it first.
# Who may log in stands in no text: add people or directories, roles and grants
# (docs/site-file.md), and how each platform behaves (behaviour).
`

func writeEstate(dir string, books []textread.Book, taken []textread.Taken, made inventory.Estate) error {
	type file struct {
		name, text string
		mode       os.FileMode
	}
	all := []file{{"site.yaml", forEditors + estateHead + made.Site, 0o600},
		{schemaFile, string(site.Schema()), 0o600}, {".gitignore", ignored, 0o600},
		{questionsFile, estatePage(taken, made), 0o600}}
	for name, value := range made.Keys {
		all = append(all, file{inventory.KeyFile(name), value.Reveal() + "\n", 0o600})
	}
	for _, b := range books {
		all = append(all, file{"phrasebooks/" + filepath.Base(b.File), string(b.Text), 0o644})
	}
	for _, f := range all {
		path := filepath.Join(dir, filepath.FromSlash(f.name))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return call.TaskError(fmt.Errorf("%s cannot be made: %w", filepath.Dir(path), err))
		}
		if err := os.WriteFile(path, []byte(f.text), f.mode); err != nil {
			return call.TaskError(fmt.Errorf("%s cannot be written: %w", path, err))
		}
	}
	return nil
}

// estatePage is the page of what a person must look at.
func estatePage(taken []textread.Taken, made inventory.Estate) string {
	var b strings.Builder
	section := func(title, why string) { fmt.Fprintf(&b, "\n## %s\n\n%s\n\n", title, why) }
	b.WriteString("# What to look at in this site\n\nThe site was made of saved texts. No secret stands on this " +
		"page.\n")
	section("To be answered", "No text says these, and the proof is as good as the answers:")
	b.WriteString("- Who may log in: write `people`, or `servers` of LDAP and `directories`, with `roles` and " +
		"`grants`.\n" +
		"- How each platform behaves: its `behaviour` is what is safe to assume (`mellowgate check -explain " +
		"defaults`).\n" +
		"- Which servers are ours: write `run: true` at those that `serve` and `lab` run.\n")
	for _, n := range made.Notes {
		if n.Wants || n.File == "" {
			fmt.Fprintf(&b, "- %s\n", texts.NoteText(n))
		}
	}
	unread, left := 0, 0
	for _, t := range taken {
		unread += len(t.Unread)
		if t.Device == nil {
			left++
		}
	}
	if left > 0 {
		section("Texts that were not read", "They gave no device:")
		for _, t := range taken {
			if t.Device == nil {
				fmt.Fprintf(&b, "- %s: %s\n", t.File, t.Problem)
			}
		}
	}
	if unread > 0 {
		section("Lines that were not understood",
			"Each is ours, and no phrase of the phrasebook reads it. What may be a secret is not shown. Add a "+
				"phrase, or a place under `pass`, and make the site again:")
		for _, t := range taken {
			for _, l := range t.Unread {
				fmt.Fprintf(&b, "- %s:%d: `%s`: %s\n", t.File, l.Number, cmp.Or(l.Text, "(not shown)"), l.Means)
			}
		}
	}
	noted := slices.DeleteFunc(slices.Clone(made.Notes), func(n inventory.Note) bool { return n.Wants || n.File == "" })
	if len(noted) > 0 {
		section("Notes", "What was assumed, what leads nowhere and was left out, and what a site has no word for:")
		for _, n := range noted {
			fmt.Fprintf(&b, "- %s\n", texts.NoteText(n))
		}
	}
	section("What was read", "Each text, and the device that it gave:")
	b.WriteString("| text | device | make | lines | understood | not understood |\n|---|---|---|---|---|---|\n")
	for _, t := range taken {
		if t.Device != nil {
			fmt.Fprintf(&b, "| %s | %s | %s | %d | %d | %d |\n", t.File, t.Device.Name, t.Make, t.Lines,
				t.Counts[phrase.Understood], t.Counts[phrase.NotUnderstood])
		}
	}
	return b.String()
}

// printEstate says what was made.
func printEstate(c *call.Call, dir string, taken []textread.Taken, made inventory.Estate) {
	makes := map[string]int{}
	left := 0
	unread := 0
	for _, t := range taken {
		unread += len(t.Unread)
		if t.Device == nil {
			left++
			continue
		}
		makes[t.Make]++
	}
	var of []string
	for name, n := range makes {
		of = append(of, fmt.Sprintf("%d by %s", n, name))
	}
	slices.Sort(of)
	c.Say("%s is a site of %s, made of %s (%s).\n", dir, show.Count(len(made.Devices), "device"),
		show.Count(len(taken), "text"), strings.Join(of, ", "))
	if left > 0 {
		c.Say("%s gave no device.\n", show.Count(left, "text"))
	}
	if unread > 0 {
		c.Say("Of the lines about logins %d were not understood.\n", unread)
	}
	c.Say("%s has what was assumed, what was not understood, and what is to be answered: %s.\n",
		filepath.Join(dir, questionsFile), show.Count(len(made.Notes), "note"))
	c.Say("Keys that devices show are in %s, which only you can read.\n\n"+
		"  mellowgate check %s      is it safe?\n"+
		"  mellowgate foresee %[2]s    who gets in, in every outage?\n", filepath.Join(dir, "keys"), dir)
}
