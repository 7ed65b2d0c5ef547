package standin

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"log"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"
)

// pages are the sessions of the web pages and of the API, by their token.
type pages struct {
	mu   sync.Mutex
	open map[string]*pageSession
}

// pageSession is one person who has logged in over HTTPS. One request at a time
// acts for it.
type pageSession struct {
	mu      sync.Mutex
	visitor *visitor
	access  string
	line    int
	form    string // what a form must bring back: it came from our own page
	until   time.Time
	ended   bool
}

const (
	mostPageSessions = 64
	pageIdle         = 10 * time.Minute
	mostBody         = 1 << 16
	sessionCookie    = "standin-session"
)

var errNoLine = errors.New("every line of this way in is in use; try again later")

// ServeWeb serves the web pages over HTTPS until Shutdown.
func (d *Device) ServeWeb(listener net.Listener) { d.serveHTTPS(listener, d.webPages()) }

// ServeAPI serves the API over HTTPS until Shutdown.
func (d *Device) ServeAPI(listener net.Listener) { d.serveHTTPS(listener, d.apiCalls()) }

func (d *Device) serveHTTPS(listener net.Listener, handler http.Handler) {
	server := &http.Server{Handler: guarded(handler), ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:  20 * time.Second,
		WriteTimeout: d.design().Platform.Behaviour.LoginWindow + 20*time.Second, IdleTimeout: time.Minute,
		MaxHeaderBytes: 1 << 14,
		ErrorLog:       log.New(quiet{}, "", 0),
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12,
			Certificates: []tls.Certificate{d.config.Certificate}},
		BaseContext: func(net.Listener) context.Context { return d.ctx }}
	ended := make(chan struct{})
	d.closing(func() error {
		err := server.Close()
		<-ended
		return err
	})
	d.running.Go(func() {
		defer close(ended)
		_ = server.ServeTLS(listener, "", "")
	})
	d.running.Go(d.sweep)
}

// quiet drops what the HTTP server says of clients that hang up.
type quiet struct{}

func (quiet) Write(b []byte) (int, error) { return len(b), nil }

// guarded sets what keeps pages from being used by others.
func guarded(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		head := w.Header()
		head.Set("Content-Security-Policy",
			"default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri "+
				"'none'")
		head.Set("X-Content-Type-Options", "nosniff")
		head.Set("X-Frame-Options", "DENY")
		head.Set("Referrer-Policy", "same-origin") // with none, a browser hides where a form comes from
		head.Set("Cache-Control", "no-store")
		head.Set("Strict-Transport-Security", "max-age=3600")
		r.Body = http.MaxBytesReader(w, r.Body, mostBody)
		h.ServeHTTP(w, r)
	})
}

// sweep ends sessions that nobody uses, and all of them in the end.
func (d *Device) sweep() {
	for ticker := time.NewTicker(5 * time.Second); ; {
		select {
		case <-ticker.C:
			d.endPages(func(s *pageSession) bool { return d.config.Now().After(s.until) })
		case <-d.ctx.Done():
			ticker.Stop()
			d.endPages(func(*pageSession) bool { return true })
			return
		}
	}
}

func (d *Device) endPages(which func(*pageSession) bool) {
	d.pages.mu.Lock()
	open := maps.Clone(d.pages.open)
	d.pages.mu.Unlock()
	for token, s := range open {
		s.mu.Lock()
		end := which(s)
		s.mu.Unlock()
		if end {
			d.endPage(token)
		}
	}
}

// beginPage logs a person in and gives the token of the session, "" where the
// person is refused.
func (d *Device) beginPage(r *http.Request, access, person, password string) (token string, s *pageSession, err error) {
	line, way, free := d.takeLine(access)
	if !free {
		return "", nil, errNoLine
	}
	from, _ := netip.ParseAddrPort(r.RemoteAddr)
	v := d.arrive(way, line, from)
	if !v.enter(person, password).In {
		d.freeLine(access, line)
		return "", nil, nil
	}
	s = &pageSession{visitor: v, access: access, line: line, form: randomToken(), until: d.config.Now().Add(pageIdle)}
	token = randomToken()
	d.pages.mu.Lock()
	full := len(d.pages.open) >= mostPageSessions || d.ctx.Err() != nil
	if !full {
		if d.pages.open == nil {
			d.pages.open = map[string]*pageSession{}
		}
		d.pages.open[token] = s
	}
	d.pages.mu.Unlock()
	if full {
		d.freeLine(access, line)
		v.leave()
		return "", nil, errNoLine
	}
	d.joined(v, func() { d.endPage(token) })
	return token, s, nil
}

func randomToken() string {
	var b [24]byte
	_, _ = rand.Read(b[:]) // never fails: crypto/rand ends the process instead
	return hex.EncodeToString(b[:])
}

// page returns the open session of a token, locked; the caller unlocks it. A token
// is compared with every one there is, so that its time tells nothing.
func (d *Device) page(token, access string) *pageSession {
	d.pages.mu.Lock()
	var found *pageSession
	for have, s := range d.pages.open {
		if subtle.ConstantTimeCompare([]byte(have), []byte(token)) == 1 && s.access == access {
			found = s
		}
	}
	d.pages.mu.Unlock()
	if found == nil {
		return nil
	}
	found.mu.Lock()
	now := d.config.Now()
	if found.ended || now.After(found.until) {
		found.mu.Unlock()
		return nil
	}
	found.until = now.Add(pageIdle)
	return found
}

// endPage ends a session.
func (d *Device) endPage(token string) {
	d.pages.mu.Lock()
	s := d.pages.open[token]
	delete(d.pages.open, token)
	d.pages.mu.Unlock()
	if s == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		return
	}
	s.ended = true
	s.visitor.leave()
	d.freeLine(s.access, s.line)
}

// run runs a command of the shell for a session, and returns what it printed.
func (s *pageSession) run(line string) (done bool, output string) {
	var out bytes.Buffer
	done = newShell(s.visitor, &terminal{out: &out}).one(line)
	return done, out.String()
}

// readsOnly reports whether the person is below the level that the way in needs,
// and so may only read.
func (s *pageSession) readsOnly() bool {
	need, _ := s.visitor.device.design().Platform.Behaviour.NeedsLevel(s.access)
	return s.visitor.level < need
}

// mayRun reports whether a session may run a command at all: one who only reads
// may only look.
func (s *pageSession) mayRun(line string) bool {
	return !s.readsOnly() || len(line) >= 4 && line[:4] == "look"
}
