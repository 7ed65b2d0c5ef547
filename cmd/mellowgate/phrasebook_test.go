package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// From an empty file to what a saved text says, and what is wrong with it.
func TestASavedTextIsReadByAPhrasebook(t *testing.T) {
	t.Parallel()
	c := demoSite(t)
	quay, hull := "demo/phrasebooks/quay-switch.yaml", "demo/phrasebooks/hull-router.yaml"
	r := c.run(t, "phrasebook", "try", quay, "demo/saved/south-sw-1.txt")
	require.Equal(t, 1, r.status)
	require.Regexp(t, `(?m)^14 +not understood +gate tern … 3 +no phrase below "ring <name>" reads it$`, r.out)
	require.Contains(t, r.out,
		"line 11: group ashore names the server sanderlign, and the text has none; did you mean the "+
			"server sanderling?")
	require.NotContains(t, r.out, "In-the-clear")

	r = c.run(t, "phrasebook", "try", "-facts", hull, "demo/saved/mv-avocet-rtr.txt")
	require.Equal(t, 0, r.status, r.err)
	require.Regexp(t, `(?m)^server radius 1 +address +192\.0\.2\.30 +line 6$`, r.out)
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
	strictly(t, r.out, &tried)
	require.True(t, tried.Whole)
	require.Equal(t, "hull-router", tried.Make)
	found := false
	for _, one := range tried.Records {
		for _, f := range one.Facts {
			if one.Name == "every-radius" && f.Field == "servers" {
				found = true
				require.Equal(t, []string{"radius 1", "radius 2"}, f.Values)
				require.Equal(t, "implied", f.State)
			}
		}
	}
	require.True(t, found)

	r = c.run(t, "phrasebook", "check", quay, "demo/saved/north-sw-1.txt", "demo/saved/south-sw-1.txt")
	require.Equal(t, 1, r.status)
	require.Regexp(t, `(?m)^demo/saved/north-sw-1\.txt +27 +0 +1 +7$`, r.out)
	require.Contains(t, r.out, "No text has used these, so nothing shows that a device says them so:\n"+
		"  common-patience <timeout as seconds>\n")
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
	require.Contains(t, r.out, "8 phrases for my-switch, well formed.")

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
