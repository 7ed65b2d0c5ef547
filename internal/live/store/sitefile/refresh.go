package sitefile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
)

// exportsIn is how long a program may take that gives devices.
const exportsIn = 2 * time.Minute

// Exports returns the programs that a site has its devices from, also where the site has
// mistakes, or their files are not there yet.
func Exports(path string) []site.Export {
	var found []site.Export
	_, _, _ = load(path, func(read func(string) (site.Source, error), sources ...site.Source) (*site.Site, error) {
		s, err := site.ParseWith(func(name string) (site.Source, error) {
			source, err := read(name)
			if err != nil {
				return site.Source{Name: name + ".json", Text: []byte("[]")}, nil
			}
			return source, err
		}, sources...)
		if s != nil {
			found = s.Exports
		}
		return s, err
	})
	return found
}

// Refresh runs the programs that a site has its devices from. What one gives replaces its
// file when the whole site is without a mistake with it; else its file stays as it is, and
// the error says why. It returns the files that changed.
func Refresh(ctx context.Context, path string) ([]string, error) {
	var changed []string
	var failed []error
	for _, e := range Exports(path) {
		fresh, err := refresh(ctx, path, e)
		if err != nil {
			failed = append(failed, fmt.Errorf("the devices of %s are not those that %s gives now: %w", e.Into.Name,
				e.Run[0],
				err))
		} else if fresh {
			changed = append(changed, e.Into.Name)
		}
	}
	return changed, errors.Join(failed...)
}

// refresh runs one program, and reports whether its file is another one now.
func refresh(ctx context.Context, path string, e site.Export) (bool, error) {
	base := path
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		base = filepath.Dir(path)
	}
	text, err := output(ctx, base, e.Run)
	if err != nil {
		return false, err
	}
	into := files.At(base, e.Into.Name)
	before, err := os.ReadFile(into)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	if err == nil && bytes.Equal(before, text) {
		return false, nil
	}
	old, _, _ := Load(path)
	fresh, _, err := load(path, func(read func(string) (site.Source, error), sources ...site.Source) (*site.Site,
		error) {
		return site.ParseWith(func(name string) (site.Source, error) {
			if name == e.Into.Name {
				return site.Source{Name: filepath.ToSlash(into), Text: text}, nil
			}
			return read(name)
		}, sources...)
	})
	if err != nil {
		return false, fmt.Errorf("it has mistakes, and the file stays as it was:\n%w", err)
	}
	if old != nil && !old.Service.MayShrink && len(fresh.Devices)*3 < len(old.Devices)*2 {
		return false, fmt.Errorf("%d devices are left of %d, as after an export that broke off, and the file stays "+
			"as it was; if that is meant, delete %s, or say service: {may-shrink: true}", len(fresh.Devices),
			len(old.Devices), into)
	}
	return true, files.WriteWhole(into, text)
}

// output returns what a program prints. It is started in a folder, and its path starts from
// there where it has one.
func output(ctx context.Context, base string, run []string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, exportsIn)
	defer cancel()
	program := run[0]
	if strings.Contains(program, "/") {
		program = files.Absolute(files.At(base, program))
	}
	cmd := exec.CommandContext(ctx, program, run[1:]...)
	var out, said limited
	cmd.Dir = base
	cmd.Stdout = &out
	cmd.Stderr = &said
	cmd.WaitDelay = time.Second // for those that it has started
	err := cmd.Run()
	var unstarted *fs.PathError
	switch {
	case ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded):
		return nil, fmt.Errorf("it did not end within %s", exportsIn)
	case out.over:
		return nil, fmt.Errorf("it gave more than %d MB", files.MaxFile>>20)
	case errors.As(err, &unstarted):
		return nil, fmt.Errorf("it cannot be started: %w", unstarted.Err)
	case err != nil:
		return nil, errors.New(strings.TrimSpace(fmt.Sprintf("%v %s", err, lastLine(said.text.Bytes()))))
	}
	return out.text.Bytes(), nil
}

// lastLine is the last line of what a program complained of.
func lastLine(text []byte) string {
	lines := bytes.Split(bytes.TrimSpace(text), []byte("\n"))
	last := lines[len(lines)-1]
	return string(last[:min(len(last), 300)])
}

// limited takes as much as a file of a site may have.
type limited struct {
	text bytes.Buffer // not embedded: its ReadFrom would take everything
	over bool
}

// Write takes what there is room for.
func (l *limited) Write(b []byte) (int, error) {
	if l.over = l.over || l.text.Len()+len(b) > files.MaxFile; l.over {
		return 0, errors.New("too much")
	}
	return l.text.Write(b)
}
