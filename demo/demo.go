// Package demo is the demo site: a made-up ferry company, in two states, with
// keys and passwords that open nothing else, and what four of its devices say of themselves,
// with the phrasebooks that read it.
package demo

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

//go:embed as-drafted as-reviewed keys passwords phrasebooks saved logs manuals
var files embed.FS

// States of the site.
const (
	AsDrafted  = "as-drafted"
	AsReviewed = "as-reviewed"
)

// Write writes both states of the demo site below dir, each complete with its
// keys and passwords, and the saved texts with their phrasebooks. It overwrites nothing.
func Write(dir string) error {
	for _, state := range []string{AsDrafted, AsReviewed, "phrasebooks", "saved", "logs", "manuals"} {
		to := filepath.Join(dir, state)
		if _, err := os.Stat(to); err == nil {
			return fmt.Errorf("%s is there already; name another folder, or move it away", to)
		}
	}
	for _, state := range []string{AsDrafted, AsReviewed} {
		to := filepath.Join(dir, state)
		for _, part := range []struct{ from, to string }{{state, to}, {"keys", filepath.Join(to, "keys")},
			{"passwords", filepath.Join(to, "passwords")}} {
			if err := write(part.from, part.to); err != nil {
				return err
			}
		}
	}
	return errors.Join(write("phrasebooks", filepath.Join(dir, "phrasebooks")),
		write("saved", filepath.Join(dir, "saved")), write("logs", filepath.Join(dir, "logs")),
		write("manuals", filepath.Join(dir, "manuals")))
}

func write(from, to string) error {
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	entries, err := fs.ReadDir(files, from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		text, err := files.ReadFile(from + "/" + e.Name())
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(to, e.Name()), text, 0o600); err != nil {
			return err
		}
	}
	return nil
}
