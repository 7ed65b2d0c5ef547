package segments

import (
	"bufio"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"time"
)

// Reading is how a folder is read. Each function may be nil, but Entry.
type Reading struct {
	From int64 // the first entry that is wanted
	// Begin is where it is, where that is known. Default: it is looked for.
	Begin Position
	// Skips reports whether a file holds nothing that is wanted. Default: none is passed over.
	Skips func(Segment) bool
	// Head is given the head of each file that is read.
	Head func(s Segment, head []byte) error
	// Entry is given each entry from From on, with where it is; its octets are only good
	// until it returns.
	Entry func(number int64, at Position, entry []byte) error
	// Damaged is told of a file that cannot be read to its end; the next file is gone on
	// with. Default: the reading ends with the damage.
	Damaged func(*Damage) error
}

// Position is where an entry is.
type Position struct {
	Segment int64 // the number of the first entry of its file
	Offset  int64 // octets from the begin of the file
}

// After returns where the one after an entry is, if it is in the same file.
func (p Position) After(entry []byte) Position {
	return Position{Segment: p.Segment, Offset: p.Offset + int64(frameHeader+len(entry))}
}

// Read reads a folder, the oldest entry first. What is being written at the end of the
// newest file, and is not whole yet, is not read.
func Read(dir string, r Reading) error {
	segments, err := List(dir)
	if err != nil {
		return err
	}
	for i, s := range segments {
		last := i == len(segments)-1
		if !last && segments[i+1].First <= r.From || r.Skips != nil && r.Skips(s) {
			continue
		}
		err := r.segment(s, last)
		var d *Damage
		switch {
		case errors.Is(err, fs.ErrNotExist): // it was the oldest, and taken away meanwhile
		case errors.As(err, &d) && r.Damaged != nil:
			if err := r.Damaged(d); err != nil {
				return err
			}
		case err != nil:
			return err
		}
	}
	return nil
}

// segment reads one file.
func (r Reading) segment(s Segment, last bool) error {
	file, err := os.Open(s.Path)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	walk := newWalk(file, s)
	if r.Begin.Segment == s.First && r.Begin.Offset > 0 && r.From >= s.First {
		if _, err := file.Seek(r.Begin.Offset, io.SeekStart); err != nil {
			return err
		}
		walk.begun = true
		walk.offset = r.Begin.Offset
		walk.number = r.From
	}
	for tries := 0; ; {
		at := walk.offset
		entry, err := walk.next()
		var damaged *Damage
		if last && errors.As(err, &damaged) && tries < mostTries { // it may only be being written
			tries++
			time.Sleep(triesAgain)
			number := walk.number
			if _, err := file.Seek(at, io.SeekStart); err != nil {
				return err
			}
			walk = newWalk(file, s)
			walk.begun = at > 0
			walk.offset = at
			walk.number = number
			continue
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, errPart) && last:
			return nil
		case errors.Is(err, errPart):
			return walk.damage("the file ends within an entry")
		case err != nil:
			return err
		}
		switch number := walk.number - 1; {
		case number < s.First:
			if r.Head != nil {
				err = r.Head(s, entry)
			}
		case number >= r.From:
			err = r.Entry(number, Position{Segment: s.First, Offset: at}, entry)
		}
		if err != nil {
			return err
		}
	}
}

// How often an entry that another program may only be writing is read again, and after
// how long.
const (
	mostTries  = 5
	triesAgain = 2 * time.Millisecond
)

// errPart is the end of a file within a frame.
var errPart = errors.New("the file ends within an entry")

// walk goes through the frames of one file.
type walk struct {
	segment Segment
	in      *bufio.Reader
	offset  int64 // of the next frame
	number  int64 // of the next frame: one below the first for the head
	buffer  []byte
	begun   bool
}

func newWalk(in io.Reader, s Segment) *walk {
	return &walk{segment: s, in: bufio.NewReaderSize(in, 256<<10), number: s.First - 1}
}

func (w *walk) damage(what string) error {
	return &Damage{Path: w.segment.Path, Offset: w.offset, Number: w.number, What: what}
}

// next returns what is in the next frame, good until the one after it. Its errors are
// io.EOF at the end, errPart, a Damage, and those of reading.
func (w *walk) next() ([]byte, error) {
	if !w.begun {
		var magic [len(Magic)]byte
		if _, err := io.ReadFull(w.in, magic[:]); err != nil {
			return nil, part(err)
		}
		if string(magic[:]) != Magic {
			return nil, w.damage("it does not begin as a file of records does")
		}
		w.begun, w.offset = true, int64(len(Magic))
	}
	var header [frameHeader]byte
	if _, err := io.ReadFull(w.in, header[:]); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, err
		}
		return nil, part(err)
	}
	n := int(binary.LittleEndian.Uint32(header[:]))
	if n == 0 && binary.LittleEndian.Uint32(header[4:]) == 0 {
		return nil, io.EOF
	}
	if n > MostOctets {
		return nil, w.damage("an entry has an impossible length")
	}
	if cap(w.buffer) < n {
		w.buffer = make([]byte, n, 2*n)
	}
	w.buffer = w.buffer[:n]
	if _, err := io.ReadFull(w.in, w.buffer); err != nil {
		return nil, part(err)
	}
	if crc32.Checksum(w.buffer, table) != binary.LittleEndian.Uint32(header[4:]) {
		return nil, w.damage("an entry is not as it was written")
	}
	w.offset += int64(frameHeader + n)
	w.number++
	return w.buffer, nil
}

// part makes an end within a frame errPart.
func part(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return errPart
	}
	return err
}

// Picker reads single entries of a folder, by where they are.
//
// One goroutine uses it; Close ends it.
type Picker struct {
	dir   string
	first int64
	file  *os.File
	bytes []byte
}

// Pick makes a picker of a folder.
func Pick(dir string) *Picker { return &Picker{dir: dir} }

// Entry returns the entry at a place, good until the next call. It is an error when
// none is there.
func (p *Picker) Entry(position Position) ([]byte, error) {
	if p.file == nil || p.first != position.Segment {
		if err := p.Close(); err != nil {
			return nil, err
		}
		file, err := os.Open(Path(p.dir, position.Segment))
		if err != nil {
			return nil, err
		}
		p.file, p.first = file, position.Segment
	}
	const usual = 1 << 10 // most entries are shorter: one call reads them
	p.bytes = octets(p.bytes, usual)
	n, err := p.file.ReadAt(p.bytes, position.Offset)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	damaged := &Damage{Path: p.file.Name(), Offset: position.Offset, Number: -1, What: "there is no entry"}
	if n < frameHeader {
		return nil, damaged
	}
	size, sum := int(binary.LittleEndian.Uint32(p.bytes)), binary.LittleEndian.Uint32(p.bytes[4:])
	if size > MostOctets {
		return nil, damaged
	}
	if frameHeader+size > n {
		p.bytes = octets(p.bytes, frameHeader+size)
		if _, err := p.file.ReadAt(p.bytes, position.Offset); err != nil {
			return nil, damaged
		}
	}
	if entry := p.bytes[frameHeader : frameHeader+size]; crc32.Checksum(entry, table) == sum {
		return entry, nil
	}
	return nil, damaged
}

// octets returns a slice of n octets, in the memory of b where that is enough.
func octets(b []byte, n int) []byte {
	if cap(b) < n {
		return make([]byte, n)
	}
	return b[:n]
}

// Close ends it.
func (p *Picker) Close() error {
	if p.file == nil {
		return nil
	}
	err := p.file.Close()
	p.file = nil
	return err
}
