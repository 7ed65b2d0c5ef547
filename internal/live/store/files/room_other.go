//go:build !unix

package files

import "errors"

// Room is not known here.
func Room(string) (free, all uint64, err error) { return 0, 0, errors.ErrUnsupported }
