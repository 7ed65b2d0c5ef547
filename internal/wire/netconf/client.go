package netconf

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/beevik/etree"

	"mellowgate/internal/routine"
)

// Client is a client's session on a stream of messages that it is given. Its
// calls are made one after the other. An rpc-error that a device answers is an
// *Error; what else goes wrong is that of the stream, and ends the session.
type Client struct {
	Capabilities []string // what the device announces, with parameters
	SessionID    string
	Warnings     []*Error // those of the last call

	conn *Conn
	next int
}

// ErrHello is a device that says no hello that RFC 6241, section 8.1, takes.
var ErrHello = errors.New("the device says no hello of NETCONF")

// ErrEnded is a connection that ends, or is given up, before an answer.
var ErrEnded = errors.New("the connection ended without an answer")

// Open exchanges hellos and chooses the framing.
func Open(conn *Conn) (*Client, error) {
	if err := conn.Write(Hello([]string{Base10, Base11}, 0)); err != nil {
		return nil, err
	}
	message, err := conn.Read()
	if err != nil {
		return nil, err
	}
	c := &Client{conn: conn}
	if c.Capabilities, c.SessionID, err = ReadHello(message); err != nil {
		return nil, err
	}
	switch {
	case c.SessionID == "" || !c.Has(Base10) && !c.Has(Base11):
		return nil, ErrHello
	case c.Has(Base11):
		conn.Chunked()
	}
	return c, nil
}

// Has reports whether the device announces a capability, with any parameters.
func (c *Client) Has(capability string) bool {
	return slices.ContainsFunc(c.Capabilities, func(have string) bool {
		name, _, _ := strings.Cut(have, "?")
		return name == capability
	})
}

// Module is a YANG module that a device announces.
type Module struct {
	Revision string // "" where none is said
	// Features are those that the device has; nil where it says nothing of them.
	Features []string
}

// libraryCapability begins the capability of a device with a YANG library, RFC
// 7950 section 5.6.4.
const libraryCapability = "urn:ietf:params:netconf:capability:yang-library:"

// Modules returns what the device announces, by namespace: in its hello (RFC 6020,
// section 5.6.4), and, where it has one, in its YANG library (RFC 7895 and 8525),
// the only place for modules of YANG 1.1. The error says that the library could
// not be read; the modules of the hello are there all the same.
func (c *Client) Modules() (map[string]Module, error) {
	modules := map[string]Module{}
	library := false
	for _, have := range c.Capabilities {
		name, parameters, said := strings.Cut(have, "?")
		library = library || strings.HasPrefix(name, libraryCapability)
		if !said || !strings.Contains(parameters, "module=") {
			continue
		}
		var m Module
		for p := range strings.SplitSeq(strings.ReplaceAll(parameters, "&amp;", "&"), "&") {
			switch key, value, _ := strings.Cut(p, "="); key {
			case "revision":
				m.Revision = value
			case "features":
				m.Features = strings.Split(value, ",")
			}
		}
		modules[name] = m
	}
	if !library {
		return modules, nil
	}
	return modules, c.library(modules)
}

// LibraryNS is the namespace of the YANG library.
const LibraryNS = "urn:ietf:params:xml:ns:yang:ietf-yang-library"

// library adds what the device's YANG library says it implements.
func (c *Client) library(modules map[string]Module) error {
	x := etree.NewElement("get")
	filter := x.CreateElement("filter")
	filter.CreateAttr("type", "subtree")
	for _, root := range []string{"modules-state", "yang-library"} {
		filter.CreateElement(root).CreateAttr("xmlns", LibraryNS)
	}
	reply, err := c.Call(x)
	if err != nil {
		return err
	}
	for _, data := range reply.SelectElements("data") {
		for _, x := range data.ChildElements() {
			Library(x, modules)
		}
	}
	return nil
}

// Library adds to all, by namespace, the modules that a YANG library says it implements:
// that of RFC 7895 (modules-state) or of RFC 8525 (yang-library). nil is none.
func Library(x *etree.Element, modules map[string]Module) {
	if x == nil {
		return
	}
	for _, m := range append(x.SelectElements("module"), x.FindElements("module-set/module")...) {
		text := func(name string) string {
			if e := m.SelectElement(name); e != nil {
				return strings.TrimSpace(e.Text())
			}
			return ""
		}
		if text("conformance-type") == "import" || text("namespace") == "" {
			continue
		}
		found := Module{Revision: text("revision"), Features: []string{}}
		for _, f := range m.SelectElements("feature") {
			found.Features = append(found.Features, strings.TrimSpace(f.Text()))
		}
		modules[text("namespace")] = found
	}
}

// Call sends one operation and gives the reply.
func (c *Client) Call(operation *etree.Element) (*etree.Element, error) {
	c.next++
	id := strconv.Itoa(c.next)
	asked := time.Now()
	if err := c.conn.Write(question(id, operation)); err != nil {
		return nil, err
	}
	if c.next == 1 {
		defer c.nudgeLater()()
	}
	for {
		message, err := c.conn.Read()
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("%w, %s after the question", ErrEnded, time.Since(asked).Round(100*time.Millisecond))
		}
		if err != nil {
			return nil, err
		}
		reply, err := Parse(message, "rpc-reply")
		if err != nil {
			return nil, err
		}
		got := reply.SelectAttrValue("message-id", id)
		if got == nudge {
			continue
		}
		if got != id {
			return nil, fmt.Errorf("%w: the reply to message %s came for message %s", ErrXML, got, id)
		}
		c.Warnings = Warnings(reply)
		if all := Errors(reply); len(all) > 0 {
			return reply, all[0]
		}
		return reply, nil
	}
}

func question(id string, operation *etree.Element) []byte {
	rpc := etree.NewElement("rpc")
	rpc.CreateAttr("xmlns", Base)
	rpc.CreateAttr("message-id", id)
	rpc.AddChild(operation)
	return Bytes(rpc)
}

// nudge is the message-id of a question that is there to be one more.
const nudge = "nudge"

// nudgeAfter is how long the first answer of a session may take.
const nudgeAfter = time.Second

// nudgeLater asks for nothing, unless it is stopped before. Some devices look
// only at the first message of what they read at once: where the first question
// arrived together with the hello, it lies there until another one comes. No
// other call may be made until it is stopped.
func (c *Client) nudgeLater() (stop func()) {
	written := make(chan struct{})
	timer := routine.AfterFunc(nudgeAfter, func() {
		defer close(written)
		x := target("get-config", "source", "running")
		x.CreateElement("filter").CreateAttr("type", "subtree") // empty: section 6.4.2
		_ = c.conn.Write(question(nudge, x))                    // where it fails, the reader finds out
	})
	return func() {
		if !timer.Stop() {
			<-written
		}
	}
}

// do calls an operation whose reply is ok.
func (c *Client) do(operation *etree.Element) error {
	_, err := c.Call(operation)
	return err
}

// target makes an operation on a datastore.
func target(operation, holder, store string) *etree.Element {
	x := etree.NewElement(operation)
	x.CreateElement(holder).CreateElement(store)
	return x
}

// Lock and Unlock lock a datastore, RFC 6241 sections 7.5 and 7.6.
func (c *Client) Lock(store string) error   { return c.do(target("lock", "target", store)) }
func (c *Client) Unlock(store string) error { return c.do(target("unlock", "target", store)) }

// GetConfig reads a datastore, section 7.1: the parts with the given root
// elements, each by name and namespace. None: everything.
func (c *Client) GetConfig(store string, roots ...Root) (*etree.Element, error) {
	x := target("get-config", "source", store)
	if len(roots) > 0 {
		filter := x.CreateElement("filter")
		filter.CreateAttr("type", "subtree")
		for _, r := range roots {
			filter.CreateElement(r.Name).CreateAttr("xmlns", r.Namespace)
		}
	}
	reply, err := c.Call(x)
	if err != nil {
		return nil, err
	}
	data := reply.SelectElement("data")
	if data == nil {
		return nil, fmt.Errorf("%w: the reply to get-config has no data", ErrXML)
	}
	for _, a := range reply.Attr { // values may use prefixes that are declared further out
		if a.Space == "xmlns" && data.SelectAttr("xmlns:"+a.Key) == nil {
			data.CreateAttr("xmlns:"+a.Key, a.Value)
		}
	}
	return data, nil
}

// Root is the top element of a model's data.
type Root struct{ Name, Namespace string }

// Edit merges a configuration into a datastore, section 7.2.
func (c *Client) Edit(store string, config *etree.Element) error {
	x := target("edit-config", "target", store)
	x.CreateElement("default-operation").SetText("merge")
	if c.Has(RollbackOnError) {
		x.CreateElement("error-option").SetText("rollback-on-error")
	}
	x.AddChild(config)
	return c.do(x)
}

// Validate checks the candidate, section 8.6.4.1.
func (c *Client) Validate() error { return c.do(target("validate", "source", "candidate")) }

// Discard makes the candidate what runs, section 8.3.4.2.
func (c *Client) Discard() error { return c.do(etree.NewElement("discard-changes")) }

// CommitConfirmed commits for a time: without a confirmation in it, the device
// takes the change back (section 8.4). With persist another session may confirm
// it, and it outlives this one.
func (c *Client) CommitConfirmed(within time.Duration, persist string) error {
	x := etree.NewElement("commit")
	x.CreateElement("confirmed")
	x.CreateElement("confirm-timeout").SetText(strconv.Itoa(int((within + time.Second - 1) / time.Second)))
	if persist != "" {
		x.CreateElement("persist").SetText(persist)
	}
	return c.do(x)
}

// Commit confirms a commit that waits, or commits for good; persist is that of
// the commit that waits, "" for one of this session.
func (c *Client) Commit(persist string) error {
	x := etree.NewElement("commit")
	if persist != "" {
		x.CreateElement("persist-id").SetText(persist)
	}
	return c.do(x)
}

// Cancel takes a commit that waits back at once, section 8.4.4.1.
func (c *Client) Cancel(persist string) error {
	x := etree.NewElement("cancel-commit")
	if persist != "" {
		x.CreateElement("persist-id").SetText(persist)
	}
	return c.do(x)
}

// Close ends the session in good order.
func (c *Client) Close() error { return c.do(etree.NewElement("close-session")) }
