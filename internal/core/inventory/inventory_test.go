package inventory

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

var makeEstate = flag.Bool("make-estate", false, "write the site of the saved texts into testdata, to be read by eye")

const shipped = "../../../demo/"

func book(t testing.TB, file string) *phrase.Book {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	b, err := phrase.Load(file, text)
	require.NoError(t, err)
	return b
}

// said is a device of a text by testdata/plain.yaml, which has one word for each field.
func said(t testing.TB, name, text string) *Device {
	t.Helper()
	b := book(t, "testdata/plain.yaml")
	got, err := b.Read(strings.NewReader(text+"\nend\n"), nil)
	require.NoError(t, err)
	return Of(Saved{File: name + ".txt", Device: name, Platform: "plain", Text: got})
}

func hash(text string) bool { return strings.HasPrefix(text, "$2b$") }

// made makes a site of devices, which must be one.
func made(t testing.TB, o Options, devices ...*Device) (Estate, *site.Site) {
	t.Helper()
	o.Hash = hash
	e := Make(devices, o)
	sources := []site.Source{{Name: "made.yaml", Text: []byte(e.Site), Lines: e.Lines}}
	require.Equal(t, strings.Count(e.Site, "\n"), len(e.Lines))
	s, err := site.Parse(sources...)
	require.NoError(t, err, e.Site)
	return e, s
}

func notes(e Estate) (all []string) {
	for _, n := range e.Notes {
		all = append(all, fmt.Sprintf("%s:%d %s", filepath.Base(n.File), n.Line, n.What))
	}
	return all
}

func TestTheSavedTextsOfTheDemoMakeOneSite(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob(shipped + "saved/*.txt")
	require.NoError(t, err)
	require.Len(t, files, 10)
	var devices []*Device
	for _, file := range files {
		kind := "quay-switch"
		if name := filepath.Base(file); strings.HasPrefix(name, "mv-") || strings.HasPrefix(name, "ashore-") {
			kind = "hull-router"
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		got, err := book(t, shipped+"phrasebooks/"+kind+".yaml").Read(strings.NewReader(string(text)), nil)
		require.NoError(t, err)
		devices = append(devices, Of(Saved{File: file, Platform: kind, Text: got}))
	}
	e, s := made(t, Options{Name: "made"}, devices...)
	require.Len(t, s.Devices, 9, "one text is cut off")
	all := e.Site + "\n" + strings.Join(notes(e), "\n") + "\n"
	for _, secret := range []string{"demo-only", "Old-ship-word", "Summer-word", "In-the-clear"} {
		require.NotContains(t, all, secret)
	}
	require.Equal(t, "demo-only-Tidemill-Lantern-41-cairn", e.Keys["shared-key"].Reveal())
	require.Equal(t, "Old-ship-word-2", e.Keys["mv-dotterel-rtr-key"].Reveal())
	if *makeEstate {
		require.NoError(t, os.WriteFile("testdata/demo.site", []byte(all), 0o644))
	}
	want, err := os.ReadFile("testdata/demo.site")
	require.NoError(t, err)
	require.Equal(t, string(want), all)
}

func TestDevicesThatAreAlikeShareAProfileAndSayWhatDiffers(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.%d\nserver tern tacacs 192.0.2.1 key one wait %d\ngroup g tern\nlist in login group g " +
		"local\n" +
		"way ssh takes login in\nsource 192.0.2.%d\naccount keeper 15 $2b$10$x\n"
	e, s := made(t, Options{}, said(t, "a", fmt.Sprintf(text, 11, 2, 11)), said(t, "b", fmt.Sprintf(text, 12, 2, 12)),
		said(t, "c", fmt.Sprintf(text, 13, 9, 13)))
	require.Contains(t, e.Site, "profiles:\n  - name: plain\n")
	require.Equal(t, "plain", s.Device("b").ProfileRef.Name)
	require.Empty(t, s.Device("c").ProfileRef.Name)
	require.Equal(t, "2s 9s", fmt.Sprint(s.Device("a").Patience(s.Server("tern")).Timeout, " ",
		s.Device("c").Patience(s.Server("tern")).Timeout))
	require.Equal(t, "one", e.Keys["tern-key"].Reveal())
	require.Equal(t, "$2b$10$x", s.Accounts[0].Password.Hash)
	require.Equal(t, "in", s.Device("c").Way(site.SSH).Lists[site.Login].Name)
	require.Equal(t, "made.yaml:5", s.Where(s.Device("c").Way(site.SSH).Place), "the line of the text")
	require.Equal(t, []string{
		"a.txt:0 no line speaks of the console: it is taken to be there, with the lists that hold on every way in",
		"b.txt:0 no line speaks of the console: it is taken to be there, with the lists that hold on every way in",
		"c.txt:0 no line speaks of the console: it is taken to be there, with the lists that hold on every way in",
	}, notes(e))
}

func TestKeysAreToldApartByTheirValues(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.%d\nserver r1 radius 192.0.2.1 %s\nserver r2 radius 192.0.2.2 key same\ngroup g r1 r2\n" +
		"list in login group g\nway console takes login in\n"
	e, s := made(t, Options{}, said(t, "a", fmt.Sprintf(text, 11, "key same")), said(t, "b",
		fmt.Sprintf(text, 12, "key same")), said(t, "c", fmt.Sprintf(text, 13, "key other")),
		said(t, "d", fmt.Sprintf(text, 14, "kept")), said(t, "e", fmt.Sprintf(text, 15, "")))
	require.Equal(t, "shared-key", s.Server("r1").Key.Name)
	require.Equal(t, "shared-key", s.Server("r2").Key.Name)
	require.Equal(t, "c-key", s.Device("c").Key(s.Server("r1")).Name)
	require.Equal(t, "other", e.Keys["c-key"].Reveal())
	require.Equal(t, "shared-key", s.Device("d").Key(s.Server("r1")).Name)
	require.Equal(t, "a.txt b.txt c.txt d.txt e.txt", strings.Join([]string{e.Devices[0].File, e.Devices[1].File,
		e.Devices[2].File, e.Devices[3].File, e.Devices[4].File}, " "))
	require.Equal(t, []string{".:0 r1: 1 of the devices that ask it do not show their key: they are taken to hold " +
		"the one that the others show"}, notes(e))

	e, s = made(t, Options{}, said(t, "d", fmt.Sprintf(text, 14, "kept")))
	require.Equal(t, "r1-key", s.Server("r1").Key.Name)
	require.NotContains(t, e.Keys, "r1-key")
	require.Equal(t, []string{".:0 r1: no device shows its key: put the key into keys/r1-key.key"}, notes(e))
}

func TestMarksOfKeysTellWhoHoldsAnother(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.%d\nserver t tacacs 192.0.2.1 mark %s\ngroup g t\nlist in login group g\nway console " +
		"takes login in\n"
	e, _ := made(t, Options{}, said(t, "a", fmt.Sprintf(text, 11, "99ab")), said(t, "b", fmt.Sprintf(text, 12, "77cd")),
		said(t, "c", fmt.Sprintf(text, 13, "99ab")))
	require.Equal(t, []string{".:0 t: no device shows its key: put the key into keys/t-key.key",
		"b.txt:2 it holds another key for t than most devices: the marks that they show differ"}, notes(e))
	require.NotContains(t, e.Site+strings.Join(notes(e), ""), "77cd")
}

func TestPortsThatMostDevicesAskAreThoseOfTheServer(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.%d\nserver r radius 192.0.2.1 key k ports %s\nserver t tacacs 192.0.2.2 key k port %d\n" +
		"group g r\ngroup h t\nlist in login group g group h\nway console takes login in\n"
	_, s := made(t, Options{}, said(t, "a", fmt.Sprintf(text, 11, "1812 1813", 49)),
		said(t, "b", fmt.Sprintf(text, 12, "1645 1813", 50)), said(t, "c", fmt.Sprintf(text, 13, "1812 1813", 49)))
	authentication, accounting, _ := s.Device("b").Ports(s.Server("r"))
	require.Equal(t, "1645 1813", fmt.Sprint(authentication, " ", accounting))
	authentication, _, _ = s.Device("c").Ports(s.Server("r"))
	require.Equal(t, 1812, int(authentication))
	require.Equal(t, "49 50", fmt.Sprint(s.Server("t").Port, " ", s.Server("t-2").Port), "another port, another server")
	require.Equal(t, "t-2", s.Device("b").Way(site.Console).Lists[site.Login].Methods[1].Servers()[0].Name)
}

func TestLinesOfAWayInAreCutApart(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.11\nlist a login local\nlist b login none\nlist c login none local\nway ssh takes " +
		"login a\n" +
		"way ssh lines 0-15 takes login b\nway ssh lines 4 takes login c\nway telnet lines 0-4 takes login a\n" +
		"way telnet lines 2-3 off\nway web lines 0-4 takes login a\nway api off\nway ssh lines x takes login b\n" +
		"way door takes login a\nway console off\n"
	e, s := made(t, Options{}, said(t, "d", text))
	var ways []string
	for _, w := range s.Device("d").Ways {
		name := w.Name()
		if l := w.Lists[site.Login]; l != nil {
			name += " " + l.Name
		}
		ways = append(ways, name)
	}
	require.Equal(t, "console, ssh 0-3 b, ssh 4 c, ssh 5-15 b, ssh 16-4095 a, telnet 0-1 a, telnet 4 a, web a",
		strings.Join(ways, ", "))
	require.Equal(t, []string{
		`d.txt:10 way web 0-4: a site has lines for ssh and telnet only`,
		`d.txt:12 its lines are "x"; a range such as 0-4 is wanted, so they are left out`,
		`d.txt:13 way door: a site has the ways in console, ssh, telnet, web, api, netconf`,
		`d.txt:14 the console is off, which a site has no word for: every device has one`,
	}, notes(e))
}

func TestListsKeepTheirNamesWhereTheyCan(t *testing.T) {
	t.Parallel()
	one := "address 192.0.2.11\nlist x login local\nlist x session signed-in\nlist default login local none\n" +
		"secret top 15 clear word-1\nlist up elevation secret top\ngroup g r\nserver r radius 192.0.2.1 key " +
		"k\nlist rec record-sessions group g when start and stop\n" +
		"list cmd commands none levels 2-15\nlist odd commands none levels 2,3\nway ssh takes login x\n" +
		"way ssh takes session x\nway ssh takes elevation up\nway ssh takes record-sessions rec\nway ssh takes " +
		"commands cmd\n" +
		"way console\n"
	two := "address 192.0.2.12\nlist x login none\nlist y login local\nway ssh takes login x\nway console takes " +
		"login y\n"
	e, s := made(t, Options{}, said(t, "a", one), said(t, "b", two))
	lists := func(d string, w *site.Way) (all []string) {
		for p, l := range w.Lists {
			if l != nil {
				all = append(all, fmt.Sprint(site.Purpose(p), " ", l.Name))
			}
		}
		return all
	}
	require.Equal(t, []string{"login x", "elevation up", "session x-session", "commands cmd", "record-sessions rec"},
		lists("a", s.Device("a").Way(site.SSH)))
	require.Equal(t, []string{"login default-login"}, lists("a", s.Device("a").Way(site.Console)))
	require.Equal(t, []string{"login x-2"}, lists("b", s.Device("b").Way(site.SSH)))
	require.Equal(t, []string{"login x"}, lists("b", s.Device("b").Way(site.Console)), "it is the same list")
	require.Equal(t, "word-1", e.Keys["top-password"].Reveal())
	require.Equal(t, "start and stop", map[bool]string{true: "start and stop"}[s.Device("a").Way(site.SSH).
		Lists[site.RecordSessions].Start])
	require.Equal(t, "2-15", s.Device("a").Way(site.SSH).Lists[site.Commands].Levels.String())
	require.Contains(t, notes(e),
		"a.txt:11 commands list odd: its levels are 2,3; a site takes a level, or a range such as 1-15")
}

func TestWhatASiteCannotHaveIsNoted(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.11\nserver r radius 192.0.2.1 key k wait 9999\nserver t tacacs 192.0.2.2 tries 3\n" +
		"server n odd 192.0.2.3\nserver e radius\ngroup g r t\ngroup none-of-it\nlist in login group g group " +
		"none-of-it group gone local\nlist empty login group gone\nway ssh takes login in\nway ssh from " +
		"192.0.2.9/24 nowhere\nway console takes login empty" +
		"\naccount two words\naccount odd@name 15 $2b$10$x\naccount low 99 own-hash\nsource tern\n"
	e, s := made(t, Options{}, said(t, "d", text), said(t, "D", "address 192.0.2.12\n"),
		said(t, "near", "address 192.0.2.11\n"), said(t, "nowhere", "list in login local\n"))
	require.Len(t, s.Devices, 1)
	require.Equal(t, "[group g local]", fmt.Sprint(s.Device("d").Way(site.SSH).Lists[site.Login].Methods))
	require.Equal(t, "[192.0.2.0/24]", fmt.Sprint(s.Device("d").Way(site.SSH).From))
	require.Nil(t, s.Device("d").Way(site.Console).Lists[site.Login])
	all := strings.Join(notes(e), "\n")
	for _, want := range []string{
		"d.txt:2 server r: timeout is 2h46m39s; a site takes 1ms to 5m0s, so it is left out",
		"d.txt:3 t is asked 3 times; over TCP a site asks once",
		"d.txt:6 group g has servers of two protocols, radius and tacacs",
		"d.txt:8 login list in asks the group none-of-it, which has no server: it is left out",
		"d.txt:8 login list in names the group gone, and the text has none",
		"d.txt:9 login list empty has no method that leads anywhere, so no way in takes it here",
		"d.txt:10 way ssh: it takes people from nowhere, which is no network",
		"d.txt:14 account odd@name: a site cannot have a name with such signs, so the account is left out",
		"d.txt:15 account low: level is 99; a site takes 0 to 15, so it is left out",
		"d.txt:15 the account low: the device does not show its password in a form that a site keeps: put the " +
			"password into keys/low-password.key",
		"d.txt:1 its source is no IP address, and a site wants one",
		"D.txt:0 D is the device of d.txt too: it is left out",
		"near.txt:0 near asks from 192.0.2.11, as d does: it is left out",
		"nowhere.txt:0 no line says an address of nowhere, so it is left out",
	} {
		require.Contains(t, all, want)
	}
	require.NotContains(t, all, "own-hash")
}

func TestADeviceWhoseListsAreSwitchedOffTakesWhatIsBuiltIn(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.11\nactive %s\nlist default session local\nlist in login local\nway ssh takes login " +
		"in\nway console\n"
	e, s := made(t, Options{}, said(t, "a", fmt.Sprintf(text, "off")))
	require.Nil(t, s.Device("a").Way(site.SSH).Lists[site.Login])
	require.Nil(t, s.Device("a").Way(site.Console).Lists[site.Session])
	require.Equal(t, []string{"a.txt:0 what its lists are for is switched off on it: every way in takes the " +
		"platform's " +
		"built-in login"}, notes(e))
	e, s = made(t, Options{}, said(t, "a", fmt.Sprintf(text, "on")))
	require.Equal(t, "in", s.Device("a").Way(site.SSH).Lists[site.Login].Name)
	require.Empty(t, notes(e))
}

func TestHowQuestionsLeaveIsADevicesOwn(t *testing.T) {
	t.Parallel()
	text := "interface up 192.0.2.%[1]d/24\ninterface loop 203.0.113.%[1]d\nserver r radius 192.0.2.1 key k " +
		"through loop\n" +
		"server t tacacs 192.0.2.2 key k from 203.0.113.%[1]d in admin\nserver u tacacs 192.0.2.3 key k through " +
		"gone\n" +
		"group g r\ngroup h t u\nlist in login group g group h\nway console takes login in\nsource 192.0.2.%[1]d\n"
	e, s := made(t, Options{}, said(t, "a", fmt.Sprintf(text, 11)), said(t, "b", fmt.Sprintf(text, 12)))
	b := s.Device("b")
	require.Equal(t, "plain", b.ProfileRef.Name)
	require.Equal(t, "{203.0.113.12  loop}", fmt.Sprint(b.Path(s.Server("r"))))
	require.Equal(t, "{203.0.113.12 admin }", fmt.Sprint(b.Path(s.Server("t"))))
	require.Equal(t, "192.0.2.12", b.Source.String())
	require.Contains(t, notes(e), "b.txt:5 u is asked from the interface gone, and no phrase says which address "+
		"that has")
}

// In the place of its device only what the site does not have is written, with the lines of
// the text.
func TestInItsSiteOnlyWhatIsNewIsWritten(t *testing.T) {
	t.Parallel()
	text := strings.Replace(design, "EXTRA", "", 1)
	s, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(text)})
	require.NoError(t, err)
	base := Base{Site: s, Keys: site.Keys{"k": site.NewSecret("one"), "kp": site.NewSecret("word")}}
	d := said(t, "d", strings.NewReplacer("key one port", "key two port", "1812 1813", "1645 1813", "keeper 15",
		"keeper 14",
		"commands group shore", "commands group far", "group shore tern",
		"server far tacacs 192.0.2.9 sealed x\ngroup far far\n"+
			"group shore tern", "way web takes login in", "way web off\nsource 192.0.2.77").Replace(held))
	e := Make([]*Device{d}, Options{Base: base, Hash: hash})
	require.Equal(t, `keys:
  d-key: file keys/d-key.key
  far-key: file keys/far-key.key

servers:
  - {name: far, protocol: tacacs, address: 192.0.2.9, key: far-key}

groups:
  - {name: far, servers: [far]}

lists:
  - {name: cmd-2, authorize: commands, levels: "2-15", methods: [group far]}
devices:
  - name: d
    platform: plain
    addresses: []
    source: 192.0.2.77
    found: {keys: {tern: d-key, gull: d-key}, ports: {gull: {authentication: 1645}}}
    access:
      console: {login: crew}
      ssh: {login: crew, elevation: up, commands: cmd-2, record-sessions: rec, from: ["192.0.2.0/24"]}
      web: off
    accounts: [keeper, other]
`, e.Site)
	require.Equal(t, "two", e.Keys["d-key"].Reveal())
	require.NotContains(t, e.Keys, "far-key")
	other := Make([]*Device{said(t, "d", strings.Replace(held, "top 15 clear word", "top 15 clear else", 1))},
		Options{Base: base, Hash: hash})
	require.Contains(t, other.Site, "elevation-secrets:\n  - {name: top-2, level: 15, password: key top-2-password}\n")
	require.Equal(t, []string{
		".:0 far: no device shows its key: put the key into keys/far-key.key",
		"d.txt:3 it asks a server at 192.0.2.9 (TACACS+) that the site does not have",
		"d.txt:20 the account keeper has level 14 on d, and the site has it with 15: a site has one of a name",
	}, notes(e))
	var said []int
	for i, line := range strings.Split(e.Site, "\n") {
		if strings.Contains(line, "name: far") || strings.Contains(line, "cmd-2,") ||
			strings.Contains(line, "console:") {
			said = append(said, e.Lines[i])
		} else if i < len(e.Lines) && !strings.HasPrefix(strings.TrimSpace(line), "-") &&
			!strings.Contains(line, ": {") &&
			!strings.Contains(line, "off") {
			require.Zero(t, e.Lines[i], line)
		}
	}
	require.Equal(t, []int{3, 4, 9, 12, 13}, said)
}

func TestAccountsAreOneOfAName(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.%d\naccount keeper 15 clear %s\nkeeper guest clear x\nkeeper w\u00e4chter clear y\n"
	e, s := made(t, Options{}, said(t, "a", fmt.Sprintf(text, 11, "one")), said(t, "b", fmt.Sprintf(text, 12, "two")),
		said(t, "c", fmt.Sprintf(text, 13, "two")),
		said(t, "d", strings.Replace(fmt.Sprintf(text, 14, "own-hash"), "clear ", "", 1)))
	require.Equal(t, "two", e.Keys["keeper-password"].Reveal())
	require.Len(t, s.Accounts, 2)
	require.Equal(t, 15, s.Accounts[1].Level)
	var said []string
	for _, line := range notes(e) {
		if !strings.Contains(line, "the console") {
			said = append(said, line)
		}
	}
	var want []string
	for _, file := range []string{"a", "b", "c", "d"} {
		if file == "a" {
			want = append(want, "a.txt:2 the account keeper has another password on a than on most devices; a site "+
				"has one")
		}
		want = append(want, file+".txt:3 account guest: no level is said, and 15, the most, is taken",
			file+".txt:4 account w\u00e4chter: a site cannot have a name with such signs, so the account is left out")
	}
	require.Equal(t, want, said)
	require.Equal(t, "ap--7.x_y", siteName("-ap:\u00e47.x_y"))
	require.Len(t, siteName(strings.Repeat("x", 99)), 64)
	require.Equal(t, "sw-1.old", nameOfFile("/saved/sw-1.old.txt"))
	require.Equal(t, "sw-1", nameOfFile(`saved\sw-1`))
}

func TestListsWithoutANameAreNamedByWhatTheyAreFor(t *testing.T) {
	t.Parallel()
	file := "../phrase/testdata/crane-3.txt"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	got, err := book(t, "../phrase/testdata/crane-controller.yaml").Read(strings.NewReader(string(text)), nil)
	require.NoError(t, err)
	d := Of(Saved{File: file, Text: got})
	require.Equal(t, "crane-3", d.Name)
	d.addresses = said(t, "x", "address 192.0.2.11\n").addresses
	_, s := made(t, Options{}, d)
	var lists []string
	for _, l := range s.Lists {
		lists = append(lists, fmt.Sprint(l.Name, " ", l.Purpose, " ", l.Methods))
	}
	require.Equal(t, []string{"login login [local]", "login-2 login [group yard group spare]",
		"session session [group yard group spare]"}, lists)
	require.Equal(t, "ssh 0-3, ssh 4, ssh 5-15", strings.Join(
		[]string{s.Devices[0].Ways[1].Name(), s.Devices[0].Ways[2].Name(),
			s.Devices[0].Ways[3].Name()}, ", "))
}

// Whatever two texts say, what is made of them is a site.
func FuzzEstate(f *testing.F) {
	plain, quay := book(f, "testdata/plain.yaml"), book(f, shipped+"phrasebooks/quay-switch.yaml")
	text, err := os.ReadFile(shipped + "saved/south-sw-2.txt")
	require.NoError(f, err)
	f.Add("address 192.0.2.1\nserver r radius 192.0.2.1 key k\ngroup g r\nlist in login group g\nway ssh takes "+
		"login in\nend\n",
		string(text))
	f.Add("address 192.0.2.1\nsecret top 15 x\nlist up elevation secret top\nway ssh lines 0-4 takes elevation up\n"+
		"interface a 2001:db8::1/64\naccount a 3 clear b\n", "")
	f.Fuzz(func(t *testing.T, one, two string) {
		var devices []*Device
		for i, text := range []string{one, two} {
			got, err := []*phrase.Book{plain, quay}[i].Read(strings.NewReader(text), nil)
			if err != nil {
				return
			}
			devices = append(devices, Of(Saved{File: fmt.Sprint(i, ".txt"), Platform: []string{"plain", "quay"}[i],
				Text: got}))
		}
		e := Make(devices, Options{Name: "x", Hash: hash})
		if len(e.Devices) == 0 {
			return
		}
		_, err := site.Parse(site.Source{Name: "made.yaml", Text: []byte(e.Site), Lines: e.Lines})
		require.NoError(t, err, e.Site)
	})
}

func TestListsAreLeftOutWhereASiteHasNoWordForThem(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.11\nserver t tacacs 192.0.2.1 key k\ngroup g t\nlist a login signed-in local\nlist b " +
		"commands group g levels 1-16\nlist c commands group g levels 16\nlist d record-sessions group g when " +
		"sometimes\nlist e dance local\n" +
		"list f commands group g levels 0-15\nlist g login fly local\nway console takes login a\n"
	e, s := made(t, Options{}, said(t, "d", text))
	var lists []string
	for _, l := range s.Lists {
		lists = append(lists, fmt.Sprint(l.Name, " ", l.Purpose, " ", l.Levels, " ", l.Methods))
	}
	require.Equal(t, []string{"a login 0-15 [local]", "b commands 0-15 [group g]", "d record-sessions 0-15 [group " +
		"g]"}, lists,
		"lists that are the same are written once")
	require.Equal(t, []string{
		`d.txt:4 login list a has the method "signed-in", which a site does not have for login: it is left out`,
		"d.txt:5 commands list b: its levels are 1-16; a site takes a level, or a range such as 1-15",
		"d.txt:6 commands list c: its levels are 16; a site takes a level, or a range such as 1-15",
		"d.txt:7 record-sessions list d: it records when sometimes; a site has start and stop, stop, and start",
		`d.txt:8 dance list e is for "dance", which a site does not have: it is left out`,
		`d.txt:10 login list g has the method "fly", which a site does not have for login: it is left out`,
	}, notes(e))
}

func TestTextsAreWrittenSoThatYAMLReadsJustThem(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{"tern": "tern", "start and stop": "start and stop",
		"192.0.2.1":   "192.0.2.1",
		"2001:db8::1": `"2001:db8::1"`, "12": `"12"`, "a: b": `"a: b"`, "": `""`} {
		require.Equal(t, want, scalar(text))
	}
	for _, word := range []string{"true", "false", "null", "yes", "no", "on", "off", "y", "n", "Yes"} {
		require.Equal(t, `"`+word+`"`, scalar(word))
	}
	a := asking{{"t", pairs{"timeout: 2s"}}, {"r", pairs{"attempts: 3"}}}
	require.Equal(t, "{t: {timeout: 2s, source: 192.0.2.1}, r: {attempts: 3}, x: {network: n}}",
		a.with(asking{{"t", pairs{"source: 192.0.2.1"}}, {"x", pairs{"network: n"}}}).String())
	require.Equal(t, "{t: {timeout: 2s}, r: {attempts: 3}}", a.String(), "it is left as it was")
	require.Equal(t, ".hidden", "."+nameOfFile(".hidden"), "a name that begins with a dot is all of it")
}

func TestBoundsOfASiteAreThoseOfAnEstate(t *testing.T) {
	t.Parallel()
	text := "address 192.0.2.11\nserver r radius 192.0.2.1 key k ports 65535 65535\nserver q radius 192.0.2.2 key " +
		"k ports 65536 65536\nserver p radius 192.0.2.3 key k ports 1 1\ngroup g r q p\nlist in login group g\nway " +
		"console takes login in\n"
	e, s := made(t, Options{}, said(t, "d", text))
	require.Equal(t, "65535 65535, 1812 1813, 1 1", fmt.Sprint(s.Server("r").AuthenticationPort, " ",
		s.Server("r").AccountingPort, ", ", s.Server("q").AuthenticationPort, " ", s.Server("q").AccountingPort, ", ",
		s.Server("p").AuthenticationPort, " ", s.Server("p").AccountingPort))
	require.Equal(t, []string{"d.txt:3 server q: authentication-port is 65536; a site takes 1 to 65535, so it is " +
		"left out",
		"d.txt:3 server q: accounting-port is 65536; a site takes 1 to 65535, so it is left out"}, notes(e))
}
