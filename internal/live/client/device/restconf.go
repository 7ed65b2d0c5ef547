package device

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/beevik/etree"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

// restconf manages a device over RESTCONF (RFC 8040): the same models as NETCONF, in
// single requests. There is no lock, no candidate and no way back: a change is one PUT of
// the whole of a model, made from what is there and refused when somebody changed it
// meanwhile (If-Match, section 3.5.2).
//
// One goroutine at a time uses it; End closes it.
type restconf struct {
	ctx    context.Context
	target Target
	http   *http.Client
	root   string // such as /restconf
	models *Models
	tags   map[string]string // the entity tag of what was read last, by resource
}

// yangXML is the media type of YANG data as XML, RFC 8040 section 11.3.1.
const yangXML = "application/yang-data+xml"

// mostAnswer bounds an answer.
const mostAnswer = 32 << 20

// openRESTCONF finds the root of a device's RESTCONF, as whoever manages it.
func openRESTCONF(ctx context.Context, t Target) (*restconf, error) {
	config := &tls.Config{RootCAs: t.Trusted, ServerName: t.ServerName, MinVersion: tls.VersionTLS12}
	if host, _, err := net.SplitHostPort(t.Address); t.ServerName == "" && err == nil {
		config.ServerName = host
	}
	r := &restconf{ctx: ctx, target: t, root: "/restconf", tags: map[string]string{},
		http: &http.Client{Timeout: t.Timeout,
			Transport: &http.Transport{TLSClientConfig: config,
				DialContext: (&net.Dialer{Timeout: t.Timeout}).DialContext},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	text, _, err := r.do(http.MethodGet, "/.well-known/host-meta", "application/xrd+xml", nil, "")
	switch {
	case errors.Is(err, errNotThere): // the usual root then
	case err != nil:
		r.End()
		return nil, err
	default: // RFC 8040, section 3.1
		for _, link := range text.FindElements("//Link") {
			if link.SelectAttrValue("rel", "") == "restconf" {
				r.root = strings.TrimSuffix(link.SelectAttrValue("href", r.root), "/")
			}
		}
	}
	// The first resource that needs a login.
	if _, _, err := r.do(http.MethodGet, r.root+"/yang-library-version", yangXML, nil, ""); err != nil &&
		!errors.Is(err, errNotThere) {
		r.End()
		return nil, err
	}
	return r, nil
}

// errNotThere is a resource that a device does not have.
var errNotThere = errors.New("the device has no such resource")

// errChanged is a resource that somebody changed since it was read.
var errChanged = errors.New("somebody changed it since it was read")

// do makes one request, as whoever is let in: the person first. The body of the answer is
// XML, or nothing.
func (r *restconf) do(method, path, accept string, body []byte, match string) (x *etree.Element, head http.Header,
	err error) {
	for _, who := range append([]Identity{{Person: r.target.Person, Password: r.target.Password}}, r.target.Others...) {
		if x, head, err = r.as(who, method, path, accept, body, match); !errors.Is(err, ErrRefused) {
			break
		}
	}
	return x, head, err
}

// as makes one request as somebody.
func (r *restconf) as(who Identity, method, path, accept string, body []byte, match string) (*etree.Element,
	http.Header,
	error) {
	request, err := http.NewRequestWithContext(r.ctx, method, "https://"+r.target.Address+path, bytes.NewReader(body))
	if err != nil {
		return nil, nil, err
	}
	request.SetBasicAuth(who.Person, who.Password.Reveal())
	request.Header.Set("Accept", accept)
	if body != nil {
		request.Header.Set("Content-Type", yangXML)
	}
	if match != "" {
		request.Header.Set("If-Match", match)
	}
	answer, err := r.http.Do(request)
	if err != nil {
		return nil, nil, fmt.Errorf("%s cannot be reached: %w", r.target.Address, err)
	}
	defer func() { _ = answer.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostAnswer))
	if err != nil {
		return nil, nil, fmt.Errorf("%s: the answer ended early: %w", r.target.Address, err)
	}
	doc := etree.NewDocument()
	readable := doc.ReadFromBytes(text) == nil && doc.Root() != nil
	switch code := answer.StatusCode; {
	case code == http.StatusUnauthorized:
		return nil, nil, ErrRefused
	case code == http.StatusNotFound:
		return nil, nil, errNotThere
	case code == http.StatusPreconditionFailed:
		return nil, nil, errChanged
	case code >= 300:
		return nil, nil, fmt.Errorf("%s %s: %w", method, path, saidBy(doc, code))
	case !readable:
		return nil, answer.Header, nil
	}
	return doc.Root(), answer.Header, nil
}

// saidBy returns what a device says of an error, RFC 8040 section 7.1.
func saidBy(doc *etree.Document, code int) error {
	first := doc.FindElement("//errors/error")
	if first == nil {
		return fmt.Errorf("the device answers with %d %s", code, http.StatusText(code))
	}
	said := &netconf.Error{Type: "application"}
	for _, c := range first.ChildElements() {
		switch c.Tag {
		case "error-tag":
			said.Tag = c.Text()
		case "error-message":
			said.Message = c.Text()
		case "error-path":
			said.Path = c.Text()
		}
	}
	return said
}

// Has reports whether the device can do something: what is written runs at once, and
// nothing else.
func (r *restconf) Has(capability string) bool { return capability == netconf.WritableRunning }

// Models tells what the device's YANG library has. It asks once.
func (r *restconf) Models() Models {
	if r.models != nil {
		return *r.models
	}
	announced, failed := map[string]netconf.Module{}, error(nil)
	for _, library := range []string{"modules-state", "yang-library"} {
		x, _, err := r.do(http.MethodGet, r.root+"/data/ietf-yang-library:"+library, yangXML, nil, "")
		if err != nil {
			failed = err
			continue
		}
		netconf.Library(x, announced)
	}
	m := ModelsOf(announced)
	if len(announced) == 0 && failed != nil {
		m.Notes = append(m.Notes, fmt.Sprintf("its YANG library cannot be read: %v", failed))
	}
	r.models = &m
	return m
}

// resource is the path of the data of a model.
func (r *restconf) resource(m yang.Model) string {
	name := m.Module().Name
	return r.root + "/data/" + name + ":" + rootName
}

// roots are the models that have data of their own: one that adds to another is read and
// written with it.
func (r *restconf) roots() (models []yang.Model) {
	for _, m := range yang.InOrder {
		if r.Models().Has(m) {
			models = append(models, m)
		}
	}
	return models
}

// Read reads what runs.
func (r *restconf) Read(string) (Held, error) {
	h := Held{Models: r.Models(), Facts: drift.Facts{}}
	if len(r.roots()) == 0 {
		return h, ErrNoModel
	}
	data := etree.NewElement("data")
	for _, m := range r.roots() {
		path := r.resource(m)
		x, head, err := r.do(http.MethodGet, path+"?content=config", yangXML, nil, "")
		switch {
		case errors.Is(err, errNotThere): // nothing is configured
			r.tags[path] = ""
			continue
		case err != nil:
			return h, fmt.Errorf("its configuration cannot be read: %w", deviceRefuses(err, h.Models))
		case x == nil:
			continue
		}
		r.tags[path] = head.Get("ETag")
		data.AddChild(x.Copy())
	}
	h.Data = netconf.Bytes(data.Copy())
	var err error
	h.Facts, err = factsOf(data)
	return h, err
}

// Lock looks whether the configuration may be changed: there is no lock to take.
func (r *restconf) Lock(string) error {
	for _, m := range r.roots() {
		_, head, err := r.do(http.MethodOptions, r.resource(m), yangXML, nil, "")
		switch {
		case err != nil && !errors.Is(err, errNotThere):
			return err
		case err == nil && !strings.Contains(head.Get("Allow"), http.MethodPut):
			return &netconf.Error{Type: "protocol", Tag: "access-denied",
				Message: "the device lets this person read, and not change"}
		}
	}
	return nil
}

// Unlock has nothing to do, and so have Discard and Validate.
func (r *restconf) Unlock(string) error { return nil }
func (r *restconf) Discard() error      { return nil }
func (r *restconf) Validate() error     { return nil }

// CommitConfirmed is never called: RESTCONF does not have it, and Has says so.
func (r *restconf) CommitConfirmed(time.Duration, string) error { return errNotThere }
func (r *restconf) Commit(string) error                         { return errNotThere }
func (r *restconf) Cancel(string) error                         { return errNotThere }

// Warned returns nothing: RESTCONF has no warnings.
func (r *restconf) Warned() []string { return nil }

// Edit makes an edit of what runs.
func (r *restconf) Edit(store string, config *etree.Element) error {
	return r.EditTogether(store, []*etree.Element{config})
}

// EditTogether makes edits of what runs, together: each model is put there once, as all of
// them leave it.
func (r *restconf) EditTogether(_ string, edits []*etree.Element) error {
	for _, m := range r.roots() {
		path, namespace := r.resource(m), m.Module().Namespace
		x, head, err := r.do(http.MethodGet, path+"?content=config", yangXML, nil, "")
		if err != nil && !errors.Is(err, errNotThere) {
			return err
		}
		fresh := etree.NewElement("config")
		match := ""
		if x != nil {
			fresh.AddChild(x.Copy())
			match = head.Get("ETag")
		}
		touched := false
		for _, e := range edits {
			part := etree.NewElement("config")
			for _, c := range e.ChildElements() {
				if c.NamespaceURI() == namespace {
					part.AddChild(c.Copy())
					touched = true
				}
			}
			if err := netconf.Edit(fresh, part, "merge", yang.Shape{}); err != nil {
				return err
			}
		}
		if !touched || len(fresh.ChildElements()) == 0 {
			continue
		}
		if _, _, err := r.do(http.MethodPut, path, yangXML, netconf.Bytes(fresh.ChildElements()[0].Copy()),
			match); err != nil {
			return deviceRefuses(err, r.Models())
		}
	}
	return nil
}

// End closes the connections.
func (r *restconf) End() { r.http.CloseIdleConnections() }
