package netconf

import (
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
)

// device answers a client with given texts, each to one message, and returns what
// it was sent. MESSAGE-ID stands for the id of the question.
func device(t *testing.T, hello []string, chunked bool, answers ...string) (*Client, func() []string, error) {
	near, far := net.Pipe()
	t.Cleanup(func() { _ = near.Close(); _ = far.Close() })
	asked := make(chan string, 32)
	go func() {
		conn := NewConn(far)
		if _, err := conn.Read(); err != nil {
			return
		}
		if hello == nil {
			_ = conn.Write([]byte("<greeting/>"))
			return
		}
		_ = conn.Write(Hello(hello, 7))
		if chunked {
			conn.Chunked()
		}
		for _, a := range answers {
			message, err := conn.Read()
			if err != nil {
				return
			}
			rpc, err := Parse(message, "rpc")
			if err != nil {
				return
			}
			asked <- string(message)
			if conn.Write([]byte(strings.ReplaceAll(a, "MESSAGE-ID", rpc.SelectAttrValue("message-id", "")))) != nil {
				return
			}
		}
		_ = far.Close()
	}()
	_ = near.SetDeadline(time.Now().Add(5 * time.Second))
	c, err := Open(NewConn(near))
	return c, func() []string {
		var all []string
		for {
			select {
			case text := <-asked:
				all = append(all, text)
			default:
				return all
			}
		}
	}, err
}

const ok = `<rpc-reply xmlns="` + Base + `" message-id="MESSAGE-ID"><ok/></rpc-reply>`

func TestAClientSpeaksBothFramings(t *testing.T) {
	t.Parallel()
	for _, base := range []string{Base10, Base11} {
		c, asked, err := device(t, []string{base, Candidate, "urn:x?module=x&revision=2024-01-02&features=a,b"},
			base == Base11, ok, ok, ok, ok, ok, ok, ok, ok, ok)
		require.NoError(t, err)
		require.Equal(t, "7", c.SessionID)
		require.True(t, c.Has(Candidate))
		require.False(t, c.Has(ConfirmedCommit))
		modules, err := c.Modules()
		require.NoError(t, err)
		require.Equal(t, map[string]Module{"urn:x": {Revision: "2024-01-02", Features: []string{"a", "b"}}}, modules)
		require.NoError(t, c.Lock("candidate"))
		require.NoError(t, c.Edit("candidate", etree.NewElement("config")))
		require.NoError(t, c.Validate())
		require.NoError(t, c.CommitConfirmed(1500*time.Millisecond, "mine"))
		require.NoError(t, c.Commit("mine"))
		require.NoError(t, c.Cancel(""))
		require.NoError(t, c.Discard())
		require.NoError(t, c.Unlock("candidate"))
		_, err = c.GetConfig("running")
		require.ErrorIs(t, err, ErrXML, "no data in it")
		sent := strings.Join(asked(), "\n")
		for _, part := range []string{"<lock><target><candidate/>", "<default-operation>merge</default-operation>",
			"<confirm-timeout>2</confirm-timeout><persist>mine</persist>", "<commit><persist-id>mine</persist-id>",
			"<cancel-commit/>"} {
			require.Contains(t, sent, part)
		}
		require.Error(t, c.Close(), "the device is gone")
	}
}

func TestErrorsOfADeviceAreValuesAndWarningsAreNone(t *testing.T) {
	t.Parallel()
	reply := func(severity string) string {
		return `<rpc-reply xmlns="` + Base +
			`" message-id="MESSAGE-ID"><rpc-error><error-type>application</error-type><error-tag>invalid-value</error-tag><error-severity>` + severity +
			`</error-severity><error-path>/a/b</error-path><error-message>no such port</error-message></rpc-error>` +
			map[string]string{"warning": "<ok/>"}[severity] + `</rpc-reply>`
	}
	c, _, err := device(t, []string{Base10}, false, reply("error"), reply("warning"),
		strings.ReplaceAll(ok, "MESSAGE-ID", "99"), "<rpc-reply", ok)
	require.NoError(t, err)
	var said *Error
	require.True(t, errors.As(c.Validate(), &said))
	require.Equal(t, "invalid-value at /a/b: no such port", said.Error())
	require.NoError(t, c.Validate())
	require.Len(t, c.Warnings, 1)
	require.ErrorIs(t, c.Validate(), ErrXML, "the answer to another question")
	require.ErrorIs(t, c.Validate(), ErrXML)
}

func TestAHelloThatIsNoneEndsTheSession(t *testing.T) {
	t.Parallel()
	for _, hello := range [][]string{nil, {"urn:something:else"}} {
		_, _, err := device(t, hello, false)
		require.Error(t, err)
	}
}

func TestModulesOfTheYANGLibraryAreThere(t *testing.T) {
	t.Parallel()
	library := func(inner string) string {
		return `<rpc-reply xmlns="` + Base + `" message-id="MESSAGE-ID"><data>` + inner + `</data></rpc-reply>`
	}
	const module = `<module><name>m</name><revision>2021-08-05</revision><namespace>urn:m</namespace><feature>f</feature></module>`
	for _, inner := range []string{
		`<modules-state xmlns="` + LibraryNS + `">` + module +
			`<module><name>i</name><namespace>urn:i</namespace><conformance-type>import</conformance-type></module></modules-state>`,
		`<yang-library xmlns="` + LibraryNS + `"><module-set><name>all</name>` + module +
			`<import-only-module><name>i</name><namespace>urn:i</namespace></import-only-module></module-set></yang-library>`,
	} {
		c, asked, err := device(t, []string{Base11, "urn:h?module=h&amp;revision=2020-01-01",
			libraryCapability + "1.0?revision=2016-06-21"}, true, library(inner))
		require.NoError(t, err)
		modules, err := c.Modules()
		require.NoError(t, err)
		require.Equal(t, map[string]Module{"urn:h": {Revision: "2020-01-01"},
			"urn:m": {Revision: "2021-08-05", Features: []string{"f"}}}, modules)
		require.Contains(t, strings.Join(asked(), ""), `<yang-library xmlns="`+LibraryNS)
	}
	c, _, err := device(t, []string{Base11, "urn:h?module=h", libraryCapability + "1.0"}, true,
		strings.Replace(ok, "<ok/>",
			`<rpc-error><error-type>protocol</error-type><error-tag>access-denied</error-tag><error-severity>error</error-severity></rpc-error>`, 1))
	require.NoError(t, err)
	all, err := c.Modules()
	require.ErrorContains(t, err, "access-denied")
	require.Contains(t, all, "urn:h", "what the hello says is there all the same")
}

// A device that reads the hello and the first question at once, and looks at the
// second only when more comes.
func TestAFirstQuestionThatLiesUnreadIsFollowedByAnother(t *testing.T) {
	t.Parallel()
	near, far := net.Pipe()
	t.Cleanup(func() { _ = near.Close(); _ = far.Close() })
	go func() {
		conn := NewConn(far)
		_, _ = conn.Read()
		_ = conn.Write(Hello([]string{Base11}, 7))
		conn.Chunked()
		var waiting [][]byte
		for {
			message, err := conn.Read()
			if err != nil {
				return
			}
			if waiting = append(waiting, message); len(waiting) == 1 {
				continue // it lies there
			}
			for _, m := range waiting {
				rpc, err := Parse(m, "rpc")
				if err != nil || conn.Write([]byte(strings.ReplaceAll(ok, "MESSAGE-ID",
					rpc.SelectAttrValue("message-id", "")))) != nil {
					return
				}
			}
			waiting = nil
		}
	}()
	_ = near.SetDeadline(time.Now().Add(10 * time.Second))
	c, err := Open(NewConn(near))
	require.NoError(t, err)
	require.NoError(t, c.Lock("candidate"))
}
