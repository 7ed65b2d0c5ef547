package cli

import (
	"errors"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"

	"mellowgate/internal/live/gate"
	"mellowgate/internal/live/vault"
)

// settled is how long files must be left alone before the site is read again:
// editors write in several steps.
const settled = 300 * time.Millisecond

// reloading keeps a service at its site until the call ends: it reads the site
// again on SIGHUP and when a file of it changes.
func (c *Call) reloading(l loaded, g *gate.Gate) error {
	hangups := make(chan os.Signal, 1)
	signal.Notify(hangups, syscall.SIGHUP)
	defer signal.Stop(hangups)
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return cannot(err)
	}
	defer func() { _ = watcher.Close() }()
	watched := c.watch(watcher, l)
	var due <-chan time.Time
	for {
		select {
		case <-c.Done():
			return nil
		case <-hangups:
			watched = c.reload(watcher, watched, l, g)
		case e := <-watcher.Events:
			if watched[filepath.Clean(e.Name)] && e.Op != fsnotify.Chmod {
				due = time.After(settled)
			}
		case <-watcher.Errors:
		case <-due:
			due = nil
			watched = c.reload(watcher, watched, l, g)
		}
	}
}

// watch watches the folders of a site's files, and gives the files that count.
func (c *Call) watch(watcher *fsnotify.Watcher, l loaded) map[string]bool {
	files := map[string]bool{filepath.Join(l.Base, vault.SealedName): true}
	for _, name := range l.Files {
		files[filepath.Clean(name)] = true
	}
	for _, k := range l.Site.Keys {
		if k.Source == "file" {
			files[vault.At(l.Base, k.From)] = true
		}
	}
	for name := range files {
		_ = watcher.Add(filepath.Dir(name)) // a folder that cannot be watched is read on SIGHUP
	}
	return files
}

// reload reads the site again and puts it in place of the old one, or says why
// not.
func (c *Call) reload(watcher *fsnotify.Watcher, watched map[string]bool, old loaded, g *gate.Gate) map[string]bool {
	l, err := c.loadFrom(old.Path, true)
	if err == nil {
		err = g.Reload(gate.Design{Site: l.Site, Keys: l.Keys, Clients: clientsOf(l.Site)})
	}
	if err != nil {
		var f failure
		if errors.As(err, &f) {
			err = f.err
		}
		c.note("the site was not taken, and the old one stays in use:\n%s", strings.TrimSpace(err.Error()))
		return watched
	}
	c.note("the site was read again and is in use")
	if l.Service.Metrics != old.Service.Metrics {
		c.note("service.metrics is taken when serve starts: end it and start it again for that")
	}
	return c.watch(watcher, l)
}
