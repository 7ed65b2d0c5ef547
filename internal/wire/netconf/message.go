package netconf

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/beevik/etree"
)

// Base is the namespace of the messages, RFC 6241 section 3.1.
const Base = "urn:ietf:params:xml:ns:netconf:base:1.0"

// Capabilities, RFC 6241 section 8.
const (
	Base10          = "urn:ietf:params:netconf:base:1.0"
	Base11          = "urn:ietf:params:netconf:base:1.1"
	Candidate       = "urn:ietf:params:netconf:capability:candidate:1.0"
	ConfirmedCommit = "urn:ietf:params:netconf:capability:confirmed-commit:1.1"
	Validate        = "urn:ietf:params:netconf:capability:validate:1.1"
	RollbackOnError = "urn:ietf:params:netconf:capability:rollback-on-error:1.0"
	WritableRunning = "urn:ietf:params:netconf:capability:writable-running:1.0"
	// The first versions, of RFC 4741: confirmed commit has no cancel there.
	ConfirmedCommit10 = "urn:ietf:params:netconf:capability:confirmed-commit:1.0"
	Validate10        = "urn:ietf:params:netconf:capability:validate:1.0"
)

// Error is an rpc-error, RFC 6241 section 4.3. Tag is one of appendix A.
type Error struct {
	Type    string // transport | rpc | protocol | application
	Tag     string
	Path    string // which element, "" for none
	Message string
	// Info is what the tag's error-info holds, by element.
	Info map[string]string
}

func (e *Error) Error() string {
	text := e.Tag
	if e.Path != "" {
		text += " at " + e.Path
	}
	if e.Message != "" {
		text += ": " + e.Message
	}
	return text
}

// Fail makes an error of the application.
func Fail(tag, path, format string, args ...any) *Error {
	return &Error{Type: "application", Tag: tag, Path: path, Message: fmt.Sprintf(format, args...)}
}

// ErrXML is a message that is no XML, or none of NETCONF.
var ErrXML = errors.New("this is no NETCONF message")

// Parse reads a message and gives its root, with the local name that is
// wanted, in the base namespace.
func Parse(message []byte, want string) (*etree.Element, error) {
	d := etree.NewDocument()
	d.ReadSettings.Permissive = false
	if err := d.ReadFromBytes(message); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrXML, err)
	}
	root := d.Root()
	if root != nil && deeper(root, MaxDepth) {
		return nil, fmt.Errorf("%w: elements within elements, more than %d deep", ErrXML, MaxDepth)
	}
	if root == nil || root.Tag != want || root.NamespaceURI() != Base {
		return nil, fmt.Errorf("%w: an element %s of %s is wanted", ErrXML, want, Base)
	}
	return root, nil
}

// MaxDepth bounds how deep the elements of a message lie in each other.
const MaxDepth = 64

func deeper(x *etree.Element, left int) bool {
	if left == 0 {
		return true
	}
	return slices.ContainsFunc(x.ChildElements(), func(c *etree.Element) bool { return deeper(c, left-1) })
}

// Hello makes a hello, RFC 6241 section 8.1; session 0 is a client's.
func Hello(capabilities []string, session uint32) []byte {
	root := etree.NewElement("hello")
	root.CreateAttr("xmlns", Base)
	list := root.CreateElement("capabilities")
	for _, c := range capabilities {
		list.CreateElement("capability").SetText(c)
	}
	if session != 0 {
		root.CreateElement("session-id").SetText(fmt.Sprint(session))
	}
	return Bytes(root)
}

// ReadHello returns the capabilities of a hello, and the session's number where a
// server says one.
func ReadHello(message []byte) (capabilities []string, session string, err error) {
	root, err := Parse(message, "hello")
	if err != nil {
		return nil, "", err
	}
	if list := root.SelectElement("capabilities"); list != nil {
		for _, c := range list.SelectElements("capability") {
			capabilities = append(capabilities, strings.TrimSpace(c.Text()))
		}
	}
	if id := root.SelectElement("session-id"); id != nil {
		session = strings.TrimSpace(id.Text())
	}
	return capabilities, session, nil
}

// Bytes writes an element as a message.
func Bytes(root *etree.Element) []byte {
	d := etree.NewDocument()
	d.SetRoot(root)
	b, err := d.WriteToBytes()
	if err != nil {
		return nil // a tree of elements can always be written
	}
	return b
}

// Reply begins an rpc-reply with every attribute of the rpc, RFC 6241 section
// 4.2.
func Reply(rpc *etree.Element) *etree.Element {
	root := etree.NewElement("rpc-reply")
	root.CreateAttr("xmlns", Base)
	if rpc != nil {
		for _, a := range rpc.Attr {
			if a.FullKey() != "xmlns" {
				root.CreateAttr(a.FullKey(), a.Value)
			}
		}
	}
	return root
}

// AddError adds an rpc-error to a reply.
func AddError(reply *etree.Element, e *Error) { addError(reply, e, "error") }

// AddWarning adds a warning to a reply.
func AddWarning(reply *etree.Element, e *Error) { addError(reply, e, "warning") }

func addError(reply *etree.Element, e *Error, severity string) {
	x := reply.CreateElement("rpc-error")
	x.CreateElement("error-type").SetText(e.Type)
	x.CreateElement("error-tag").SetText(e.Tag)
	x.CreateElement("error-severity").SetText(severity)
	if e.Path != "" {
		x.CreateElement("error-path").SetText(e.Path)
	}
	if e.Message != "" {
		m := x.CreateElement("error-message")
		m.CreateAttr("xml:lang", "en")
		m.SetText(e.Message)
	}
	if len(e.Info) > 0 {
		info := x.CreateElement("error-info")
		for name, value := range e.Info {
			info.CreateElement(name).SetText(value)
		}
	}
}

// Errors returns the errors of a reply.
func Errors(reply *etree.Element) []*Error { return errorsOf(reply, false) }

// Warnings returns the warnings of a reply.
func Warnings(reply *etree.Element) []*Error { return errorsOf(reply, true) }

func errorsOf(reply *etree.Element, warnings bool) []*Error {
	var all []*Error
	text := func(x *etree.Element, name string) string {
		if c := x.SelectElement(name); c != nil {
			return strings.TrimSpace(c.Text())
		}
		return ""
	}
	for _, x := range reply.SelectElements("rpc-error") {
		if (text(x, "error-severity") == "warning") != warnings {
			continue
		}
		e := &Error{Type: text(x, "error-type"), Tag: text(x, "error-tag"), Path: text(x, "error-path"),
			Message: text(x, "error-message")}
		if info := x.SelectElement("error-info"); info != nil {
			e.Info = map[string]string{}
			for _, c := range info.ChildElements() {
				e.Info[c.Tag] = strings.TrimSpace(c.Text())
			}
		}
		all = append(all, e)
	}
	return all
}
