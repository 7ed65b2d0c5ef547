package exchange

import (
	"net/netip"

	"mellowgate/internal/core/site"
)

// tried is a key that was tried in the place of the right one.
type tried struct {
	key  []byte
	text string // which it is, in words without its value
}

// guesses are the keys with which a packet may have been made where the right one
// does not fit: the site's other keys, and what people type for the right one by
// mistake.
type guesses map[netip.Addr]map[*site.Server]*guess

// guess is what was found out for one asker and one server.
type guess struct {
	found *tried
	tries int // packets for which all keys were tried in vain
}

// mostGuesses bounds the packets of an asker for which all keys are tried, and the
// askers.
const (
	mostGuesses = 3
	mostAskers  = 1 << 12
)

// keyUsed returns in words which key a packet was made with, "" where it is none
// that can be thought of. fits tries one.
func (l *Listener) keyUsed(p port, client netip.Addr, fits func(key []byte) bool) string {
	if p.server == nil || p.server.Key == nil {
		return ""
	}
	g := l.guess(p.server, client)
	if g.found != nil && fits(g.found.key) {
		return g.found.text
	}
	if g.tries >= mostGuesses {
		return ""
	}
	for _, t := range l.candidates(p, client) {
		if fits(t.key) {
			g.found = &t
			return t.text
		}
	}
	g.tries++
	return ""
}

func (l *Listener) guess(s *site.Server, client netip.Addr) *guess {
	if l.guesses[client] == nil {
		if len(l.guesses) >= mostAskers {
			clear(l.guesses)
		}
		l.guesses[client] = map[*site.Server]*guess{}
	}
	if l.guesses[client][s] == nil {
		l.guesses[client][s] = &guess{}
	}
	return l.guesses[client][s]
}

// candidates are the keys that are worth a try, the likely ones first.
func (l *Listener) candidates(p port, client netip.Addr) []tried {
	right := p.server.Key
	if device := l.directory.devices[client.Unmap()]; device != nil {
		right = device.Shares(p.server)
	}
	var trials []tried
	for _, k := range l.directory.site.Keys {
		if v, ok := l.directory.keys[k.Name]; ok && k.Name != right.Name {
			trials = append(trials, tried{key: []byte(v.Reveal()), text: "the key " + k.Name + " of the site"})
		}
	}
	for _, slip := range l.directory.keys[right.Name].Slips() {
		trials = append(trials, tried{key: []byte(slip.Secret.Reveal()), text: "the key " + right.Name + " " +
			slip.Text})
	}
	return trials
}
