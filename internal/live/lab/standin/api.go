package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/site"
)

// apiCalls are the calls of the API. A call that reads or changes something is
// authorized as the command of the shell that does the same.
func (d *Device) apiCalls() http.Handler {
	calls := http.NewServeMux()
	if d.config.Device.Platform.Behaviour.RESTCONF {
		d.restconfCalls(calls)
	}
	calls.HandleFunc("POST /api/login", d.apiLogin)
	calls.HandleFunc("POST /api/leave", d.apiLeave)
	for path, c := range map[string]struct {
		command string
		gives   func(s *pageSession) any
	}{
		"/api/session":  {"look session", func(s *pageSession) any { return s.described() }},
		"/api/sessions": {"look sessions", func(*pageSession) any { return map[string]any{"sessions": d.Sessions()} }},
		"/api/servers":  {"look servers", func(*pageSession) any { return map[string]any{"servers": d.Servers()} }},
		"/api/counters": {"look counters", func(*pageSession) any { return map[string]any{"counters": d.Counts()} }},
		"/api/settings": {"look settings", func(*pageSession) any { return d.settings() }},
		"/api/trace":    {"look trace", func(*pageSession) any { return map[string]any{"trace": nonNil(d.Notes())} }},
		"/api/log":      {"look log", func(*pageSession) any { return map[string]any{"log": nonNil(d.Log())} }},
	} {
		calls.HandleFunc("GET "+path, func(w http.ResponseWriter, r *http.Request) {
			d.apiDo(w, r, c.command, c.gives)
		})
	}
	calls.HandleFunc("PUT /api/ports/{port}", func(w http.ResponseWriter, r *http.Request) {
		var body struct {
			On *bool `json:"on"`
		}
		port, err := strconv.Atoi(r.PathValue("port"))
		if err != nil || !readJSON(w, r, &body) || body.On == nil {
			if err != nil || body.On == nil {
				apiError(w, http.StatusBadRequest, `write {"on": true} or {"on": false} to /api/ports/1 to 4`)
			}
			return
		}
		d.apiDo(w, r, fmt.Sprintf("set port %d %s", port, map[bool]string{true: "on", false: "off"}[*body.On]),
			func(*pageSession) any { return d.settings() })
	})
	calls.HandleFunc("PUT /api/trace/{kind}", func(w http.ResponseWriter, r *http.Request) {
		var body struct {
			On bool `json:"on"`
		}
		if readJSON(w, r, &body) {
			d.apiDo(w, r, fmt.Sprintf("trace %s %s", r.PathValue("kind"),
				map[bool]string{true: "on", false: "off"}[body.On]),
				func(*pageSession) any { return map[string]any{} })
		}
	})
	calls.HandleFunc("POST /api/command", func(w http.ResponseWriter, r *http.Request) {
		var body struct {
			Command string `json:"command"`
		}
		if readJSON(w, r, &body) {
			d.apiDo(w, r, body.Command, nil)
		}
	})
	calls.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		apiError(w, http.StatusNotFound,
			"there is no such call; there are POST /api/login, GET /api/session, /api/sessions, /api/servers, "+
				"/api/counters, /api/settings, /api/trace, /api/log, PUT /api/ports/N, PUT /api/trace/KIND, POST "+
				"/api/command and POST /api/leave")
	})
	return calls
}

func nonNil[T any](values []T) []T {
	if values == nil {
		return []T{}
	}
	return values
}

// described is a session for its owner.
func (s *pageSession) described() any {
	v := s.visitor
	return map[string]any{"person": v.person, "level": v.level, "by": v.entry.By, "line": v.line,
		"since":     v.entered.UTC(),
		"read_only": s.readsOnly()}
}

func (d *Device) settings() any {
	d.mu.Lock()
	defer d.mu.Unlock()
	ports := map[string]bool{}
	for n, on := range d.board.Ports {
		ports[strconv.Itoa(n)] = on
	}
	return map[string]any{"banner": d.board.Banner, "ports": ports, "saved": d.board.Saved}
}

func apiSay(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func apiError(w http.ResponseWriter, status int, text string) {
	apiSay(w, status, map[string]string{"error": text})
}

// readJSON reads a body. It is false, and the error is sent, when it is none.
func readJSON(w http.ResponseWriter, r *http.Request, into any) bool {
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || kind != "application/json" {
		apiError(w, http.StatusUnsupportedMediaType, "a body of the type application/json is wanted")
		return false
	}
	if err := json.NewDecoder(r.Body).Decode(into); err != nil {
		apiError(w, http.StatusBadRequest, "the body is not the JSON that this call wants")
		return false
	}
	return true
}

func (d *Device) apiLogin(w http.ResponseWriter, r *http.Request) {
	var body struct{ Name, Password string }
	if !readJSON(w, r, &body) {
		return
	}
	token, s, err := d.beginPage(r, site.API, body.Name, body.Password)
	switch {
	case errors.Is(err, errNoLine):
		apiError(w, http.StatusServiceUnavailable, err.Error())
	case token == "":
		apiError(w, http.StatusForbidden, "refused")
	default:
		setSession(w, token)
		apiSay(w, http.StatusOK,
			map[string]any{"token": token, "level": s.visitor.entry.Level, "idle_seconds": int(pageIdle / time.Second)})
	}
}

// apiToken returns the token of a call: a bearer's, or that of the cookie.
func apiToken(r *http.Request) string {
	if token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); bearer {
		return token
	}
	if cookie, err := r.Cookie(sessionCookie); err == nil && sameOrigin(r) {
		return cookie.Value
	}
	return ""
}

// apiDo runs a command and gives what the call gives; without gives, what the
// command printed.
func (d *Device) apiDo(w http.ResponseWriter, r *http.Request, command string, gives func(*pageSession) any) {
	s := d.page(apiToken(r), site.API)
	if s == nil {
		w.Header().Set("WWW-Authenticate", "Bearer")
		apiError(w, http.StatusUnauthorized, "log in first: POST /api/login")
		return
	}
	defer s.mu.Unlock()
	done, output := false, "refused: at your level this API is for reading"
	if s.mayRun(command) {
		done, output = s.run(command)
	}
	switch {
	case gives == nil:
		result := "allowed"
		if strings.HasPrefix(output, "refused: ") {
			result = "refused"
		}
		apiSay(w, http.StatusOK, map[string]any{"command": command, "result": result,
			"output": strings.TrimSpace(output)})
	case !done && strings.HasPrefix(output, "refused: "):
		apiError(w, http.StatusForbidden, strings.TrimSpace(output))
	case !done:
		apiError(w, http.StatusBadRequest, strings.TrimSpace(output))
	default:
		apiSay(w, http.StatusOK, gives(s))
	}
}

func (d *Device) apiLeave(w http.ResponseWriter, r *http.Request) {
	token := apiToken(r)
	s := d.page(token, site.API)
	if s == nil {
		apiError(w, http.StatusUnauthorized, "there is no such session")
		return
	}
	s.mu.Unlock()
	d.endPage(token)
	apiSay(w, http.StatusOK, map[string]any{})
}
