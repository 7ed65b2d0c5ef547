// Package secrets reads and keeps what is secret: the values of keys, sealed or
// not, the hashes of passwords, the codes of a moment. Values leave it only as
// site.Secret. Which keys a site has is the site's to say.
package secrets

import (
	"fmt"
	"os"
	"strings"
	"sync"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
)

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
	return SecretFile(files.At(base, k.From))
}

// SecretFile reads a secret from a file. One line end at its end is dropped.
func SecretFile(path string) (site.Secret, error) {
	info, err := os.Stat(path)
	if err != nil {
		return site.Secret{}, files.Unreadable(path, err)
	}
	if info.Size() > 4096 || !info.Mode().IsRegular() {
		return site.Secret{}, fmt.Errorf("%s: a secret is a file of at most 4096 octets", path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return site.Secret{}, files.Unreadable(path, err)
	}
	v := strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r")
	if v == "" {
		return site.Secret{}, fmt.Errorf("%s: the file is empty", path)
	}
	return site.NewSecret(v), nil
}
