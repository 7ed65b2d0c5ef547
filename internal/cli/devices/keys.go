package devices

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"golang.org/x/term"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
)

func KeysCommand() *call.Command {
	return &call.Command{
		Name: "keys", Args: "VERB [NAME...] [SITE]",
		Short: "shared secrets: make, seal, list, compare, hash, change without an outage", MaxArgs: 4,
		Long: `make                       prints a new key, or writes it with -into; letters and digits that no
    device misreads
seal NAME [SITE]           puts a key into keys.sealed beside the site: its present value (file, env), or else a
    new one
unseal NAME [SITE]         writes the value of a sealed key into the file of -into; - for standard output
list [SITE]                every key by name: where it is kept, how old it is, who uses it
compare NAME NAME [SITE]   says how two keys differ, without showing them; exit status 1 when they do
hash                       makes a hash of a password; -form sha512-crypt for devices that do not take argon2id
identity FILE              makes an age identity to seal keys for
change NAME begin [SITE]   makes the next key, and writes the site so that both are taken meanwhile
change NAME status [SITE]  which devices still use the old key, from what the servers noted
change NAME finish [SITE]  takes the old key out, when no device uses it any more

Sealed keys are in the age format (age-encryption.org), for the identity file in $MELLOWGATE_IDENTITY, or else
with a passphrase: from the file in $MELLOWGATE_PASSPHRASE_FILE, or typed.`,
		Examples: []call.Example{
			{Call: "mellowgate keys make -length 40", Shows: "a new key"},
			{Call: "mellowgate keys list demo/as-reviewed", Shows: "what keys there are, and who uses them"},
			{Call: "mellowgate keys compare shore-key ship-key demo/as-reviewed", Shows: "how two keys differ"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			k := keysCall{Call: c}
			c.Flags.IntVar(&k.length, "length", 32, "the length of a new key: 16 to 64 `characters`")
			c.Flags.StringVar(&k.into, "into", "", "write the key into this new `file`, which only you can read")
			c.Flags.StringVar(&k.form, "form", "argon2id", "the `form` of a hash: argon2id or sha512-crypt")
			c.Flags.StringVar(&k.state, "state", "", "for status and finish: the state `folder` of serve")
			c.Flags.BoolVar(&k.anyway, "anyway", false, "finish although devices still use the old key, or were "+
				"never seen")
			k.password = c.PasswordFlags()
			return k.run
		},
	}
}

type keysCall struct {
	*call.Call
	length     int
	into, form string
	state      string
	anyway     bool
	password   func(who string) (site.Secret, error)
}

func (k *keysCall) run() error {
	verbs := map[string]struct {
		usage string
		names int // arguments before the site
		site  bool
		run   func() error
	}{
		"make": {"make [-length N] [-into FILE]", 0, false, k.make}, "seal": {"seal NAME [SITE]", 1, true, k.seal},
		"unseal": {"unseal -into FILE NAME [SITE]", 1, true, k.unseal}, "list": {"list [SITE]", 0, true, k.list},
		"compare": {"compare NAME NAME [SITE]", 2, true, k.compare}, "hash": {"hash [-form FORM]", 0, false, k.hash},
		"identity": {"identity FILE", 1, false, k.identity},
		"change":   {"change NAME begin|status|finish [SITE]", 2, true, k.change},
	}
	verb := ""
	if len(k.Args) > 0 {
		verb = k.Args[0]
	}
	v, known := verbs[verb]
	if !known {
		names := make([]string, 0, len(verbs))
		for n := range verbs {
			names = append(names, n)
		}
		slices.Sort(names)
		return call.Usagef("keys needs one of the verbs %s%s\nusage: %s", strings.Join(names, ", "),
			nearest.Suggest(verb, names),
			call.Usage(KeysCommand()))
	}
	if *k.AsJSON && verb != "list" && verb != "compare" {
		return call.Usagef("keys %s has no JSON; list and compare have", verb)
	}
	most := 1 + v.names
	if v.site {
		most++
	}
	if len(k.Args) < 1+v.names || len(k.Args) > most {
		return call.Usagef("keys %s takes other arguments than these\nusage: mellowgate keys %s", verb, v.usage)
	}
	return v.run()
}

// load reads the site after n arguments.
func (k *keysCall) load(n int) (call.Loaded, error) {
	if len(k.Args) > 1+n {
		return k.LoadFrom(k.Args[1+n], false)
	}
	all := k.Args
	k.Args = nil
	l, err := k.Call.Load(false)
	k.Args = all
	return l, err
}

func (k *keysCall) unlock() secrets.Unlock {
	u := k.Unlocking()
	u.Fresh = k.FreshPassphrase()
	return u
}

// alphabet has the letters and digits that nobody mistakes for another, and
// that need no quotes on any device.
const alphabet = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"

func newKey(length int) (site.Secret, error) {
	b := make([]byte, length)
	for i := range b {
		n, err := rand.Int(rand.Reader, big.NewInt(int64(len(alphabet))))
		if err != nil {
			return site.Secret{}, err
		}
		b[i] = alphabet[n.Int64()]
	}
	return site.NewSecret(string(b)), nil
}

func (k *keysCall) fresh() (site.Secret, error) {
	if k.length < 16 || k.length > 64 {
		return site.Secret{},
			call.Usagef("-length is %d; 16 to 64 is wanted: shorter keys can be found by trying, and many devices "+
				"take no longer ones",
				k.length)
	}
	return newKey(k.length)
}

func (k *keysCall) make() error {
	key, err := k.fresh()
	if err != nil {
		return err
	}
	if k.into == "" {
		k.Say("%s\n", key.Reveal())
		return nil
	}
	return k.write(k.into, key)
}

// write writes a secret into a new file, or to standard output for "-".
func (k *keysCall) write(path string, value site.Secret) error {
	if path == "-" {
		k.Say("%s\n", value.Reveal())
		return nil
	}
	if _, err := os.Lstat(path); err == nil {
		return call.Usagef("%s is there already; name a new file", path)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return call.TaskError(err)
	}
	return call.TaskError(os.WriteFile(path, []byte(value.Reveal()+"\n"), 0o600))
}

func (k *keysCall) identity() error {
	path := k.Args[1]
	if _, err := os.Lstat(path); err == nil {
		return call.Usagef("%s is there already; name a new file", path)
	}
	i, err := age.GenerateX25519Identity()
	if err != nil {
		return call.TaskError(err)
	}
	if err := os.WriteFile(path, []byte(fmt.Sprintf("# public key: %s\n%s\n", i.Recipient(), i)), 0o600); err != nil {
		return call.TaskError(err)
	}
	k.Say("%s is an identity that opens what is sealed for it. Keep a copy of it in a safe place.\n  export "+
		"MELLOWGATE_IDENTITY=%s\n", path, files.Absolute(path))
	return nil
}

// sealed opens the sealed keys of a site, or begins with none.
func (k *keysCall) sealed(l call.Loaded) (*secrets.Sealed, error) {
	s, err := secrets.OpenSealed(l.Base, k.unlock())
	if _, missing := os.Stat(filepath.Join(l.Base, secrets.SealedName)); errors.Is(missing, fs.ErrNotExist) {
		return secrets.NewSealed(), nil
	}
	return s, err
}

func (k *keysCall) seal() error {
	l, err := k.load(1)
	if err != nil {
		return err
	}
	name := k.Args[1]
	key := KeyNamed(l, name)
	if key == nil {
		return call.Usagef("the site has no key %q%s\nwrite  %s: sealed  under keys first", name,
			nearest.Suggest(name, keyNames(l)), name)
	}
	value, have := l.Keys[name]
	from := "its present value"
	switch {
	case !have && key.Source != site.KeySealed: // devices have that value: a new one would shut them out
		return call.Usagef("the key %s has no value here (%s %s), so there is nothing to seal; run this where it "+
			"has one", name,
			key.Source, key.From)
	case !have:
		from = "a new value"
		if value, err = k.fresh(); err != nil {
			return err
		}
	}
	s, err := k.sealed(l)
	if err != nil {
		return call.TaskError(err)
	}
	s.Set(name, value, time.Now())
	if err := s.Write(l.Base, k.unlock()); err != nil {
		return call.TaskError(err)
	}
	k.Say("%s is sealed in %s, with %s.\n", name, filepath.Join(l.Base, secrets.SealedName), from)
	if key.Source != site.KeySealed {
		k.Say("Now write  %s: sealed  in %s, and take away where it was kept before (%s %s).\n", name,
			l.Where(key.Place),
			key.Source, key.From)
	}
	return nil
}

// KeyNamed returns a key of the site by name, or nil.
func KeyNamed(l call.Loaded, name string) *site.Key {
	for _, k := range l.Site.Keys {
		if k.Name == name {
			return k
		}
	}
	return nil
}

func keyNames(l call.Loaded) []string {
	names := make([]string, len(l.Site.Keys))
	for i, k := range l.Site.Keys {
		names[i] = k.Name
	}
	return names
}

func (k *keysCall) unseal() error {
	if k.into == "" {
		return call.Usagef("unseal shows a secret: say where to with -into FILE, or -into - for standard output")
	}
	l, err := k.load(1)
	if err != nil {
		return err
	}
	s, err := secrets.OpenSealed(l.Base, k.unlock())
	if err != nil {
		return call.TaskError(err)
	}
	value, err := s.Key(k.Args[1])
	if err != nil {
		return call.Usagef("the key %s: %s", k.Args[1], err)
	}
	return k.write(k.into, value)
}

type keyJSON struct {
	Name  string   `json:"name"`
	Kept  string   `json:"kept"`
	Known bool     `json:"known"`
	Made  string   `json:"made"`
	Used  []string `json:"used"`
}

func (k *keysCall) list() error {
	l, err := k.load(0)
	if err != nil {
		return err
	}
	var sealed *secrets.Sealed
	shownKeys := []keyJSON{}
	for _, key := range l.Site.Keys {
		j := keyJSON{Name: key.Name, Kept: strings.TrimSpace(string(key.Source) + " " + key.From),
			Used: usedBy(l.Site, key)}
		_, j.Known = l.Keys[key.Name]
		switch key.Source {
		case site.KeyFile:
			if info, err := os.Stat(files.At(l.Base, key.From)); err == nil {
				j.Made = info.ModTime().UTC().Format(time.DateOnly)
			}
		case site.KeySealed:
			if sealed == nil && j.Known {
				sealed, _ = secrets.OpenSealed(l.Base, k.unlock())
			}
			if sealed != nil {
				if made, ok := sealed.Made(key.Name); ok {
					j.Made = made.Format(time.DateOnly)
				}
			}
		}
		shownKeys = append(shownKeys, j)
	}
	if *k.AsJSON {
		return show.JSON(k.Out, struct {
			Keys []keyJSON `json:"keys"`
		}{shownKeys})
	}
	style := k.Style()
	var rows [][]string
	for _, j := range shownKeys {
		value := "known"
		if !j.Known {
			value = style.Paint(show.Careful, "not here")
		}
		used := strings.Join(j.Used, ", ")
		if used == "" {
			used = style.Paint(show.Careful, "nobody")
		}
		rows = append(rows, []string{j.Name, j.Kept, value, ageText(j.Made, time.Now()), used})
	}
	style.Table(k.Out, []string{"key", "kept", "value", "age", "used by"}, rows, 1, 4)
	return nil
}

func ageText(made string, now time.Time) string {
	t, err := time.Parse(time.DateOnly, made)
	if err != nil {
		return "-"
	}
	return show.Count(int(now.Sub(t).Hours()/24), "day")
}

// usedBy names what uses a key.
func usedBy(s *site.Site, key *site.Key) []string {
	used := []string{}
	for _, v := range s.Servers {
		if v.Key == key {
			used = append(used, v.Name)
		}
		if v.NextKey == key {
			used = append(used, v.Name+" (next)")
		}
		if v.Directory.Key == key {
			used = append(used, v.Name+" (bind)")
		}
	}
	for _, c := range s.Clients {
		if c.Key == key {
			used = append(used, "clients at "+s.Where(c.Place))
		}
	}
	for _, d := range s.Devices {
		for _, v := range s.Servers {
			if v.Key != key && d.Shares(v) == key {
				used = append(used, d.Name+" with "+v.Name)
			}
		}
		for v, h := range d.Found.Keys {
			if h.Key == key {
				used = append(used, d.Name+" for "+v.Name)
			}
		}
	}
	for _, p := range slices.Concat(s.People, s.Lab.People) {
		if p.Password.Key == key {
			used = append(used, p.Name)
		}
		if p.OneTime == key {
			used = append(used, p.Name+" (one-time code)")
		}
	}
	for _, a := range s.Accounts {
		if a.Password.Key == key {
			used = append(used, a.Name)
		}
	}
	for _, e := range s.Elevations {
		if e.Password.Key == key {
			used = append(used, e.Name)
		}
	}
	if s.Service.Ledger.Key == key {
		used = append(used, "the ledger's database")
	}
	return used
}

func (k *keysCall) compare() error {
	l, err := k.load(2)
	if err != nil {
		return err
	}
	var values [2]site.Secret
	for i := range values {
		name := k.Args[1+i]
		value, known := l.Keys[name]
		if !known {
			return call.Usagef("the site has no key %q with a value here%s", name, nearest.Suggest(name, keyNames(l)))
		}
		values[i] = value
	}
	how := values[0].Difference(values[1])
	if *k.AsJSON {
		err := show.JSON(k.Out, struct {
			Same       bool   `json:"same"`
			Difference string `json:"difference"`
		}{how == "", how})
		if err == nil && how != "" {
			return call.ErrVerdict
		}
		return err
	}
	if how == "" {
		k.Say("%s and %s are the same\n", k.Args[1], k.Args[2])
		return nil
	}
	k.Say("%s and %s differ: %s\n", k.Args[1], k.Args[2], how)
	return call.ErrVerdict
}

func (k *keysCall) hash() error {
	typed, err := k.password("the hash")
	if err != nil {
		return err
	}
	if f, ok := k.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		again, err := k.password("the hash, again")
		if err != nil {
			return err
		}
		if !again.Equal(typed) {
			return call.Usagef("the two passwords differ; nothing was made")
		}
	}
	if typed.Empty() {
		return call.Usagef("the password is empty")
	}
	var made string
	switch k.form {
	case "argon2id":
		made, err = secrets.Hash(typed.Reveal(), 19456, 2)
	case "sha512-crypt":
		made, err = secrets.HashForDevices(typed.Reveal())
	default:
		return call.Usagef("-form is %q; argon2id or sha512-crypt is wanted", k.form)
	}
	if err != nil {
		return call.TaskError(err)
	}
	k.Say("\"%s\"\n", made) // as a site file wants it: in {...} its commas would cut it
	return nil
}
