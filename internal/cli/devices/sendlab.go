package devices

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/reach"
	"mellowgate/internal/task/gather"
	"mellowgate/internal/task/rollout"
)

// labOf is a device in the lab that runs here, and the servers that its design
// asks, where the lab has them.
type labOf struct {
	d      *site.Device
	l      call.Loaded // the design that is sent
	ran    call.Loaded // the site that the lab runs
	places evidence.Places
	asked  func(evidence.OwnQuestion)
}

// watch lets a prover see the events of the servers that run here, in a lab or by
// serve.
func (f *sendFlags) watch(p *rollout.Prover) {
	folder, err := f.stateOf()
	if err != nil {
		return
	}
	places, err := folder.Places()
	if err != nil {
		return
	}
	p.Ours = func(server string) bool {
		return slices.ContainsFunc(places.Servers, func(
			s evidence.ServerPlace) bool {
			return s.Name == server && s.Running
		})
	}
	p.Events = folder.Tail().Events
}

func openLab(c *call.Call, f *sendFlags, l call.Loaded, d *site.Device, places evidence.Places) (*labOf, error) {
	if f.ran == nil {
		ran, err := c.LoadFrom(places.SitePath, false)
		if err != nil {
			return nil, err
		}
		f.ran = &ran
	}
	return &labOf{d: d, l: l, ran: *f.ran, places: places, asked: call.OwnQuestions(f.folder())}, nil
}

// proofs is what more can be seen of a stand-in.
func (b *labOf) proofs(password site.Secret) *rollout.Lab {
	p := &rollout.Lab{Password: password}
	way, err := call.LabWayOf(b.places, b.d.Name, site.SSH)
	if err == nil && b.d.Way(site.SSH) != nil {
		p.SSH, p.HostKey = way.Address, way.HostKey
	}
	return p
}

// answering asks every server of the design as the device would.
func (b *labOf) answering(ctx context.Context, f *sendFlags) error {
	password := site.NewSecret("")
	if f.secret != nil {
		password = *f.secret
	}
	var all []string
	for _, s := range rollout.Unanswered(ctx, b.d, b.reach, f.person, password) {
		all = append(all, s.String())
	}
	if len(all) == 0 {
		return nil
	}
	return fmt.Errorf("asked as the design has the device ask, %s without an answer (%s); with "+
		"-servers-may-be-down it is sent anyway", show.Count(len(all), "server port")+" stayed",
		strings.Join(all, "; "))
}

// reach returns a server as the device would reach it in the lab by its design.
func (b *labOf) reach(s *site.Server) aaa.Target {
	return reach.Map{Site: b.ran.Site, Keys: b.ran.Keys, Places: b.places, Asked: b.asked}.Designed(b.l.Site, b.l.Keys,
		b.d, s)
}

// sentCause is the cause of a login that did not go as foreseen.
type sentCause struct {
	Cause      string  `json:"cause"`
	Where      string  `json:"where"`
	Says       string  `json:"says"`
	Repair     string  `json:"repair"`
	Confidence float64 `json:"confidence"`
	server     string
}

// causesOf returns the causes of the newest login that went wrong since a time, the
// most likely first; none where it is not known.
func causesOf(k *gather.Found, y diagnose.Symptom, began time.Time) []sentCause {
	sentCauses := []sentCause{}
	k.Traces = slices.DeleteFunc(k.Traces, func(t evidence.Trace) bool { return t.Time.Before(began) })
	k.Events = slices.DeleteFunc(k.Events, func(e evidence.Event) bool { return e.Time.Before(began) })
	v := diagnose.Explain(k.Evidence, y)
	add := func(f diagnose.Cause) {
		if !slices.ContainsFunc(sentCauses, func(s sentCause) bool {
			return s.Cause == f.Cause &&
				s.Where == f.Where
		}) {
			sentCauses = append(sentCauses, sentCause{Cause: f.Cause, Where: f.Where, Says: f.Says, Repair: f.Repair,
				Confidence: f.Confidence, server: f.Server})
		}
	}
	rests := false
	for _, f := range v.Causes {
		rests = rests || f.Cause == diagnose.Resting
		if v.Found && !v.Healthy && !f.Instead && f.Cause != diagnose.NotKnown {
			add(f)
		}
	}
	if rests { // why servers rest is seen at an earlier login
		for _, g := range diagnose.All(k.Evidence, diagnose.Symptom{Device: y.Device}).Groups {
			if g.Cause.Cause != diagnose.NotKnown && !g.Follows {
				add(g.Cause)
			}
		}
	}
	return sentCauses
}
