//go:build unix

package files

import "golang.org/x/sys/unix"

// Room returns how many octets of the disk of a path are free for this program, and how
// many it has.
func Room(path string) (free, all uint64, err error) {
	var s unix.Statfs_t
	if err := unix.Statfs(path, &s); err != nil {
		return 0, 0, err
	}
	return s.Bavail * uint64(s.Bsize), s.Blocks * uint64(s.Bsize), nil
}
