package sheetrun

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/sheet"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
)

// two is a sheet whose outage stands between its other logins.
func two() *sheet.Sheet {
	in := foresee.Case{Outcome: walk.OutcomeIn, Level: 15}
	return &sheet.Sheet{Sections: []sheet.Section{
		{Tests: []sheet.Test{{Way: "ssh", Person: "ines", Case: in}, {Way: "ssh", Person: "nobody", Case: in}}},
		{Tests: []sheet.Test{{Way: "ssh", Person: "keeper", Case: in, Dark: true}}},
		{Tests: []sheet.Test{{Way: "console", Person: "ines", Case: in}}},
	}}
}

// rehearsal tries a sheet with what is seen of each login, and tells what happened.
func rehearsal(s *sheet.Sheet, seen map[string]walk.Outcome) (Config, *[]string) {
	var did []string
	return Config{Sheet: s, Now: func() time.Time { return time.Unix(1, 0) },
		Attempt: func(t sheet.Test) (login.Attempt, string, error) {
			if t.Person == "nobody" {
				return login.Attempt{}, "no file nobody", nil
			}
			return login.Attempt{Person: t.Person, Access: t.Way}, "", nil
		},
		Do: func(_ context.Context, a login.Attempt) (login.Seen, error) {
			did = append(did, a.Access+" "+a.Person)
			return login.Seen{Outcome: seen[a.Access+" "+a.Person], Level: 15, Raised: 15}, nil
		},
		Fits: func(c foresee.Case, s login.Seen) bool { return c.Outcome == s.Outcome },
		Outage: func(_ context.Context, dark bool) error {
			did = append(did, map[bool]string{true: "dark", false: "light"}[dark])
			return nil
		},
		Noted: func(t sheet.Test) error { did = append(did, "noted "+t.Person); return nil },
	}, &did
}

func TestTheOutageComesLastAndEndsHoweverItComesOut(t *testing.T) {
	t.Parallel()
	for outcome, fits := range map[walk.Outcome]bool{walk.OutcomeIn: true, walk.OutcomeRefused: false} {
		s := two()
		c, did := rehearsal(s, map[string]walk.Outcome{"ssh ines": "in", "console ines": "in", "ssh keeper": outcome})
		r, err := Run(context.Background(), c)
		require.Equal(t, []string{"ssh ines", "noted ines", "console ines", "noted ines", "dark", "ssh keeper",
			"noted keeper",
			"light"}, *did)
		require.Equal(t, []string{"no file nobody"}, r.Untried)
		require.Equal(t, 3, r.Tried)
		require.Equal(t, fits, s.Sections[1].Tests[0].Seen.OK)
		require.Equal(t, sheet.Seen{At: time.Unix(1, 0), OK: true, Text: "in, level 15, after 0.0 s"},
			s.Sections[0].Tests[0].Seen)
		if fits {
			require.NoError(t, err)
			require.Nil(t, r.Differs)
			continue
		}
		require.ErrorIs(t, err, ErrDiffers)
		require.Equal(t, "keeper", r.Differs.Person)
		require.Equal(t, 2, r.Matched)
	}
}

func TestARunGoesOnWhereAnEarlierOneStopped(t *testing.T) {
	t.Parallel()
	s := two()
	c, did := rehearsal(s, map[string]walk.Outcome{"ssh ines": "refused"})
	r, err := Run(context.Background(), c)
	require.ErrorIs(t, err, ErrDiffers)
	require.Equal(t, "ines", r.Differs.Person)
	require.Equal(t, []string{"ssh ines", "noted ines"}, *did, "nothing after the first that differs")
	c, did = rehearsal(s, map[string]walk.Outcome{"ssh ines": "in", "console ines": "in", "ssh keeper": "in"})
	c.Outage = nil
	r, err = Run(context.Background(), c)
	require.NoError(t, err)
	require.Equal(t, []string{"no file nobody", "the outage"}, r.Untried)
	require.Equal(t, []string{"ssh ines", "noted ines", "console ines", "noted ines"}, *did)
	c, did = rehearsal(s, map[string]walk.Outcome{"ssh keeper": "in"})
	r, err = Run(context.Background(), c)
	require.NoError(t, err)
	require.Equal(t, []any{2, 1}, []any{r.Before, r.Tried})
	require.Equal(t, []string{"dark", "ssh keeper", "noted keeper", "light"}, *did)
	c, did = rehearsal(s, nil)
	r, err = Run(context.Background(), c)
	require.NoError(t, err)
	require.Equal(t, 3, r.Before)
	require.Empty(t, *did)
}

func TestWhatCannotBeDoneEndsARun(t *testing.T) {
	t.Parallel()
	broken := errors.New("broken")
	for name, change := range map[string]func(*Config){
		"attempt": func(c *Config) {
			c.Attempt = func(sheet.Test) (login.Attempt, string, error) { return login.Attempt{}, "", broken }
		},
		"do": func(c *Config) {
			c.Do = func(context.Context, login.Attempt) (login.Seen, error) { return login.Seen{}, broken }
		},
		"noted":  func(c *Config) { c.Noted = func(sheet.Test) error { return broken } },
		"outage": func(c *Config) { c.Outage = func(context.Context, bool) error { return broken } },
	} {
		c, _ := rehearsal(two(), map[string]walk.Outcome{"ssh ines": "in", "console ines": "in", "ssh keeper": "in"})
		change(&c)
		_, err := Run(context.Background(), c)
		require.ErrorIs(t, err, broken, name)
	}
	c, did := rehearsal(two(), nil)
	ctx, stop := context.WithCancel(context.Background())
	stop()
	_, err := Run(ctx, c)
	require.ErrorIs(t, err, context.Canceled)
	require.Empty(t, *did)
}
