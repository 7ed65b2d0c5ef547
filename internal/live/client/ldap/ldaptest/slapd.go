// Package ldaptest runs a real directory server for tests, with a few made-up
// people, on loopback.
package ldaptest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/childproc"
)

// Server is a running directory server.
type Server struct {
	Port   uint16 // LDAP, with StartTLS where there are certificates
	Secure uint16 // LDAPS, 0 without certificates
	cmd    *exec.Cmd
}

// Names and passwords of the directory. The secret of Searcher is Secret.
const (
	Base     = "ou=people,dc=saltmarsh,dc=example"
	Searcher = "cn=gate,dc=saltmarsh,dc=example"
	Secret   = "a-secret-of-the-directory"
	Password = "right"
)

const entries = `dn: dc=saltmarsh,dc=example
objectClass: dcObject
objectClass: organization
o: Saltmarsh Ferries
dc: saltmarsh

dn: ou=people,dc=saltmarsh,dc=example
objectClass: organizationalUnit
ou: people

dn: cn=gate,dc=saltmarsh,dc=example
objectClass: person
sn: gate
cn: gate
userPassword: a-secret-of-the-directory

dn: uid=ebba.lind,ou=people,dc=saltmarsh,dc=example
objectClass: inetOrgPerson
cn: Ebba Lind
sn: Lind
uid: ebba.lind
seeAlso: cn=network,ou=groups,dc=saltmarsh,dc=example
userPassword: right

dn: uid=per.holm,ou=people,dc=saltmarsh,dc=example
objectClass: inetOrgPerson
cn: Per Holm
sn: Holm
uid: per.holm
departmentNumber: watch
userPassword: right

dn: uid=ulf.gran,ou=people,dc=saltmarsh,dc=example
objectClass: inetOrgPerson
cn: Ulf Gran
sn: Gran
uid: ulf.gran
userPassword: right
pwdPolicySubentry: cn=short,dc=saltmarsh,dc=example
pwdChangedTime: 20200101000000Z

dn: cn=short,dc=saltmarsh,dc=example
objectClass: device
objectClass: pwdPolicy
cn: short
pwdAttribute: userPassword
pwdMaxAge: 86400

dn: cn=one of two,ou=people,dc=saltmarsh,dc=example
objectClass: inetOrgPerson
cn: one of two
sn: two
uid: twice
userPassword: right

dn: cn=two of two,ou=people,dc=saltmarsh,dc=example
objectClass: inetOrgPerson
cn: two of two
sn: two
uid: twice
userPassword: right
`

// Start runs slapd in a temporary folder, or skips the test where there is
// none. Certificate, key and authorities are PEM files, "" for none.
func Start(t *testing.T, certificate, key, authorities string) *Server {
	slapd, err := exec.LookPath("/usr/sbin/slapd")
	if err != nil {
		if os.Getenv("MELLOWGATE_PEERS") == "require" {
			t.Fatal("slapd is required")
		}
		t.Skip("no slapd here")
	}
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "db"), 0o700))
	config := []string{"include /etc/ldap/schema/core.schema", "include /etc/ldap/schema/cosine.schema",
		"include /etc/ldap/schema/inetorgperson.schema",
		"modulepath /usr/lib/ldap", "moduleload back_mdb", "moduleload ppolicy", "pidfile " + dir + "/pid"}
	if certificate != "" {
		config = append(config, "TLSCertificateFile "+certificate, "TLSCertificateKeyFile "+key,
			"TLSCACertificateFile "+authorities)
	}
	config = append(config, "database mdb", "maxsize 10485760", `suffix "dc=saltmarsh,dc=example"`, "directory "+dir+"/db",
		"access to attrs=userPassword by anonymous auth by * none",
		`access to * by dn.exact="`+Searcher+`" read by anonymous auth by * none`, "overlay ppolicy")
	conf, ldif := filepath.Join(dir, "slapd.conf"), filepath.Join(dir, "people.ldif")
	require.NoError(t, os.WriteFile(conf, []byte(strings.Join(config, "\n")+"\n"), 0o600))
	require.NoError(t, os.WriteFile(ldif, []byte(entries), 0o600))
	out, err := exec.Command("/usr/sbin/slapadd", "-f", conf, "-l", ldif).CombinedOutput()
	require.NoError(t, err, string(out))
	s := &Server{Port: free(t)}
	urls := fmt.Sprintf("ldap://127.0.0.1:%d/", s.Port)
	if certificate != "" {
		s.Secure = free(t)
		urls += fmt.Sprintf(" ldaps://127.0.0.1:%d/", s.Secure)
	}
	s.cmd = childproc.Child(exec.Command(slapd, "-f", conf, "-h", urls, "-d", "0"))
	require.NoError(t, s.cmd.Start())
	t.Cleanup(s.Stop)
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port))
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "slapd listens")
	return s
}

// Stop ends the server.
func (s *Server) Stop() {
	if s.cmd != nil {
		_ = s.cmd.Process.Kill()
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

func free(t *testing.T) uint16 {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return uint16(l.Addr().(*net.TCPAddr).Port)
}
