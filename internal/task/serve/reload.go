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
	"mellowgate/internal/live/server/service"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
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
	var due, again <-chan time.Time
	export := exportsAfter(s.Site.Exports)
	for {
		if again == nil && s.service.Missing() {
			again = time.After(service.LooksAgain)
		}
		select {
		case <-ctx.Done():
			return
		case <-alive:
			s.Manager.Alive()
		case <-export:
			export = s.refresh(ctx)
		case <-s.Hangups:
			s.Manager.Reloading()
			export = s.refresh(ctx)
			if err := s.Folder.Reopen(); err != nil {
				s.say("the files of the state folder cannot be opened anew: %v", err)
			}
			s.reload(ctx, true)
			s.Manager.Reloaded()
			watched = s.watch(watcher)
		case e := <-watcher.Events:
			if watched[filepath.Clean(e.Name)] && e.Op != fsnotify.Chmod {
				due = time.After(settled)
			}
		case <-watcher.Errors:
		case <-again:
			again = nil
			if err := s.take(ctx, s.Site); err == nil && !s.service.Missing() {
				s.say("every server has an address")
				_ = s.writePlaces()
				s.Manager.Status(s.status())
			}
		case <-due:
			due = nil
			s.reload(ctx, false)
			watched = s.watch(watcher)
		}
	}
}

// refresh runs the programs that the site has its devices from, and returns when it is
// time for that again. What changes then is seen as any change of a file.
func (s *serving) refresh(ctx context.Context) <-chan time.Time {
	if s.Refresh != nil && len(s.Site.Exports) > 0 {
		if err := s.Refresh(ctx); err != nil {
			s.say("%v", err)
		}
	}
	return exportsAfter(s.Site.Exports)
}

// exportsAfter returns when the programs are to be run again, nil for never by itself.
func exportsAfter(exports []site.Export) <-chan time.Time {
	var soonest time.Duration
	for _, e := range exports {
		if e.Every > 0 && (soonest == 0 || e.Every < soonest) {
			soonest = e.Every
		}
	}
	if soonest == 0 {
		return nil
	}
	return time.After(soonest)
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
// not. asked: somebody asked for it, by a hangup.
func (s *serving) reload(ctx context.Context, asked bool) {
	before := s.Site.Service
	o, err := s.Load()
	come, gone := []string{}, []string{}
	if err == nil {
		come, gone = devicesOf(s.Site.Site, o.Site)
		err = s.shrunk(o, gone, asked)
	}
	if err == nil {
		err = s.take(ctx, o)
	}
	s.service.Metrics.Read(err == nil)
	if err != nil {
		s.say("the site was not taken, and the old one stays in use:\n%s", strings.TrimSpace(err.Error()))
		s.Manager.Status("the site has a mistake; an older one is in use")
		// Whoever may read the health may not read the site.
		s.service.Metrics.Health.Set(service.TroubleSite,
			"it was not taken, and the old one stays in use: mellowgate check says what is wrong")
		return
	}
	s.service.Metrics.Health.Set(service.TroubleSite, "")
	s.say("the site was read again and is in use%s", changesOf(come, gone))
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

// devicesOf returns the devices that a site has and the one before had not, and those
// that are gone.
func devicesOf(before, after *site.Site) (come, gone []string) {
	for _, d := range after.Devices {
		if before.Device(d.Name) == nil {
			come = append(come, d.Name)
		}
	}
	for _, d := range before.Devices {
		if after.Device(d.Name) == nil {
			gone = append(gone, d.Name)
		}
	}
	return come, gone
}

// changesOf says which devices are new, and which are gone.
func changesOf(come, gone []string) string {
	text := ""
	for _, c := range []struct {
		what  string
		names []string
	}{{"new", come}, {"gone", gone}} {
		if n := len(c.names); n == 1 {
			text += fmt.Sprintf("; 1 device %s: %s", c.what, c.names[0])
		} else if n > 1 {
			text += fmt.Sprintf("; %d devices %s: %s", n, c.what, strings.Join(c.names[:min(n, mostNamed)], ", "))
			if n > mostNamed {
				text += ", ..."
			}
		}
	}
	return text
}

// mostNamed bounds how many devices a line names.
const mostNamed = 5

const (
	// confirms is within which time a second hangup says that a smaller site is meant.
	confirms = time.Minute
	// fewGone is how many devices may be gone in any site, as long as there are some.
	fewGone = 2
)

// shrunk refuses a site that has lost all of its devices, or more than a third and more
// than a few, unless that is said to be meant: a list that was exported in part looks so.
func (s *serving) shrunk(o sitefile.Opened, gone []string, asked bool) error {
	had, again := len(s.Site.Devices), !s.refused.IsZero() && time.Since(s.refused) < confirms
	switch {
	case o.Service.MayShrink, len(gone) == 0, asked && again,
		len(o.Devices) > 0 && (len(gone) <= fewGone || 3*len(gone) <= had):
		s.refused = time.Time{}
		return nil
	}
	how := "twice within a minute"
	if asked {
		s.refused, how = time.Now(), "once more within a minute"
	}
	left := fmt.Sprintf("%d of %d devices would be gone", len(gone), had)
	if len(o.Devices) == 0 {
		left = fmt.Sprintf("it has no device any more, and %d before", had)
	}
	return fmt.Errorf("%s: a list that could not be exported whole looks so. If it is meant, send SIGHUP %s, or "+
		"say service: {may-shrink: true}", left, how)
}

// atStart reports what differs of those parts of a service that are taken only
// when it starts.
func atStart(before, after site.Service) map[string]bool {
	return map[string]bool{
		"device-logs": !slices.Equal(before.DeviceLogs, after.DeviceLogs),
		"keep":        before.Keep != after.Keep,
		"ledger":      before.Ledger.Folder != after.Ledger.Folder || before.Ledger.Database != after.Ledger.Database,
		"metrics":     before.Metrics != after.Metrics,
		"syslog":      before.Syslog != after.Syslog,
		"traffic":     before.Traffic != after.Traffic || before.TrafficCredentials != after.TrafficCredentials,
	}
}
