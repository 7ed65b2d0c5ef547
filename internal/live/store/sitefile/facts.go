package sitefile

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/routine"
)

// patience bounds how long passwords are guessed. Hashes are slow on purpose.
const patience = 5 * time.Second

// longGuess is how long guessing one password may take before it is said.
const longGuess = 2 * time.Second

// badPasswords are tried against every local account.
var badPasswords = []string{"password", "admin", "secret", "changeme", "letmein", "welcome1", "12345678", "123456",
	"default", "test"}

// Facts finds out what cannot be seen in a site itself: accounts whose password
// can be guessed, and files with secrets that others can read. What takes long is
// said before it is done. Guessing ends with ctx; untried are the accounts that
// were then left.
func Facts(ctx context.Context, s *site.Site, base string, say func(string)) (f findings.Facts, untried []string) {
	f.Exposed, f.Shown = exposed(s, base), shown(s, base)
	f.Guessed, untried = guess(ctx, s, say)
	return f, untried
}

func guess(ctx context.Context, s *site.Site, say func(string)) (map[*site.Account]string, []string) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var mu sync.Mutex
	guessed, untried := map[*site.Account]string{}, []string(nil)
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for _, a := range s.Accounts {
		if a.Password.Hash == "" {
			continue
		}
		work.Go(routine.Work(func() error {
			what, done := guessOne(ctx, s, a, say)
			mu.Lock()
			defer mu.Unlock()
			if !done {
				untried = append(untried, a.Name)
			}
			if what != "" {
				guessed[a] = what
			}
			return nil
		}))
	}
	_ = work.Wait()
	slices.Sort(untried)
	return guessed, untried
}

// guessOne tries the passwords that everybody tries first. It is not done when
// the time was over before.
func guessOne(ctx context.Context, s *site.Site, a *site.Account, say func(string)) (what string, done bool) {
	type try struct{ password, what string }
	var tries []try
	add := func(password, what string) { // each word once: a try is slow
		if !slices.ContainsFunc(tries, func(t try) bool { return t.password == password }) {
			tries = append(tries, try{password: password, what: what})
		}
	}
	add(a.Name, "its own name")
	add("", "empty")
	for _, word := range append(strings.Fields(s.Name), s.Name) {
		add(word, "the site's name")
		add(strings.ToLower(word), "the site's name")
	}
	for _, p := range badPasswords {
		add(p, "one that everybody tries first")
	}
	begin := time.Now()
	for i, t := range tries {
		if ctx.Err() != nil {
			return "", false
		}
		if ok, err := secrets.PasswordIs(a.Password, t.password, nil); err == nil && ok {
			return t.what, true
		}
		if whole := time.Since(begin) * time.Duration(len(tries)); i == 0 && whole > longGuess {
			say(fmt.Sprintf("trying whether the password of the account %s is easy to guess: its hash is slow, %d "+
				"tries take about %s", a.Name, len(tries), min(whole, patience).Round(time.Second)))
		}
	}
	return "", true
}

// shown reads the certificates of servers over TLS.
func shown(s *site.Site, base string) []findings.Certificate {
	var certificates []findings.Certificate
	for _, v := range s.Servers {
		if !v.Secured() || v.Certificates.Certificate == "" {
			continue
		}
		c := findings.Certificate{Server: v}
		identity, err := pki.Of(v, base)
		if err != nil {
			c.Problem = err.Error()
		}
		if leaf := identity.Certificate.Leaf; leaf != nil && err == nil {
			c.Ends, c.Bears = leaf.NotAfter, pki.Bears(leaf)
			c.Names = leaf.VerifyHostname(v.Name) == nil || leaf.VerifyHostname(v.Address) == nil
		}
		certificates = append(certificates, c)
	}
	return certificates
}

// Exposed finds files with secrets that others on this machine can read.
func Exposed(s *site.Site, base string) []findings.Exposed { return exposed(s, base) }

// exposed finds files with secrets that others can read: those of keys, and
// site files with a key in clear.
func exposed(s *site.Site, base string) []findings.Exposed {
	var exposures []findings.Exposed
	seen := map[string]bool{}
	look := func(path string, place site.Place) {
		info, err := os.Stat(path)
		if err != nil || seen[path] || info.Mode().Perm()&0o007 == 0 {
			return
		}
		seen[path] = true
		exposures = append(exposures, findings.Exposed{Path: path, Mode: info.Mode().String(), Place: place})
	}
	for _, k := range s.Keys {
		switch k.Source {
		case site.KeyFile:
			look(files.At(base, k.From), k.Place)
		case site.KeyClear:
			look(s.Files[k.Place.File], k.Place)
		}
	}
	for _, v := range s.Servers {
		if v.Certificates.Key != "" {
			look(files.At(base, v.Certificates.Key), v.Certificates.Place)
		}
	}
	for _, p := range s.People { // hashes can be guessed at by who has them
		if p.Password.Hash != "" && !s.Lab.Only {
			look(s.Files[p.Place.File], p.Place)
		}
	}
	return exposures
}
