package rollout

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/wire/netconf"
)

// Prover makes the proofs of one device with real logins from new connections.
type Prover struct {
	Reckoner foresee.Forecaster // of the design that is sent
	Device   *site.Device
	Target   device.Target // of the person who proves the design
	// Changer is who changes the device, where that is somebody else: who gets in before
	// the change. nil: the person.
	Changer *device.Target
	Who     foresee.Who // who that is to the servers; the zero value: whom the site has by the name
	Say     func(string)
	// Fallback is a local account of the device whose password is known; nil:
	// none is tried.
	Fallback *Fallback
	// Lab is what more can be seen in a lab; nil outside of one.
	Lab *Lab
	// Events gives the events since the last call of the servers that run here, and
	// Ours tells which do; nil where none does.
	Events func() ([]evidence.Event, error)
	Ours   func(server string) bool
}

// Fallback is a local account that is tried.
type Fallback struct {
	Name     string
	Password site.Secret
}

// Lab is what more can be seen of a stand-in.
type Lab struct {
	SSH      string // address:port of its SSH; "": none
	HostKey  ssh.PublicKey
	Password site.Secret
}

// notAnyones is a password that is tried to be refused.
const notAnyones = "this is not the password of anybody"

// Prove tries everything that is to be true while the design runs. It stops at
// the first thing that is not.
func (p Prover) Prove(ctx context.Context) []Proof {
	began := time.Now()
	return each(ctx,
		p.person, p.wrongPassword, p.fallbackAsDesigned, p.labLogin,
		func(ctx context.Context) *Proof { return p.event(ctx, began) })
}

// ProveFallback tries the local account while only the accounts are new on the
// device. Where the device asks servers first, a local account is refused as
// long as they answer, and nothing can be proven.
func (p Prover) ProveFallback(ctx context.Context, held device.Held) []Proof {
	return each(ctx, p.changer, func(ctx context.Context) *Proof {
		if p.Fallback == nil {
			p.Say("the local account is not tried: its password was not given")
			return nil
		}
		order := held.Facts[drift.Key{About: drift.List, Name: "login", What: "methods"}].Text
		if first, _, _ := strings.Cut(order, ", "); order != "" && !strings.HasPrefix(first, "local") &&
			!p.Device.Platform.Behaviour.RefusalTriesNext {
			p.Say(fmt.Sprintf("the local account %s cannot be tried now: the device asks %s first, and refuses "+
				"local names while servers answer", p.Fallback.Name, first))
			return nil
		}
		return p.account(ctx)
	})
}

// each makes proofs up to the first one that fails.
func each(ctx context.Context, proofs ...func(context.Context) *Proof) []Proof {
	var all []Proof
	for _, f := range proofs {
		p := f(ctx)
		if p == nil {
			continue
		}
		all = append(all, *p)
		if !p.OK {
			break
		}
	}
	return all
}

// person logs in as who proves the design.
func (p Prover) person(ctx context.Context) *Proof { return mayChange(ctx, p.Target) }

// changer logs in as who changes the device, while that is still who gets in.
func (p Prover) changer(ctx context.Context) *Proof {
	if p.Changer == nil {
		return p.person(ctx)
	}
	return mayChange(ctx, *p.Changer)
}

// mayChange logs in, and looks that the configuration may be changed: the lock of the
// session that changes it stands in the way, and nothing else.
func mayChange(ctx context.Context, t device.Target) *Proof {
	proof := &Proof{What: fmt.Sprintf("%s gets in by %s from a new connection, and may change the configuration",
		t.Person,
		t.Access()), Person: t.Person, Access: t.Access()}
	s, err := device.Manage(ctx, t)
	if err != nil {
		proof.Saw = err.Error()
		return proof
	}
	defer s.End()
	store := candidate
	if !s.Has(netconf.Candidate) {
		store = running
	}
	err = s.Lock(store)
	var said *netconf.Error
	switch {
	case err == nil:
		_ = s.Unlock(store)
		proof.OK, proof.Saw = true, "in, and may"
	case errors.As(err, &said) && (said.Tag == "lock-denied" || said.Tag == "in-use"):
		proof.OK, proof.Saw = true, "in, and only the lock of this change stands in the way"
	default:
		proof.Saw = "in, but: " + err.Error()
	}
	return proof
}

func (p Prover) wrongPassword(ctx context.Context) *Proof {
	t := p.Target
	t.Password = site.NewSecret(notAnyones)
	t.Auth = device.PasswordAuth(t.Password)
	s, err := device.Manage(ctx, t)
	if err == nil {
		s.End()
		return &Proof{What: "a wrong password is refused", Saw: "in"}
	}
	if errors.Is(err, device.ErrRefused) {
		return &Proof{What: "a wrong password is refused", OK: true, Saw: "refused"}
	}
	return &Proof{What: "a wrong password is refused", Saw: err.Error()}
}

// account logs in with the local account.
func (p Prover) account(ctx context.Context) *Proof {
	proof := &Proof{What: fmt.Sprintf("the local account %s gets in by %s", p.Fallback.Name, p.Target.Access()),
		Person: p.Fallback.Name, Access: p.Target.Access()}
	t := p.Target
	t.Person = p.Fallback.Name
	t.Auth = device.PasswordAuth(p.Fallback.Password)
	t.Password = p.Fallback.Password
	s, err := device.Manage(ctx, t)
	if err != nil {
		proof.Saw = err.Error()
		return proof
	}
	s.End()
	proof.OK, proof.Saw = true, "in"
	return proof
}

// fallbackAsDesigned tries the local account once the whole design runs, where
// it gets in while the servers answer.
func (p Prover) fallbackAsDesigned(ctx context.Context) *Proof {
	if p.Fallback == nil {
		return nil
	}
	if c := p.foreseen(p.Fallback.Name, p.Target.Access()); c == nil || c.Outcome == walk.OutcomeRefused {
		return nil // as designed, while servers answer
	}
	return p.account(ctx)
}

// foreseen returns what is foreseen of a login with every server up, nil where it
// is not known.
func (p Prover) foreseen(person, access string) *foresee.Case {
	way := p.Device.Way(access)
	who, known := p.Reckoner.Find(p.Device, person)
	switch {
	case p.Fallback != nil && person == p.Fallback.Name: // a person may have the name too
		who, known = p.Reckoner.Account(p.Device, person)
	case person == p.Target.Person && p.Who.Name != "":
		who, known = p.Who, true
	}
	if way == nil || !known {
		return nil
	}
	for _, c := range p.Reckoner.Cases(p.Device, way, who) {
		if c.Holds(nil) {
			return &c
		}
	}
	return nil
}

// labLogin logs in to a stand-in by SSH, whose prompt shows the level.
func (p Prover) labLogin(ctx context.Context) *Proof {
	if p.Lab == nil || p.Lab.SSH == "" {
		return nil
	}
	c := p.foreseen(p.Target.Person, site.SSH)
	if c == nil {
		return nil
	}
	want := inAt(c.Level)
	if c.Outcome == walk.OutcomeRefused {
		want = string(walk.OutcomeRefused)
	}
	seen, err := login.Do(ctx, login.Attempt{Access: site.SSH, Address: p.Lab.SSH, Person: p.Target.Person,
		Password: p.Lab.Password, HostKey: p.Lab.HostKey, ServerName: p.Device.Name, Patience: time.Minute})
	saw := string(seen.Outcome)
	if err != nil {
		saw = err.Error()
	} else if seen.Outcome == walk.OutcomeIn {
		saw = inAt(seen.Level)
	}
	return &Proof{What: fmt.Sprintf("%s by ssh: %s", p.Target.Person, want), OK: err == nil && saw == want, Saw: saw,
		Person: p.Target.Person, Access: site.SSH}
}

func inAt(level int) string { return fmt.Sprintf("in at level %d", level) }

// eventPatience is how long an event of a server may be on its way.
const eventPatience = 5 * time.Second

// event looks for the event of a server that runs here, where one of them is
// foreseen to let the person in.
func (p Prover) event(ctx context.Context, began time.Time) *Proof {
	c := p.foreseen(p.Target.Person, p.Target.Access())
	if p.Events == nil || c == nil || !p.Ours(c.By) {
		return nil
	}
	if s := p.Reckoner.Site.Server(c.By); s == nil || s.Protocol == site.LDAP {
		return nil // a directory notes nothing: the login itself is the proof
	}
	proof := &Proof{What: "a server's event of the login", Saw: "no server noted it"}
	ctx, cancel := context.WithTimeout(ctx, eventPatience)
	defer cancel()
	for {
		events, err := p.Events()
		if err != nil {
			proof.Saw = err.Error()
			return proof
		}
		for _, e := range events {
			if e.Device == p.Device.Name && e.Person == p.Target.Person && e.Answer == evidence.Accepted &&
				e.Time.After(began) {
				proof.OK, proof.Saw = true, e.Server+" accepted it"
				return proof
			}
		}
		timer := time.NewTimer(100 * time.Millisecond)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return proof
		}
	}
}
