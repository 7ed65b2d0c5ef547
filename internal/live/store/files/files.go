// Package files reads and writes whole files for the rooms of the store, and
// says in plain words why a path cannot be read.
package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// MaxFile bounds one file of a site, in octets. A site of 100,000 devices in
// one file is below it.
const MaxFile = 32 << 20

// At returns a path as the site file means it: from the site's folder.
func At(base, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(base, path)
}

// Unreadable says in plain words why a path cannot be read.
func Unreadable(path string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return worded{text: path + ": there is no such file or folder", err: fs.ErrNotExist}
	case errors.Is(err, fs.ErrPermission):
		return worded{text: path + ": it may not be read by this user; look at its owner and mode",
			err: fs.ErrPermission}
	case errors.Is(err, syscall.EISDIR):
		return worded{text: path + ": it is a folder, and a file is wanted", err: syscall.EISDIR}
	case errors.Is(err, syscall.ENOTDIR):
		return worded{text: path + ": a folder is wanted there, and what stands there is a file", err: syscall.ENOTDIR}
	}
	return fmt.Errorf("%s: it cannot be read: %w", path, err)
}

// worded is an error in words of ours.
type worded struct {
	text string
	err  error
}

func (w worded) Error() string { return w.text }
func (w worded) Unwrap() error { return w.err }

// ReadFile reads a file of at most MaxFile octets.
func ReadFile(name string) ([]byte, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, Unreadable(name, err)
	}
	if info.IsDir() {
		return nil, Unreadable(name, syscall.EISDIR)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: this is not a file", name)
	}
	if info.Size() > MaxFile {
		return nil, fmt.Errorf("%s: the file has %d MB and a site file may have %d; split the site into several "+
			"files in a folder",
			name, info.Size()>>20, MaxFile>>20)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, Unreadable(name, err)
	}
	return text, nil
}

// WriteWhole writes a file, all of it or none. One that is there keeps its owner,
// group and mode; a new one only its owner can read.
func WriteWhole(path string, text []byte) error {
	temporary, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	_, err = temporary.Write(text)
	if info, there := os.Stat(path); there == nil {
		err = errors.Join(err, temporary.Chmod(info.Mode().Perm()), owned(temporary, info))
	}
	err = errors.Join(err, temporary.Sync(), temporary.Close())
	if err == nil {
		err = os.Rename(temporary.Name(), path)
	}
	if err != nil {
		_ = os.Remove(temporary.Name())
		return err
	}
	if folder, err := os.Open(filepath.Dir(path)); err == nil { // so that the name outlasts a power cut
		_ = folder.Sync() // not every system can
		_ = folder.Close()
	}
	return nil
}

// Absolute returns a path from the root, and the path as it is where that cannot
// be known.
func Absolute(path string) string {
	if a, err := filepath.Abs(path); err == nil {
		return a
	}
	return path
}

// Near returns a path as it is shortest from here: relative where it lies in the
// folder in which the program runs.
func Near(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if near, err := filepath.Rel(here, path); err == nil && filepath.IsLocal(near) {
		return near
	}
	return path
}
