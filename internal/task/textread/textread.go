// Package textread reads what devices have saved of themselves, by phrasebooks, into values of
// a site: one text, or those of a whole estate.
package textread

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"

	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/routine"
)

// Book is a phrasebook as its file has it.
type Book struct {
	File string
	Make string
	Text []byte
}

// OpenBook reads a phrasebook. The error has the places of what is wrong in it.
func OpenBook(file string) (Book, error) {
	text, err := files.ReadFile(file)
	if err != nil {
		return Book{}, err
	}
	b, err := phrase.Load(file, text)
	if err != nil {
		return Book{}, err
	}
	return Book{File: file, Make: b.Make, Text: text}, nil
}

// Load returns the phrasebook, of which nothing was used yet.
func (b Book) Load() *phrase.Book {
	book, err := phrase.Load(b.File, b.Text)
	if err != nil {
		panic("a phrasebook that was read is read again: " + err.Error())
	}
	return book
}

// Read reads the text of a file by a phrasebook; each is called for every statement of it,
// if there is one.
func Read(book *phrase.Book, file string, each func(phrase.Line)) (*phrase.Text, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, files.Unreadable(file, err)
	}
	defer func() { _ = f.Close() }()
	return ReadFrom(book, file, f, each)
}

// ReadFrom is Read for a text that is open already.
func ReadFrom(book *phrase.Book, file string, in io.Reader, each func(phrase.Line)) (*phrase.Text, error) {
	text, err := book.Read(in, each)
	switch {
	case errors.Is(err, syscall.EISDIR):
		return nil, files.Unreadable(file, err)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return text, nil
}

// Taken is one text of an estate.
type Taken struct {
	File    string
	Make    string // of the phrasebook that reads it best, "" for none
	Problem string // why it was not read
	Lines   int
	Counts  map[phrase.Kind]int
	Unread  []phrase.Line // lines of ours that were not understood
	Device  *inventory.Device
}

// Estate reads every file below a folder by the phrasebook that reads it best. Files and
// folders whose names begin with a dot, and the phrasebooks themselves, are passed over. The
// error is that of the folder, or of ctx.
func Estate(ctx context.Context, folder string, books []Book) ([]Taken, error) {
	paths, err := texts(folder, books)
	if err != nil {
		return nil, err
	}
	takenTexts := make([]Taken, len(paths))
	next := make(chan int)
	var work routine.Group
	for range min(runtime.GOMAXPROCS(0), len(paths)) {
		work.Go(func() {
			var own []*phrase.Book // a phrasebook counts what was used of it: each reader has its own
			for _, b := range books {
				own = append(own, b.Load())
			}
			for i := range next {
				takenTexts[i] = take(paths[i], own)
			}
		})
	}
	for i := range paths {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	work.Wait()
	return takenTexts, ctx.Err()
}

// texts returns the files below a folder, in the order of their names.
func texts(folder string, books []Book) (paths []string, err error) {
	info, err := os.Stat(folder)
	if err != nil {
		return nil, files.Unreadable(folder, err)
	}
	if !info.IsDir() {
		return []string{folder}, nil
	}
	are := map[string]bool{}
	for _, b := range books {
		are[files.Absolute(b.File)] = true
	}
	err = filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		hidden := strings.HasPrefix(entry.Name(), ".") && path != folder
		switch {
		case err != nil:
			return err
		case hidden && entry.IsDir():
			return filepath.SkipDir
		case !hidden && entry.Type().IsRegular() && !are[files.Absolute(path)]:
			paths = append(paths, path)
		}
		return nil
	})
	slices.Sort(paths)
	return paths, err
}

// take reads a text by the phrasebook that reads it best.
func take(path string, books []*phrase.Book) Taken {
	best, tie := Taken{File: path}, false
	score := 0
	var text *phrase.Text
	for _, book := range books {
		got, err := Read(book, path, nil)
		if err != nil {
			return Taken{File: path, Problem: err.Error()}
		}
		reads := got.Counts[phrase.Understood] - got.Counts[phrase.NotUnderstood]
		tie = reads == score && text != nil && reads > 0 || tie && reads <= score
		if got.Counts[phrase.Understood] > 0 && (text == nil || reads > score) {
			text, score = got, reads
			best.Make, best.Unread = book.Make, got.Unread
		}
	}
	switch {
	case text == nil:
		best.Problem = "no phrasebook that was given reads a line of it"
	case tie:
		best.Make, best.Problem = "", "two phrasebooks read it equally well: give the one of its make"
	default:
		best.Lines, best.Counts = text.Lines, text.Counts
		best.Device = inventory.Of(inventory.Saved{File: path, Platform: best.Make, Text: text})
	}
	return best
}
