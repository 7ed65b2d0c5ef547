// Package segments keeps numbered entries in the files of a folder, one after
// another, safe on disk when Append returns. A folder may be read while it is
// written, by this program or another one.
//
// Each file is named by the number of its first entry and begins with eight octets,
// Magic. Frames follow: the length of what is in it (4 octets, the lowest first), its
// CRC-32C (4 octets, the lowest first; RFC 3720, section 12.1), and the octets
// themselves. The first frame of a file is its head, which the owner of the folder
// gives; each further one is an entry. Zeros end what is written: the newest file has
// room for what comes next, so that the disk has less to do for each entry.
package segments

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Magic begins each file.
const Magic = "records1"

// MostOctets bounds an entry.
const MostOctets = 1 << 20

// Suffix ends the name of each file.
const Suffix = ".records"

const frameHeader = 8

var table = crc32.MakeTable(crc32.Castagnoli)

// Segment is one file of a folder.
type Segment struct {
	Path    string
	First   int64 // the number of its first entry
	Size    int64
	Written time.Time // when it was last written to
}

// List returns the files of a folder, the oldest first; none where there is no such
// folder.
func List(dir string) ([]Segment, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var segments []Segment
	for _, e := range entries {
		number, ok := strings.CutSuffix(e.Name(), Suffix)
		first, err := strconv.ParseInt(number, 10, 64)
		if !ok || err != nil || first < 1 {
			continue
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // taken away meanwhile
		}
		if err != nil {
			return nil, err
		}
		segments = append(segments, Segment{Path: filepath.Join(dir, e.Name()), First: first, Size: info.Size(),
			Written: info.ModTime()})
	}
	slices.SortFunc(segments, func(a, b Segment) int { return int(min(max(a.First-b.First, -1), 1)) })
	return segments, nil
}

// Path returns the path of the file whose first entry has a number.
func Path(dir string, first int64) string {
	return filepath.Join(dir, fmt.Sprintf("%019d", first)+Suffix)
}

// AppendFrame appends an entry as it is written. It has an octet at least, and at most
// MostOctets.
func AppendFrame(b, entry []byte) []byte {
	b = binary.LittleEndian.AppendUint32(b, uint32(len(entry)))
	b = binary.LittleEndian.AppendUint32(b, crc32.Checksum(entry, table))
	return append(b, entry...)
}

// Damage is a place from which on a file cannot be read.
type Damage struct {
	Path   string
	Offset int64 // octets from the begin of the file
	Number int64 // of the entry that should be there; one below the first: the head
	What   string
}

// Error names the file and the place.
func (d *Damage) Error() string {
	return fmt.Sprintf("%s is damaged at octet %d: %s", d.Path, d.Offset, d.What)
}
