package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"mellowgate/internal/cli/clitest"

	"github.com/stretchr/testify/require"
)

// From an empty file to what a saved text says, and what is wrong with it.
func TestASavedTextIsReadByAPhrasebook(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	quay, hull := "demo/phrasebooks/quay-switch.yaml", "demo/phrasebooks/hull-router.yaml"
	r := c.run(t, "phrasebook", "try", quay, "demo/saved/south-sw-1.txt")
	require.Equal(t, 1, r.status)
	require.Regexp(t, `(?m)^31 +not understood +follow … crew-session +no phrase below "door <access as door> `+
		`\[<lines>\]" reads it; did you mean "shell"\?$`, r.out)
	require.Contains(t, r.out,
		"line 17: group shore names the server terns, and the text has none; did you mean the server tern?")
	require.NotContains(t, r.out, "In-the-clear")

	r = c.run(t, "phrasebook", "try", "-facts", hull, "demo/saved/mv-avocet-rtr.txt")
	require.Equal(t, 0, r.status, r.err)
	require.Regexp(t, `(?m)^server radius 1 +address +192\.0\.2\.23 +line 5$`, r.out)
	require.Regexp(t, `(?m)^ +accounting-port +1813 +implied: no line says it$`, r.out)

	r = c.run(t, "phrasebook", "try", "-json", hull, "demo/saved/mv-avocet-rtr.txt")
	require.Equal(t, 0, r.status, r.err)
	var tried struct {
		Make    string
		Whole   bool
		Records []struct {
			About, Name string
			Facts       []struct {
				Field, State string
				Values       []string
			}
		}
	}
	clitest.Strictly(t, r.out, &tried)
	require.True(t, tried.Whole)
	require.Equal(t, "hull-router", tried.Make)
	found := false
	for _, one := range tried.Records {
		for _, f := range one.Facts {
			if one.Name == "every-radius" && f.Field == "servers" {
				found = true
				require.Equal(t, []string{"radius 1"}, f.Values)
				require.Equal(t, "implied", f.State)
			}
		}
	}
	require.True(t, found)

	r = c.run(t, "phrasebook", "check", quay, "demo/saved/north-sw-1.txt", "demo/saved/south-sw-1.txt")
	require.Equal(t, 1, r.status)
	require.Regexp(t, `(?m)^demo/saved/north-sw-1\.txt +47 +0 +2 +4$`, r.out)
	require.Contains(t, r.out, "No text has used these, so nothing shows that a device says them so:\n"+
		"  common-word <key as secret>\n")
	r = c.run(t, "phrasebook", "check", "-json", quay, "demo/saved/north-sw-1.txt")
	require.Equal(t, 0, r.status)
	require.Contains(t, r.out, `"unused": [`)
}

func TestAPhrasebookIsBegunAndItsMistakesAreNamed(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	file := filepath.Join(t.TempDir(), "my.yaml")
	require.Equal(t, 0, c.run(t, "phrasebook", "new", file).status)
	require.Equal(t, 2, c.run(t, "phrasebook", "new", file).status, "it overwrites nothing")
	r := c.run(t, "phrasebook", "check", file)
	require.Equal(t, 0, r.status, r.err)
	require.Contains(t, r.out, "11 phrases for my-switch, well formed.")

	text, err := os.ReadFile(file)
	require.NoError(t, err)
	wrong := strings.Replace(string(text), "about: group", "about: gruop", 1)
	require.NoError(t, os.WriteFile(file, []byte(wrong), 0o600))
	r = c.run(t, "phrasebook", "check", file)
	require.Equal(t, 2, r.status)
	require.Regexp(t, `my\.yaml:\d+:11: about is not "gruop"; did you mean "group"\?`, r.err)

	for args, want := range map[string]string{
		"tyr a b":          "phrasebook has no \"tyr\"; did you mean \"try\"?",
		"check demo/saved": "demo/saved: it is a folder, and a file is wanted",
		"try demo/phrasebooks/hull-router.yaml demo/saved": "demo/saved: it is a folder, and a file is wanted",
		"try a":                            "phrasebook wants a verb and files",
		"check no-such.yaml":               "no-such.yaml: there is no such file or folder",
		"check demo/as-reviewed/site.yaml": "it does not say \"phrasebook: 1\", so it is another kind of file",
		"try demo/phrasebooks/hull-router.yaml no.txt": "no.txt: there is no such file or folder",
	} {
		r := c.run(t, append([]string{"phrasebook"}, strings.Fields(args)...)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, want, args)
	}
}

// What the devices of an estate have saved becomes a site, and check finds what is wrong
// with it.
func TestAnEstateOfSavedTextsBecomesASite(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	books := []string{"-book", "demo/phrasebooks/quay-switch.yaml", "-book", "demo/phrasebooks/hull-router.yaml"}
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "demo/saved/shopping.txt"), []byte("eggs\nmilk\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "demo/saved/.hidden"), []byte("gate\n"), 0o600))
	r := c.run(t, append(append([]string{"new", "-from", "demo/saved"}, books...), "estate")...)
	require.Equal(t, 0, r.status, r.err)
	require.Contains(t, r.out,
		"estate is a site of 9 devices, made of 11 texts (5 by hull-router, 5 by quay-switch).\n"+
			"1 text gave no device.\nOf the lines about logins 2 were not understood.\n")
	for _, file := range []string{"site.yaml", "questions.md", "keys/shared-key.key", ".gitignore"} {
		info, err := os.Stat(filepath.Join(c.dir, "estate", file))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), file)
	}
	page, err := os.ReadFile(filepath.Join(c.dir, "estate/questions.md"))
	require.NoError(t, err)
	for _, want := range []string{
		"- demo/saved/shopping.txt: no phrasebook that was given reads a line of it\n",
		"- demo/saved/mv-godwit-rtr.txt:6: `put helper r 1 …`: no phrase reads it; did you mean \"port\"?\n",
		"- demo/saved/south-sw-1.txt:19: session list crew-session names the group shoer, and the text has none; ",
		"| demo/saved/hq-fw-1.txt | hq-fw-1 | quay-switch | 39 | 34 | 0 |\n",
	} {
		require.Contains(t, string(page), want)
	}
	for _, secret := range []string{"demo-only", "Old-ship-word", "Summer-word", "In-the-clear", "9cc1d0ffe2"} {
		require.NotContains(t, string(page)+r.out+r.err, secret)
	}
	r = c.run(t, "check", "estate")
	require.Equal(t, 1, r.status, r.err)
	for _, want := range []string{"session-stuck", "open-always", "no-way-back", "ports-differ", "clear-text-way"} {
		require.Contains(t, r.out, want)
	}
	r = c.run(t, "foresee", "-device", "north-sw-1", "-person", "harbourmaster", "estate")
	require.Equal(t, 0, r.status, r.err)
	require.Regexp(t, `(?m)^console, ssh, web, api +harbourmaster +tern, plover silent +in +15 +local +6 s`, r.out)

	for args, want := range map[string]string{
		"new -from demo/saved made": "-from wants the " +
			"phrasebooks of the makes: -book BOOK",
		"new -book b made": "-book is for -from FOLDER",
		"new -from demo/saved -book b made": "b: there is no such file " +
			"or folder",
		"new -from nowhere -book demo/phrasebooks/quay-switch.yaml made": "nowhere: there is no such",
		"new -from demo/as-drafted/keys -book demo/phrasebooks/quay-switch.yaml made": "has no text that " +
			"could be read",
		"new -from demo/saved/mv-avocet-rtr.txt -book demo/phrasebooks/hull-router.yaml estate": "is there already",
	} {
		r := c.run(t, strings.Fields(args)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, want, args)
	}
}

// "What will this configuration do?"
func TestATextIsForeseenAloneAndInItsSite(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	book := "demo/phrasebooks/quay-switch.yaml"
	r := c.run(t, "foresee", "-read", "demo/saved/south-sw-2.txt", "-book", book)
	require.Equal(t, 0, r.status, r.err)
	require.Regexp(t, `(?m)^console, ssh +harbourmaster, unknown, anyone +sanderling, tern silent +refused`, r.out)

	// in its site people get in by the servers, and the phrasebook is that of the platform
	r = c.run(t, "foresee", "-read", "demo/saved/north-sw-1.txt", "-device", "north-sw-1", "-person", "ines.marsh",
		"-access", "ssh", "demo/as-reviewed")
	require.Equal(t, 0, r.status, r.err)
	require.Regexp(t, `(?m)^ssh +ines\.marsh +tern up +in +15 +tern`, r.out)
	designed := c.run(t, "foresee", "-device", "north-sw-1", "-person", "ines.marsh", "-access", "ssh",
		"demo/as-reviewed")
	require.Equal(t, designed.out, r.out, "it holds what the design says")

	r = c.run(t, "check", "-read", "demo/saved/south-sw-1.txt", "-device", "south-sw-1", "demo/as-reviewed")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "open-when-silent  demo/saved/south-sw-1.txt:18\n")
	require.Contains(t, r.err, "note: demo/saved/south-sw-1.txt:31: not understood: follow … crew-session\n")
	require.NotContains(t, r.out, "mv-avocet-rtr")

	text, err := os.ReadFile(filepath.Join(c.dir, "demo/saved/hq-fw-1.txt"))
	require.NoError(t, err)
	r = call{dir: c.dir, stdin: string(text)}.run(t, "foresee", "-read", "-", "-book", book, "-device", "south-sw-1",
		"demo/as-reviewed")
	require.Equal(t, 0, r.status, r.err)
	require.Contains(t, r.out, "south-sw-1\n", "a text stands for the device that is named")

	for args, want := range map[string]string{
		"foresee -read demo/saved/hq-fw-1.txt": "-read wants the phrasebook of the " +
			"make",
		"foresee -read demo/saved/hq-fw-1.txt demo/as-reviewed": "-read wants the device, -device " +
			"DEVICE",
		"foresee -read demo/saved/hq-fw-1.txt -device none demo/as-reviewed": `has no device "none"`,
		"foresee -book " + book + " demo/as-reviewed": "-book and -version are for " +
			"-read TEXT",
		"foresee -read demo/saved/south-sw-2.txt -book " + book +
			" demo/as-reviewed": "is of a device called south-sw-2",
		"foresee -read demo/as-drafted/keys/ship.key -book " + book: "it may be of another make",
		"foresee -read demo/saved -book " + book: "it is a folder, and a file " +
			"is wanted",
		"check -read demo/saved/hq-fw-1.txt -book demo/as-reviewed/site.yaml": `does not say "phrasebook: 1"`,
	} {
		r := c.run(t, strings.Fields(args)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, want, args)
	}
}

// What a device has saved is compared in place of the device, and taken over.
func TestATextIsComparedWithItsSite(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	for device, want := range map[string]string{
		"north-sw-1": "north-sw-1: as the site has it; 1 secret not shown by the device (the phrasebook of " +
			"quay-switch)\n",
		"north-rtr-1": "  not shown: server plover: the device does not show its key, which may be another\n",
		"mv-avocet-rtr": "  note:      not compared, because no phrase says them: message-authenticator of " +
			"servers\n",
	} {
		r := c.run(t, "compare", "-read", "demo/saved/"+device+".txt", device, "demo/as-reviewed")
		require.Equal(t, 0, r.status, r.err)
		require.Contains(t, r.out, want)
	}
	r := c.run(t, "compare", "-read", "demo/saved/mv-curlew-rtr.txt", "mv-curlew-rtr", "demo/as-reviewed")
	require.Equal(t, 1, r.status, r.err)
	require.Regexp(t, `(?m)^  - way ssh: session is group sea, group shore, and should be group sea, group shore, local `+
		`\(demo/as-reviewed/site\.yaml:\d+:\d+; demo/saved/mv-curlew-rtr\.txt:19\)$`, r.out)
	require.Contains(t, r.out, "way telnet is open on the device, and not in the site")

	// of a text that is cut nothing is missing
	r = c.run(t, "compare", "-json", "-read", "demo/saved/mv-godwit-rtr.txt", "mv-godwit-rtr", "demo/as-reviewed")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, `"at": "demo/saved/mv-godwit-rtr.txt:4"`)
	require.NotContains(t, r.out, `"kind": "missing"`)
	require.NotContains(t, r.out, "Ship-word")

	r = c.run(t, "compare", "-adopt", "-read", "demo/saved/mv-curlew-rtr.txt", "mv-curlew-rtr", "demo/as-reviewed")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "found: {lists: {deck: [group shore, local, group sea], deck-session: [group sea, "+
		"group shore]}}")
	r = c.run(t, "compare", "-adopt", "-read", "demo/saved/mv-godwit-rtr.txt", "mv-godwit-rtr", "demo/as-reviewed")
	require.Equal(t, 1, r.status, "not all of it was read: %s", r.err)
	key, err := os.ReadFile(filepath.Join(c.dir, "demo/as-reviewed/keys/held-mv-godwit-rtr-sanderling.key"))
	require.NoError(t, err)
	require.Equal(t, "Ship-word-in-clear-4\n", string(key))
	r = c.run(t, "compare", "-since", "look.json", "-book", "demo/phrasebooks/hull-router.yaml", "-read",
		"demo/saved/mv-godwit-rtr.txt", "demo/as-reviewed")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "mv-godwit-rtr: 3 differences, known to the site; not all was read")

	for args, want := range map[string]string{
		"compare -all -read x demo/as-reviewed":                                    "-read is of one device, and -all",
		"compare -read x demo/as-reviewed":                                         "-read is of one device: name it",
		"compare -read demo/saved/hq-fw-1.txt none demo/as-reviewed":               `has no device "none"`,
		"compare -read demo/saved/hq-fw-1.txt hq-fw-1 north-sw-1 demo/as-reviewed": "-read is of one device: name it",
	} {
		r := c.run(t, strings.Fields(args)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, want, args)
	}
}

func TestALogIsReadByAPhrasebook(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	quay := "demo/phrasebooks/quay-switch.yaml"
	saved := filepath.Join(c.dir, "demo/logs/north-sw-1.log")
	then := time.Date(2024, 2, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(saved, then, then))
	r := c.run(t, "phrasebook", "try", "-log", "-zone", "Asia/Tokyo", quay, "demo/logs/north-sw-1.log")
	require.Equal(t, 0, r.status, r.err)
	require.Regexp(t, `(?m)^4 +2023-11-20 03:09:02 \+09:00 +refused +device north-sw-1, person tobin\.reed, access ssh, `+
		`from 192\.0\.2\.61, server plover, 3 times$`, r.out)
	require.Contains(t, r.out, "demo/logs/north-sw-1.log: 8 lines, of which phrases read 6.\n")

	r = c.run(t, "phrasebook", "try", "-log", "-json", "demo/phrasebooks/hull-router.yaml",
		"demo/logs/mv-avocet-rtr.log")
	require.Equal(t, 0, r.status, r.err)
	var log struct {
		Told []struct {
			Line, Times int
			What        string
			Time        *time.Time
			Facts       map[string]string
		}
		LinesRead int `json:"lines_read"`
	}
	clitest.Strictly(t, r.out, &log)
	require.Len(t, log.Told, 5)
	require.Equal(t, "wrong-password", log.Told[0].Facts["reason"])
	require.Nil(t, log.Told[4].Time)
	require.Equal(t, 10, log.LinesRead)

	require.Equal(t, 1, c.run(t, "phrasebook", "try", "-log", quay, "demo/saved/hq-fw-1.txt").status, "no line is "+
		"of a log")
	for args, want := range map[string]string{
		"try -log -zone Atlantis " + quay + " demo/logs/north-sw-1.log": `-zone is "Atlantis"`,
		"check -log " + quay:                                   "-log and -zone are for try BOOK LOG",
		"try -log " + quay + " demo/logs":                      "it is a folder, and a file is wanted",
		"try -log " + quay + " demo/none.log":                  "there is no such file or folder",
		"try -version new " + quay + " demo/saved/hq-fw-1.txt": `-version: "new" is no version`,
	} {
		r := c.run(t, append([]string{"phrasebook"}, strings.Fields(args)...)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, want, args)
	}
}

// A text that cannot tell, or is not the device's, never counts as the design.
func TestATextThatCannotTellIsNoProof(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	hull := "demo/phrasebooks/hull-router.yaml"
	r := c.run(t, "compare", "-read", "demo/saved/mv-avocet-rtr.txt", "north-sw-1", "demo/as-reviewed")
	require.Equal(t, 2, r.status, "it is of another make: %s", r.out)
	require.Contains(t, r.err, "says nothing that the phrasebook of quay-switch reads: it may be of another make")

	// the first half of a text that holds the design holds half of it
	whole, err := os.ReadFile(filepath.Join(c.dir, "demo/saved/north-sw-1.txt"))
	require.NoError(t, err)
	half := strings.Join(strings.SplitAfter(string(whole), "\n")[:30], "")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "half.txt"), []byte(half), 0o600))
	r = c.run(t, "compare", "-read", "half.txt", "north-sw-1", "demo/as-reviewed")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "north-sw-1: nothing differs in what was read, and not all was")
	require.NotContains(t, r.out, "as the site has it")
	r = c.run(t, "compare", "-json", "-read", "half.txt", "north-sw-1", "demo/as-reviewed")
	require.Contains(t, r.out, `"in_part": true`)

	for _, command := range []string{"check", "foresee"} { // what the rest says is not known, so nothing is concluded
		r = c.run(t, command, "-read", "demo/saved/mv-godwit-rtr.txt", "-book", hull)
		require.Equal(t, 2, r.status, r.out)
		require.Empty(t, r.out)
		require.Contains(t, r.err, "mv-godwit-rtr is left out: what the rest of the text says is not known; save it "+
			"again")
	}
	r = c.run(t, "check", "-read", "demo/saved/mv-avocet-rtr.txt", "-book", hull)
	require.NotContains(t, r.err, "put the password into", "nothing is to be put anywhere to read a text")

	require.NotContains(t, r.out, "nothing is proven")
	text := strings.Replace(string(whole), "plan crew-record", "plan crew-record not-a-word", 1)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "unread.txt"), []byte(text), 0o600))
	for command, status := range map[string]int{"check": 1, "foresee": 0} {
		r = c.run(t, command, "-read", "unread.txt", "-device", "north-sw-1", "demo/as-reviewed")
		require.Equal(t, status, r.status, r.err)
		require.Contains(t, r.out, "nothing is proven: what the lines of unread.txt change that were not understood "+
			"is not known.")
	}

	// of a site in which others are wrong only what holds for the device is said, and no more is proven
	r = c.run(t, "check", "-read", "demo/saved/hq-fw-1.txt", "-device", "hq-fw-1", "demo/as-drafted")
	require.Regexp(t, `nothing found: 1 device, 2 ways in, `, r.out)
	require.NotContains(t, r.out, "mv-curlew-rtr")
	require.NotContains(t, r.out, "8 devices")

	// a text that says another name than that of the device is said
	for _, args := range [][]string{{"compare", "-read", "demo/saved/south-sw-1.txt", "north-sw-1", "demo/as-reviewed"},
		{"check", "-read", "demo/saved/south-sw-1.txt", "-device", "north-sw-1", "demo/as-reviewed"}} {
		r = c.run(t, args...)
		require.Contains(t, r.out+r.err, "the text says that its device is called south-sw-1, and it is taken for "+
			"north-sw-1")
	}

	r = c.run(t, "phrasebook", "try", "-log", hull, "demo/logs/north-sw-1.log")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "no phrase under tells of "+hull+" reads a line of it: it may be of another make")
	for args, want := range map[string]string{
		"check -device north-sw-1 demo/as-reviewed": "-device is for -read TEXT",
		"phrasebook try -facts -log " + hull + " x": "-facts is for a saved text, and -log for a log",
	} {
		r := c.run(t, strings.Fields(args)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, want, args)
	}
}
