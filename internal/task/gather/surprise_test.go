//go:build long

package gather_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/gather"
)

// Faults at random on another site than that of the cases: on devices, ways in
// and lists for which no weight was chosen.
func TestSurprises(t *testing.T) {
	t.Parallel()
	const draws = 120
	const path = "../../../demo/as-reviewed/site.yaml"
	s, _, err := sitefile.Load(path)
	require.NoError(t, err)
	keys, missing := secrets.Keys(s, "../../../demo", secrets.Unlock{})
	require.Empty(t, missing)
	for _, v := range s.Servers {
		v.Timeout, v.DeadTime = v.Timeout/5, 0
	}
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	l, err := lab.Start(lab.Config{Site: s, SitePath: path, Keys: keys, State: folder,
		Network: labtest.Network(t)})
	require.NoError(t, err)
	defer func() { l.Shutdown(); _ = folder.Close() }()
	v := &studio{Lab: l, t: t, site: s, keys: keys, folder: folder}
	password := func(name string) string {
		text, err := os.ReadFile("../../../demo/passwords/" + name)
		require.NoError(t, err)
		return string(text[:len(text)-1])
	}
	r := rand.New(rand.NewPCG(7, 11))
	right, wrong := 0, 0
	for n := range draws {
		d := s.Devices[r.IntN(len(s.Devices))]
		way := []string{site.SSH, site.Console}[r.IntN(2)]
		person, secret, want := "ines.marsh", password("ines.marsh"), ""
		servers := d.Way(way).Lists[site.Login].Servers()
		faults := []string{"key-differs", "client-unknown", "closed", "silent", "slow 900ms", "password", "unknown",
			"disabled", "local", "grant", "fallback", "well"}
		fault := faults[r.IntN(len(faults))]
		switch fault {
		case "password":
			secret, want = "wrong", diagnose.WrongPassword
		case "unknown":
			person, want = "ines.mrash", diagnose.UnknownPerson
		case "disabled":
			person, secret, want = "odd.larsen", password("odd.larsen"), diagnose.DisabledOrExpired
		case "local":
			person, secret, want = d.Accounts[0].Name, password(d.Accounts[0].Name), diagnose.LocalWhileServerAnswers
		case "grant":
			person, secret, want, way = "wren.auditor", password("wren.auditor"), diagnose.NoGrant, site.Console
		case "fallback":
			person, secret, want = d.Accounts[0].Name, password(d.Accounts[0].Name), diagnose.FallbackUsed
			for _, v := range servers {
				v0, err := lab.ParseFault(s, v.Name+" silent for "+d.Name)
				require.NoError(t, err)
				l.Set(v0)
			}
		case "well":
		default:
			want = map[string]string{"key-differs": diagnose.KeyDiffers, "client-unknown": diagnose.ClientUnknown,
				"closed": diagnose.ServerOff, "silent": diagnose.Unreachable, "slow 900ms": diagnose.TooSlow}[fault]
			for _, v := range servers {
				f, err := lab.ParseFault(s, v.Name+" "+fault+" for "+d.Name)
				require.NoError(t, err)
				l.Set(f)
			}
		}
		before := time.Now()
		v.login(d.Name, way, person, secret)
		if fault == "slow 900ms" {
			time.Sleep(time.Second)
		}
		v.lift()
		time.Sleep(100 * time.Millisecond)
		e, _, err := gather.Folder(folder, exchange.InPlaces(s, keys, l.Places))
		require.NoError(t, err)
		e = e.After(before)
		e.Site, e.Keys = s, keys
		verdict := diagnose.Explain(e, diagnose.Symptom{Device: d.Name, Person: person})
		got := ""
		if len(verdict.Causes) > 0 {
			got = verdict.Causes[0].Cause
		}
		if got == want {
			right++
			continue
		}
		wrong++
		var names []string
		for _, c := range verdict.Causes {
			names = append(names, fmt.Sprintf("%s %.2f", c.Cause, c.Confidence))
		}
		t.Logf("%d: %s by %s, %s: want %q, got %v", n, d.Name, way, fault, want, slices.Clip(names))
	}
	t.Logf("%d of %d right", right, draws)
	require.GreaterOrEqual(t, 100*right, 95*draws)
}
