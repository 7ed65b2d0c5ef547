// Package vault reads what a site keeps elsewhere: its files, and the values
// of its keys. It checks passwords against their hashes. Values leave it only
// as site.Secret.
package vault

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/go-crypt/crypt"
	"github.com/go-crypt/crypt/algorithm"
	"github.com/go-crypt/crypt/algorithm/argon2"
	"github.com/go-crypt/crypt/algorithm/shacrypt"

	"mellowgate/internal/core/site"
)

// MaxFile bounds one file of a site, in octets. A site of 100,000 devices in
// one file is below it.
const MaxFile = 32 << 20

// Load reads a site from a file, or from every *.yaml of a folder, and gives
// the folder that paths in it start from.
func Load(path string) (*site.Site, string, error) { return load(path, site.ParseWith) }

// LoadDesign is Load for the design alone: what devices are known to hold
// besides is left out.
func LoadDesign(path string) (*site.Site, string, error) { return load(path, site.ParseDesign) }

func load(path string, parse func(func(string) (site.Source, error), ...site.Source) (*site.Site, error)) (*site.Site, string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, "", Unreadable(path, err)
	}
	names, base := []string{path}, filepath.Dir(path)
	if info.IsDir() {
		base = path
		if names, err = filepath.Glob(filepath.Join(path, "*.yaml")); err != nil || len(names) == 0 {
			return nil, "", fmt.Errorf("%s: no *.yaml file in this folder; start a site with: mellowgate new %s", path, path)
		}
		slices.Sort(names)
	}
	sources := make([]site.Source, 0, len(names))
	for _, name := range names {
		text, err := readFile(name)
		if err != nil {
			return nil, "", err
		}
		sources = append(sources, site.Source{Name: filepath.ToSlash(name), Text: text})
	}
	s, err := parse(func(name string) (site.Source, error) {
		path := At(base, name)
		text, err := readFile(path)
		return site.Source{Name: filepath.ToSlash(path), Text: text}, err
	}, sources...)
	return s, base, err
}

// At gives a path as the site file means it: from the site's folder.
func At(base, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(base, path)
}

func readFile(name string) ([]byte, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, Unreadable(name, err)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: this is not a file", name)
	}
	if info.Size() > MaxFile {
		return nil, fmt.Errorf("%s: the file has %d MB and a site file may have %d; split the site into several files in a folder",
			name, info.Size()>>20, MaxFile>>20)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, Unreadable(name, err)
	}
	return text, nil
}

// Unreadable says in plain words why a path cannot be read.
func Unreadable(path string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s: there is no such file or folder", path)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s: it may not be read by this user; look at its owner and mode", path)
	}
	return fmt.Errorf("%s: it cannot be read: %w", path, err)
}

// Keys reads the values of a site's keys; base is the folder that relative
// paths start from. Keys that cannot be read are left out and named in
// missing, each with the reason and the place. Sealed keys are opened once,
// with unlock, and only where the site has some.
func Keys(s *site.Site, base string, unlock Unlock) (keys site.Keys, missing []error) {
	keys = site.Keys{}
	open := sync.OnceValues(func() (*Sealed, error) { return OpenSealed(base, unlock) })
	for _, k := range s.Keys {
		value, err := keyValue(k, base, open)
		if err != nil {
			missing = append(missing, fmt.Errorf("%s: the key %s has no value here: %w", s.Where(k.Place), k.Name, err))
			continue
		}
		keys[k.Name] = value
	}
	return keys, missing
}

func keyValue(k *site.Key, base string, open func() (*Sealed, error)) (site.Secret, error) {
	switch k.Source {
	case site.KeySealed:
		sealed, err := open()
		if err != nil {
			return site.Secret{}, err
		}
		return sealed.Key(k.Name)
	case site.KeyClear:
		return k.Clear, nil
	case site.KeyEnv:
		v, ok := os.LookupEnv(k.From)
		if !ok || v == "" {
			return site.Secret{}, fmt.Errorf("the environment variable %s is not set", k.From)
		}
		return site.NewSecret(v), nil
	}
	return SecretFile(At(base, k.From))
}

// SecretFile reads a secret from a file. One line end at its end is dropped.
func SecretFile(path string) (site.Secret, error) {
	info, err := os.Stat(path)
	if err != nil {
		return site.Secret{}, Unreadable(path, err)
	}
	if info.Size() > 4096 || !info.Mode().IsRegular() {
		return site.Secret{}, fmt.Errorf("%s: a secret is a file of at most 4096 octets", path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return site.Secret{}, Unreadable(path, err)
	}
	v := strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r")
	if v == "" {
		return site.Secret{}, fmt.Errorf("%s: the file is empty", path)
	}
	return site.NewSecret(v), nil
}

// hashForms reads argon2, bcrypt, scrypt, PBKDF2 and SHA-crypt. The library's
// own default is made on first use without a lock, so we hold one.
var hashForms = sync.OnceValues(crypt.NewDefaultDecoder)

func decodeHash(hash string) (algorithm.Digest, error) {
	forms, err := hashForms()
	if err != nil {
		return nil, err
	}
	return forms.Decode(hash)
}

// PasswordIs tells whether typed is the password. A hash in a form that is not
// known is an error.
func PasswordIs(p site.Password, typed string, keys site.Keys) (bool, error) {
	if p.Key != nil {
		value, known := keys[p.Key.Name]
		if !known {
			return false, fmt.Errorf("the password is the key %s, which has no value here", p.Key.Name)
		}
		return value.Equal(site.NewSecret(typed)), nil
	}
	digest, err := decodeHash(p.Hash)
	if err != nil {
		return false, errors.New("the password's hash is in a form that is not known; argon2id, bcrypt, scrypt, PBKDF2 and SHA-crypt are")
	}
	ok, err := digest.MatchAdvanced(typed)
	if err != nil {
		return false, errors.New("the password's hash cannot be checked; it may be cut short")
	}
	return ok, nil
}

// CheckHashes reports every password of a site whose hash cannot be checked.
func CheckHashes(s *site.Site) []error {
	var bad []error
	say := func(what string, p site.Password) {
		if p.Key != nil {
			return
		}
		if _, err := decodeHash(p.Hash); err != nil {
			bad = append(bad, fmt.Errorf("%s: the password of %s is no hash in PHC or crypt form; make one with: mellowgate keys hash", s.Where(p.Place), what))
		}
	}
	for _, a := range s.Accounts {
		say(a.Name, a.Password)
	}
	for _, p := range slices.Concat(s.People, s.Lab.People) {
		say(p.Name, p.Password)
	}
	for _, e := range s.Elevations {
		say(e.Name, e.Password)
	}
	return bad
}

// Hash makes an argon2id hash in PHC form with the given memory in KiB and
// number of passes.
func Hash(password string, memory uint32, passes int) (string, error) {
	hasher, err := argon2.New(argon2.WithVariantID(), argon2.WithM(memory), argon2.WithT(passes), argon2.WithP(1))
	if err != nil {
		return "", err
	}
	digest, err := hasher.Hash(password)
	if err != nil {
		return "", err
	}
	return digest.Encode(), nil
}

// HashForDevices makes a SHA-512 crypt hash, which devices take more often than
// argon2id.
func HashForDevices(password string) (string, error) {
	hasher, err := shacrypt.New(shacrypt.WithSHA512())
	if err != nil {
		return "", err
	}
	digest, err := hasher.Hash(password)
	if err != nil {
		return "", err
	}
	return digest.Encode(), nil
}
