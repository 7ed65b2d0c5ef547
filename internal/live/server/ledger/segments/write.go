package segments

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
)

// Writer writes to the newest file of a folder.
//
// One goroutine uses it, and only one program writes to a folder.
type Writer struct {
	dir     string
	passing bool
	file    *os.File
	first   int64 // of the newest file
	next    int64 // the number of the next entry
	size    int64 // of the newest file, as far as it is whole
	room    int64 // how far the newest file has zeros
	torn    bool  // what is behind size must go before more is written
	// Head and Newest are the head of the newest file, and the newest entry in it, nil
	// where it has none, as Open found them.
	Head, Newest []byte
	// Cut says what Open took away behind the last whole entry, "" where nothing was.
	Cut string
}

// Open opens the newest file of a folder. It returns nil where the folder has none, and
// Create makes the first. What is not whole at its end was never said to be safe: it is
// moved to a file beside it, and Cut says so. Passing is for entries that are of no
// worth once the machine stops: they are written without waiting for the disk itself.
func Open(dir string, passing bool) (*Writer, error) {
	segments, err := List(dir)
	if err != nil {
		return nil, err
	}
	for len(segments) > 0 {
		w := &Writer{dir: dir, passing: passing}
		s := segments[len(segments)-1]
		if err := w.find(s); err != nil {
			return nil, err
		}
		if w.file != nil {
			return w, nil
		}
		segments = segments[:len(segments)-1] // it was only being begun when the machine stopped
		if err := os.Remove(s.Path); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

// find opens a file and finds its end. It leaves file nil where not even its head is whole.
func (w *Writer) find(s Segment) error {
	file, err := os.OpenFile(s.Path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	walk := newWalk(file, s)
	var newest []byte
	for {
		entry, err := walk.next()
		var d *Damage
		switch {
		case err == nil && w.Head == nil:
			w.Head = bytes.Clone(entry)
			continue
		case err == nil:
			newest = append(newest[:0], entry...)
			w.Newest = newest
			continue
		case errors.Is(err, io.EOF), errors.Is(err, errPart), errors.As(err, &d):
		default:
			return errors.Join(err, file.Close())
		}
		break
	}
	if w.Head == nil {
		return file.Close()
	}
	w.file = file
	w.first = s.First
	w.next = walk.number
	w.size = walk.offset
	if s.Size > w.size {
		var zeros bool
		if zeros, err = w.onlyZeros(s); err == nil && !zeros {
			err = w.cut(s)
		}
		if zeros {
			w.room = s.Size
		}
	}
	if err != nil {
		return errors.Join(err, file.Close())
	}
	return nil
}

// How much room is made at once for what comes next: as much as there is already, within
// these bounds.
const (
	leastAhead = 16 << 10
	mostAhead  = 256 << 10
)

// onlyZeros reports whether nothing was written behind the last whole entry.
func (w *Writer) onlyZeros(s Segment) (bool, error) {
	rest, err := io.ReadAll(io.NewSectionReader(w.file, w.size, min(s.Size-w.size, 2*mostAhead)))
	if err != nil {
		return false, err
	}
	return len(bytes.Trim(rest, "\x00")) == 0, nil
}

// makeRoom writes zeros for what comes next: an entry that lies in them needs no more than
// its own octets on the disk. Where there is no room for them, the entry may find some.
func (w *Writer) makeRoom(octets int64) {
	if w.passing || w.size+octets <= w.room {
		return
	}
	from := max(w.room, w.size)
	zeros := make([]byte, min(max(w.size, leastAhead), mostAhead)+octets)
	if _, err := w.file.WriteAt(zeros, from); err != nil {
		_ = w.file.Truncate(from)
		return
	}
	if w.file.Sync() == nil {
		w.room = from + int64(len(zeros))
	}
}

// cut moves what is behind the last whole entry to a file of its own.
func (w *Writer) cut(s Segment) error {
	kept := s.Path + ".torn"
	rest := io.NewSectionReader(w.file, w.size, s.Size-w.size)
	to, err := os.OpenFile(kept, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, rest)
	if err := errors.Join(err, to.Sync(), to.Close()); err != nil {
		return err
	}
	w.Cut = fmt.Sprintf("the last %d octets of %s are no whole entry, as when a machine stops while they are "+
		"written, before anything of them is answered; they are in %s now", s.Size-w.size, s.Path, kept)
	return w.back()
}

// Create makes the first file of a folder, for entries from a number on.
func Create(dir string, first int64, head []byte, passing bool) (*Writer, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	w := &Writer{dir: dir, passing: passing, next: first}
	return w, w.Begin(head)
}

// Begin begins a new file with a head. After an error the one before is gone on with.
func (w *Writer) Begin(head []byte) error {
	file, err := os.OpenFile(Path(w.dir, w.next), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	begin := AppendFrame([]byte(Magic), head)
	if _, err = file.Write(begin); err == nil && !w.passing {
		err = errors.Join(file.Sync(), syncFolder(w.dir))
	}
	if err != nil {
		return errors.Join(err, file.Close(), os.Remove(file.Name()))
	}
	if w.file != nil {
		err = errors.Join(w.back(), w.file.Close())
	}
	w.file = file
	w.first = w.next
	w.size = int64(len(begin))
	w.room = 0
	w.torn = false
	w.Head, w.Newest = head, nil
	return err
}

func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// First returns the number of the first entry of the newest file, Next that of the next
// entry, and Size how many octets the newest file has.
func (w *Writer) First() int64 { return w.first }

// Next returns the number of the next entry.
func (w *Writer) Next() int64 { return w.next }

// Size returns how many octets the newest file has.
func (w *Writer) Size() int64 { return w.size }

// Append writes n entries, as AppendFrame made them, all or none. They are safe on disk
// when it returns nil.
func (w *Writer) Append(frames []byte, n int) error {
	if w.torn {
		if err := w.back(); err != nil {
			return err
		}
	}
	w.makeRoom(int64(len(frames)))
	_, err := w.file.WriteAt(frames, w.size)
	if err == nil && !w.passing {
		err = syncData(w.file)
	}
	if err != nil {
		w.torn = true
		_ = w.back() // else before the next
		return err
	}
	w.size += int64(len(frames))
	w.next += int64(n)
	return nil
}

// back takes away what was written only in part, and the room for more.
func (w *Writer) back() error {
	err := w.file.Truncate(w.size)
	w.room, w.torn = 0, err != nil
	return err
}

// Close ends it.
func (w *Writer) Close() error { return errors.Join(w.back(), w.file.Close()) }
