package serve

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/server/journal"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// said is what a service says, line by line.
type said struct {
	mu    sync.Mutex
	lines []string
}

func (s *said) say(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lines = append(s.lines, text)
}

func (s *said) waits(t *testing.T, text string) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		s.mu.Lock()
		defer s.mu.Unlock()
		assert.Contains(c, strings.Join(s.lines, "\n"), text)
	}, 20*time.Second, 5*time.Millisecond)
}

// rig is a service of a small site.
type rig struct {
	*testing.T
	said
	dir, text string
	at        netip.Addr
	hangups   chan os.Signal
	folder    *state.Folder
}

func newRig(t *testing.T) *rig {
	network := labtest.Network(t)
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	r := &rig{T: t, dir: t.TempDir(), at: labtest.Host(network, 0, 1), hangups: make(chan os.Signal, 1)}
	r.text = strings.NewReplacer("AT", r.at.String(), "FROM", labtest.Host(network, 0, 9).String(), "HASH", hash).
		Replace(`site: Served
keys: {k: clear a-key-of-this-test-only}
servers:
  - {name: t, protocol: tacacs, address: AT, port: 4949, key: k, run: true}
  - {name: other, protocol: tacacs, address: AT, port: 4950, key: k}
devices: [{name: sw, addresses: [FROM]}]
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
lab: {only: true}
`)
	r.write(r.text)
	r.folder, err = state.Create(filepath.Join(r.dir, "state"))
	require.NoError(t, err)
	return r
}

func (r *rig) write(text string) {
	require.NoError(r, os.WriteFile(filepath.Join(r.dir, "site.yaml"), []byte(text), 0o600))
}

func (r *rig) load() (sitefile.Opened, error) {
	path := filepath.Join(r.dir, "site.yaml")
	s, base, err := sitefile.Load(path)
	if err != nil {
		return sitefile.Opened{}, err
	}
	keys, _ := secrets.Keys(s, base, secrets.Unlock{})
	return sitefile.Opened{Site: s, Path: path, Base: base, Keys: keys}, nil
}

func (r *rig) config() Config {
	o, err := r.load()
	require.NoError(r, err)
	return Config{Site: o, Folder: r.folder, Load: r.load, Hangups: r.hangups,
		Journal: journal.New(journal.Plain, io.Discard, r.say, nil),
		Servers: func(o sitefile.Opened) ([]*site.Server, error) {
			var run []*site.Server
			for _, s := range o.Servers {
				if s.Run {
					run = append(run, s)
				}
			}
			return run, nil
		}}
}

// ask asks for a login as the device, and returns the result.
func (r *rig) ask(port uint16) walk.Result {
	o, err := r.load()
	require.NoError(r, err)
	s := o.Server("t")
	x := aaa.Begin(context.Background(), aaa.Target{Server: s, Authentication: netip.AddrPortFrom(r.at, port),
		From: o.Device("sw").Source, Key: site.NewSecret("a-key-of-this-test-only")},
		walk.Question{Purpose: site.Login, Person: "ines"}, aaa.Asker{Device: "sw", Port: "ssh0", Password: "right"})
	defer x.Close()
	return x.Try(1).Result
}

func TestAServiceFollowsItsSiteAndKeepsTheOldOneWhenTheNewIsBroken(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		started, err := Run(ctx, r.config())
		if !started {
			err = errors.Join(err, errors.New("it did not start"))
		}
		ended <- err
	}()
	r.waits(t, "ready")
	require.Equal(t, walk.Accepted, r.ask(4949))
	places, err := r.folder.Places()
	require.NoError(t, err)
	require.Len(t, places.Servers, 1, "only what runs")
	require.Equal(t, []any{"t", uint16(4949), true}, []any{places.Servers[0].Name, places.Servers[0].Port,
		places.Servers[0].Running})
	require.True(t, filepath.IsAbs(places.SitePath))

	r.write(strings.Replace(r.text, "teams: [net]", "teams: [nobody]", 1))
	r.waits(t, "the site was read again and is in use")
	require.Equal(t, walk.Refused, r.ask(4949), "a change of the file is taken by itself")

	r.write(strings.Replace(r.text, "port: 4949", "port: 4951", 1) +
		"service: {metrics: \"127.0.0.1:1\", ledger: \"folder x\"}\n")
	r.hangups <- syscall.SIGHUP
	r.waits(t, "t: TACACS+ on "+r.at.String()+":4951")
	r.waits(t, "t: ended on "+r.at.String()+":4949")
	r.waits(t, "service.ledger is taken when serve starts")
	r.waits(t, "service.metrics is taken when serve starts")
	require.Equal(t, walk.Accepted, r.ask(4951))

	r.write("site: [\n")
	r.hangups <- syscall.SIGHUP
	r.waits(t, "the site was not taken, and the old one stays in use:\n")
	stop()
	require.NoError(t, <-ended)
	require.NoError(t, r.folder.Close())
	for _, l := range r.lines {
		require.NotContains(t, l, "service.traffic", "what did not change is not named")
	}
}

// A list of devices that comes in part is not taken, unless that is said to be meant.
func TestASiteThatLostManyDevicesIsTakenOnlyWhenThatIsMeant(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	many := func(n int) string {
		more := ""
		for i := range n {
			more += fmt.Sprintf("{name: more-%d, addresses: [192.0.2.%d]}, ", i, i+1)
		}
		return strings.Replace(r.text, "devices: [", "devices: ["+more, 1)
	}
	r.write(many(8))
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		_, err := Run(ctx, r.config())
		ended <- err
	}()
	r.waits(t, "ready")
	r.write(many(5))
	r.hangups <- syscall.SIGHUP
	r.waits(t, "the site was read again and is in use; 3 devices gone: more-5, more-6, more-7")
	r.write(many(2))
	r.hangups <- syscall.SIGHUP
	r.waits(t, "3 of 6 devices would be gone: a list that could not be exported whole looks so. If it is meant, "+
		"send SIGHUP once more within a minute, or say service: {may-shrink: true}")
	r.hangups <- syscall.SIGHUP
	r.waits(t, "the site was read again and is in use; 3 devices gone: more-2, more-3, more-4")
	r.write(many(9))
	r.hangups <- syscall.SIGHUP
	r.waits(t, "the site was read again and is in use; 7 devices new: more-2, more-3, more-4, more-5, more-6, ...")
	r.write(many(1) + "service: {may-shrink: true}\n")
	r.hangups <- syscall.SIGHUP
	r.waits(t, "the site was read again and is in use; 8 devices gone: more-1, ")
	stop()
	require.NoError(t, <-ended)
	require.NoError(t, r.folder.Close())
}

func TestAChangeThatComesAsSoonAsTheServiceIsReadyIsTaken(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	c := r.config()
	c.Journal = journal.New(journal.Plain, io.Discard, func(text string) {
		if text == "ready" {
			r.write(strings.Replace(r.text, "teams: [net]", "teams: [nobody]", 1))
		}
		r.say(text)
	}, nil)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		_, err := Run(ctx, c)
		ended <- err
	}()
	r.waits(t, "the site was read again and is in use")
	require.Equal(t, walk.Refused, r.ask(4949))
	stop()
	require.NoError(t, <-ended)
	require.NoError(t, r.folder.Close())
}

func TestAServiceThatCannotStartChangesNothing(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	c := r.config()
	c.Site.Server("t").Address = "192.0.2.1"
	started, err := Run(context.Background(), c)
	require.False(t, started)
	require.ErrorContains(t, err, "this host does not have that address")
	require.NoFileExists(t, filepath.Join(r.folder.Dir, "places.json"))

	none := errors.New("no server is chosen")
	c = r.config()
	c.Servers = func(sitefile.Opened) ([]*site.Server, error) { return nil, none }
	started, err = Run(context.Background(), c)
	require.False(t, started)
	require.ErrorIs(t, err, none)
	require.NoError(t, r.folder.Close())
}
