package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/prometheus/client_golang/prometheus"
)

// What can be wrong with a service that runs.
const (
	TroubleSite     = "site"     // the newest form of the site was not taken
	TroubleEvidence = "evidence" // events, traces or logs cannot be written
	TroubleLedger   = "ledger"   // decisions or records cannot be written
	TroubleAddress  = "address"  // the host name of a server has no address
	TroubleRoom     = "room"     // the disk with the records is nearly full
)

// Health is what is wrong with a service that runs, for a monitor. Any goroutine may
// use it.
type Health struct {
	mu       sync.Mutex
	troubles map[string]string
	gauge    *prometheus.GaugeVec
}

func newHealth() *Health {
	h := &Health{troubles: map[string]string{}, gauge: prometheus.NewGaugeVec(prometheus.GaugeOpts{
		Name: "mellowgate_trouble",
		Help: "1 while this goes wrong: the site is not taken, evidence or the ledger cannot be written, the host " +
			"name of a server has no address, the disk is nearly full."}, []string{"what"})}
	for _, what := range []string{TroubleSite, TroubleEvidence, TroubleLedger, TroubleAddress, TroubleRoom} {
		h.gauge.WithLabelValues(what).Set(0)
	}
	return h
}

// Set says in a sentence what goes wrong, or that it does no more: "". It reports
// whether that is news.
func (h *Health) Set(what, text string) (changed bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	before := h.troubles[what]
	if text == "" {
		delete(h.troubles, what)
		h.gauge.WithLabelValues(what).Set(0)
	} else {
		h.troubles[what] = text
		h.gauge.WithLabelValues(what).Set(1)
	}
	return (before == "") != (text == "")
}

// text is what is wrong, a line for each; "" where nothing is.
func (h *Health) text() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	var out strings.Builder
	for _, what := range slices.Sorted(maps.Keys(h.troubles)) {
		fmt.Fprintf(&out, "%s: %s\n", what, strings.ReplaceAll(h.troubles[what], "\n", " "))
	}
	return out.String()
}
