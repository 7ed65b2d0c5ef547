package standin

import (
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/beevik/etree"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab/standin/config"
	"mellowgate/internal/wire/netconf"
)

// yangXML is the media type of YANG data as XML, RFC 8040 section 11.3.1.
const yangXML = "application/yang-data+xml"

// restconfCalls adds RESTCONF (RFC 8040) to the calls of the API. Each request logs in by
// itself, by Basic authentication (RFC 7617), and is authorized as a command.
func (d *Device) restconfCalls(calls *http.ServeMux) {
	calls.HandleFunc("GET /.well-known/host-meta", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/xrd+xml")
		_, _ = io.WriteString(w, `<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="restconf" `+
			`href="/restconf"/></XRD>`)
	})
	calls.HandleFunc("GET /restconf/yang-library-version",
		d.restconf(func(w http.ResponseWriter, _ *http.Request, _ manager) {
			x := etree.NewElement("yang-library-version")
			x.CreateAttr("xmlns", "urn:ietf:params:xml:ns:yang:ietf-restconf")
			x.SetText("2016-06-21")
			restconfSay(w, x)
		}))
	calls.HandleFunc("GET /restconf/data/ietf-yang-library:modules-state",
		d.restconf(func(w http.ResponseWriter, _ *http.Request, _ manager) { restconfSay(w, d.store.Library()) }))
	calls.HandleFunc("/restconf/data/{resource}", d.restconf(func(w http.ResponseWriter, r *http.Request, m manager) {
		module, top, _ := strings.Cut(r.PathValue("resource"), ":")
		if top != "system" {
			restconfFail(w, config.ErrNothing)
			return
		}
		d.restconfResource(w, r, m, module)
	}))
}

// restconfResource answers a request about the data of a module.
func (d *Device) restconfResource(w http.ResponseWriter, r *http.Request, m manager, module string) {
	switch r.Method {
	case http.MethodOptions:
		allow := "GET, HEAD, OPTIONS"
		if d.store.MayPut(m) {
			allow += ", PUT"
		}
		w.Header().Set("Allow", allow)
		w.WriteHeader(http.StatusNoContent)
	case http.MethodGet:
		x, tag, err := d.store.Resource(m, module)
		if err != nil {
			restconfFail(w, err)
			return
		}
		w.Header().Set("ETag", tag)
		restconfSay(w, x)
	case http.MethodPut:
		doc := etree.NewDocument()
		if _, err := doc.ReadFrom(r.Body); err != nil || doc.Root() == nil {
			restconfFail(w, &netconf.Error{Type: "protocol", Tag: "malformed-message", Message: "the body is no XML"})
			return
		}
		if err := d.store.Put(m, module, doc.Root(), r.Header.Get("If-Match")); err != nil {
			restconfFail(w, err)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	default:
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
}

// restconf logs in who asks, does what is asked, and logs out.
func (d *Device) restconf(do func(http.ResponseWriter, *http.Request, manager)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		name, password, given := r.BasicAuth()
		token := ""
		var s *pageSession
		var err error
		if given {
			token, s, err = d.beginPage(r, site.API, name, password)
		}
		switch {
		case errors.Is(err, errNoLine):
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		case token == "":
			w.Header().Set("WWW-Authenticate", `Basic realm="restconf"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		defer d.endPage(token)
		do(w, r, manager{s.visitor})
	}
}

func restconfSay(w http.ResponseWriter, x *etree.Element) {
	w.Header().Set("Content-Type", yangXML)
	_, _ = w.Write(netconf.Bytes(x))
}

// restconfFail answers with an error, RFC 8040 section 7.1.
func restconfFail(w http.ResponseWriter, err error) {
	code := http.StatusBadRequest
	said := &netconf.Error{Type: "application", Tag: "operation-failed", Message: err.Error()}
	switch failed := new(netconf.Error); {
	case errors.Is(err, config.ErrNothing):
		code, said.Tag = http.StatusNotFound, "invalid-value"
	case errors.Is(err, config.ErrChanged):
		code, said.Tag = http.StatusPreconditionFailed, "operation-failed"
	case errors.As(err, &failed):
		if said = failed; said.Tag == "access-denied" {
			code = http.StatusForbidden
		}
	}
	x := etree.NewElement("errors")
	x.CreateAttr("xmlns", "urn:ietf:params:xml:ns:yang:ietf-restconf")
	e := x.CreateElement("error")
	e.CreateElement("error-type").SetText(said.Type)
	e.CreateElement("error-tag").SetText(said.Tag)
	e.CreateElement("error-message").SetText(said.Message)
	w.Header().Set("Content-Type", yangXML)
	w.WriteHeader(code)
	_, _ = w.Write(netconf.Bytes(x))
}
