//go:build !linux

package segments

import "os"

// syncData waits until a file is on the disk.
func syncData(f *os.File) error { return f.Sync() }
