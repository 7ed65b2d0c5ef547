package directory

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/core/site"
	client "mellowgate/internal/live/client/ldap"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

const searcher = "cn=gate,dc=example"

// play runs a directory of two people and gives how it is asked.
func play(t *testing.T, find string) (*Server, *site.Server, string) {
	s := &site.Server{Ref: site.Ref{Name: "d"}, Protocol: site.LDAP, Timeout: 2 * time.Second,
		Directory: site.Directory{Base: "ou=people,dc=example", BindAs: searcher, Find: find, TeamsFrom: "memberOf",
			Security: "none"}}
	played := New(Config{Server: s, Searcher: site.NewSecret("reader"),
		PasswordIs: func(p *site.Person, password string) bool { return password == "of "+p.Name },
		People: []*site.Person{{Ref: site.Ref{Name: "ebba"}, Teams: []string{"watch", "net, and more"}},
			{Ref: site.Ref{Name: "per"}}}})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	played.Serve(l)
	t.Cleanup(played.Close)
	at := l.Addr().(*net.TCPAddr)
	s.Address, s.Port = at.IP.String(), uint16(at.Port)
	return played, s, l.Addr().String()
}

func TestPeopleAreFoundByWhateverFilterTheSiteHas(t *testing.T) {
	t.Parallel()
	for _, find := range []string{"(uid=%u)", "(&(objectClass=person)(uid=%u))",
		"(&(|(cn=%u)(mail=%u))(!(disabled=yes))(platform=staff))"} {
		_, s, _ := play(t, find)
		d := client.New(s, site.NewSecret("reader"), client.Reach{})
		found, text, err := d.Find(context.Background(), "ebba")
		require.NoError(t, err, find)
		require.NotNil(t, found, text)
		require.Equal(t, []string{"watch", "net, and more"}, found.Teams)
		for password, want := range map[string]bool{"of ebba": true, "of per": false, "": false} {
			ok, err := d.PasswordIs(context.Background(), found, password)
			require.NoError(t, err)
			require.Equal(t, want, ok, password)
		}
		found, _, err = d.Find(context.Background(), "*")
		require.NoError(t, err)
		require.Nil(t, found)
		d.Close()
	}
}

func TestOnlyWhoSearchesMaySearch(t *testing.T) {
	t.Parallel()
	_, s, at := play(t, "(uid=%u)")
	_, _, err := client.New(s, site.NewSecret("wrong"), client.Reach{}).Find(context.Background(), "ebba")
	require.ErrorIs(t, err, client.ErrRefusesUs)
	c, err := ldap.DialURL("ldap://" + at)
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	ask := func(base, filter string, most int) (int, error) {
		r, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, 0, most, 1, false, filter,
			[]string{"uid"},
			nil))
		if r == nil {
			return 0, err
		}
		return len(r.Entries), err
	}
	_, err = ask(s.Directory.Base, "(uid=*)", 0)
	require.True(t, ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights), err)
	require.NoError(t, c.Bind(searcher, "reader"))
	for filter, want := range map[string]int{"(uid=*)": 2, "(uid=e*a)": 1, "(uid=*b*a)": 1, "(uid=*c*)": 0,
		"(uid=*r)": 1,
		"(uid>=a)": 0, "(!(uid=per))": 1} {
		n, err := ask(s.Directory.Base, filter, 0)
		require.NoError(t, err, filter)
		require.Equal(t, want, n, filter)
	}
	n, err := ask(s.Directory.Base, "(uid=*)", 1)
	require.True(t, ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded))
	require.LessOrEqual(t, n, 1)
	_, err = ask("dc=elsewhere", "(uid=*)", 0)
	require.True(t, ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject))
	require.True(t, ldap.IsErrorWithCode(c.UnauthenticatedBind("uid=ebba,ou=people,dc=example"),
		ldap.LDAPResultUnwillingToPerform))
}

func TestFaultsAreForOneAskerOrForAll(t *testing.T) {
	t.Parallel()
	played, s, _ := play(t, "(uid=%u)")
	find := func() error {
		d := client.New(s, site.NewSecret("reader"), client.Reach{})
		defer d.Close()
		_, _, err := d.Find(context.Background(), "ebba")
		return err
	}
	require.NoError(t, find())
	played.Fault(netip.MustParseAddr("192.0.2.1"), Fault{Error: true})
	require.NoError(t, find(), "another asker")
	played.Fault(netip.MustParseAddr("127.0.0.1"), Fault{Error: true})
	require.ErrorIs(t, find(), client.ErrSays)
	played.Fault(netip.MustParseAddr("127.0.0.1"), Fault{Refuses: true})
	require.ErrorIs(t, find(), client.ErrRefusesUs)
	played.Fault(netip.MustParseAddr("127.0.0.1"), Fault{})
	played.Fault(netip.Addr{}, Fault{Delay: time.Hour})
	s.Timeout = 50 * time.Millisecond
	err := find()
	require.ErrorIs(t, err, client.ErrDown)
	require.False(t, errors.Is(err, client.ErrSays))
}

func TestWhatIsNoQuestionEndsTheConnection(t *testing.T) {
	t.Parallel()
	_, _, at := play(t, "(uid=%u)")
	for name, octets := range map[string]string{
		"text": "GET / HTTP/1.1\r\n\r\n", "too long": "\x30\x84\x7f\xff\xff\xff\x02\x01\x01",
		"nothing in it":     "\x30\x00",
		"no operation":      "\x30\x03\x02\x01\x01",
		"a bind of nothing": "\x30\x05\x02\x01\x01\x60\x00", "a search of nothing": "\x30\x05\x02\x01\x01\x63\x00",
		"no number": "\x30\x06\x04\x01a\x42\x00\x00",
		"deep":      strings.Repeat("\x30\x80", 5000),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c, err := net.Dial("tcp", at)
			require.NoError(t, err)
			defer func() { _ = c.Close() }()
			_, _ = c.Write([]byte(octets)) // the other end may have closed before all of it is written
			_ = c.(*net.TCPConn).CloseWrite()
			_ = c.SetReadDeadline(time.Now().Add(30 * time.Second))
			_, err = io.Copy(io.Discard, c) // it may say why, and then closes
			var late net.Error
			require.False(t, errors.As(err, &late) && late.Timeout())
		})
	}
}
