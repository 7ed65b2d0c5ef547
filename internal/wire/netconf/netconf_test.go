package netconf

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
)

// wire is a stream with what came, and what was sent.
type wire struct {
	io.Reader
	bytes.Buffer
}

func (w *wire) Read(b []byte) (int, error)  { return w.Reader.Read(b) }
func (w *wire) Write(b []byte) (int, error) { return w.Buffer.Write(b) }

func TestMessagesAreFramedBothWays(t *testing.T) {
	t.Parallel()
	for _, chunked := range []bool{false, true} {
		w := &wire{}
		c := NewConn(w)
		if chunked {
			c.Chunked()
		}
		for _, m := range []string{"<a/>", strings.Repeat("x", 100_000)} {
			require.NoError(t, c.Write([]byte(m)))
		}
		w.Reader = bytes.NewReader(w.Buffer.Bytes())
		c = NewConn(w)
		if chunked {
			c.Chunked()
		}
		one, err := c.Read()
		require.NoError(t, err)
		require.Equal(t, "<a/>", string(one))
		two, err := c.Read()
		require.NoError(t, err)
		require.Len(t, two, 100_000)
		_, err = c.Read()
		require.ErrorIs(t, err, io.EOF)
	}
	w := &wire{Reader: strings.NewReader("\n#4\n<rpc\n#2\n/>\n##\n")} // several chunks, RFC 6242 section 4.2
	c := NewConn(w)
	c.Chunked()
	got, err := c.Read()
	require.NoError(t, err)
	require.Equal(t, "<rpc/>", string(got))
}

func TestFramingThatIsNoneIsRefused(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]error{
		"<rpc/>":           ErrFraming,
		"\n#0\n":           ErrFraming,
		"\n#007\n":         ErrFraming,
		"\n#+4\nabcd":      ErrFraming,
		"\n##\n":           ErrFraming,
		"\n#99999999999\n": ErrFraming,
		"\n#4000000000\n":  ErrTooLong,
		"\n#4\nab":         io.ErrUnexpectedEOF,
		"\n#4\nabcd":       io.ErrUnexpectedEOF,
		"\n#4":             io.ErrUnexpectedEOF,
		"\n":               io.ErrUnexpectedEOF,
		"":                 io.EOF,
	} {
		c := NewConn(&wire{Reader: strings.NewReader(text)})
		c.Chunked()
		_, err := c.Read()
		require.ErrorIs(t, err, want, "%q", text)
	}
	_, err := NewConn(&wire{Reader: strings.NewReader("<rpc>")}).Read()
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = NewConn(&wire{Reader: endless{}}).Read()
	require.ErrorIs(t, err, ErrTooLong, "a message that never ends")
}

type endless struct{}

func (endless) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = '>'
	}
	return len(b), nil
}

func TestErrorsAreReadBack(t *testing.T) {
	t.Parallel()
	rpc, err := Parse([]byte(`<rpc xmlns="`+Base+`" message-id="7"/>`), "rpc")
	require.NoError(t, err)
	reply := Reply(rpc)
	AddError(reply, &Error{Type: "protocol", Tag: "in-use", Path: "/x", Message: "another session",
		Info: map[string]string{"session-id": "4"}})
	got, err := Parse(Bytes(reply), "rpc-reply")
	require.NoError(t, err)
	errs := Errors(got)
	require.Len(t, errs, 1)
	require.Equal(t, "in-use at /x: another session", errs[0].Error())
	for _, text := range []string{"", "<", "<a/>", `<rpc xmlns="other"/>`,
		`<!DOCTYPE x [<!ENTITY a "b">]><rpc xmlns="` + Base + `">&a;</rpc>`} {
		_, err := Parse([]byte(text), "rpc")
		require.ErrorIs(t, err, ErrXML, text)
	}
}

// lists has a list of entries with the key name, and a leaf-list.
type lists struct{}

func (lists) Keys(path []string) ([]string, bool) {
	switch path[len(path)-1] {
	case "entry":
		return []string{"name"}, false
	case "order":
		return nil, true
	}
	return nil, false
}

func tree(t *testing.T, text string) *etree.Element {
	d := etree.NewDocument()
	require.NoError(t, d.ReadFromString(`<config xmlns:nc="`+Base+`">`+text+`</config>`))
	return d.Root()
}

func TestEveryOperationOfAnEdit(t *testing.T) {
	t.Parallel()
	const have = `<top xmlns="u"><entry><name>a</name><v>1</v></entry><entry><name>b</name><v>2</v></entry><order>x</order></top>`
	for _, c := range []struct{ name, edit, operation, want, tag string }{
		{"merge changes", `<top xmlns="u"><entry><name>a</name><v>9</v></entry></top>`, "merge", `<v>9</v>`, ""},
		{"merge adds", `<top xmlns="u"><entry><name>c</name><v>3</v></entry><order>y</order></top>`, "merge",
			`<name>c</name><v>3</v></entry><order>y</order>`, ""},
		{"replace", `<top xmlns="u"><entry nc:operation="replace"><name>a</name></entry></top>`, "merge",
			`<entry><name>a</name></entry>`, ""},
		{"replace everything", `<top xmlns="u"><order>z</order></top>`, "replace", `<top xmlns="u"><order>z</order></top>`,
			""},
		{"delete", `<top xmlns="u"><entry nc:operation="delete"><name>a</name></entry></top>`, "none",
			`<top xmlns="u"><entry><name>b</name>`, ""},
		{"remove what is not there", `<top xmlns="u"><entry nc:operation="remove"><name>z</name></entry></top>`, "merge",
			`<name>b</name>`, ""},
		{"create what is there", `<top xmlns="u"><entry nc:operation="create"><name>a</name></entry></top>`, "merge", "",
			"data-exists"},
		{"delete what is not there", `<top xmlns="u"><entry nc:operation="delete"><name>z</name></entry></top>`, "merge", "",
			"data-missing"},
		{"an entry without its key", `<top xmlns="u"><entry><v>1</v></entry></top>`, "merge", "", "missing-element"},
		{"no such operation", `<top xmlns="u" nc:operation="paint"/>`, "merge", "", "bad-attribute"},
	} {
		into := tree(t, have)
		err := Edit(into, tree(t, c.edit), c.operation, lists{})
		if c.tag != "" {
			var failure *Error
			require.True(t, errors.As(err, &failure), c.name)
			require.Equal(t, c.tag, failure.Tag, c.name)
			continue
		}
		require.NoError(t, err, c.name)
		require.Contains(t, string(Bytes(into)), c.want, c.name)
	}
}

func TestASubtreeFilterChooses(t *testing.T) {
	t.Parallel()
	config := tree(t, `<top xmlns="u"><entry><name>a</name><v>1</v></entry><entry><name>b</name><v>2</v></entry></top><other xmlns="w"/>`)
	for filter, want := range map[string]string{
		`<top xmlns="u"/>`: `<top xmlns="u"><entry><name>a</name><v>1</v></entry><entry><name>b</name><v>2</v></entry></top>`,
		`<top xmlns="u"><entry><name>b</name></entry></top>`:     `<top xmlns="u"><entry><name>b</name><v>2</v></entry></top>`,
		`<top xmlns="u"><entry><name>b</name><v/></entry></top>`: `<top xmlns="u"><entry><name>b</name><v>2</v></entry></top>`,
		`<top xmlns="u"><entry><v/></entry></top>`:               `<top xmlns="u"><entry><v>1</v></entry><entry><v>2</v></entry></top>`,
		`<top xmlns="u"><entry><name>zz</name></entry></top>`:    "",
		`<top xmlns="elsewhere"/>`:                               "",
	} {
		text := ""
		for _, e := range Filter(config, tree(t, filter)) {
			text += string(Bytes(e))
		}
		require.Equal(t, want, text, filter)
	}
	require.Len(t, Filter(config, nil), 2)
}

func FuzzNETCONF(f *testing.F) {
	f.Add([]byte("\n#4\n<a/>\n##\n"), true)
	f.Add([]byte(`<rpc xmlns="`+Base+`" message-id="1"><edit-config><target><candidate/></target><config><top xmlns="u"><entry><name>a</name></entry></top></config></edit-config></rpc>]]>]]>`), false)
	f.Add([]byte(`<rpc xmlns="`+Base+`"><get-config><source><running/></source><filter><top xmlns="u"/></filter></get-config></rpc>]]>]]>`), false)
	f.Fuzz(func(t *testing.T, b []byte, chunked bool) {
		c := NewConn(&wire{Reader: bytes.NewReader(b)})
		if chunked {
			c.Chunked()
		}
		for {
			message, err := c.Read()
			if err != nil {
				return
			}
			root, err := Parse(message, "rpc")
			if err != nil {
				continue
			}
			into := etree.NewElement("config")
			_ = Edit(into, root, "merge", lists{})
			_ = Filter(into, root)
			_ = Bytes(into)
		}
	})
}
