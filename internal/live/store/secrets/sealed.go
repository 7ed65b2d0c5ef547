package secrets

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
)

// SealedName is the name of the file of sealed keys, beside the site.
const SealedName = "keys.sealed"

// sealCost is what it costs to try a passphrase: the logarithm of scrypt's N (RFC 7914,
// section 2). Tests set a lower one.
var sealCost = 18

// Unlock is how sealed keys are opened: with the identity file of age, or with
// a passphrase.
type Unlock struct {
	Identity   string // a file with an age identity; "" for none
	Passphrase func() (string, error)
	Fresh      func() (string, error) // a passphrase to seal with, where none opened the file; nil: Passphrase
	// opened remembers the files that were opened or written, so that one call asks
	// the passphrase's slow arithmetic (RFC 7914) once; nil: nothing is remembered.
	opened *opened
}

// opened are the keys of sealed files, by the digest of the file.
type opened struct {
	mu    sync.Mutex
	files map[[sha256.Size]byte]map[string]sealedEntry
}

func (o *opened) find(text []byte) *Sealed {
	if o == nil {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if entries, known := o.files[sha256.Sum256(text)]; known {
		return &Sealed{entries: maps.Clone(entries)}
	}
	return nil
}

func (o *opened) remember(text []byte, s *Sealed) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.files[sha256.Sum256(text)] = maps.Clone(s.entries)
}

// UnlockFromEnvironment takes the identity file from MELLOWGATE_IDENTITY, and
// the passphrase from the file that MELLOWGATE_PASSPHRASE_FILE names, else from
// ask, which may be nil. What it opens once it need not open again.
func UnlockFromEnvironment(ask func() (string, error)) Unlock {
	remembered := &opened{files: map[[sha256.Size]byte]map[string]sealedEntry{}}
	return Unlock{Identity: os.Getenv("MELLOWGATE_IDENTITY"), opened: remembered, Passphrase: func() (string, error) {
		if path := os.Getenv("MELLOWGATE_PASSPHRASE_FILE"); path != "" {
			s, err := SecretFile(path)
			return s.Reveal(), err
		}
		if ask != nil {
			return ask()
		}
		return "", errors.New("the keys are sealed with a passphrase; name a file that holds it in " +
			"$MELLOWGATE_PASSPHRASE_FILE")
	}}
}

// Sealed is the keys of a sealed file while they are open.
type Sealed struct{ entries map[string]sealedEntry }

type sealedEntry struct {
	Value string    `json:"value"`
	Made  time.Time `json:"made"`
}

// Key returns the value of a key.
func (s *Sealed) Key(name string) (site.Secret, error) {
	e, ok := s.entries[name]
	if !ok {
		return site.Secret{}, fmt.Errorf("it is not in %s; seal it with: mellowgate keys seal %s", SealedName, name)
	}
	return site.NewSecret(e.Value), nil
}

// Made returns the time at which a key was sealed.
func (s *Sealed) Made(name string) (time.Time, bool) {
	e, ok := s.entries[name]
	return e.Made, ok
}

// Names returns the names of the sealed keys, sorted.
func (s *Sealed) Names() []string {
	names := make([]string, 0, len(s.entries))
	for n := range s.entries {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// Set puts a key in, and Remove takes one out.
func (s *Sealed) Set(name string, value site.Secret, made time.Time) {
	s.entries[name] = sealedEntry{Value: value.Reveal(), Made: made.UTC().Truncate(time.Second)}
}

// Remove takes a key out, and reports whether it was there.
func (s *Sealed) Remove(name string) bool {
	_, ok := s.entries[name]
	delete(s.entries, name)
	return ok
}

// NewSealed returns a sealed file with no key in it.
func NewSealed() *Sealed { return &Sealed{entries: map[string]sealedEntry{}} }

// OpenSealed opens the sealed keys of a site's folder.
func OpenSealed(base string, unlock Unlock) (*Sealed, error) {
	path := filepath.Join(base, SealedName)
	text, err := files.ReadFile(path)
	if _, missing := os.Stat(path); errors.Is(missing, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: there is no such file, so no key is sealed yet; seal one with: mellowgate keys "+
			"seal NAME",
			path)
	}
	if err != nil {
		return nil, err
	}
	if known := unlock.opened.find(text); known != nil {
		return known, nil
	}
	identities, err := unlock.identities(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	clear, err := age.Decrypt(unarmored(text), identities...)
	if err != nil {
		return nil, fmt.Errorf("%s: it cannot be opened: %s", path, whyClosed(err))
	}
	b, err := io.ReadAll(io.LimitReader(clear, files.MaxFile))
	s := NewSealed()
	if err == nil {
		err = json.Unmarshal(b, &s.entries)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: it opens, and what is in it is damaged; make it again with: mellowgate keys "+
			"seal NAME",
			path)
	}
	unlock.opened.remember(text, s)
	return s, nil
}

func whyClosed(err error) string {
	if wrong := new(age.NoIdentityMatchError); errors.As(err, &wrong) || strings.Contains(err.Error(), "passphrase") {
		return "it is sealed for another identity, or the passphrase is wrong"
	}
	return "it is damaged, or no age file"
}

func unarmored(text []byte) io.Reader {
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte(armor.Header)) {
		return armor.NewReader(bytes.NewReader(text))
	}
	return bytes.NewReader(text)
}

// ByPassphrase reports whether an age file is sealed with a passphrase.
func ByPassphrase(text []byte) bool {
	head := make([]byte, 64)
	n, _ := io.ReadFull(unarmored(text), head)
	return bytes.Contains(head[:n], []byte("-> scrypt "))
}

func (u Unlock) identities(text []byte) ([]age.Identity, error) {
	if ByPassphrase(text) {
		passphrase, err := u.Passphrase()
		if err != nil {
			return nil, err
		}
		i, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return nil, errors.New("the passphrase is empty")
		}
		return []age.Identity{i}, nil
	}
	if u.Identity == "" {
		return nil, errors.New("it is sealed for an identity; name the identity file in $MELLOWGATE_IDENTITY")
	}
	file, err := os.Open(u.Identity)
	if err != nil {
		return nil, files.Unreadable(u.Identity, err)
	}
	defer func() { _ = file.Close() }()
	all, err := age.ParseIdentities(file)
	if err != nil {
		return nil, fmt.Errorf("%s: this is no age identity file", u.Identity)
	}
	return all, nil
}

// recipients returns for whom a file is sealed.
func (u Unlock) recipients() ([]age.Recipient, error) {
	if u.Identity == "" {
		ask := u.Passphrase
		if u.Fresh != nil {
			ask = u.Fresh
		}
		passphrase, err := ask()
		if err != nil {
			return nil, err
		}
		r, err := age.NewScryptRecipient(passphrase)
		if err != nil {
			return nil, errors.New("the passphrase is empty")
		}
		r.SetWorkFactor(sealCost)
		return []age.Recipient{r}, nil
	}
	identities, err := u.identities(nil)
	if err != nil {
		return nil, err
	}
	var all []age.Recipient
	for _, i := range identities {
		if x, ok := i.(*age.X25519Identity); ok {
			all = append(all, x.Recipient())
		}
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s: there is no X25519 identity in it", u.Identity)
	}
	return all, nil
}

// Write seals the keys into a site's folder, for the identity or with the
// passphrase of unlock. The file is written beside the old one and then takes
// its place, so that a failure loses nothing.
func (s *Sealed) Write(base string, unlock Unlock) error {
	recipients, err := unlock.recipients()
	if err != nil {
		return err
	}
	var out bytes.Buffer
	armored := armor.NewWriter(&out)
	w, err := age.Encrypt(armored, recipients...)
	if err != nil {
		return err
	}
	if err := json.NewEncoder(w).Encode(s.entries); err != nil {
		return err
	}
	if err := errors.Join(w.Close(), armored.Close()); err != nil {
		return err
	}
	if err := files.WriteWhole(filepath.Join(base, SealedName), out.Bytes()); err != nil {
		return err
	}
	unlock.opened.remember(out.Bytes(), s)
	return nil
}
