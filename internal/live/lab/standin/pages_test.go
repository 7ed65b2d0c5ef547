package standin

import (
	"crypto/tls"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
)

// browser is an HTTPS client with cookies of its own.
func (r *rig) browser() *http.Client {
	jar, err := cookiejar.New(nil)
	require.NoError(r, err)
	c := &http.Client{Jar: jar, Timeout: 20 * time.Second,
		Transport: &http.Transport{DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{RootCAs: r.trusted, ServerName: "sw"}}}
	return c
}

// send makes a request and gives status and text.
func (r *rig) send(c *http.Client, method, where, body string, headers ...string) (int, string) {
	request, err := http.NewRequest(method, "https://"+where, strings.NewReader(body))
	require.NoError(r, err)
	for i := 0; i < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := c.Do(request)
	require.NoError(r, err)
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(response.Body)
	require.NoError(r, err)
	require.Contains(r, response.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")
	return response.StatusCode, string(text)
}

const formType = "application/x-www-form-urlencoded"

func (r *rig) post(c *http.Client, path string, form url.Values, headers ...string) (int, string) {
	return r.send(c, "POST", r.web+path, form.Encode(), append([]string{"Content-Type", formType}, headers...)...)
}

var formToken = regexp.MustCompile(`name="form" value="([0-9a-f]+)"`)

func TestThePagesLetInAndShowWhatTheLevelAllows(t *testing.T) {
	t.Parallel()
	r := start(t)
	c := r.browser()
	status, page := r.send(c, "GET", r.web+"/", "")
	require.Equal(t, 200, status)
	require.Contains(t, page, "Log in")
	status, page = r.post(c, "/login", url.Values{"name": {"keeper"}, "password": {"wrong"}})
	require.Equal(t, 403, status)
	require.Contains(t, page, "refused")
	status, page = r.post(c, "/login", url.Values{"name": {`<script>alert(1)</script>`}, "password": {"right"}})
	require.Equal(t, 403, status)
	require.NotContains(t, page, "<script>")

	status, page = r.post(c, "/login", url.Values{"name": {"keeper"}, "password": {"right"}})
	require.Equal(t, 200, status)
	require.Contains(t, page, `content="15"`)
	require.Contains(t, page, "let in by <b>local</b>")
	form := formToken.FindStringSubmatch(page)[1]
	_, page = r.post(c, "/command", url.Values{"form": {form}, "port": {"3"}, "to": {"off"}})
	require.Contains(t, page, "set port 3 off")
	require.False(t, r.device.board.Ports[3])
	_, page = r.post(c, "/command", url.Values{"form": {form}, "command": {"look sessions"}})
	require.Contains(t, page, "line web0")

	// What does not come from the page itself does nothing.
	for name, try := range map[string]func() (int, string){
		"no token": func() (int, string) { return r.post(c, "/command", url.Values{"command": {"set port 1 off"}}) },
		"a wrong token": func() (int, string) {
			return r.post(c, "/command", url.Values{"form": {"0123"}, "command": {"set port 1 off"}})
		},
		"another origin": func() (int, string) {
			return r.post(c, "/command", url.Values{"form": {form}, "command": {"set port 1 off"}}, "Origin",
				"https://elsewhere.example")
		},
		"a forged cookie": func() (int, string) {
			return r.post(r.browser(), "/command", url.Values{"form": {form}, "command": {"set port 1 off"}}, "Cookie",
				sessionCookie+"="+strings.Repeat("0", 48))
		},
		"a body without end": func() (int, string) {
			return r.post(c, "/command", url.Values{"form": {form}, "command": {strings.Repeat("x", mostBody)}})
		},
		"a login from abroad": func() (int, string) {
			return r.post(r.browser(), "/login", url.Values{"name": {"keeper"}, "password": {"right"}}, "Origin",
				"null")
		},
	} {
		status, _ := try()
		require.GreaterOrEqual(t, status, 400, name)
	}
	require.True(t, r.device.board.Ports[1])

	reader := r.browser()
	status, page = r.post(reader, "/login", url.Values{"name": {"guest"}, "password": {"right"}})
	require.Equal(t, 200, status, "the platform lets people below the level read")
	require.Contains(t, page, "At this level the page is for reading")
	require.NotContains(t, page, "Switch o")
	_, page = r.post(reader, "/command", url.Values{"form": {formToken.FindStringSubmatch(page)[1]},
		"command": {"save"}})
	require.Contains(t, page, "refused: at your level this page is for reading")

	status, _ = r.post(c, "/leave", url.Values{"form": {form}})
	require.Equal(t, 200, status)
	require.Equal(t, evidence.TraceGoodbye, r.last().Kind)
	status, _ = r.post(c, "/command", url.Values{"form": {form}, "command": {"save"}})
	require.Equal(t, 403, status, "the session has ended")
}

func TestTheAPIIsAuthorizedLikeTheCommands(t *testing.T) {
	t.Parallel()
	r := start(t)
	c := r.browser()
	call := func(method, path, body, token string) (int, map[string]any) {
		headers := []string{"Content-Type", "application/json"}
		if token != "" {
			headers = append(headers, "Authorization", "Bearer "+token)
		}
		status, text := r.send(c, method, r.api+path, body, headers...)
		var got map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &got), text)
		return status, got
	}
	in := func(name string) string {
		status, got := call("POST", "/api/login", `{"name": "`+name+`", "password": "right"}`, "")
		require.Equal(t, 200, status)
		return got["token"].(string)
	}
	status, got := call("POST", "/api/login", `{"name": "keeper", "password": "wrong"}`, "")
	require.Equal(t, []any{403, "refused"}, []any{status, got["error"]})
	for body, want := range map[string]int{"no JSON": 400, `{"name": 3}`: 400, "": 400} {
		status, _ = call("POST", "/api/login", body, "")
		require.Equal(t, want, status, body)
	}
	status, _ = r.send(c, "POST", r.api+"/api/login", `{}`, "Content-Type", "text/plain")
	require.Equal(t, 415, status)
	status, _ = call("GET", "/api/session", "", strings.Repeat("0", 48))
	require.Equal(t, 401, status)

	guest := in("guest")
	c = r.browser() // without the cookie of that login
	status, got = call("GET", "/api/session", "", guest)
	require.Equal(t, []any{200, 1.0, true}, []any{status, got["level"], got["read_only"]})
	status, _ = call("PUT", "/api/ports/3", `{"on": false}`, guest)
	require.Equal(t, 403, status)

	keeper := in("keeper")
	for path, field := range map[string]string{"/api/servers": "servers", "/api/sessions": "sessions",
		"/api/counters": "counters", "/api/settings": "ports", "/api/log": "log", "/api/trace": "trace"} {
		status, got = call("GET", path, "", keeper)
		require.Equal(t, 200, status, path)
		require.Contains(t, got, field)
	}
	status, got = call("PUT", "/api/ports/3", `{"on": false}`, keeper)
	require.Equal(t, []any{200, false}, []any{status, got["ports"].(map[string]any)["3"]})
	status, _ = call("PUT", "/api/ports/9", `{"on": false}`, keeper)
	require.Equal(t, 400, status)
	status, _ = call("PUT", "/api/ports/3", `{}`, keeper)
	require.Equal(t, 400, status)
	status, _ = call("PUT", "/api/trace/authentication", `{"on": true}`, keeper)
	require.Equal(t, 200, status)
	in("guest")
	_, got = call("GET", "/api/trace", "", keeper)
	require.Contains(t, got["trace"].([]any)[0].(map[string]any)["text"], "guest, login: local accepted")
	_, got = call("POST", "/api/command", `{"command": "look session"}`, keeper)
	require.Equal(t, "allowed", got["result"])
	status, got = call("GET", "/api/nothing", "", keeper)
	require.Equal(t, 404, status)
	require.Contains(t, got["error"], "POST /api/login")
	status, _ = call("POST", "/api/leave", "{}", keeper)
	require.Equal(t, 200, status)
	status, _ = call("GET", "/api/session", "", keeper)
	require.Equal(t, 401, status)
}

// talkTelnet reads until a text comes, and returns everything so far.
func talkTelnet(t *testing.T, conn net.Conn, until string) string {
	var text strings.Builder
	b := make([]byte, 1024)
	for !strings.Contains(text.String(), until) {
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(10*time.Second)))
		n, err := conn.Read(b)
		text.Write(b[:n])
		require.NoError(t, err, "waiting for %q after %q", until, text.String())
	}
	return text.String()
}

func TestTelnetAsRFC854(t *testing.T) {
	t.Parallel()
	r := start(t)
	conn, err := net.Dial("tcp", r.telnet)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	say := func(b string) { _, err := conn.Write([]byte(b)); require.NoError(t, err) }
	require.Contains(t, talkTelnet(t, conn, "name: "), "\xff\xfb\x01\xff\xfb\x03", "the device offers to echo")
	// do echo; do something else; will type; a subnegotiation
	say("\xff\xfd\x01\xff\xfd\x2a\xff\xfb\x18\xff\xfa\x18\x00any\xff\xf0")
	say("keepex\x7fr\r\x00")
	shown := talkTelnet(t, conn, "password: ")
	require.Contains(t, shown, "\xff\xfc\x2a", "what is not known is refused")
	require.Contains(t, shown, "\xff\xfe\x18")
	require.Contains(t, shown, "keepex\b \br\r\n")
	say("right\r\n")
	shown = talkTelnet(t, conn, "[sw level 15] ")
	require.NotContains(t, shown, "right", "a password is not echoed")
	say("look\x1b[2J session\n")
	require.Contains(t, talkTelnet(t, conn, "[sw level 15] "), "unknown command", "control characters are not typed")
	say("look session\r\n")
	require.Contains(t, talkTelnet(t, conn, "[sw level 15] "), "way in   telnet, line telnet0\r\n")
	say("set banner \xff\xff\r\n")
	talkTelnet(t, conn, "[sw level 15] ")
	say(strings.Repeat("x", 1<<20))
	for err = nil; err == nil; { // a line without an end ends the session
		_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		_, err = conn.Read(make([]byte, 4096))
	}

	// clients that hang up at each step
	for _, half := range []string{"", "\xff", "\xff\xfa", "keeper\r\n", "keeper\r\nwro", "\xff\xfb"} {
		c, err := net.Dial("tcp", r.telnet)
		require.NoError(t, err)
		_, _ = c.Write([]byte(half))
		_ = c.Close()
	}
	c, err := net.Dial("tcp", r.telnet)
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	talkTelnet(t, c, "name: ")
	for range 2 { // the platform lets two tries
		_, _ = c.Write([]byte("keeper\r\nwrong\r\n"))
		talkTelnet(t, c, "refused\r\n")
	}
	_, err = io.ReadAll(c)
	require.NoError(t, err, "and hangs up")
}

func TestThePasswordMayBeAskedForByKeyboardInteractive(t *testing.T) {
	t.Parallel()
	r := start(t)
	dial := func(password string) error {
		c, err := ssh.Dial("tcp", r.ssh,
			&ssh.ClientConfig{User: "keeper", HostKeyCallback: ssh.FixedHostKey(r.key), Timeout: 10 * time.Second,
				Auth: []ssh.AuthMethod{ssh.KeyboardInteractive(
					func(_, _ string, questions []string, _ []bool) ([]string, error) {
						return make([]string, len(questions)), nil
					})}})
		if password == "right" {
			c, err = ssh.Dial("tcp", r.ssh,
				&ssh.ClientConfig{User: "keeper", HostKeyCallback: ssh.FixedHostKey(r.key), Timeout: 10 * time.Second,
					Auth: []ssh.AuthMethod{ssh.KeyboardInteractive(
						func(_, _ string, questions []string, _ []bool) ([]string, error) {
							if len(questions) == 1 && questions[0] == "password: " {
								return []string{password}, nil
							}
							return nil, nil
						})}})
		}
		if err == nil {
			_ = c.Close()
		}
		return err
	}
	require.NoError(t, dial("right"))
	require.ErrorContains(t, dial(""), "unable to authenticate")
}

func TestALevelIsRaisedWithASecretWhereTheWayInHasAList(t *testing.T) {
	t.Parallel()
	r := start(t)
	conn, err := net.Dial("tcp", r.console)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	say := func(b string) { _, err := conn.Write([]byte(b)); require.NoError(t, err) }
	say("guest\nright\n")
	talkTelnet(t, conn, "[sw level 1] ")
	say("raise\nwrong\n")
	require.Contains(t, talkTelnet(t, conn, "[sw level 1] "), "refused: no higher level (wrong-secret)")
	say("raise 16\n")
	require.Contains(t, talkTelnet(t, conn, "[sw level 1] "), "write: raise LEVEL, from 1 to 15")
	say("raise\nright\n")
	talkTelnet(t, conn, "[sw level 15] ")
	say("raise\n")
	require.Contains(t, talkTelnet(t, conn, "[sw level 15] "), "you have level 15 already")
	say("trace accounting on\nlook log\n")
	require.Contains(t, talkTelnet(t, conn, "has raised the level"), "guest is in by console, line console0")
	out, err := r.exec("guest", "raise")
	require.Error(t, err)
	require.Contains(t, out, "nobody can be asked for a password here")
}
