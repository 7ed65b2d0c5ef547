package segments

import (
	"os"

	"golang.org/x/sys/unix"
)

// syncData waits until what a file holds is on the disk, with no more of its
// attributes than reading it needs.
func syncData(f *os.File) error { return unix.Fdatasync(int(f.Fd())) }
