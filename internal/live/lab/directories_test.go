package lab_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/testscale"
)

// person is somebody whom the directory alone knows. The password is another
// one each time that what a server remembers must not help.
const person = "ebba.lind"

// set puts a fault into effect, and returns what lifts it.
func (r *rig) set(text string) func() {
	f, err := lab.ParseFault(r.site, text)
	require.NoError(r.t, err)
	r.Set(f)
	return func() { require.True(r.t, r.Lift(f)) }
}

// cause returns the first cause of the newest login.
func (r *rig) cause() string {
	e, _, err := r.state.Evidence()
	require.NoError(r.t, err)
	e.Site, e.Keys = r.site, r.keys
	v := diagnose.Explain(e, diagnose.Symptom{Person: person, Access: site.SSH})
	require.True(r.t, v.Found)
	if v.Healthy {
		return ""
	}
	return v.Causes[0].Cause
}

func TestADirectoryThatALabPlaysCanBeTakenAway(t *testing.T) {
	t.Parallel()
	for _, security := range []string{"ldaps", "none", "start"} {
		t.Run(security, func(t *testing.T) { takenAway(t, security) })
	}
}

func takenAway(t *testing.T, security string) {
	r := start(t, func(s *site.Site) {
		s.Server("dunlin").Directory.Security = security
		for _, v := range s.Servers {
			v.DeadTime, v.Timeout = 0, 9*time.Second
		}
		s.Server("dunlin").Timeout = 3 * time.Second // below that of the servers that ask it, and above a busy machine
	})
	seen := r.login("north-sw-1", site.SSH, person, "")
	require.Equal(t, walk.OutcomeIn, seen.Outcome, security)
	require.Equal(t, 1, seen.Level)
	require.Equal(t, walk.OutcomeRefused, r.login("north-sw-1", site.SSH, person, "wrong").Outcome)
	require.Equal(t, diagnose.WrongPassword, r.cause())
	if security != "start" {
		return
	}
	tried := 0
	for fault, want := range map[string]string{"dunlin silent": diagnose.DirectoryDown,
		"dunlin closed": diagnose.DirectoryDown,
		"dunlin error":  diagnose.DirectoryDown, "dunlin key-differs": diagnose.DirectoryRefusesUs,
		"dunlin slow 5s": diagnose.DirectoryDown, "dunlin no-way": diagnose.DirectoryDown,
		"dunlin base-differs": diagnose.DirectoryNoBase, "dunlin no-tls": diagnose.DirectoryTLS,
		"dunlin name-differs": diagnose.DirectoryTLS} {
		if tried++; !testscale.One(tried, 4) {
			continue
		}
		lift := r.set(fault)
		require.Equal(t, walk.OutcomeRefused, r.login("north-sw-1", site.SSH, person, "").Outcome, fault)
		require.Equal(t, want, r.cause(), fault)
		require.Equal(t, walk.OutcomeIn, r.login("north-sw-1", site.SSH, "ines.marsh", "").Outcome,
			"people of the site need no directory")
		lift()
		require.Eventually(t, func() bool {
			return r.login(
				"north-sw-1", site.SSH, person, "").Outcome == walk.OutcomeIn
		},
			10*time.Second, 10*time.Millisecond, fault)
	}
}

func TestADirectoryTakesOnlyItsOwnFaults(t *testing.T) {
	t.Parallel()
	r := start(t)
	_, err := lab.ParseFault(r.site, "dunlin client-unknown")
	require.ErrorContains(t, err, "dunlin is a directory, which can be silent, closed, no-way, slow, key-differs, "+
		"error, base-differs, no-tls, name-differs")
	_, err = lab.ParseFault(r.site, "tern base-differs")
	require.ErrorContains(t, err, "tern is no directory")
}

// A device that asks a directory itself gets its answers from the lab's too.
func TestADeviceAsksADirectoryItself(t *testing.T) {
	t.Parallel()
	r := start(t, func(s *site.Site) {
		group := &site.Group{Ref: site.Ref{Name: "book"}, Servers: []*site.Server{s.Server("dunlin")}}
		for _, way := range s.Device("hq-fw-1").Ways {
			way.Lists[site.Login] = &site.List{Ref: site.Ref{Name: "by-book"}, Purpose: site.Login,
				Methods: []site.Method{site.AskGroup(group), {Kind: site.ByLocal}}}
		}
	})
	require.Equal(t, walk.OutcomeIn, r.login("hq-fw-1", site.SSH, person, "").Outcome)
	require.Equal(t, walk.OutcomeRefused, r.login("hq-fw-1", site.SSH, person, "wrong").Outcome)
	require.Equal(t, walk.OutcomeRefused, r.login("hq-fw-1", site.SSH, "harbourmaster", "").Outcome,
		"the directory answers, and does not know the name")
	for _, fault := range []string{"dunlin silent", "dunlin closed", "dunlin error", "dunlin key-differs",
		"dunlin no-way", "dunlin base-differs", "dunlin no-tls", "dunlin name-differs"} {
		r.Wake(r.site.Device("hq-fw-1"))
		lift := r.set(fault)
		require.Equal(t, walk.OutcomeIn, r.login("hq-fw-1", site.SSH, "harbourmaster", "").Outcome, fault)
		lift()
	}
}
