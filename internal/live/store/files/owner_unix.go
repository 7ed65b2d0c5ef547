//go:build unix

package files

import (
	"os"
	"syscall"
)

// owned gives a file the owner and group of another one, where they are not its
// own already.
func owned(file *os.File, as os.FileInfo) error {
	want, ok := as.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	has, err := file.Stat()
	if err != nil {
		return err
	}
	if is, ok := has.Sys().(*syscall.Stat_t); ok && is.Uid == want.Uid && is.Gid == want.Gid {
		return nil
	}
	return file.Chown(int(want.Uid), int(want.Gid))
}

// Lock locks a file for this process alone, and reports whether nobody else has
// it. The lock ends with the process, or when the file is closed.
func Lock(file *os.File) bool {
	return syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil
}
