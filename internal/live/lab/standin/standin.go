// Package standin is simulated devices: ways in, a small shell, and a trace.
// How a stand-in decides is not here but in core/walk; it gets the walker's
// answers from real packets, sent by package aaa.
package standin

import (
	"context"
	"crypto/tls"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/lab/standin/config"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/routine"
)

// Config is what a stand-in works from.
type Config struct {
	Device  *site.Device
	Keys    site.Keys
	Targets map[*site.Server]aaa.Target // how it reaches each server
	HostKey ssh.Signer
	// Certificate is for the web pages and the API.
	Certificate tls.Certificate
	Only        *site.Way              // the one way in that everybody enters by; default: the one of the free line
	Trace       func(evidence.Trace)   // default: nowhere
	Log         func(evidence.LogLine) // default: nowhere
	Counted     func([]evidence.Count) // told the counters when a login or a session is over; default: nobody
	Now         func() time.Time       // default: time.Now
	// From gives the address from which it asks where it is configured to ask from
	// another source; default: that source itself.
	From func(source netip.Addr) netip.Addr
	// Arrive is the address that people come from, as the device says it; the zero
	// Addr: the one that they have.
	Arrive netip.Addr
	// Speech makes it speak the words of a make at its command line; nil: a small shell of
	// its own.
	Speech *Speech
}

// Device is a running stand-in.
//
// mu guards what changes: the design in use, the books, the lines. Each way in
// and each visitor has a goroutine of its own; Shutdown ends them and waits.
type Device struct {
	config   Config
	rests    walk.Rests
	epoch    time.Time
	mu       sync.Mutex
	started  bool
	current  *site.Device            // as it is configured now
	known    []aaa.Target            // the servers of the surroundings
	speaks   *speaking               // nil: it has the small shell
	shown    site.Keys               // the secrets of what was typed, by the names that the text gives them
	store    *config.Store           // the configuration as NETCONF sees it
	lines    map[string]map[int]bool // lines in use, by way in
	notebook notebook
	board    board
	pages    pages // sessions of the web and the API
	next     atomic.Int64
	ctx      context.Context
	stop     context.CancelFunc
	running  routine.Group
	closers  []func() error
}

// board is what the shell's changing commands change.
type board struct {
	Banner string
	Ports  map[int]bool
	Saved  bool
}

// New makes a stand-in that has no way in open yet.
func New(c Config) *Device {
	if c.Trace == nil {
		c.Trace = func(evidence.Trace) {}
	}
	if c.Log == nil {
		c.Log = func(evidence.LogLine) {}
	}
	if c.Counted == nil {
		c.Counted = func([]evidence.Count) {}
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	d := &Device{config: c, epoch: c.Now(), current: c.Device, lines: map[string]map[int]bool{}, notebook: newBooks(),
		board: board{Banner: "none", Ports: map[int]bool{1: true, 2: true, 3: true, 4: true}, Saved: true}}
	d.store = config.New(owner{d}, c.Keys, c.Device.Platform.Behaviour)
	for _, t := range c.Targets {
		d.known = append(d.known, t)
	}
	d.shown = site.Keys{}
	if c.Speech != nil {
		d.speaks = newSpeaking(d, *c.Speech)
	}
	d.ctx, d.stop = context.WithCancel(context.Background())
	if d.speaks != nil && c.Speech.Holds {
		d.speaks.use(c.Speech.Text)
	}
	return d
}

// design returns the device as it is configured now.
func (d *Device) design() *site.Device {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.current
}

// SetKey returns the device another key for a server.
func (d *Device) SetKey(s *site.Server, key site.Secret) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for have, t := range d.config.Targets { // by name: a reconfigured device has servers of its own
		if have.Name == s.Name {
			t.Key = key
			d.config.Targets[have] = t
		}
	}
}

// Wake ends the rest of every server.
func (d *Device) Wake() {
	d.mu.Lock()
	servers := slices.Collect(maps.Keys(d.config.Targets))
	d.mu.Unlock()
	d.rests.Wake(servers...)
}

// says keeps the record that the device has started, or stops, where a list is
// for that.
func (d *Device) says(start bool) {
	for _, way := range d.design().Ways {
		v := d.arrive(way, 0, netip.AddrPort{})
		v.from, v.asker = "",
			aaa.Asker{Device: d.design().Name, Session: fmt.Sprintf("%s-%x", d.design().Name, d.epoch.Unix())}
		if v.visit.System(d.now(), start) {
			d.noteSteps(d.design().Name, v.visit.Steps)
			return
		}
	}
}

// Started keeps the record that the device has started; Shutdown that it stops.
// It does not wait for the servers.
func (d *Device) Started() {
	d.logs("started")
	d.mu.Lock()
	d.started = true
	d.mu.Unlock()
	d.running.Go(func() { d.says(true) })
}

// stops is how long a device that stops waits for its record to be kept.
const stops = time.Second

// Shutdown closes every way in, ends the sessions and waits for them.
func (d *Device) Shutdown() {
	d.mu.Lock()
	was := d.started
	d.started = false
	d.mu.Unlock()
	if was {
		timer := routine.AfterFunc(stops, d.stop)
		d.says(false)
		timer.Stop()
	}
	d.mu.Lock()
	for _, f := range d.closers {
		_ = f()
	}
	d.closers = nil
	d.mu.Unlock()
	d.stop()
	d.running.Wait()
	if d.speaks != nil {
		d.speaks.close()
	}
	d.store.Close()
}

func (d *Device) closing(f func() error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closers = append(d.closers, f)
}

// takeLine returns the lowest free line of a way in, and the way that holds on it.
func (d *Device) takeLine(access string) (int, *site.Way, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	used := d.lines[access]
	if used == nil {
		used = map[int]bool{}
		d.lines[access] = used
	}
	for line := range 4096 {
		if used[line] {
			continue
		}
		if way := d.current.WayOfLine(access, line); way != nil && (d.config.Only == nil || way == d.config.Only) {
			used[line] = true
			return line, way, true
		}
	}
	return 0, nil, false
}

func (d *Device) freeLine(access string, line int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.lines[access], line)
}

// visitor is one person at one line of one way in. It is the walker's world.
type visitor struct {
	device   *Device
	visit    *walk.Visit
	asker    aaa.Asker
	line     string // such as ssh0
	person   string
	from     string
	entry    walk.Entry
	entered  time.Time
	password string
	// answers a server that asks for a one-time code; nil: nobody can be asked
	code  func(prompt string) (string, bool)
	level int // what the person has now: an elevation may have raised it
	id    int64
	hang  func()      // ends the session from outside
	ended atomic.Bool // so it was
}

// arrive begins a visit.
func (d *Device) arrive(way *site.Way, line int, from netip.AddrPort) *visitor {
	comes := from.Addr().Unmap()
	if d.config.Arrive.IsValid() {
		comes = d.config.Arrive
	}
	v := &visitor{device: d, line: d.config.Device.Platform.Behaviour.PortNames.Port(way.Access, line),
		from: comes.String()}
	v.visit = &walk.Visit{Device: d.design(), Way: way, World: v, Rests: &d.rests, From: comes}
	return v
}

func (d *Device) now() time.Duration { return d.config.Now().Sub(d.epoch) }

// enter tries one name and password.
func (v *visitor) enter(person, password string) walk.Entry {
	d := v.device
	v.person, v.password = person, password
	v.asker = aaa.Asker{Device: d.design().Name, Port: v.line, From: v.from, Password: password, Code: v.code,
		Session: fmt.Sprintf("%s-%x-%d", d.design().Name, d.epoch.Unix(), d.next.Add(1))}
	v.visit = &walk.Visit{Device: v.visit.Device, Way: v.visit.Way, World: v, Rests: v.visit.Rests, From: v.visit.From,
		Now: d.now()}
	v.entry = v.visit.Enter(person)
	v.entered, v.level = d.config.Now(), v.entry.Level
	v.password, v.asker.Password = "", ""
	t := v.trace(evidence.TraceLogin, v.visit.Steps)
	t.Outcome = walk.OutcomeRefused
	t.Level = v.entry.Level
	t.By = v.entry.By
	t.Reason = v.entry.Reason
	t.Seconds = v.entry.Wait.Seconds()
	d.logServers(person, v.visit.Steps)
	if v.entry.In {
		t.Outcome = walk.OutcomeIn
	} else {
		d.refusedLogin(v)
	}
	d.noteSteps(person, v.visit.Steps)
	d.config.Trace(t)
	d.config.Counted(d.Counts())
	return v.entry
}

// command asks whether a command may run.
func (v *visitor) command(line string, level int) walk.Verdict {
	before := len(v.visit.Steps)
	verdict := v.visit.Command(v.device.now(), line, level)
	v.device.noteSteps(v.person, v.visit.Steps[before:])
	v.device.logServers(v.person, v.visit.Steps[before:])
	t := v.trace(evidence.TraceCommand, v.visit.Steps[before:])
	t.Command = line
	t.Level = v.level
	t.By = verdict.By
	t.Reason = verdict.Reason
	t.Seconds = verdict.Wait.Seconds()
	t.Outcome = walk.OutcomeRefused
	if verdict.Allowed {
		t.Outcome = walk.OutcomeAllowed
	}
	v.device.config.Trace(t)
	return verdict
}

// raise asks for a higher level, with the password or the secret for it.
func (v *visitor) raise(level int, password string) walk.Verdict {
	before := len(v.visit.Steps)
	v.password, v.asker.Password = password, password
	verdict := v.visit.Elevate(v.device.now(), level)
	v.password, v.asker.Password = "", ""
	v.device.noteSteps(v.person, v.visit.Steps[before:])
	v.device.logServers(v.person, v.visit.Steps[before:])
	t := v.trace(evidence.TraceRaise, v.visit.Steps[before:])
	t.Level = v.level
	t.By = verdict.By
	t.Reason = verdict.Reason
	t.Seconds = verdict.Wait.Seconds()
	t.Outcome = walk.OutcomeRefused
	if verdict.Allowed {
		t.Level, t.Outcome = max(v.level, level), walk.OutcomeAllowed
	}
	v.device.config.Trace(t)
	v.device.config.Counted(v.device.Counts())
	if verdict.Allowed {
		v.device.mu.Lock()
		v.level = max(v.level, level)
		v.device.mu.Unlock()
		v.device.logs("%s has raised the level of line %s to %d", printed(v.person), v.line, level)
	} else {
		v.device.logs("%s was refused level %d on line %s: %s", printed(v.person), level, v.line, verdict.Reason)
	}
	return verdict
}

// leave ends the session.
func (v *visitor) leave() {
	if !v.entry.In {
		return
	}
	v.device.gone(v)
	before := len(v.visit.Steps)
	v.visit.Leave(v.device.now(), v.device.config.Now().Sub(v.entered))
	v.device.noteSteps(v.person, v.visit.Steps[before:])
	v.device.logServers(v.person, v.visit.Steps[before:])
	v.device.config.Counted(v.device.Counts())
	t := v.trace(evidence.TraceGoodbye, v.visit.Steps[before:])
	t.Outcome, t.Level = walk.OutcomeOut, v.entry.Level
	v.device.config.Trace(t)
}

// Begin asks a server with a real packet.
func (v *visitor) Begin(s *site.Server, q walk.Question) walk.Exchange {
	v.device.mu.Lock()
	target, known := v.device.config.Targets[s]
	for have, t := range v.device.config.Targets { // a session that began before a change of the configuration
		if !known && have.Name == s.Name {
			target, known = t, true
		}
	}
	v.device.mu.Unlock()
	if !known {
		return nowhere{server: s}
	}
	as := v.asker
	as.Ended = v.ended.Load()
	as.Form = v.device.design().Platform.Behaviour.PasswordAs.Of(s.Protocol)
	if target.Dialer == nil {
		target.Dialer = aaa.Net{}
	}
	target.Dialer = countedDialer{Dialer: target.Dialer, device: v.device, server: s.Name, question: q.Purpose}
	return counted{Exchange: aaa.Begin(v.device.ctx, target, q, as), device: v.device, server: s, question: q.Purpose}
}

// PasswordIs checks a local account's password.
func (v *visitor) PasswordIs(a *site.Account) bool {
	return v.passwordIs(a.Password)
}

// passwordIs checks a password by the keys of the site, and those that were typed.
func (v *visitor) passwordIs(p site.Password) bool {
	keys := v.device.config.Keys
	v.device.mu.Lock()
	if len(v.device.shown) > 0 {
		keys = maps.Clone(keys)
		maps.Copy(keys, v.device.shown)
	}
	v.device.mu.Unlock()
	ok, err := secrets.PasswordIs(p, v.password, keys)
	return err == nil && ok
}

// SecretIs checks the secret given for an elevation.
func (v *visitor) SecretIs(e *site.ElevationSecret) bool {
	return v.passwordIs(e.Password)
}

// nowhere is a server that the device has no way to.
type nowhere struct{ server *site.Server }

func (n nowhere) Try(int) walk.Reply {
	return walk.Reply{Result: walk.Unavailable, Reason: reason.Silent, Message: "the server's address leads nowhere"}
}
func (n nowhere) Close() {}

// counted counts the result of the tries.
type counted struct {
	walk.Exchange
	device   *Device
	server   *site.Server
	question site.Purpose
}

func (c counted) Try(n int) walk.Reply {
	r := c.Exchange.Try(n)
	c.device.count(c.server, c.question, r)
	return r
}

func (v *visitor) trace(kind evidence.TraceKind, steps []walk.Step) evidence.Trace {
	t := evidence.Trace{Time: v.device.config.Now(), Device: v.device.design().Name, Access: v.visit.Way.Name(),
		Line:   v.line,
		Person: v.person, From: v.from, Kind: kind, Steps: []evidence.TraceStep{}}
	for _, s := range steps {
		t.Steps = append(t.Steps, evidence.StepOf(s))
	}
	return t
}
