package gate_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/client/ldap/ldaptest"
	"mellowgate/internal/live/store/secrets"
)

// A directory that answers the search and fails before the password is checked
// is no wrong password: the device must go on to its next method.
func TestADirectoryThatFailsBetweenSearchAndBindRefusesNobody(t *testing.T) {
	t.Parallel()
	dir := ldaptest.Start(t, "", "", "")
	keys := site.Keys{"dir": site.NewSecret(ldaptest.Secret)}
	r := startWith(t, keys, time.Now, fmt.Sprintf(`
keys: {k: file k, dir: file dir}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 300ms}
  - {name: dunlin, protocol: ldap, address: 127.0.0.1, port: %d, base: "%s", bind: {dn: "%s", key: dir}, team-attribute: seeAlso, tls: none, timeout: 2s}
devices: [{name: sw, addresses: [127.0.0.1]}]
directories: [dunlin]
people: [{name: ines, teams: [network], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow look]}]
grants: [{who: team network, role: all}]
`, dir.Port, ldaptest.Base, ldaptest.Searcher))
	// The first connection is kept for searches; a second one, for the bind, fails.
	var dials atomic.Int32
	design := designOf(r.site, keys)
	design.Directory = func(*site.Server) ldap.Reach {
		return ldap.Reach{Dial: func(ctx context.Context) (net.Conn, error) {
			if dials.Add(1) > 1 {
				return nil, errors.New("the link went down")
			}
			return (&net.Dialer{}).DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", dir.Port))
		}}
	}
	require.NoError(t, r.gate.Reload(design))
	for _, password := range []string{ldaptest.Password, "wrong"} {
		reply := r.ask("t", login("ebba.lind"), password)
		require.Equal(t, []any{walk.Unavailable, reason.ServerError}, []any{reply.Result, reply.Reason}, password)
		e := r.eventually(reason.DirectoryDown)
		require.Equal(t, []any{evidence.Failed, "ebba.lind"}, []any{e.Answer, e.Person})
		require.Equal(t, walk.Unavailable, r.ask("r", login("ebba.lind"), password).Result, "RADIUS gives no answer")
		r.eventually(reason.DirectoryDown)
	}
	require.Greater(t, dials.Load(), int32(1))
}

// A name that nobody has costs as much as a wrong password, and so does somebody
// whose password is kept readable: a hash is worked out for them too. Only the least that it takes is looked at; a busy
// machine takes
// longer.
func TestAnUnknownNameIsCheckedAsLongAsAWrongPassword(t *testing.T) {
	t.Parallel()
	slow, err := secrets.Hash("right", 64<<10, 2)
	require.NoError(t, err)
	began := time.Now()
	_, err = secrets.PasswordIs(site.Password{Hash: slow}, "wrong", nil)
	require.NoError(t, err)
	hash := time.Since(began)
	const least = 10 * time.Millisecond
	require.Greater(t, hash, least, "the hash is slow enough to be told from none")
	r := startWith(t, site.Keys{}, time.Now, strings.ReplaceAll(`
keys: {k: file k}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 20s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 20s}
devices: [{name: sw, addresses: [127.0.0.1]}]
people: [{name: ines, password: 'SLOW'}, {name: readable, password: key k}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [person ines, person readable], role: all}]
`, "SLOW", slow))
	for _, server := range []string{"t", "r"} {
		for _, person := range []string{"nobody", "ines", "readable"} {
			reply := r.ask(server, login(person), "wrong")
			require.Equal(t, walk.Refused, reply.Result)
			require.Greater(t, reply.Took, least, "%s for %s", server, person)
		}
	}
}

// Every question that is answered with an error or a refusal says so, and only
// what gets no answer is called dropped.
func TestAnEventSaysWhatBecameOfTheQuestion(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, c := range []struct {
		ask    func() walk.Reply
		why    reason.Reason
		answer evidence.Answer
		result walk.Result
	}{
		{func() walk.Reply { return r.ask("t", login("ines"), "right", withKey("another key")) }, reason.KeyDiffers,
			evidence.Failed,
			walk.Unavailable},
		{func() walk.Reply { return r.ask("r", login("ines"), "right", withKey("another key")) }, reason.KeyDiffers,
			evidence.Dropped,
			walk.Unavailable},
		{func() walk.Reply { return r.ask("t", login("ines"), "wrong") }, reason.WrongPassword, evidence.Refused,
			walk.Refused},
		{func() walk.Reply { return r.ask("t", login("ines"), "right") }, reason.Accepted, evidence.Accepted,
			walk.Accepted},
		{func() walk.Reply { return r.ask("t", login("ines"), "right", from("127.0.0.77")) }, reason.ClientUnknown,
			evidence.Dropped,
			walk.Unavailable},
	} {
		reply := c.ask()
		e := r.eventually(c.why)
		require.Equal(t, []any{c.answer, c.result}, []any{e.Answer, reply.Result}, "%s", c.why)
	}
}
