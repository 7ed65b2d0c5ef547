package netconf

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/beevik/etree"
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

// Has tells whether the device announces a capability, with any parameters.
func (c *Client) Has(capability string) bool {
	return slices.ContainsFunc(c.Capabilities, func(have string) bool {
		name, _, _ := strings.Cut(have, "?")
		return name == capability
	})
}

// Module tells whether the device announces a YANG module (RFC 6020, section
// 5.6.4), by its namespace, and with what revision.
func (c *Client) Module(namespace string) (revision string, has bool) {
	for _, have := range c.Capabilities {
		name, parameters, _ := strings.Cut(have, "?")
		if name != namespace {
			continue
		}
		for p := range strings.SplitSeq(strings.ReplaceAll(parameters, "&amp;", "&"), "&") {
			if value, is := strings.CutPrefix(p, "revision="); is {
				revision = value
			}
		}
		return revision, true
	}
	return "", false
}

// Call sends one operation and gives the reply.
func (c *Client) Call(operation *etree.Element) (*etree.Element, error) {
	c.next++
	id := strconv.Itoa(c.next)
	rpc := etree.NewElement("rpc")
	rpc.CreateAttr("xmlns", Base)
	rpc.CreateAttr("message-id", id)
	rpc.AddChild(operation)
	if err := c.conn.Write(Bytes(rpc)); err != nil {
		return nil, err
	}
	message, err := c.conn.Read()
	if err != nil {
		return nil, err
	}
	reply, err := Parse(message, "rpc-reply")
	if err != nil {
		return nil, err
	}
	if got := reply.SelectAttrValue("message-id", id); got != id {
		return nil, fmt.Errorf("%w: the reply to message %s came for message %s", ErrXML, got, id)
	}
	c.Warnings = Warnings(reply)
	if all := Errors(reply); len(all) > 0 {
		return reply, all[0]
	}
	return reply, nil
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
	return data, nil
}

// Root is the top element of a model's data.
type Root struct{ Name, Namespace string }

// EditCandidate merges a configuration into the candidate, section 7.2.
func (c *Client) EditCandidate(config *etree.Element) error {
	x := target("edit-config", "target", "candidate")
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
