package standin

import (
	"embed"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strconv"
	"strings"

	"mellowgate/internal/core/site"
)

//go:embed pages/*.html
var pageFiles embed.FS

var pageTemplates = template.Must(template.New("").Funcs(template.FuncMap{"printed": printed}).ParseFS(pageFiles,
	"pages/*.html"))

// webView is what the page of a session shows.
type webView struct {
	Device, Person, By, Line, Form string
	Level                          int
	ReadsOnly                      bool
	Servers                        []Health
	Sessions                       []Session
	Refusals                       []string // parts of the page that this person may not see
	Ports                          []portView
	Banner                         string
	Command, Output                string
	Done                           bool
}

type portView struct {
	Number int
	On     bool
}

func (d *Device) webPages() http.Handler {
	pages := http.NewServeMux()
	pages.HandleFunc("GET /{$}", d.webHome)
	pages.HandleFunc("POST /login", d.webLogin)
	pages.HandleFunc("POST /command", d.webCommand)
	pages.HandleFunc("POST /leave", d.webLeave)
	return pages
}

func (d *Device) webSession(r *http.Request) (*pageSession, string) {
	cookie, err := r.Cookie(sessionCookie)
	if err != nil {
		return nil, ""
	}
	return d.page(cookie.Value, site.Web), cookie.Value
}

func show(w http.ResponseWriter, status int, name string, view any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = pageTemplates.ExecuteTemplate(w, name, view)
}

type loginView struct{ Device, Banner, Said string }

func (d *Device) askToLogIn(w http.ResponseWriter, status int, said string) {
	d.mu.Lock()
	banner := d.board.Banner
	d.mu.Unlock()
	show(w, status, "login.html", loginView{Device: d.design().Name, Banner: banner, Said: said})
}

func (d *Device) webHome(w http.ResponseWriter, r *http.Request) {
	s, _ := d.webSession(r)
	if s == nil {
		d.askToLogIn(w, http.StatusOK, "")
		return
	}
	defer s.mu.Unlock()
	show(w, http.StatusOK, "home.html", d.webView(s))
}

// webView makes the page of a session: what the person may look at.
func (d *Device) webView(s *pageSession) *webView {
	v := &webView{Device: d.design().Name, Person: s.visitor.person, By: s.visitor.entry.By, Line: s.visitor.line,
		Form:  s.form,
		Level: s.visitor.level, ReadsOnly: s.readsOnly()}
	may := func(command string) bool {
		done, output := s.run(command)
		if !done {
			v.Refusals = append(v.Refusals, command+": "+strings.TrimSpace(output))
		}
		return done
	}
	if may("look servers") {
		v.Servers = d.Servers()
	}
	if may("look sessions") {
		v.Sessions = d.Sessions()
	}
	if may("look settings") {
		d.mu.Lock()
		defer d.mu.Unlock()
		v.Banner = d.board.Banner
		for n := 1; n <= len(d.board.Ports); n++ {
			v.Ports = append(v.Ports, portView{Number: n, On: d.board.Ports[n]})
		}
	}
	return v
}

func (d *Device) webLogin(w http.ResponseWriter, r *http.Request) {
	if !sameOrigin(r) || r.ParseForm() != nil {
		d.askToLogIn(w, http.StatusBadRequest, "this is no login from this page; try again")
		return
	}
	token, _, err := d.beginPage(r, site.Web, r.PostForm.Get("name"), r.PostForm.Get("password"))
	switch {
	case errors.Is(err, errNoLine):
		d.askToLogIn(w, http.StatusServiceUnavailable, err.Error())
	case token == "":
		d.askToLogIn(w, http.StatusForbidden, "refused")
	default:
		setSession(w, token)
		http.Redirect(w, r, "/", http.StatusSeeOther)
	}
}

func setSession(w http.ResponseWriter, token string) {
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Value: token, Path: "/", Secure: true, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, MaxAge: int(pageIdle.Seconds())})
}

// sameOrigin refuses a form that another site's page sends.
func sameOrigin(r *http.Request) bool {
	origin := r.Header.Get("Origin")
	return origin == "" || origin == "https://"+r.Host
}

// webCommand runs a command from a form of our own page.
func (d *Device) webCommand(w http.ResponseWriter, r *http.Request) {
	s, _ := d.webSession(r)
	if s == nil {
		d.askToLogIn(w, http.StatusForbidden, "the session has ended; log in again")
		return
	}
	defer s.mu.Unlock()
	if !sameOrigin(r) || r.ParseForm() != nil || r.PostForm.Get("form") != s.form {
		http.Error(w, "this form did not come from this device's own page", http.StatusForbidden)
		return
	}
	line := r.PostForm.Get("command")
	if port := r.PostForm.Get("port"); port != "" {
		n, err := strconv.Atoi(port)
		if err != nil {
			http.Error(w, "a port is a number", http.StatusBadRequest)
			return
		}
		line = fmt.Sprintf("set port %d %s", n, map[bool]string{true: "on", false: "off"}[r.PostForm.Get("to") == "on"])
	}
	done, output := false, "refused: at your level this page is for reading"
	if s.mayRun(line) {
		done, output = s.run(line)
	}
	view := d.webView(s)
	view.Command = line
	view.Output = strings.TrimSpace(output)
	view.Done = done
	show(w, http.StatusOK, "home.html", view)
}

func (d *Device) webLeave(w http.ResponseWriter, r *http.Request) {
	s, token := d.webSession(r)
	if s == nil || !sameOrigin(r) || r.ParseForm() != nil || r.PostForm.Get("form") != s.form {
		if s != nil {
			s.mu.Unlock()
		}
		d.askToLogIn(w, http.StatusForbidden, "")
		return
	}
	s.mu.Unlock()
	d.endPage(token)
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Path: "/", Secure: true, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, MaxAge: -1})
	http.Redirect(w, r, "/", http.StatusSeeOther)
}
