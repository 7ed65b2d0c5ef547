package lab

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/routine"
)

// control lets another program of the same user set and lift faults while the
// lab runs: HTTP on a loopback address, with a token that stands in the state
// folder.
type control struct {
	server *http.Server
	place  evidence.ControlPlace
	ended  chan struct{}
}

// Change is what is asked of a running lab. All lists may be empty; what is in
// effect is the answer in any case.
type Change struct {
	Set     []string `json:"set"`
	Lift    []string `json:"lift"`
	LiftAll bool     `json:"lift_all"`
}

// InEffect is the answer: the faults in effect, or what was wrong with the
// question.
type InEffect struct {
	Faults     []string   `json:"faults"`
	Impaired   []Impaired `json:"impaired"`
	Unforeseen []string   `json:"unforeseen"` // those of the faults that a forecast has no word for
	Wrong      string     `json:"wrong,omitempty"`
}

// mostAsked bounds a question in octets.
const mostAsked = 1 << 16

func (l *Lab) openControl(address netip.Addr) error {
	listener, err := net.Listen("tcp", netip.AddrPortFrom(address, 0).String())
	if err != nil {
		return err
	}
	var token [16]byte
	_, _ = rand.Read(token[:]) // never fails: crypto/rand ends the process instead
	c := &control{ended: make(chan struct{}),
		place: evidence.ControlPlace{Address: listener.Addr().String(), Token: hex.EncodeToString(token[:])}}
	c.server = &http.Server{ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+c.place.Token)) != 1 {
				http.Error(w, "the token is not that of this lab", http.StatusForbidden)
				return
			}
			var change Change
			if err := json.NewDecoder(io.LimitReader(r.Body, mostAsked)).Decode(&change); err != nil {
				http.Error(w, "this is no question for a lab", http.StatusBadRequest)
				return
			}
			answer := InEffect{Faults: []string{}, Impaired: []Impaired{}, Unforeseen: []string{}}
			if err := l.change(change); err != nil {
				answer.Wrong = err.Error()
			}
			for _, f := range l.Faults() {
				answer.Faults = append(answer.Faults, f.String())
			}
			impaired, unforeseen := l.impaired()
			answer.Impaired = append(answer.Impaired, impaired...)
			for _, f := range unforeseen {
				answer.Unforeseen = append(answer.Unforeseen, f.String())
			}
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(answer)
		})}
	l.control = c
	l.Places.Control = &c.place
	routine.Go(func() {
		defer close(c.ended)
		_ = c.server.Serve(listener)
	})
	return nil
}

// change does what is asked, all of it or nothing.
func (l *Lab) change(c Change) error {
	var set, lift []Fault
	for _, text := range c.Set {
		f, err := ParseFault(l.config.Site, text)
		if err != nil {
			return err
		}
		set = append(set, f)
	}
	have := l.Faults()
	for _, text := range c.Lift {
		found := false
		for _, f := range have { // as it was set, or by its beginning: "tern slow"
			if name := f.String(); name == text || strings.HasPrefix(name, text+" ") {
				lift, found = append(lift, f), true
			}
		}
		if !found {
			return fmt.Errorf("there is no fault %q in effect; lab -faults lists them", text)
		}
	}
	if c.LiftAll {
		lift = have
	}
	for _, f := range lift {
		l.Lift(f)
	}
	for _, f := range set {
		l.Set(f)
	}
	return nil
}

func (c *control) close() {
	if c == nil {
		return
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if c.server.Shutdown(ctx) != nil {
		_ = c.server.Close()
	}
	<-c.ended
}

// ErrNoLab is a state folder whose lab does not run any more.
var ErrNoLab = errors.New("no lab is running there")

// Ask puts a question to a running lab.
func Ask(ctx context.Context, at evidence.ControlPlace, change Change) (InEffect, error) {
	var answer InEffect
	body, err := json.Marshal(change)
	if err != nil {
		return answer, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+at.Address+"/",
		strings.NewReader(string(body)))
	if err != nil {
		return answer, err
	}
	r.Header.Set("Authorization", "Bearer "+at.Token)
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	response, err := client.Do(r)
	if err != nil {
		return answer, ErrNoLab
	}
	defer func() { _ = response.Body.Close() }()
	if response.StatusCode != http.StatusOK {
		return answer, ErrNoLab
	}
	if err := json.NewDecoder(response.Body).Decode(&answer); err != nil {
		return answer, ErrNoLab
	}
	return answer, nil
}
