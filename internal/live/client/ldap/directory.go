// Package ldap asks LDAP servers (RFC 4511) who somebody is: a search for
// the name, then a bind with the password. It knows nothing of grants.
package ldap

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mellowgate/internal/core/site"
)

// Why a directory did not answer.
var (
	// ErrDown is a directory that cannot be reached, takes too long, or says
	// that it is busy or in error.
	ErrDown = errors.New("the directory does not answer")
	// ErrRefusesUs is a directory that refuses who searches.
	ErrRefusesUs = errors.New("the directory refuses who searches")
	// ErrNoBase is a directory without the place of the tree in which it is searched,
	// or one that does not show it to who searches.
	ErrNoBase = errors.New("the directory has no such base")
	// ErrTLS is a directory that refuses TLS, or whose certificate does not do. It is an
	// ErrDown.
	ErrTLS = fmt.Errorf("%w: no TLS", ErrDown)
	// ErrSpelling is a directory that found an entry by a name which is not the
	// entry's.
	ErrSpelling = errors.New("the entry has another spelling of the name")
	// ErrExpired is a password that is right and that the directory takes no more until
	// it is changed.
	ErrExpired = errors.New("the password has expired")
	// ErrSays is a directory that says that it cannot answer. It is an ErrDown.
	ErrSays = fmt.Errorf("%w: it says so", ErrDown)
)

// Found is an entry that a name leads to.
type Found struct {
	DN    string
	Name  string // as the entry has it
	Teams []string
}

// nameIn finds the attribute that a filter compares with the name.
var nameIn = regexp.MustCompile(`\(([A-Za-z][A-Za-z0-9.-]*)=%u\)`)

// Directory is one LDAP server, with connections that are kept. Its zero value
// is not usable.
type Directory struct {
	server   *site.Server
	password site.Secret
	reach    Reach
	mu       sync.Mutex
	idle     []*ldap.Conn // bound as who searches
}

// mostIdle bounds the connections that are kept.
const mostIdle = 8

// Reach is how a directory is reached, where that is not as its entry in the
// site says. The zero value is by that entry.
type Reach struct {
	Dial func(context.Context) (net.Conn, error)
	TLS  *tls.Config
}

// New makes a directory of a server; password is that of who searches.
func New(server *site.Server, password site.Secret, r Reach) *Directory {
	if r.TLS == nil {
		r.TLS = &tls.Config{ServerName: server.Address, MinVersion: tls.VersionTLS12}
	}
	if r.Dial == nil {
		at := net.JoinHostPort(server.Address, strconv.Itoa(int(server.Port)))
		r.Dial = func(ctx context.Context) (net.Conn, error) { return (&net.Dialer{}).DialContext(ctx, "tcp", at) }
	}
	return &Directory{server: server, password: password, reach: r}
}

// Close closes the connections that are kept.
func (d *Directory) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.idle {
		_ = c.Close()
	}
	d.idle = nil
}

// Name is the name of the server.
func (d *Directory) Name() string { return d.server.Name }

// Find looks a name up. Without an entry, or with several, it gives nil; text
// says where it looked and what it found. The error is ErrDown, ErrNoBase or
// ErrRefusesUs.
func (d *Directory) Find(ctx context.Context, name string) (found *Found, text string, err error) {
	filter := strings.ReplaceAll(d.server.Directory.Find, "%u", ldap.EscapeFilter(name)) // RFC 4515, section 3
	var attributes []string
	by := ""
	if m := nameIn.FindStringSubmatch(d.server.Directory.Find); m != nil {
		by, attributes = m[1], append(attributes, m[1])
	}
	if d.server.Directory.TeamsFrom != "" {
		attributes = append(attributes, d.server.Directory.TeamsFrom)
	}
	if len(attributes) == 0 {
		attributes = []string{"1.1"} // none, RFC 4511 section 4.5.1.8
	}
	request := ldap.NewSearchRequest(d.server.Directory.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2,
		int(d.server.Timeout/time.Second)+1, false, filter, attributes, nil)
	var entries []*ldap.Entry
	err = d.with(ctx, func(c *ldap.Conn) error {
		result, err := c.Search(request)
		if result != nil {
			entries = result.Entries
		}
		if ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return nil
		}
		return err
	})
	where := fmt.Sprintf("%s, %s below %s", d.server.Name, filter, d.server.Directory.Base)
	switch {
	case err != nil:
		return nil, where + ": " + err.Error(), err
	case len(entries) == 0:
		return nil, where + ": no entry", nil
	case len(entries) > 1:
		return nil, where + ": more than one entry, so nobody", nil
	}
	found = &Found{DN: entries[0].DN, Name: name}
	if by != "" {
		if found.Name = sameName(name, entries[0].GetAttributeValues(by)); found.Name == "" {
			return nil, fmt.Sprintf("%s: %s has another spelling of the name", where, found.DN), ErrSpelling
		}
	}
	for _, v := range entries[0].GetAttributeValues(d.server.Directory.TeamsFrom) {
		found.Teams = append(found.Teams, team(v))
	}
	return found, where + ": " + found.DN, nil
}

// sameName returns which of an entry's names was typed, "" for none: a directory
// may find an entry by a name that is none of its own, such as one with blanks.
func sameName(typed string, names []string) string {
	normal, ok := site.NormalName(typed)
	for _, n := range names {
		if has, good := site.NormalName(n); ok && good && has == normal {
			return n
		}
	}
	return ""
}

// team returns the name of a team: the first value of a group's name, or the
// value itself where it is no name of an entry.
func team(value string) string {
	if dn, err := ldap.ParseDN(value); err == nil && len(dn.RDNs) > 1 && len(dn.RDNs[0].Attributes) > 0 {
		return dn.RDNs[0].Attributes[0].Value
	}
	return value
}

// PasswordIs binds as an entry: the password is right when the directory takes
// it. The error is ErrExpired for one that is right and must be changed first. An empty password is never right: some
// directories take it as nobody's
// (RFC 4513, section 5.1.2).
func (d *Directory) PasswordIs(ctx context.Context, found *Found, password string) (bool, error) {
	if password == "" {
		return false, nil
	}
	c, err := d.dial(ctx)
	if err != nil {
		return false, err
	}
	defer func() { _ = c.Close() }()
	result, err := c.SimpleBind(&ldap.SimpleBindRequest{Username: found.DN, Password: password,
		Controls: []ldap.Control{ldap.NewControlBeheraPasswordPolicy()}})
	switch {
	case expired(result):
		return false, ErrExpired
	case err == nil:
		return true, nil
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials):
		return false, nil
	}
	return false, d.failed(err)
}

// expired reports whether a directory with rules for passwords (the control of
// draft-behera-ldap-password-policy) says that this one is right and expired, or that
// it must be changed first.
func expired(r *ldap.SimpleBindResult) bool {
	if r == nil {
		return false
	}
	policy, ok := ldap.FindControl(r.Controls, ldap.ControlTypeBeheraPasswordPolicy).(*ldap.ControlBeheraPasswordPolicy)
	return ok && (policy.Error == ldap.BeheraPasswordExpired || policy.Error == ldap.BeheraChangeAfterReset)
}

// with runs do on a connection that is bound as who searches. One that was kept
// and has ended meanwhile is made again, once.
func (d *Directory) with(ctx context.Context, do func(*ldap.Conn) error) error {
	for {
		c, kept := d.take()
		if c == nil {
			var err error
			if c, err = d.searcher(ctx); err != nil {
				return err
			}
		}
		err := do(c)
		if err == nil {
			d.keep(c)
			return nil
		}
		_ = c.Close()
		if kept && ldap.IsErrorWithCode(err, ldap.ErrorNetwork) {
			continue
		}
		return d.failed(err)
	}
}

func (d *Directory) take() (c *ldap.Conn, kept bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for len(d.idle) > 0 {
		c = d.idle[len(d.idle)-1]
		d.idle = d.idle[:len(d.idle)-1]
		if !c.IsClosing() {
			return c, true
		}
	}
	return nil, false
}

func (d *Directory) keep(c *ldap.Conn) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.idle) >= mostIdle || c.IsClosing() {
		_ = c.Close()
		return
	}
	d.idle = append(d.idle, c)
}

// searcher opens a connection and binds as who searches.
func (d *Directory) searcher(ctx context.Context) (*ldap.Conn, error) {
	c, err := d.dial(ctx)
	if err != nil || d.server.Directory.BindAs == "" {
		return c, err
	}
	if err := c.Bind(d.server.Directory.BindAs, d.password.Reveal()); err != nil {
		_ = c.Close()
		return nil, d.failed(err)
	}
	return c, nil
}

// dial opens a connection, over TLS where the site says so.
func (d *Directory) dial(ctx context.Context) (*ldap.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, d.server.Timeout)
	defer cancel()
	conn, err := d.reach.Dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDown, err)
	}
	var c *ldap.Conn
	if d.server.Directory.Security == "ldaps" {
		secured := tls.Client(conn, d.reach.TLS)
		_ = conn.SetDeadline(time.Now().Add(d.server.Timeout))
		if err := secured.HandshakeContext(ctx); err != nil {
			_ = conn.Close()
			return nil, fmt.Errorf("%w: the handshake failed: %w", unsecured(ctx), err)
		}
		_ = conn.SetDeadline(time.Time{})
		c = ldap.NewConn(secured, true)
	} else {
		c = ldap.NewConn(conn, false)
	}
	c.Start()
	c.SetTimeout(d.server.Timeout)
	if d.server.Directory.Security == "start" {
		if err := c.StartTLS(d.reach.TLS); err != nil {
			_ = c.Close()
			return nil, fmt.Errorf("%w: StartTLS failed: %v", unsecured(ctx), err)
		}
	}
	return c, nil
}

// unsecured tells a directory that has no TLS with us from one that says nothing in
// time.
func unsecured(ctx context.Context) error {
	if end, ok := ctx.Deadline(); ctx.Err() != nil || ok && time.Until(end) < soon {
		return ErrDown
	}
	return ErrTLS
}

// soon is so close to the end of the time for an answer that it is over.
const soon = 10 * time.Millisecond

// failed returns an error of the protocol as one of ours.
func (d *Directory) failed(err error) error {
	if ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultInsufficientAccessRights,
		ldap.LDAPResultInappropriateAuthentication,
		ldap.LDAPResultStrongAuthRequired, ldap.LDAPResultConfidentialityRequired) {
		return fmt.Errorf("%w: %w", ErrRefusesUs, err)
	}
	if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
		return fmt.Errorf("%w: %s", ErrNoBase, d.server.Directory.Base)
	}
	var said *ldap.Error
	if errors.As(err, &said) && said.ResultCode < ldap.ErrorNetwork { // a code of RFC 4511, and none of the library
		return fmt.Errorf("%w: %w", ErrSays, err)
	}
	return fmt.Errorf("%w: %w", ErrDown, err)
}
