package aaa

import (
	"context"
	"errors"
	"net"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/ldap"
)

// directoryExchange asks an LDAP server: who is that, and is this the password?
type directoryExchange struct {
	ctx       context.Context
	target    Target
	q         walk.Question
	asker     Asker
	directory *ldap.Directory
}

func newDirectory(ctx context.Context, t Target, q walk.Question, a Asker) *directoryExchange {
	endpoint := t.Authentication
	if !endpoint.IsValid() { // as the site says, which may be a host name
		return &directoryExchange{ctx: ctx, target: t, q: q, asker: a,
			directory: ldap.New(t.Server, t.Key, ldap.Reach{TLS: t.TLS})}
	}
	reach := ldap.Reach{TLS: t.TLS,
		Dial: func(ctx context.Context) (net.Conn, error) { return t.Dialer.Dial(ctx, "tcp", t.From, endpoint) }}
	return &directoryExchange{ctx: ctx, target: t, q: q, asker: a, directory: ldap.New(t.Server, t.Key, reach)}
}

// Close ends the connections.
func (e *directoryExchange) Close() { e.directory.Close() }

// Try asks once. Only logins are asked of a directory.
func (e *directoryExchange) Try(int) walk.Reply {
	began := time.Now()
	if e.q.Purpose != site.Login {
		return lost(reason.NotForThis, "a directory knows passwords only", began)
	}
	refused := func(message string) walk.Reply {
		return walk.Reply{Result: walk.Refused, Reason: reason.RefusedByServer, Message: message,
			Answer: walk.SaidReject,
			Took:   time.Since(began)}
	}
	found, where, err := e.directory.Find(e.ctx, e.q.Person)
	if err == nil && found == nil || errors.Is(err, ldap.ErrSpelling) {
		return refused(where)
	}
	ok := false
	if err == nil {
		ok, err = e.directory.PasswordIs(e.ctx, found, e.asker.Password)
	}
	switch {
	case errors.Is(err, ldap.ErrExpired):
		return refused(err.Error())
	case errors.Is(err, ldap.ErrRefusesUs):
		return lost(reason.DirectoryRefuses, "it refuses who searches", began)
	case errors.Is(err, ldap.ErrNoBase):
		return lost(reason.DirectoryNoBase, err.Error(), began)
	case errors.Is(err, ldap.ErrTLS):
		return lost(reason.TLS, err.Error(), began)
	case errors.Is(err, ldap.ErrSays):
		return lost(reason.ServerError, err.Error(), began)
	case err != nil:
		why, message := failure(err)
		return lost(why, message, began)
	case !ok:
		return refused("the directory does not take the password of " + found.DN)
	}
	return walk.Reply{Result: walk.Accepted, Message: found.DN, Answer: walk.SaidAccept, Took: time.Since(began)}
}
