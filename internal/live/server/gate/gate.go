// Package gate is the AAA service: RADIUS and TACACS+ listeners in front of
// one decision. The listeners translate; rights.Decide decides. Every decision
// is an event with its reason, and an accounting record is answered only once
// the ledger has it on disk.
package gate

import (
	"context"
	"crypto/tls"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/capture"
)

// Keeper keeps records. A record is safe once what comes back was waited for; one that was
// begun with Note is tried again where it cannot be written at once.
type Keeper interface {
	Begin(r ledger.Record) (ledger.Written, error)
	Note(r ledger.Record) (ledger.Written, error)
}

// Config is what a gate works from. Design and Ledger are needed.
type Config struct {
	Design
	Ledger  Keeper
	Events  func(evidence.Event) // default: nowhere
	Capture *capture.Writer      // default: none
	// Credentials has the capture keep what proves who somebody is, which the keys open.
	// Default: it is veiled.
	Credentials bool
	// UsedCodes are the newest one-time codes that were used before, by person and
	// time step; KeepCodes is given each one that is used, and all of them, and the code
	// is taken only when it has kept them. Default: none, and nowhere.
	UsedCodes map[string]int64
	KeepCodes func(person string, step int64, all map[string]int64) error
	// Learned is told of a login that failed, by the name in its folded form and the source,
	// and of a name that a directory has, with no source: for other nodes. Default: nobody is.
	Learned func(name, source string, at time.Time)
	// Explain is given how each decision came about. Default: nobody asks.
	Explain func(*site.Site, evidence.Event, []rights.Step)
	Now     func() time.Time // default: time.Now
	// Took is told how long an answer took, from when the question was read until the answer
	// was ready to send, with what was waited for on purpose. Default: nobody is.
	Took func(server string, q site.Question, d time.Duration)
	// Say is told what an administrator should mend in the site. Default: nobody.
	Say func(string)
	// Front stands between clients and the servers. Default: nothing does.
	Front Front
}

// Front stands between clients and a server, which it names, as each client meets that server.
type Front interface {
	// Meets reports whether a client finds the server to know it, where the site says that it does.
	Meets(server string, client netip.Addr) bool
	// Waits reports whether Admit may take its time for a client.
	Waits(server string, client netip.Addr) bool
	// Admit returns why a question is not answered, in a word and in a sentence, and whether it is not. It may
	// wait first, and then at most until ctx ends.
	Admit(ctx context.Context, server string, client netip.Addr, p site.Purpose) (why reason.Reason, text string,
		stopped bool)
}

// open is a front with nothing in the way.
type open struct{}

func (open) Meets(string, netip.Addr) bool { return true }
func (open) Waits(string, netip.Addr) bool { return false }
func (open) Admit(context.Context, string, netip.Addr, site.Purpose) (reason.Reason, string, bool) {
	return "", "", false
}

// Place is where one server of the site listens. A port of 0 takes any free one.
type Place struct {
	Server         *site.Server
	Authentication netip.AddrPort // for TACACS+, where everything is asked
	Accounting     netip.AddrPort // RADIUS only
	TLS            *tls.Config    // for a server over TLS
}

// Gate is a running service.
//
// It is safe for use by several goroutines. mu guards ports; the design is
// swapped whole. Each port and connection has a goroutine of its own, counted in
// running; Shutdown ends them and waits.
type Gate struct {
	config      Config
	design      atomic.Pointer[snapshot]
	connections atomic.Int64 // that are open
	codes       *guard.Codes
	challenges  guard.Challenges
	floods      guard.Floods[reason.Reason]
	rates       guard.Rates
	failures    *guard.Failures
	verified    *guard.Verified
	queue       *guard.FairQueue
	hashing     *guard.Hashing
	judging     singleflight.Group // of passwords, by name
	guesses     *guard.Guesses
	// confirmed are names that a directory was seen to have.
	confirmed guard.Names
	unnamed   guard.Once // names of ports that say nothing
	mu        sync.Mutex
	ports     map[string]*port // by the name of the server
	ctx       context.Context
	stop      context.CancelFunc
	running   routine.Group
	workers   *guard.Workers // serve connections
}

// New makes a gate that listens nowhere yet.
func New(c Config) *Gate {
	if c.Events == nil {
		c.Events = func(evidence.Event) {}
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	if c.Front == nil {
		c.Front = open{}
	}
	g := &Gate{config: c, ports: map[string]*port{}, queue: guard.NewFairQueue(), guesses: guard.NewGuesses(),
		hashing: guard.NewHashing(c.Design.Site.Service.Limits.HashMemory), failures: guard.NewFailures(),
		codes: guard.NewCodes(c.UsedCodes, c.KeepCodes)}
	if c.Learned == nil {
		g.config.Learned = func(string, string, time.Time) {}
	}
	if c.Took == nil {
		g.config.Took = func(string, site.Question, time.Duration) {}
	}
	g.verified = guard.NewVerified()
	g.design.Store(snapshotOf(c.Design, g.verified))
	g.ctx, g.stop = context.WithCancel(context.Background())
	g.workers = guard.NewWorkers(g.ctx, &g.running)
	return g
}

// LearnFailure counts a login that failed at another node.
func (g *Gate) LearnFailure(name, source string, moment time.Time) {
	g.failures.Note(name, source, moment)
}

// LearnName notes a name that a directory has, as another node has seen.
func (g *Gate) LearnName(name string) { g.confirmed.Note(name) }

// Connections returns how many connections are open.
func (g *Gate) Connections() int64 { return g.connections.Load() }

// Hashing returns how many passwords wait to be checked, or are being checked.
func (g *Gate) Hashing() int { return g.hashing.Busy() }

// Shutdown takes no more questions, answers those that it has, closes every
// port and waits until everything has ended.
func (g *Gate) Shutdown() {
	g.stop()
	g.mu.Lock()
	for _, o := range g.ports {
		o.drain()
	}
	g.mu.Unlock()
	g.running.Wait()
	g.design.Load().directories.close()
}
