package state

import (
	"fmt"
	"os"
	"path/filepath"
)

// longestSocket is how many octets the path of a socket may have wherever this program
// runs: 108 with its end on Linux, 104 on others.
const longestSocket = 100

// Figures gives use the path of the socket on which a run tells its figures to who may
// enter the folder, and returns the error of use. A path that is too long for a socket
// is given by another name of the folder, which holds only until use returns; where
// there is none, that is an error.
func (f *Folder) Figures(use func(path string) error) error {
	path := filepath.Join(f.Dir, figuresFile)
	if len(path) <= longestSocket {
		return use(path)
	}
	dir, err := os.Open(f.Dir)
	if err != nil {
		return err
	}
	defer func() { _ = dir.Close() }()
	short := fmt.Sprintf("/proc/self/fd/%d", dir.Fd())
	if _, err := os.Stat(short); err != nil {
		return fmt.Errorf("%s is %d octets long, and a socket may have %d; take a state folder with a shorter path",
			path,
			len(path), longestSocket)
	}
	return use(filepath.Join(short, figuresFile))
}

// ForgetFigures takes away the socket, of a run that has ended too.
func (f *Folder) ForgetFigures() { _ = os.Remove(filepath.Join(f.Dir, figuresFile)) }
