package cause

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/walk"
)

// keyDiffers names a key that device and server do not share.
func (j *judging) keyDiffers(server string, evidence, against []string, confidence float64) {
	c := Cause{Cause: KeyDiffers, Where: j.story.Device + " and server " + server, Layer: "protocol", Confidence: confidence,
		Says:     fmt.Sprintf("%s and %s do not have the same key, so neither can read the other", j.story.Device, server),
		Evidence: evidence, Against: against,
		Repair: fmt.Sprintf("put the key that the site names for %s on %s again", server, j.story.Device)}
	if s := j.evidence.Site; s != nil && s.Server(server) != nil {
		c.Repair = fmt.Sprintf("put the key %s on %s for the server %s (%s)", s.Server(server).KeyRef.Name, j.story.Device, server, s.Where(s.Server(server).KeyRef.Place))
	}
	if how, place := j.heldKey(server); how != "" {
		c.Evidence = append(c.Evidence, fmt.Sprintf("the site says that %s holds another key (%s): %s", j.story.Device, place, how))
	}
	j.add(c)
}

// heldKey says how the key that the site knows to be on the device differs from
// the server's, "" when it knows of none.
func (j *judging) heldKey(server string) (how, place string) {
	s := j.evidence.Site
	if s == nil || s.Device(j.story.Device) == nil || s.Server(server) == nil {
		return "", ""
	}
	held, ok := s.Device(j.story.Device).Holds.Keys[s.Server(server)]
	if !ok || j.evidence.Keys.Same(held.Key, s.Server(server).Key) {
		return "", ""
	}
	if _, known := j.evidence.Keys[held.Key.Name]; !known {
		return "its value is not known here", s.Where(held.KeyRef.Place)
	}
	return j.evidence.Keys[held.Key.Name].Difference(j.evidence.Keys[s.Server(server).Key.Name]), s.Where(held.KeyRef.Place)
}

// unanswered looks at every server that gave no answer, and at those that
// were left alone because they gave none before.
func (j *judging) unanswered(steps []TraceStep) {
	for _, step := range steps {
		for i, t := range step.Tries {
			lastOfServer := i+1 == len(step.Tries) || step.Tries[i+1].Server != t.Server
			if t.Result == string(walk.Unavailable) && lastOfServer {
				j.noAnswer(t, fmt.Sprintf("%s asked %s %s and got no answer%s (%.1f s)", j.story.Device, t.Server, times(t.Try), said(t.Message), t.Seconds*float64(t.Try)))
			}
		}
		for _, r := range step.Rested {
			j.rested(r)
		}
		if step.Reason == string(walk.AllResting) && len(step.Rested) == 0 {
			continue
		}
	}
}

// said gives what a device noted of a try beyond that there was no answer.
func said(message string) string {
	if message == "" || message == "no answer" {
		return ""
	}
	return ": " + message
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// rested finds out why a server was left alone.
func (j *judging) rested(server string) {
	for _, t := range slices.Backward(j.story.Before) {
		for _, step := range slices.Backward(t.Steps) {
			for _, try := range slices.Backward(step.Tries) {
				if try.Server == server && try.Result == string(walk.Unavailable) {
					j.noAnswer(try, fmt.Sprintf("%s left %s alone: it gave no answer at %s%s", j.story.Device, server, t.Time.Format("15:04:05"), said(try.Message)))
					return
				}
			}
		}
	}
}

// noAnswer names why one server gave no answer.
func (j *judging) noAnswer(t TraceTry, seen string) {
	if e, ok := j.story.dropped(t.Server, KeyDiffers); ok {
		j.keyDiffers(t.Server, []string{seen, fmt.Sprintf("%s noted at %s: %s", e.Server, e.Time.Format("15:04:05"), e.Text)}, nil, 0.98)
		return
	}
	if e, ok := j.story.dropped(t.Server, AskerUnknown, DirectoryDown, DirectoryRefusesUs, RecordNotKept, WrongPort, Malformed); ok {
		j.fromEvent(e, seen)
		return
	}
	where := j.story.Device + " to server " + t.Server
	c := Cause{Where: where, Evidence: []string{seen}}
	switch walk.Reason(t.Reason) {
	case walk.KeyDiffers:
		j.keyDiffers(t.Server, []string{seen}, nil, 0.93)
		return
	case walk.AskerUnknown:
		c.Cause, c.Layer, c.Confidence = AskerUnknown, "protocol", 0.7
		c.Says = fmt.Sprintf("%s closes the connection at once: it does not know the address that %s asks from", t.Server, j.story.Device)
		c.Repair = "compare the device's source address with the site"
	case walk.Closed:
		c.Cause, c.Layer, c.Confidence = ServerOff, "transport", 0.93
		c.Says = fmt.Sprintf("the host of %s is there and its port refuses: the service does not run", t.Server)
		c.Repair = fmt.Sprintf("start the service: mellowgate serve -only %s; if it runs, compare its port with the device's", t.Server)
	case walk.Silent:
		c.Cause, c.Layer, c.Confidence = Unreachable, "network", 0.85
		c.Says = fmt.Sprintf("nothing comes back from %s: the way to it is cut or filtered, or its host is down", t.Server)
		c.Repair = fmt.Sprintf("look at the path from %s to %s: link, route, filter; then at the host itself", j.story.Device, t.Server)
		j.heardOthers(t.Server, &c)
	case walk.ServerError:
		c.Cause, c.Layer, c.Confidence = ServerSaysError, "protocol", 0.8
		c.Says = fmt.Sprintf("%s answers that it cannot answer%s", t.Server, said(t.Message))
		c.Repair = "look at the events of " + t.Server + ": what it needs may be down, or the question is one that it does not take"
		if strings.HasPrefix(t.Message, "TLS") {
			c.Cause, c.Layer, c.Repair = TLSRefused, "transport", tlsRepair
			c.Says = fmt.Sprintf("the TLS handshake with %s failed%s", t.Server, said(t.Message))
		}
	default:
		return
	}
	j.add(c)
}

// heardOthers adds whether the silent server noted anything of this device,
// or of others, in that time.
func (j *judging) heardOthers(server string, c *Cause) {
	if len(j.evidence.Events) == 0 {
		c.Against = append(c.Against, "the server's own events are not at hand")
		return
	}
	heard := 0
	for _, e := range j.evidence.Events {
		if e.Server == server && e.Device != j.story.Device && e.Time.After(j.story.Time.Add(-5*time.Minute)) {
			heard++
		}
	}
	if _, ok := j.story.event(func(e Event) bool { return e.Server == server }); !ok {
		c.Evidence = append(c.Evidence, fmt.Sprintf("%s noted nothing from %s in that time", server, j.story.Device))
		c.Confidence = 0.9
	}
	if heard > 0 {
		c.Evidence = append(c.Evidence, fmt.Sprintf("%s did hear other devices in the five minutes before: it runs", server))
		c.Confidence = 0.95
	}
}
