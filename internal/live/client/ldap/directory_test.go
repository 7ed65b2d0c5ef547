package ldap_test

import (
	"context"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/client/ldap/ldaptest"
	"mellowgate/internal/live/store/pki"
)

// certificates are made before anything reads the system's authorities.
var certificates string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "mellowgate-directory-")
	if err == nil {
		certificates = dir
		err = issue(dir)
	}
	if err != nil {
		panic(err)
	}
	_ = os.Setenv("SSL_CERT_FILE", filepath.Join(dir, pki.AuthorityFile))
	status := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(status)
}

func issue(dir string) error {
	a, err := pki.NewAuthority("tests", time.Now())
	if err != nil {
		return err
	}
	i, err := a.Issue("dunlin", netip.MustParseAddr("127.0.0.1"), time.Now())
	if err != nil {
		return err
	}
	return a.Write(dir, "dunlin", i)
}

func at(port uint16, security, teams string) *site.Server {
	return &site.Server{Ref: site.Ref{Name: "dunlin"}, Protocol: site.LDAP, Address: "127.0.0.1", Port: port,
		Timeout: time.Second,
		Directory: site.Directory{Base: ldaptest.Base, BindAs: ldaptest.Searcher, Find: "(uid=%u)", TeamsFrom: teams,
			Security: security}}
}

func TestNamesAreFoundAndPasswordsCheckedInEveryWay(t *testing.T) {
	t.Parallel()
	s := ldaptest.Start(t, filepath.Join(certificates, "dunlin.pem"), filepath.Join(certificates, "dunlin.key"),
		filepath.Join(certificates, pki.AuthorityFile))
	ctx := context.Background()
	for security, port := range map[string]uint16{"none": s.Port, "start": s.Port, "ldaps": s.Secure} {
		d := ldap.New(at(port, security, "seeAlso"), site.NewSecret(ldaptest.Secret), ldap.Reach{})
		found, text, err := d.Find(ctx, "ebba.lind")
		require.NoError(t, err, security)
		require.Equal(t, &ldap.Found{DN: "uid=ebba.lind,ou=people,dc=saltmarsh,dc=example", Name: "ebba.lind",
			Teams: []string{"network"}},
			found)
		require.Contains(t, text, "dunlin, (uid=ebba.lind) below ou=people")
		for password, want := range map[string]bool{ldaptest.Password: true, "wrong": false, "": false} {
			ok, err := d.PasswordIs(ctx, found, password)
			require.NoError(t, err)
			require.Equal(t, want, ok, "%s %q", security, password)
		}
		for name, says := range map[string]string{"nobody": "no entry", "*": "no entry", "ebba.lind)(uid=*": "no entry",
			"twice": "more than one entry"} {
			found, text, err := d.Find(ctx, name)
			require.NoError(t, err, name)
			require.Nil(t, found, name)
			require.Contains(t, text, says, name)
		}
		d.Close()
	}
	d := ldap.New(at(s.Port, "none", "departmentNumber"), site.NewSecret(ldaptest.Secret), ldap.Reach{})
	found, _, err := d.Find(ctx, "per.holm")
	require.NoError(t, err)
	require.Equal(t, []string{"watch"}, found.Teams)
}

func TestADirectoryThatDoesNotAnswerOrRefusesUsIsNoRefusalOfAnybody(t *testing.T) {
	t.Parallel()
	s := ldaptest.Start(t, "", "", "")
	ctx := context.Background()
	wrong := ldap.New(at(s.Port, "none", ""), site.NewSecret("not it"), ldap.Reach{})
	_, _, err := wrong.Find(ctx, "ebba.lind")
	require.ErrorIs(t, err, ldap.ErrRefusesUs)
	_, _, err = ldap.New(at(s.Port, "start", ""), site.NewSecret(ldaptest.Secret), ldap.Reach{}).Find(ctx, "ebba.lind")
	require.ErrorIs(t, err, ldap.ErrDown, "no TLS there")

	d := ldap.New(at(s.Port, "none", ""), site.NewSecret(ldaptest.Secret), ldap.Reach{})
	found, _, err := d.Find(ctx, "ebba.lind")
	require.NoError(t, err)
	s.Stop()
	_, _, err = d.Find(ctx, "ebba.lind")
	require.ErrorIs(t, err, ldap.ErrDown, "a connection that was kept has ended")
	_, err = d.PasswordIs(ctx, found, "right")
	require.ErrorIs(t, err, ldap.ErrDown)
}

func TestADirectoryThatIsSlowOrTalksGarbageIsDown(t *testing.T) {
	t.Parallel()
	for name, answer := range map[string]string{"silent": "", "garbage": "HTTP/1.1 400 Bad Request\r\n\r\n",
		"a length that never comes": "\x30\x84\x7f\xff\xff\xff\x02\x01\x01"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = c.Write([]byte(answer))
				t.Cleanup(func() { _ = c.Close() })
			}
		}()
		server := at(uint16(l.Addr().(*net.TCPAddr).Port), "none", "")
		server.Timeout = 200 * time.Millisecond
		_, _, err = ldap.New(server, site.NewSecret("x"), ldap.Reach{}).Find(context.Background(), "ebba.lind")
		require.ErrorIs(t, err, ldap.ErrDown, name)
		_ = l.Close()
	}
}

func TestAPasswordThatHasExpiredIsTold(t *testing.T) {
	t.Parallel()
	s := ldaptest.Start(t, "", "", "")
	d := ldap.New(at(s.Port, "none", ""), site.NewSecret(ldaptest.Secret), ldap.Reach{})
	defer d.Close()
	ctx := context.Background()
	found, where, err := d.Find(ctx, "ulf.gran")
	require.NoError(t, err, where)
	ok, err := d.PasswordIs(ctx, found, ldaptest.Password)
	require.False(t, ok)
	require.ErrorIs(t, err, ldap.ErrExpired)
	ok, err = d.PasswordIs(ctx, found, "wrong")
	require.NoError(t, err, "a wrong password says nothing of its age")
	require.False(t, ok)
	fresh, _, err := d.Find(ctx, "ebba.lind")
	require.NoError(t, err)
	ok, err = d.PasswordIs(ctx, fresh, ldaptest.Password)
	require.NoError(t, err)
	require.True(t, ok)
}
