package serve

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
)

// settled is how long files must be left alone before the site is read again:
// editors write in several steps.
const settled = 300 * time.Millisecond

// keep keeps a service at its site until ctx ends: it reads the site again on a
// hangup and when a file of it changes, of those that are watched.
func (s *serving) keep(ctx context.Context, watcher *fsnotify.Watcher, watched map[string]bool) {
	var alive <-chan time.Time
	if every := s.Manager.Lives(); every > 0 {
		ticker := time.NewTicker(every)
		defer ticker.Stop()
		alive = ticker.C
	}
	var due <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-alive:
			s.Manager.Alive()
		case <-s.Hangups:
			s.reload(ctx)
			watched = s.watch(watcher)
		case e := <-watcher.Events:
			if watched[filepath.Clean(e.Name)] && e.Op != fsnotify.Chmod {
				due = time.After(settled)
			}
		case <-watcher.Errors:
		case <-due:
			due = nil
			s.reload(ctx)
			watched = s.watch(watcher)
		}
	}
}

// watch watches the folders of the site's files, and returns the files that count.
func (s *serving) watch(watcher *fsnotify.Watcher) map[string]bool {
	l := s.Site
	counted := map[string]bool{filepath.Join(l.Base, secrets.SealedName): true}
	for _, name := range l.Files {
		counted[filepath.Clean(name)] = true
	}
	for _, k := range l.Site.Keys {
		if k.Source == site.KeyFile {
			counted[files.At(l.Base, k.From)] = true
		}
	}
	for _, server := range l.Servers {
		for _, name := range []string{server.Certificates.Certificate, server.Certificates.Key,
			server.Certificates.Authorities, server.Certificates.Revoked} {
			if name != "" {
				counted[files.At(l.Base, name)] = true
			}
		}
	}
	for name := range counted {
		_ = watcher.Add(filepath.Dir(name)) // a folder that cannot be watched is read on SIGHUP
	}
	return counted
}

// reload reads the site again and puts it in place of the old one, or says why
// not.
func (s *serving) reload(ctx context.Context) {
	before := s.Site.Service
	o, err := s.Load()
	if err == nil && len(o.Devices) == 0 && len(s.Site.Devices) > 0 {
		err = fmt.Errorf("it has no device any more, and %d before: a list that could not be exported looks so. If it is "+
			"meant, "+
			"end serve and start it again", len(s.Site.Devices))
	}
	if err == nil {
		err = s.take(ctx, o)
	}
	if err != nil {
		s.say("the site was not taken, and the old one stays in use:\n%s", strings.TrimSpace(err.Error()))
		s.Manager.Status("the site has a mistake; an older one is in use")
		return
	}
	s.say("the site was read again and is in use")
	if err := s.writePlaces(); err != nil {
		s.say("where the servers listen could not be written down: %v", err)
	}
	s.Manager.Status(s.status())
	changed := atStart(before, o.Service)
	for _, what := range slices.Sorted(maps.Keys(changed)) {
		if changed[what] {
			s.say("service.%s is taken when serve starts: end it and start it again for that", what)
		}
	}
}

// atStart reports what differs of those parts of a service that are taken only
// when it starts.
func atStart(before, after site.Service) map[string]bool {
	return map[string]bool{
		"device-logs": !slices.Equal(before.DeviceLogs, after.DeviceLogs),
		"ledger":      before.Ledger.File != after.Ledger.File || before.Ledger.Database != after.Ledger.Database,
		"metrics":     before.Metrics != after.Metrics,
		"syslog":      before.Syslog != after.Syslog,
		"traffic":     before.Traffic != after.Traffic,
	}
}
